// Package waits knows what happened and who waits for it: events that were reported or that tasks
// raised, and outcomes of runs. Each is written for those triggers that wait for it; when that
// completes what one waits for, runs lets a held run begin or makes one.
//
// Everything is written in the transaction in which it happened, so that nothing that was
// committed is missed by those who wait.
package waits

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"ironbell/internal/core/fault"
	"ironbell/internal/core/job"
	"ironbell/internal/core/phrase"
	"ironbell/internal/engine/node"
	"ironbell/internal/engine/runs"
	"ironbell/internal/event"
	"ironbell/internal/store"
	"ironbell/internal/store/db"
	"ironbell/internal/store/history"
	"ironbell/internal/store/rings"
	"ironbell/internal/timetable"
)

// asks is what this room asks of the store.
type asks interface {
	Do(ctx context.Context, f func(*store.Tx) error) error
}

// Waits starts what waits. It may be used by several goroutines.
type Waits struct {
	node  *node.Node
	store asks
	times *timetable.Timetable
	runs  *runs.Runs
}

// New makes what starts those who wait.
func New(n *node.Node, s asks, times *timetable.Timetable, r *runs.Runs) *Waits {
	return &Waits{node: n, store: s, times: times, runs: r}
}

// Raised tells what became of an event that was raised.
type Raised struct {
	Row     int64       // 0 when it was known
	Fresh   bool        // no: one of its source and id was recorded before
	Started []job.RunID // the runs that it started or let begin
	Note    string      // why it did not start what waits for it
}

// Raise records events and starts what waits for each, in their order: for what was seen at a watch, those
// who wait for it there, and otherwise those who wait for its type.
func (ws *Waits) Raise(ctx context.Context, t *store.Tx, events []job.Event, from rings.From) ([]Raised, error) {
	rows, fresh, err := t.PutEvents(ctx, events, from)
	if err != nil {
		return nil, err
	}
	out := make([]Raised, len(events))
	types := []string{}
	for i, e := range events {
		out[i].Row, out[i].Fresh = rows[i], fresh[i]
		if fresh[i] && !slices.Contains(types, e.Type) {
			types = append(types, e.Type)
		}
	}
	if len(types) == 0 {
		return out, nil
	}
	waiting, err := waitersFor(ctx, t, from, types)
	if err != nil || len(waiting) == 0 {
		return out, err
	}
	if err := ws.times.Refresh(ctx, t); err != nil {
		return nil, err
	}
	var starts runs.Starts
	for i, e := range events {
		if !fresh[i] || len(waiting[e.Type]) == 0 {
			continue
		}
		if out[i].Started, out[i].Note, err = ws.raised(ctx, t, &starts, e, from, waiting[e.Type]); err != nil {
			return nil, err
		}
	}
	return out, ws.made(ctx, t, &starts, out)
}

// made makes the runs that events start, and notes at each what came of it.
func (ws *Waits) made(ctx context.Context, t *store.Tx, starts *runs.Starts, out []Raised) error {
	made, err := ws.runs.Make(ctx, t, starts)
	if err != nil {
		return err
	}
	var came []rings.EventCame
	for i := range out {
		for k, id := range out[i].Started {
			out[i].Started[k] = starts.Made(id, made)
		}
		had := len(out[i].Started)
		out[i].Started = slices.DeleteFunc(out[i].Started, func(id job.RunID) bool { return id == 0 })
		if had > len(out[i].Started) && out[i].Note == "" {
			out[i].Note = "a run of it was passed over"
		}
		if len(out[i].Started) > 0 || out[i].Note != "" {
			came = append(came, rings.EventCame{Row: out[i].Row, Runs: db.Numbers(out[i].Started), Note: out[i].Note})
		}
	}
	return t.EventsStarted(ctx, came)
}

// waitersFor finds who waits for events, by their types.
func waitersFor(ctx context.Context, t *store.Tx, from rings.From, types []string) (map[string][]rings.Waiter, error) {
	out := map[string][]rings.Waiter{}
	if from.Watch != nil {
		waiters, err := t.WaitersForWatch(ctx, *from.Watch)
		if len(waiters) > 0 {
			for _, one := range types {
				out[one] = waiters
			}
		}
		return out, err
	}
	waiters, of, err := t.WaitersForEvents(ctx, types)
	for i, w := range waiters {
		out[of[i]] = append(out[of[i]], w)
	}
	return out, err
}

// raised starts what waits for an event, and says why something that waits for it did not start.
func (ws *Waits) raised(ctx context.Context, t *store.Tx, starts *runs.Starts, ev job.Event, from rings.From,
	waiters []rings.Waiter,
) (started []job.RunID, note string, err error) {
	facts, err := event.Facts(ev)
	if err != nil {
		return nil, "", err
	}
	var notes []string
	others := 0
	for _, w := range waiters {
		c := w.Waits.V.For[w.Condition]
		matches, why := event.Matches(c, event.Happening{Event: &ev, Facts: facts})
		if matches && w.Asleep() {
			matches, why = false, "is off"
		}
		if matches && !from.All && from.Owner != w.OwnerID && c.Source == "" {
			// Nobody starts another's job unless it says so.
			matches, why = false, "does not take it: it comes from somebody else, and the job names no source; its owner can name "+ev.Source
		}
		if !matches {
			if why == "" {
				others++
			} else if len(notes) < maxNotes {
				notes = append(notes, w.Job+" "+why)
			}
			continue
		}
		id, why, err := ws.cameAbout(ctx, t, starts, w,
			rings.Happened{
				Condition: w.Condition, Nominal: ev.Time, What: event.Said(ev), Played: from.Played != nil,
			}.WithFacts(facts))
		if err != nil {
			return nil, "", err
		}
		if id != 0 {
			started = append(started, id)
		} else if len(notes) < maxNotes {
			notes = append(notes, w.Job+" "+why)
		}
	}
	if others > 0 {
		notes = append(notes, fmt.Sprintf("%s for this type of another source or subject",
			phrase.Count(others, "trigger")+phrase.Plural(others, " waits", " wait")))
	}
	return started, strings.Join(notes, "; "), nil
}

// maxNotes bounds of how many jobs it is said why an event did not start them.
const maxNotes = 20

// Ended starts what waits for the outcomes of runs that have ended. Each
// waits for an outcome of a run once, however often it is revised. Rehearsals
// start nothing.
func (ws *Waits) Ended(ctx context.Context, t *store.Tx, ended []history.RunMove) error {
	ended = slices.DeleteFunc(ended, func(m history.RunMove) bool { return m.Run.Rehearsal })
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
	if err := ws.times.Refresh(ctx, t); err != nil {
		return err
	}
	var starts runs.Starts
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
			c := w.Waits.V.For[w.Condition]
			heard := slices.ContainsFunc(c.Outcomes(),
				func(s job.RunState) bool { return slices.Contains(before, string(s)) })
			if by[i] != run.JobID || heard {
				continue
			}
			if matches, _ := event.Matches(c, event.Happening{Run: &run}); !matches {
				continue
			}
			if _, _, err := ws.cameAbout(ctx, t, &starts, w, rings.Happened{
				Condition: w.Condition, Nominal: run.Nominal,
				What: fmt.Sprintf("%s is %s (run %s)", run.Job, run.State, run.ID),
			}); err != nil {
				return err
			}
		}
	}
	_, err = ws.runs.Make(ctx, t, &starts)
	return err
}

// cameAbout notes that a condition of a trigger has come about. When that completes
// what the trigger waits for, the runs that its rule rang begin, or, without a rule, a
// run is made. It gives the first of them, or says why there is none.
func (ws *Waits) cameAbout(ctx context.Context, t *store.Tx, starts *runs.Starts, w rings.Waiter,
	h rings.Happened,
) (began job.RunID, why string, err error) {
	wait := w.Waits.V.WithDefaults()
	h.TriggerID, h.At = w.TriggerID, ws.node.Now()
	if w.Waits.V.For[w.Condition].Start == "" && !h.Played { // nobody expects a start of the service
		if err := t.PutArrival(ctx, w, h.At, place(w)); err != nil {
			return 0, "", err
		}
	}
	if runs.Gates(w) {
		return ws.isReady(ctx, t, starts, w, h)
	}
	if h.Bunch, err = ws.runs.Bunch(w, h.Nominal); err != nil {
		return 0, "", err
	}
	if isSingle(w) {
		return ws.start(ctx, t, starts, w, h.Bunch, []rings.Happened{h}, nil)
	}
	if err := t.PutHappened(ctx, h); err != nil {
		return 0, "", err
	}
	if w.Rule != "" {
		held, err := t.HeldRuns(ctx, w.TriggerID, h.Bunch)
		if err != nil {
			return 0, "", err
		}
		var first job.RunID
		for _, run := range held {
			began, err := ws.runs.LetBegin(ctx, t, w, run)
			if err != nil {
				return first, "", err
			}
			if began && first == 0 {
				first = run.RunID
			}
			if began && wait.Once {
				break // what happened is spent
			}
		}
		if wait.Match == job.MatchWindow {
			return first, "keeps it for its rings within " + wait.Within.String(), nil
		}
		return first, "keeps it for its rings of that day", nil
	}
	if why, err := ws.inQuiet(ctx, t, w, h); err != nil || why != "" {
		return 0, why, err
	}
	all, err := t.AllHappened(ctx, w.TriggerID, h.Bunch)
	if err != nil {
		return 0, "", err
	}
	all = ws.runs.Counts(wait, all, h.At)
	if !runs.Complete(wait, all) {
		return 0, runs.Lacking(wait, all), t.HastenFor(ctx, w.TriggerID)
	}
	return ws.complete(ctx, t, starts, w, h, all)
}

// complete makes the run of a trigger for which enough has happened, now or later.
func (ws *Waits) complete(ctx context.Context, t *store.Tx, starts *runs.Starts, w rings.Waiter, h rings.Happened,
	all []rings.Happened,
) (began job.RunID, why string, err error) {
	if why, err := ws.later(ctx, t, w, h); err != nil || why != "" {
		return 0, why, err
	}
	return ws.start(ctx, t, starts, w, h.Bunch, all, nil)
}

// vainBatch is how many runs that waited in vain are passed over in one transaction.
const vainBatch = 200

// GiveUp ends the wait of the runs that waited in vain for what should have happened, as their jobs say, and
// tells their owners.
func (ws *Waits) GiveUp(ctx context.Context) error {
	return ws.store.Do(ctx, func(t *store.Tx) error {
		ids, err := t.GaveUp(ctx, vainBatch)
		if err != nil {
			return err
		}
		for _, id := range ids {
			run, err := t.Run(ctx, id)
			if err != nil {
				return err
			}
			missing, err := ws.runs.Missing(ctx, t, run)
			if err != nil {
				return err
			}
			if err := ws.gaveUp(ctx, t, run, "it waited in vain for "+strings.Join(missing, " and ")); err != nil {
				return err
			}
		}
		return nil
	})
}

// gaveUp passes a run over that waited in vain, lets it fail, or lets it begin all the same.
func (ws *Waits) gaveUp(ctx context.Context, t *store.Tx, run job.Run, reason string) error {
	wait, zone := job.Wait{}, ""
	if run.TriggerID != nil {
		w, ok, err := t.WaiterOf(ctx, *run.TriggerID)
		if err != nil {
			return err
		}
		if ok {
			wait, zone = *w.Waits.V, w.Zone
			run.Given = ws.runs.WithoutEvent(wait, w.Given.V)
		}
	}
	became, whom := "did not begin", "nothing was sent to anybody by this run"
	kind, advice := job.AlertMissed, "See why it did not happen; ring the job by hand if it is to run all the same."
	switch wait.WithDefaults().InVain {
	case job.VainGoOn:
		became, whom = "began without what it waited for", "it goes to those who receive it, as always"
		advice = "See why it did not happen, and whether the result can be trusted."
		if _, err := t.Release(ctx, run.ID, ws.node.Now(), run.Given, "goes on: "+reason); err != nil {
			return err
		}
		ws.node.Work.Wake()
	case job.VainFail:
		became, kind = "failed", job.AlertRunFailed
		ended, err := t.FailHeld(ctx, run.ID, reason)
		if err != nil {
			return err
		}
		if err := ws.Ended(ctx, t, []history.RunMove{ended}); err != nil {
			return err
		}
	default:
		if err := t.PassOver(ctx, run.ID, reason); err != nil {
			return err
		}
	}
	f := fault.New(fault.Task, "", reason, advice)
	tried := "waited as long as the job says"
	if wait.Latest != "" {
		tried = "waited until " + wait.Latest + " " + zone
	}
	return t.OpenAlert(ctx, job.Alert{
		Kind: kind, Cause: fmt.Sprintf("missed:%d", run.JobID), JobID: &run.JobID, RunID: &run.ID,
		Happened: fmt.Sprintf("Run %s of %s %s: %s.", run.ID, run.Job, became, reason),
		ForWhom:  whom, Tried: tried, Advice: f.Advice,
	})
}
