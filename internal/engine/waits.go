package engine

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"ironbell/internal/core/expr"
	"ironbell/internal/core/fault"
	"ironbell/internal/core/job"
	"ironbell/internal/core/phrase"
	"ironbell/internal/core/policy"
	"ironbell/internal/core/zone"
	"ironbell/internal/event"
	"ironbell/internal/store"
)

// Report records an event that was reported from outside and starts the jobs
// that wait for it, before anybody is answered. An event of the same source and
// id starts nothing a second time. Whether it may be reported was asked before.
func (e *Engine) Report(ctx context.Context, who job.Person, ev job.Event) (started []job.RunID, fresh bool, err error) {
	is, err := e.Installation(ctx)
	if err != nil {
		return nil, false, err
	}
	if is.Copy != nil || !is.Test.Leaves("event:"+ev.Type) {
		return nil, false, fault.New(fault.Task, "take the event", "this installation is a copy, and takes no events from outside", "Report it to the original, or name event:"+ev.Type+" for the copy.")
	}
	err = e.store.Do(ctx, func(t *store.Tx) error {
		var err error
		started, fresh, err = e.raise(ctx, t, ev, &who.ID, nil)
		return err
	})
	return started, fresh, err
}

// raise records an event and starts what waits for it.
func (e *Engine) raise(ctx context.Context, t *store.Tx, ev job.Event, by *int64, run *job.RunID) (started []job.RunID, fresh bool, err error) {
	row, fresh, err := t.PutEvent(ctx, ev, by, run)
	if err != nil || !fresh {
		return nil, fresh, err
	}
	waiters, err := t.WaitersForEvent(ctx, ev.Type)
	if err != nil || len(waiters) == 0 {
		return nil, fresh, err
	}
	facts, err := event.Facts(ev)
	if err != nil {
		return nil, fresh, err
	}
	if err := e.times.Refresh(ctx, t); err != nil {
		return nil, fresh, err
	}
	for _, w := range waiters {
		if !event.Matches(w.Waits.V.For[w.Place], event.Happening{Event: &ev}) {
			continue
		}
		what := fmt.Sprintf("event %s of %s", ev.Type, ev.Source)
		if ev.Subject != "" {
			what += " about " + ev.Subject
		}
		id, err := e.happen(ctx, t, w, store.Happened{Place: w.Place, Nominal: ev.Time, What: what}.WithFacts(facts))
		if err != nil {
			return nil, fresh, err
		}
		if id != 0 {
			started = append(started, id)
		}
	}
	if len(started) > 0 {
		err = t.EventStarted(ctx, row, started)
	}
	return started, fresh, err
}

// outcomes starts what waits for the outcomes of runs that have ended. Each
// waits for an outcome of a run once, however often it is revised. Rehearsals
// start nothing.
func (e *Engine) outcomes(ctx context.Context, t *store.Tx, ended []store.RunMove) error {
	ended = slices.DeleteFunc(ended, func(m store.RunMove) bool { return m.Run.Rehearsal })
	jobs := make([]int64, len(ended))
	for i, m := range ended {
		jobs[i] = m.Run.JobID
	}
	if len(jobs) == 0 {
		return nil
	}
	waiters, by, err := t.WaitersForJobs(ctx, jobs)
	if err != nil || len(waiters) == 0 {
		return err
	}
	if err := e.times.Refresh(ctx, t); err != nil {
		return err
	}
	for _, m := range ended {
		if !slices.Contains(by, m.Run.JobID) {
			continue
		}
		before, err := t.Announce(ctx, m.Run.ID, m.To)
		if err != nil {
			return err
		}
		run := m.Run
		run.State = m.To
		for i, w := range waiters {
			c := w.Waits.V.For[w.Place]
			heard := slices.ContainsFunc(c.Outcomes(), func(s job.RunState) bool { return slices.Contains(before, string(s)) })
			if by[i] != run.JobID || heard || !event.Matches(c, event.Happening{Run: &run}) {
				continue
			}
			if _, err := e.happen(ctx, t, w, store.Happened{Place: w.Place, Nominal: run.Nominal, What: fmt.Sprintf("%s is %s (run %s)", run.Job, run.State, run.ID)}); err != nil {
				return err
			}
		}
	}
	return nil
}

// happen notes that a condition of a trigger has come about. When that completes
// what the trigger waits for, the runs that its rule rang begin, or, without a rule, a
// run is made. It gives the first of them.
func (e *Engine) happen(ctx context.Context, t *store.Tx, w store.Waiter, h store.Happened) (job.RunID, error) {
	wait := w.Waits.V.WithDefaults()
	h.TriggerID, h.At = w.TriggerID, e.node.Now()
	var err error
	if h.Bunch, err = e.bunch(w, h.Nominal); err != nil {
		return 0, err
	}
	if err := t.PutHappened(ctx, h); err != nil {
		return 0, err
	}
	if w.Rule != "" {
		held, err := t.HeldRuns(ctx, w.TriggerID, h.Bunch)
		if err != nil {
			return 0, err
		}
		var first job.RunID
		for _, run := range held {
			began, err := e.letBegin(ctx, t, w, run)
			if err != nil {
				return first, err
			}
			if began && first == 0 {
				first = run.RunID
			}
			if began && wait.Once {
				break // what happened is spent
			}
		}
		return first, nil
	}
	all, err := t.AllHappened(ctx, w.TriggerID, h.Bunch)
	if err != nil {
		return 0, err
	}
	all = e.counts(wait, all, h.At)
	if !complete(wait, all) {
		return 0, nil
	}
	if err := t.DropHappened(ctx, w.TriggerID, h.Bunch); err != nil {
		return 0, err
	}
	whats, given := e.whatCame(wait, w.Given.V, all)
	nominal := all[0].Nominal
	for _, a := range all {
		if a.Nominal.After(nominal) {
			nominal = a.Nominal
		}
	}
	return e.startBy(ctx, t, w, given, nominal, phrase.Upper(strings.Join(whats, "; "))+".")
}

// holdRun lets a run wait that the rule of a trigger rang; it begins at once when all
// that it waits for has happened already.
func (e *Engine) holdRun(ctx context.Context, t *store.Tx, w store.Waiter, run store.NewRun) error {
	bunch, err := e.bunch(w, run.Nominal)
	if err != nil {
		return err
	}
	held := store.HeldRun{RunID: run.ID, TriggerID: w.TriggerID, Bunch: bunch, Due: run.Due, Nominal: run.Nominal}
	if err := t.HoldRun(ctx, held); err != nil {
		return err
	}
	_, err = e.letBegin(ctx, t, w, held)
	return err
}

// letBegin lets a run begin that waited, when all has happened, and tells whether it
// did.
func (e *Engine) letBegin(ctx context.Context, t *store.Tx, w store.Waiter, run store.HeldRun) (bool, error) {
	wait := w.Waits.V.WithDefaults()
	all, err := t.AllHappened(ctx, w.TriggerID, run.Bunch)
	if err != nil {
		return false, err
	}
	all = e.counts(wait, all, run.Due)
	if !complete(wait, all) {
		return false, nil
	}
	whats, given := e.whatCame(wait, w.Given.V, all)
	began, err := t.Release(ctx, run.RunID, e.node.Now().Add(job.Seconds(w.Delay)), given, "for its turn; what it waited for has happened: "+strings.Join(whats, "; "))
	if err != nil || !began || !wait.Once {
		return began, err
	}
	return true, t.DropHappened(ctx, w.TriggerID, run.Bunch)
}

// bunch names what belongs together: the business day of an instant, or nothing for
// a window.
func (e *Engine) bunch(w store.Waiter, at time.Time) (string, error) {
	if w.Waits.V.WithDefaults().Match == job.MatchWindow {
		return "", nil
	}
	return e.businessDay(w, at)
}

// counts keeps what counts for something at an instant: all of its day, or what
// happened within the window before or after it.
func (e *Engine) counts(wait job.Wait, all []store.Happened, at time.Time) []store.Happened {
	if wait.Match != job.MatchWindow {
		return all
	}
	return slices.DeleteFunc(all, func(h store.Happened) bool { return h.At.Sub(at).Abs() > time.Duration(wait.Within) })
}

// whatCame says what has happened, and gives the values of the run that begins.
func (e *Engine) whatCame(wait job.Wait, own job.Values, all []store.Happened) (whats []string, given job.Values) {
	facts := map[string]any{}
	for _, a := range all {
		whats = append(whats, a.What)
		if len(a.Facts.V) > 0 {
			facts = a.Facts.V
		}
	}
	given, err := take(wait, own, facts, e.node.Now())
	if err != nil {
		given = own
		whats = append(whats, fmt.Sprintf("its values could not be taken from the event: %s", err))
	}
	return whats, given
}

// complete tells whether enough has happened.
func complete(w job.Wait, all []store.Happened) bool {
	if w.Need == job.NeedAny {
		return len(all) > 0
	}
	return len(all) == len(w.For)
}

// businessDay is the day that an instant belongs to: its date in the trigger's
// zone; when the job goes by calendars, a closed day belongs to the open day
// before it.
func (e *Engine) businessDay(w store.Waiter, at time.Time) (string, error) {
	place, err := zone.Load(w.Zone)
	if err != nil {
		return "", fmt.Errorf("the zone of a trigger: %w", err)
	}
	day := at.In(place)
	c, err := e.times.Calendar(w.Calendars.V)
	if err != nil {
		return "", err
	}
	const longest = 60 // days that a house may be closed on end
	if c != nil {
		for n := 0; !c.Open(day.Year(), int(day.Month())).Has(day.Day()) && n < longest; n++ {
			day = day.AddDate(0, 0, -1)
		}
	}
	return day.Format(time.DateOnly), nil
}

// take gives the values of a run: the trigger's, with those taken from the event.
func take(w job.Wait, given job.Values, facts map[string]any, now time.Time) (job.Values, error) {
	out := given.Over(nil)
	for name, v := range w.Take {
		text, ok := v.(string)
		if !ok {
			out[name] = v
			continue
		}
		if len(facts) == 0 && strings.Contains(text, "{") {
			continue // no event is among what happened
		}
		parsed, err := expr.Parse(text, expr.Names{Event: true})
		if err != nil {
			return nil, err
		}
		filled, err := parsed.Fill(expr.Facts{Event: facts, Date: now})
		if err != nil {
			return nil, err
		}
		out[name] = filled
	}
	return out, nil
}

// startBy makes a run of a job because of what happened, or records why not.
func (e *Engine) startBy(ctx context.Context, t *store.Tx, w store.Waiter, given job.Values, nominal time.Time, why string) (job.RunID, error) {
	now := e.node.Now()
	open, err := t.OpenFor(ctx, w.JobID, given)
	if err != nil {
		return 0, err
	}
	d := policy.Rings(job.OutageOnce, w.Overlap, []time.Time{now}, now, false, open)[0]
	frozen, err := t.FreezeOver(ctx, now, now)
	if err != nil {
		return 0, err
	}
	reason := ""
	if f := freezeOf(frozen, w.Labels.V, now); f != nil {
		reason = heldBack(*f)
		if f.Rings == "pass over" {
			d = policy.Decision{Decision: job.RingPassedOver, Reason: reason}
		}
	}
	if d.Decision == job.RingJoined {
		return d.Joins, t.Log(ctx, job.LogLine{Text: "joined by: " + why}, d.Joins)
	}
	run := store.NewRun{
		JobID: w.JobID, Job: w.Job, JobVersion: w.JobVersion, TriggerID: &w.TriggerID, Why: why, Nominal: nominal, Due: now, Zone: w.Zone,
		Given: given, Priority: w.Priority, Gated: w.Overlap != job.OverlapTogether, Labels: w.Labels.V, Reason: reason,
	}
	usual, err := t.Usual(ctx, []int64{w.JobID})
	if err != nil {
		return 0, err
	}
	if err := timeRun(&run, w.Delay, w.Deadline.V, usual[w.JobID]); err != nil {
		return 0, err
	}
	made := []store.NewRun{run}
	if err := t.AddRuns(ctx, made); err != nil {
		return 0, err
	}
	if d.Decision == job.RingPassedOver {
		return 0, t.PassOver(ctx, made[0].ID, d.Reason)
	}
	return made[0].ID, nil
}

// vainBatch is how many runs that waited in vain are passed over in one transaction.
const vainBatch = 200

// giveUp passes over the runs that waited in vain for what should have happened,
// and tells their owners.
func (e *Engine) giveUp(ctx context.Context) error {
	return e.store.Do(ctx, func(t *store.Tx) error {
		ids, err := t.GaveUp(ctx, vainBatch)
		if err != nil {
			return err
		}
		for _, id := range ids {
			run, err := t.Run(ctx, id)
			if err != nil {
				return err
			}
			missing, err := e.missing(ctx, t, run)
			if err != nil {
				return err
			}
			reason := "it waited in vain for " + strings.Join(missing, " and ")
			if err := t.PassOver(ctx, id, reason); err != nil {
				return err
			}
			f := fault.New(fault.Task, "", reason, "See why it did not happen; ring the job by hand if it is to run all the same.")
			if err := t.OpenAlert(ctx, job.Alert{
				Kind: job.AlertMissed, Cause: fmt.Sprintf("missed:%d", run.JobID), JobID: &run.JobID, RunID: &id,
				Happened: fmt.Sprintf("Run %s of %s did not begin: %s.", id, run.Job, reason), ForWhom: "nothing was sent to anybody by this run", Tried: "waited as long as the job says", Advice: f.Advice,
			}); err != nil {
				return err
			}
		}
		return nil
	})
}

// Missing says in words what a waiting run still waits for; nothing when it only
// waits for its turn.
func (e *Engine) Missing(ctx context.Context, run job.Run) ([]string, error) {
	return e.missing(ctx, e.store, run)
}

// missing says in words what a waiting run still waits for.
func (e *Engine) missing(ctx context.Context, from interface {
	HappenedFor(ctx context.Context, run job.RunID) (*store.HeldRun, []store.Happened, error)
	TriggerWait(ctx context.Context, trigger int64) (*job.Wait, error)
}, run job.Run,
) ([]string, error) {
	held, have, err := from.HappenedFor(ctx, run.ID)
	if err != nil || held == nil {
		return nil, err
	}
	wait, err := from.TriggerWait(ctx, held.TriggerID)
	if err != nil || wait == nil {
		return nil, err
	}
	have = e.counts(wait.WithDefaults(), have, held.Due)
	var missing []string
	for i, c := range wait.For {
		if !slices.ContainsFunc(have, func(h store.Happened) bool { return h.Place == i }) {
			missing = append(missing, event.Reading(c))
		}
	}
	return missing, nil
}
