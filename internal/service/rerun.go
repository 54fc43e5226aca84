package service

import (
	"context"
	"fmt"
	"strconv"

	"ironbell/internal/access"
	"ironbell/internal/core/fault"
	"ironbell/internal/core/job"
	"ironbell/internal/core/phrase"
	"ironbell/internal/core/rule"
	"ironbell/internal/core/zone"
	"ironbell/internal/store"
	"ironbell/internal/store/db"
	"ironbell/internal/store/history"
	"ironbell/internal/store/rings"
	"ironbell/internal/task"
)

// Ring makes a run of a job at once, with values that go before the job's;
// or runs for past dates, one for each time at which its rules rang then.
func (rs *Runs) Ring(ctx context.Context, who job.Person, name string, ask Ask) ([]job.Run, error) {
	j, err := rs.store.Job(ctx, name)
	if err != nil {
		return nil, err
	}
	if j.RemovedAt != nil {
		return nil, &db.NotFound{Kind: "job", Name: j.Name}
	}
	if err := access.MayOwn(who, access.Ring, "ring the job "+j.Name, j.Owner, j.Personal); err != nil {
		return nil, err
	}
	v := &fault.Invalid{What: fmt.Sprintf("job %q", j.Name)}
	if ask.Rehearse && who.Mail == "" {
		v.Add("rehearse", "you have no mail address that the results could go to; ask an administrator to add it")
	}
	place, err := zone.Load(j.Zone)
	if err != nil {
		return nil, err
	}
	now := rs.now()
	times := []pastRing{{Ring: rule.Ring{Due: now, Nominal: now}}}
	why := "Rung by " + who.Name + "."
	if ask.From != "" {
		if times, err = rs.past(ctx, v, j, place, ask); err != nil {
			return nil, err
		}
	}
	if ask.Rehearse {
		why = "Rehearsed by " + who.Name + "."
	}
	runs := make([]rings.NewRun, 0, len(times))
	for _, at := range times {
		given := ask.Values.Over(at.given)
		if len(runs) == 0 {
			if err := rs.checks.checkValues(ctx, v, "values", j.Definition, given, true); err != nil {
				return nil, err
			}
		}
		run := rs.newRun(j, who, given, at.Ring, why)
		run.Rehearsal = ask.Rehearse
		run.Gated = run.Gated && !ask.Rehearse
		if ask.From != "" {
			run.Why = fmt.Sprintf("%s For %s, as if it had rung then.", why,
				at.Nominal.In(place).Format("Mon 2 January 2006 15:04 MST"))
		}
		runs = append(runs, run)
	}
	if err := v.Err(); err != nil {
		return nil, err
	}
	return rs.add(ctx, who, "ring", j, runs, map[string]any{
		"values": ask.Values, "rehearsal": ask.Rehearse, "from": ask.From, "to": ask.To,
	})
}

// newRun is a run of a job that somebody asked for.
func (rs *Runs) newRun(j job.Job, who job.Person, given job.Values, at rule.Ring, why string) rings.NewRun {
	return rings.NewRun{
		JobID: j.ID, Job: j.Name, JobVersion: j.Version, Why: why, AskedBy: &who.ID, Nominal: at.Nominal, Due: at.Due,
		Zone: j.Zone, Given: given,
		Priority: j.Priority, Gated: j.WithDefaults().Overlap != job.OverlapTogether,
	}
}

// add writes runs that somebody asked for, and gives them as they are then.
func (rs *Runs) add(ctx context.Context, who job.Person, act string, j job.Job, runs []rings.NewRun,
	told map[string]any,
) ([]job.Run, error) {
	var made []job.Run
	err := rs.store.Do(ctx, func(t *store.Tx) error {
		if err := rs.runs.Add(ctx, t, j.ID, runs); err != nil {
			return err
		}
		ids := make([]job.RunID, len(runs))
		for i, r := range runs {
			ids[i] = r.ID
		}
		told["runs"] = ids
		if err := t.Audit(ctx, who.Login, act, "job", j.Name, nil, told); err != nil {
			return err
		}
		made = nil
		for _, id := range ids {
			run, err := t.Run(ctx, id)
			if err != nil {
				return err
			}
			made = append(made, run)
		}
		return nil
	})
	return made, err
}

// More is how somebody asks for more of a run.
type More struct {
	Whole  bool       // from the start, as a new run; otherwise it goes on where it failed or was held
	Values job.Values // in place of those that were given, for a whole run
	Anyway bool       // what is blank or unusual is sent

	Correction string // what was wrong: the new run goes to those whom this one reached, and this one's links end
}

// Again repeats a run as a new one, or lets it go on where it failed or was
// held. Who has received something does not get it again from a run that goes on.
func (rs *Runs) Again(ctx context.Context, who job.Person, id job.RunID, more More) (job.Run, error) {
	run, err := rs.store.Run(ctx, id)
	if err != nil {
		return run, err
	}
	j, err := rs.store.Job(ctx, strconv.FormatInt(run.JobID, 10))
	if err != nil {
		return run, err
	}
	if err := access.MayOwn(who, access.Ring, "run the job "+j.Name+" again", j.Owner, j.Personal); err != nil {
		return run, err
	}
	v := &fault.Invalid{What: fmt.Sprintf("run %s", id)}
	if more.Correction != "" && run.Rehearsal {
		v.Add("correction", "a rehearsal reached nobody whom it could be sent to")
		return run, v.Err()
	}
	if more.Whole || more.Correction != "" {
		given := run.Given
		if more.Values != nil {
			given = more.Values.Over(given)
		}
		if err := rs.checks.checkValues(ctx, v, "values", j.Definition, given, true); err != nil {
			return run, err
		}
		if err := v.Err(); err != nil {
			return run, err
		}
		again := rs.newRun(j, who, given, rule.Ring{Due: run.Due, Nominal: run.Nominal},
			fmt.Sprintf("Run %s made again by %s.", id, who.Name))
		again.Again, again.TriggerID, again.Anyway, again.Rehearsal = &id, run.TriggerID, more.Anyway, run.Rehearsal
		again.Gated = again.Gated && !run.Rehearsal
		if more.Correction != "" {
			again.Correction = more.Correction
			again.Why = fmt.Sprintf("Correction of run %s, asked for by %s: %s", id, who.Name, more.Correction)
			if _, err := rs.WithdrawLinks(ctx, who, id, 0); err != nil {
				return run, err
			}
		}
		made, err := rs.add(ctx, who, "run again", j, []rings.NewRun{again}, map[string]any{"again": id})
		if err != nil {
			return run, err
		}
		return made[0], nil
	}
	if len(more.Values) > 0 {
		v.Add("values", "new values need a whole run: what was done before was done with the old ones")
		return run, v.Err()
	}
	err = rs.store.Do(ctx, func(t *store.Tx) error {
		if run, err = t.LockRun(ctx, id); err != nil {
			return err
		}
		went := false
		if run.State.Ended() && run.State != job.RunPassedOver || run.State == job.RunDelivering {
			if went, err = t.GoOn(ctx, run, j.Version, more.Anyway,
				"goes on where it stopped, asked by "+who.Name); err != nil {
				return err
			}
		}
		if !went {
			v.Add("", "the run is %s (%s): nothing in it failed or was held; make it again as a whole", run.State,
				run.Reason)
			return v.Err()
		}
		if err := t.Log(ctx,
			job.LogLine{Text: fmt.Sprintf("%s lets it go on where it stopped; what is not done goes by version %d of "+
				"the job and by its reports as they are now", who.Name, j.Version)}, id); err != nil {
			return err
		}
		if err := rs.settle.SettleOne(ctx, t, id); err != nil {
			return err
		}
		if err := t.Audit(ctx, who.Login, "go on", "run", id.String(), map[string]any{"state": run.State},
			map[string]any{"anyway": more.Anyway}); err != nil {
			return err
		}
		run, err = t.Run(ctx, id)
		return err
	})
	return run, err
}

// WithdrawLinks ends the links to a run's files, or one of them, and tells how many.
func (rs *Runs) WithdrawLinks(ctx context.Context, who job.Person, id job.RunID, link int64) (int64, error) {
	run, err := rs.store.Run(ctx, id)
	if err != nil {
		return 0, err
	}
	j, err := rs.store.Job(ctx, strconv.FormatInt(run.JobID, 10))
	if err != nil {
		return 0, err
	}
	if err := access.MayOwn(who, access.Ring, "withdraw links of the job "+j.Name, j.Owner, j.Personal); err != nil {
		return 0, err
	}
	var n int64
	err = rs.store.Do(ctx, func(t *store.Tx) error {
		if n, err = t.WithdrawLinks(ctx, id, link, who.Name); err != nil || n == 0 {
			return err
		}
		if err := t.Log(ctx,
			job.LogLine{Text: fmt.Sprintf("%s withdrew %d %s", who.Name, n, phrase.Plural(int(n), "link", "links"))},
			id); err != nil {
			return err
		}
		return t.Audit(ctx, who.Login, "withdraw", "links", id.String(), nil, map[string]any{"links": n})
	})
	return n, err
}

// ResendFailed sends again what a run could not deliver: all that failed or
// bounced. Who has it gets it no second time. It tells how many go out again.
func (rs *Runs) ResendFailed(ctx context.Context, who job.Person, id job.RunID) (int, error) {
	n := 0
	err := rs.store.Do(ctx, func(t *store.Tx) error {
		run, err := t.Run(ctx, id)
		if err != nil {
			return err
		}
		j, err := t.Job(ctx, strconv.FormatInt(run.JobID, 10))
		if err != nil {
			return err
		}
		if err := access.MayOwn(who, access.Ring, "send again for the job "+j.Name, j.Owner, j.Personal); err != nil {
			return err
		}
		if n, err = t.ResendFailed(ctx, id, task.NextMessageID); err != nil || n == 0 {
			return err
		}
		// By hand one does not wait for the next look at a destination that rests.
		if err := t.ProbeSoonFor(ctx, id); err != nil {
			return err
		}
		if err := t.Log(ctx, job.LogLine{Text: fmt.Sprintf("%s sends %d again that had failed", who.Name, n)},
			id); err != nil {
			return err
		}
		if err := t.Audit(ctx, who.Login, "resend", "run", id.String(), nil,
			map[string]any{"deliveries": n}); err != nil {
			return err
		}
		return rs.settle.SettleOne(ctx, t, id)
	})
	return n, err
}

// Cancel ends a run: what has not begun does not begin, what works is stopped,
// what is being handed over may still arrive.
func (rs *Runs) Cancel(ctx context.Context, who job.Person, id job.RunID) (job.Run, error) {
	var run job.Run
	err := rs.store.Do(ctx, func(t *store.Tx) error {
		var err error
		if run, err = t.Run(ctx, id); err != nil {
			return err
		}
		j, err := t.Job(ctx, strconv.FormatInt(run.JobID, 10))
		if err != nil {
			return err
		}
		if err := access.MayOwn(who, access.Ring, "cancel runs of "+j.Name, j.Owner, j.Personal); err != nil {
			return err
		}
		if run, err = t.LockRun(ctx, id); err != nil {
			return err
		}
		if run.State.Ended() {
			return &fault.Invalid{Wrong: []fault.Wrong{{Sentence: fmt.Sprintf("run %s has ended already: it is %s", id,
				run.State)}}}
		}
		if err := t.Cancel(ctx, run, "cancelled by "+who.Name); err != nil {
			return err
		}
		if err := t.Audit(ctx, who.Login, "cancel", "run", id.String(), map[string]any{"state": run.State},
			nil); err != nil {
			return err
		}
		was := run
		if run, err = t.Run(ctx, id); err != nil {
			return err
		}
		if err := t.CloseAlertsOfRuns(ctx, []job.RunID{id}, nil); err != nil {
			return err
		}
		return rs.waits.Ended(ctx, t, []history.RunMove{{Run: was, To: run.State}})
	})
	return run, err
}
