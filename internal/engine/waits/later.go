package waits

import (
	"context"
	"fmt"
	"strings"
	"time"

	"ironbell/internal/core/job"
	"ironbell/internal/core/phrase"
	"ironbell/internal/core/zone"
	"ironbell/internal/engine/runs"
	"ironbell/internal/store"
	"ironbell/internal/store/rings"
)

// start makes the run of a trigger for which enough has happened, which is spent by it.
func (ws *Waits) start(ctx context.Context, t *store.Tx, starts *runs.Starts, w rings.Waiter, bunch string,
	all []rings.Happened, gathered *rings.Gathering,
) (began job.RunID, why string, err error) {
	wait := w.Waits.V.WithDefaults()
	if !isSingle(w) {
		if err := t.DropHappened(ctx, w.TriggerID, bunch); err != nil {
			return 0, "", err
		}
	}
	whats, given := ws.runs.WhatCame(wait, w.Given.V, all)
	nominal := all[0].Nominal
	for _, a := range all {
		if a.Nominal.After(nominal) {
			nominal = a.Nominal
		}
	}
	text := phrase.Upper(strings.Join(whats, "; ")) + "."
	if gathered != nil && gathered.Count > 1 {
		text = fmt.Sprintf("%s, gathered since %s; the last: %s", phrase.Count(gathered.Count, "happening"),
			clockTime(w, gathered.First), text)
	}
	if wait.Quiet > 0 {
		if err := t.StartedAt(ctx, w.TriggerID, ws.node.Now()); err != nil {
			return 0, "", err
		}
	}
	opens, err := w.Timing.V.Opens(place(w), ws.node.Now())
	if err != nil {
		return 0, "", err
	}
	return starts.Add(w, given, nominal, text, opens), "", nil
}

// isSingle tells whether one thing that happens is enough to start a run at once, so that nothing need be
// remembered of it.
func isSingle(w rings.Waiter) bool {
	wait := w.Waits.V.WithDefaults()
	return w.Rule == "" && (len(wait.For) == 1 || wait.Need == job.NeedAny) && wait.Gather == 0 && wait.Quiet == 0 &&
		wait.Outside != job.OutsidePassOver
}

// clockTime is an instant as the job's clocks show it.
func clockTime(w rings.Waiter, at time.Time) string {
	return at.In(place(w)).Format("15:04 MST")
}

// place is the zone of a job; UTC when it is known no more.
func place(w rings.Waiter) *time.Location {
	place, err := zone.Load(w.Zone)
	if err != nil {
		return time.UTC
	}
	return place
}

// inQuiet tells why something starts nothing, since something started the job a moment before. It is not
// kept.
func (ws *Waits) inQuiet(ctx context.Context, t *store.Tx, w rings.Waiter, h rings.Happened) (why string, err error) {
	quiet := time.Duration(w.Waits.V.Quiet)
	if quiet == 0 || w.StartedAt == nil || !h.At.Before(w.StartedAt.Add(quiet)) {
		return "", nil
	}
	return fmt.Sprintf("was started at %s, and starts by nothing else until %s", clockTime(w, *w.StartedAt),
		clockTime(w, w.StartedAt.Add(quiet))), t.DropHappened(ctx, w.TriggerID, h.Bunch)
}

// later tells why what is complete starts its run later, since more may come, or never, since it is passed
// over outside of the permitted hours.
func (ws *Waits) later(ctx context.Context, t *store.Tx, w rings.Waiter, h rings.Happened) (why string, err error) {
	wait := w.Waits.V.WithDefaults()
	opens, err := w.Timing.V.Opens(place(w), h.At)
	if err != nil {
		return "", err
	}
	if opens.After(h.At) && wait.Outside == job.OutsidePassOver {
		return fmt.Sprintf("passes it over: it starts between %s only", strings.Join(w.Timing.V.Hours, " and ")),
			t.DropHappened(ctx, w.TriggerID, h.Bunch)
	}
	if wait.Gather == 0 {
		return "", nil
	}
	g, err := t.Gathering(ctx, w.TriggerID, h.Bunch)
	if err != nil {
		return "", err
	}
	if g == nil {
		g = &rings.Gathering{Bunch: h.Bunch, First: h.At}
	}
	g.Count++
	g.Due = h.At.Add(time.Duration(wait.Gather))
	if most := g.First.Add(time.Duration(wait.GatherMost)); g.Due.After(most) {
		g.Due = most
	}
	why = fmt.Sprintf("gathers: it starts at %s when nothing more comes", clockTime(w, g.Due))
	if g.Count > 1 {
		why = fmt.Sprintf("gathers, %d until now", g.Count)
	}
	return why, t.Gather(ctx, w.TriggerID, *g)
}

// gatheredBatch is how many triggers start what they gathered in one round.
const gatheredBatch = 200

// Gathered starts what was gathered until now, and tells whether there may be more.
func (ws *Waits) Gathered(ctx context.Context) (more bool, err error) {
	var due []int64
	if err := ws.store.Do(ctx, func(t *store.Tx) error {
		due, err = t.GatheringsDue(ctx, ws.node.Now(), gatheredBatch)
		return err
	}); err != nil {
		return false, err
	}
	for _, trigger := range due {
		if err := ws.store.Do(ctx, func(t *store.Tx) error { return ws.startGathered(ctx, t, trigger) }); err != nil {
			return false, err
		}
	}
	return len(due) == gatheredBatch, nil
}

func (ws *Waits) startGathered(ctx context.Context, t *store.Tx, trigger int64) error {
	w, ok, err := t.WaiterOf(ctx, trigger)
	if err != nil {
		return err
	}
	due, err := t.GatheredOf(ctx, trigger, ws.node.Now())
	if err != nil {
		return err
	}
	var starts runs.Starts
	if len(due) > 0 {
		if err := ws.times.Refresh(ctx, t); err != nil {
			return err
		}
	}
	for _, g := range due {
		if err := t.DropGathering(ctx, trigger, g.Bunch); err != nil {
			return err
		}
		all, err := t.AllHappened(ctx, trigger, g.Bunch)
		if err != nil || len(all) == 0 {
			return err
		}
		if !ok || w.Asleep() {
			// Switched off meanwhile: as what happens while it is off, it starts nothing.
			if err := t.DropHappened(ctx, trigger, g.Bunch); err != nil {
				return err
			}
			continue
		}
		if _, _, err := ws.start(ctx, t, &starts, w, g.Bunch, all, &g); err != nil {
			return err
		}
	}
	_, err = ws.runs.Make(ctx, t, &starts)
	return err
}

// isReady lets all begin that waits for a state that was asked for now, whatever its day. It counts for nothing
// that is to come, which asks again.
func (ws *Waits) isReady(ctx context.Context, t *store.Tx, starts *runs.Starts, w rings.Waiter, h rings.Happened) (began job.RunID,
	why string, err error,
) {
	if w.Rule == "" {
		return ws.isReadyToo(ctx, t, starts, w, h)
	}
	held, err := t.HeldOfTrigger(ctx, w.TriggerID)
	if err != nil {
		return 0, "", err
	}
	for _, run := range held {
		h.Bunch, h.Nominal = run.Bunch, run.Nominal
		if err := t.PutHappened(ctx, h); err != nil {
			return began, "", err
		}
		ok, err := ws.runs.LetBegin(ctx, t, w, run)
		if err != nil {
			return began, "", err
		}
		if ok && began == 0 {
			began = run.RunID
		}
	}
	if len(held) > 0 {
		return began, "waits for more", nil
	}
	return 0, "has no run that waits", nil
}

// isReadyToo starts a trigger without a rule whose other conditions have all come about.
func (ws *Waits) isReadyToo(ctx context.Context, t *store.Tx, starts *runs.Starts, w rings.Waiter,
	h rings.Happened,
) (began job.RunID,
	why string, err error,
) {
	wait := w.Waits.V.WithDefaults()
	bunches, err := t.BunchesOf(ctx, w.TriggerID)
	if err != nil {
		return 0, "", err
	}
	why = "has nothing else that came about"
	for _, bunch := range bunches {
		h.Bunch = bunch
		if err := t.PutHappened(ctx, h); err != nil {
			return began, "", err
		}
		all, err := t.AllHappened(ctx, w.TriggerID, bunch)
		if err != nil {
			return began, "", err
		}
		all = ws.runs.Counts(wait, all, h.At)
		if !runs.Complete(wait, all) {
			why = runs.Lacking(wait, all)
			if err := t.DropCondition(ctx, w.TriggerID, bunch, w.Condition); err != nil {
				return began, "", err
			}
			continue
		}
		id, late, err := ws.complete(ctx, t, starts, w, h, all)
		if err != nil {
			return began, "", err
		}
		if began == 0 {
			began, why = id, late
		}
	}
	return began, why, nil
}
