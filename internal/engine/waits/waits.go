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

// Raise records events and starts what waits for each, in their order.
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
	waiters, of, err := t.WaitersForEvents(ctx, types)
	if err != nil || len(waiters) == 0 {
		return out, err
	}
	if err := ws.times.Refresh(ctx, t); err != nil {
		return nil, err
	}
	for i, e := range events {
		if !fresh[i] || !slices.Contains(of, e.Type) {
			continue
		}
		started, note, err := ws.raised(ctx, t, e, from, waiters, of)
		if err != nil {
			return nil, err
		}
		if err := t.EventStarted(ctx, rows[i], started, note); err != nil {
			return nil, err
		}
		out[i].Started, out[i].Note = started, note
	}
	return out, nil
}

// raised starts what waits for an event, and says why something that waits for it did not start.
func (ws *Waits) raised(ctx context.Context, t *store.Tx, ev job.Event, from rings.From, waiters []rings.Waiter,
	of []string,
) (started []job.RunID, note string, err error) {
	facts, err := event.Facts(ev)
	if err != nil {
		return nil, "", err
	}
	var notes []string
	others := 0
	for i, w := range waiters {
		if of[i] != ev.Type {
			continue
		}
		c := w.Waits.V.For[w.Condition]
		matches, why := event.Matches(c, event.Happening{Event: &ev, Facts: facts})
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
		what := fmt.Sprintf("event %s of %s", ev.Type, ev.Source)
		if ev.Subject != "" {
			what += " about " + ev.Subject
		}
		id, why, err := ws.cameAbout(ctx, t, w,
			rings.Happened{Condition: w.Condition, Nominal: ev.Time, What: what}.WithFacts(facts))
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
			if _, _, err := ws.cameAbout(ctx, t, w, rings.Happened{
				Condition: w.Condition, Nominal: run.Nominal,
				What: fmt.Sprintf("%s is %s (run %s)", run.Job, run.State, run.ID),
			}); err != nil {
				return err
			}
		}
	}
	return nil
}

// cameAbout notes that a condition of a trigger has come about. When that completes
// what the trigger waits for, the runs that its rule rang begin, or, without a rule, a
// run is made. It gives the first of them, or says why there is none.
func (ws *Waits) cameAbout(ctx context.Context, t *store.Tx, w rings.Waiter,
	h rings.Happened,
) (began job.RunID, why string, err error) {
	wait := w.Waits.V.WithDefaults()
	h.TriggerID, h.At = w.TriggerID, ws.node.Now()
	if h.Bunch, err = ws.runs.Bunch(w, h.Nominal); err != nil {
		return 0, "", err
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
	all, err := t.AllHappened(ctx, w.TriggerID, h.Bunch)
	if err != nil {
		return 0, "", err
	}
	all = ws.runs.Counts(wait, all, h.At)
	if !runs.Complete(wait, all) {
		return 0, fmt.Sprintf("has %d of %d of what it waits for", len(all), len(wait.For)), nil
	}
	if err := t.DropHappened(ctx, w.TriggerID, h.Bunch); err != nil {
		return 0, "", err
	}
	whats, given := ws.runs.WhatCame(wait, w.Given.V, all)
	nominal := all[0].Nominal
	for _, a := range all {
		if a.Nominal.After(nominal) {
			nominal = a.Nominal
		}
	}
	began, err = ws.runs.StartBy(ctx, t, w, given, nominal, phrase.Upper(strings.Join(whats, "; "))+".")
	return began, "made no run of it", err
}

// vainBatch is how many runs that waited in vain are passed over in one transaction.
const vainBatch = 200

// GiveUp passes over the runs that waited in vain for what should have happened,
// and tells their owners.
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
			reason := "it waited in vain for " + strings.Join(missing, " and ")
			if err := t.PassOver(ctx, id, reason); err != nil {
				return err
			}
			f := fault.New(fault.Task, "", reason,
				"See why it did not happen; ring the job by hand if it is to run all the same.")
			if err := t.OpenAlert(ctx, job.Alert{
				Kind: job.AlertMissed, Cause: fmt.Sprintf("missed:%d", run.JobID), JobID: &run.JobID, RunID: &id,
				Happened: fmt.Sprintf("Run %s of %s did not begin: %s.", id, run.Job, reason),
				ForWhom:  "nothing was sent to anybody by this run", Tried: "waited as long as the job says",
				Advice: f.Advice,
			}); err != nil {
				return err
			}
		}
		return nil
	})
}
