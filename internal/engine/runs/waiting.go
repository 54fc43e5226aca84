package runs

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"ironbell/internal/core/expr"
	"ironbell/internal/core/job"
	"ironbell/internal/core/zone"
	"ironbell/internal/event"
	"ironbell/internal/store"
	"ironbell/internal/store/rings"
)

// holdRun lets a run wait that the rule of a trigger rang; it begins at once when all
// that it waits for has happened already.
func (rs *Runs) holdRun(ctx context.Context, t *store.Tx, w rings.Waiter, run rings.NewRun) error {
	bunch, err := rs.Bunch(w, run.Nominal)
	if err != nil {
		return err
	}
	held := rings.HeldRun{RunID: run.ID, TriggerID: w.TriggerID, Bunch: bunch, Due: run.Due, Nominal: run.Nominal}
	if err := t.HoldRun(ctx, held); err != nil {
		return err
	}
	began, err := rs.LetBegin(ctx, t, w, held)
	if err != nil || began {
		return err
	}
	return t.HastenFor(ctx, w.TriggerID)
}

// LetBegin lets a run begin that waited, when all has happened, and tells whether it
// did.
func (rs *Runs) LetBegin(ctx context.Context, t *store.Tx, w rings.Waiter, run rings.HeldRun) (bool, error) {
	wait := w.Waits.V.WithDefaults()
	all, err := t.AllHappened(ctx, w.TriggerID, run.Bunch)
	if err != nil {
		return false, err
	}
	all = current(w.Rule, wait, rs.Counts(wait, all, run.Due), run.Due)
	if !Complete(wait, all) {
		return false, nil
	}
	whats, given := rs.WhatCame(wait, w.Given.V, all)
	began, err := t.Release(ctx, run.RunID, rs.node.Now().Add(job.Seconds(w.Delay)), given,
		"for its turn; what it waited for has happened: "+strings.Join(whats, "; "))
	if err != nil || !began || !wait.Once {
		return began, err
	}
	return true, t.DropHappened(ctx, w.TriggerID, run.Bunch)
}

// Bunch names what belongs together: the business day of an instant, or nothing for
// a window.
func (rs *Runs) Bunch(w rings.Waiter, at time.Time) (string, error) {
	if w.Waits.V.WithDefaults().Match == job.MatchWindow {
		return "", nil
	}
	return rs.businessDay(w, at)
}

// Counts keeps what counts for something at an instant: all of its day, or what
// happened within the window before or after it.
func (rs *Runs) Counts(wait job.Wait, all []rings.Happened, at time.Time) []rings.Happened {
	if wait.Match != job.MatchWindow {
		return all
	}
	return slices.DeleteFunc(all,
		func(h rings.Happened) bool { return h.At.Sub(at).Abs() > time.Duration(wait.Within) })
}

// WhatCame says what has happened, and gives the values of the run that begins: those of the trigger, with
// those that are taken from the event that came last.
func (rs *Runs) WhatCame(wait job.Wait, own job.Values, all []rings.Happened) (whats []string, given job.Values) {
	var facts job.Facts
	var last time.Time
	for _, a := range all {
		whats = append(whats, a.What)
		if len(a.Facts.V) > 0 && !a.At.Before(last) {
			facts, last = a.Facts.V, a.At
		}
	}
	return whats, take(wait, own, facts, rs.node.Now())
}

// gates tells whether a condition is a state that is asked for when all else is there.
func gates(rule string, wait job.Wait, condition int) bool {
	return job.Trigger{Timing: job.Timing{Rule: rule}, Wait: &wait}.Gates(condition)
}

// Gates tells whether the condition that came about is a state that was asked for.
func Gates(w rings.Waiter) bool { return gates(w.Rule, *w.Waits.V, w.Condition) }

// current leaves states out that held before a run was due: each run asks anew.
func current(rule string, wait job.Wait, all []rings.Happened, due time.Time) []rings.Happened {
	return slices.DeleteFunc(all, func(h rings.Happened) bool {
		return gates(rule, wait, h.Condition) && h.At.Before(due)
	})
}

// Lacking says how much has happened of what a trigger waits for, and what has not: "has 2 of 3: it waits
// for event ledger.closed".
func Lacking(wait job.Wait, all []rings.Happened) string {
	var missing []string
	for i, c := range wait.For {
		if !slices.ContainsFunc(all, func(h rings.Happened) bool { return h.Condition == i }) {
			missing = append(missing, event.Reading(c))
		}
	}
	return fmt.Sprintf("has %d of %d: it waits for %s", len(all), len(wait.For), strings.Join(missing, " and "))
}

// Complete tells whether enough has happened.
func Complete(w job.Wait, all []rings.Happened) bool {
	if w.Need == job.NeedAny {
		return len(all) > 0
	}
	return len(all) == len(w.For)
}

// businessDay is the day that an instant belongs to: its date in the trigger's
// zone; when the job goes by calendars, a closed day belongs to the open day
// before it.
func (rs *Runs) businessDay(w rings.Waiter, at time.Time) (string, error) {
	place, err := zone.Load(w.Zone)
	if err != nil {
		return "", fmt.Errorf("the zone of a trigger: %w", err)
	}
	day := at.In(place)
	c, err := rs.times.Calendar(w.Calendars.V)
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

// take gives the values of a run: the trigger's, with those taken from the event. What the event lacks is
// what the trigger says otherwise, or stands there as lacking.
func take(w job.Wait, given job.Values, facts job.Facts, now time.Time) job.Values {
	out := given.Over(nil)
	for name, v := range w.Take {
		text, ok := v.(string)
		if !ok {
			out[name] = v
			continue
		}
		filled, err := fill(text, facts, now)
		if err == nil {
			out[name] = filled
		} else if other, ok := w.Otherwise[name]; ok {
			out[name] = other
		} else {
			out[name] = job.Lacking(err.Error())
		}
	}
	return out
}

// WithoutEvent gives the values of a run that begins although nothing happened.
func (rs *Runs) WithoutEvent(wait job.Wait, own job.Values) job.Values {
	return take(wait, own, nil, rs.node.Now())
}

// fill fills a text out of an event; none is among what happened when facts is nil.
func fill(text string, facts job.Facts, now time.Time) (string, error) {
	parsed, err := expr.Parse(text, expr.Names{Event: true})
	if err != nil {
		return "", err
	}
	if facts == nil && strings.Contains(text, "{") {
		return "", errors.New("no event is among what happened")
	}
	return parsed.Fill(expr.Facts{Event: facts, Date: now})
}

// Missing says in words what a waiting run still waits for.
func (rs *Runs) Missing(ctx context.Context, from interface {
	HappenedFor(ctx context.Context, run job.RunID) (*rings.HeldRun, []rings.Happened, error)
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
	// A run that waits was rung by a rule, whichever it is.
	have = current("rung", wait.WithDefaults(), rs.Counts(wait.WithDefaults(), have, held.Due), held.Due)
	var missing []string
	for i, c := range wait.For {
		if !slices.ContainsFunc(have, func(h rings.Happened) bool { return h.Condition == i }) {
			missing = append(missing, event.Reading(c))
		}
	}
	return missing, nil
}
