package rests

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"ironbell/internal/core/fault"
	"ironbell/internal/core/job"
	"ironbell/internal/core/phrase"
	"ironbell/internal/engine/node"
	"ironbell/internal/engine/settle"
	"ironbell/internal/store"
	"ironbell/internal/store/db"
	"ironbell/internal/store/records"
	"ironbell/internal/store/sending"
)

// A destination that fails as a whole is noticed once: it rests, what waits for
// it is kept back, and one probe after another looks whether it is mended.

// LookLimit bounds one look at a place.
const LookLimit = 30 * time.Second

// downCause is the cause of the alert about a destination.
func downCause(id int64) string { return fmt.Sprintf("destination:%d", id) }

// restNow lets a destination rest. A lasting fault is told at once; one that may
// pass when the first probe has failed, too.
func (rt *Rests) restNow(ctx context.Context, t *store.Tx, s sending.Sending, f *fault.Fault) error {
	rested, inRow, err := t.Rest(ctx, s.DestinationID, f, rt.node.FirstProbe)
	if err != nil {
		return err
	}
	if s.RunID != nil {
		if err := t.Log(ctx,
			job.LogLine{Level: "warn", Part: s.Part, Text: fmt.Sprintf("the delivery to %s waits: %s", s.Address, f)},
			*s.RunID); err != nil {
			return err
		}
	}
	if err := t.Tell(ctx, db.Notice{Kind: job.NoticeDestinations}); err != nil {
		return err
	}
	if !rested && inRow >= restsInRow {
		return rt.refusesAlert(ctx, t, s, f, inRow)
	}
	if rested || f.Class == fault.Passing {
		return nil
	}
	p, err := t.PlaceByID(ctx, records.Destination, s.DestinationID)
	if err != nil {
		return err
	}
	return rt.DownAlert(ctx, t, sending.Resting{
		ID: p.ID, Name: p.Name, Since: rt.node.Now(), Answer: f.Error(), Advice: f.Advice, Class: string(f.Class),
	})
}

// restsInRow is how often a destination may rest, and seem mended, without that
// anything gets through, before somebody is told.
const restsInRow = 3

// refusesAlert tells that a destination is fine whenever it is looked at, and refuses
// whatever is handed over. It closes when something gets through.
func (rt *Rests) refusesAlert(ctx context.Context, t *store.Tx, s sending.Sending, f *fault.Fault, inRow int) error {
	p, err := t.PlaceByID(ctx, records.Destination, s.DestinationID)
	if err != nil {
		return err
	}
	waiting, err := t.WaitingFor(ctx, p.ID)
	if err != nil {
		return err
	}
	advice := f.Advice
	if advice == "" {
		advice = "See what it says of what it refuses."
	}
	return t.OpenAlert(ctx, job.Alert{
		Kind: job.AlertDown, Cause: settle.RefusesCause(p.ID), Job: "Destination " + p.Name,
		Happened: fmt.Sprintf("The destination %q answers when it is looked at, and refuses what is handed over: %d "+
			"times in a row. %s.", p.Name, inRow, phrase.Upper(f.Error())),
		ForWhom: waitingWords(waiting), Tried: "It is tried again and again, at growing intervals.", Advice: advice,
		Next: "What waits goes out by itself when it takes something.",
	})
}

// DownAlert tells that a destination does not work: one alert for all that waits.
func (rt *Rests) DownAlert(ctx context.Context, t *store.Tx, r sending.Resting) error {
	waiting, err := t.WaitingFor(ctx, r.ID)
	if err != nil {
		return err
	}
	advice := r.Advice
	if advice == "" {
		advice = "See whether it runs and can be reached."
	}
	tried := "It is looked at again and again; what waits goes out by itself when it works."
	if r.Probes > 0 {
		tried = fmt.Sprintf("It was looked at %d %s since. What waits goes out by itself when it works.", r.Probes,
			phrase.Plural(r.Probes, "time", "times"))
	}
	return t.OpenAlert(ctx, job.Alert{
		Kind: job.AlertDown, Cause: downCause(r.ID), Job: "Destination " + r.Name,
		Happened: fmt.Sprintf("The destination %q does not work. %s.", r.Name, phrase.Upper(r.Answer)),
		ForWhom:  waitingWords(waiting), Tried: tried,
		Advice: advice + " Then test the destination: ironbell destinations -test " + quoted(r.Name),
	})
}

// waitingWords says what waits for a destination.
func waitingWords(w sending.Waiting) string {
	if w.Deliveries == 0 {
		return "nothing waits for it now"
	}
	text := fmt.Sprintf("%d %s", w.Deliveries, phrase.Plural(w.Deliveries, "delivery waits", "deliveries wait"))
	if len(w.Jobs) > 0 {
		text += ": " + strings.Join(w.Jobs[:min(len(w.Jobs), 10)], ", ")
	}
	if len(w.Jobs) > 10 {
		text += " and others"
	}
	return text
}

// quoted is a name as a shell takes it.
func quoted(name string) string {
	if strings.ContainsAny(name, " '\"$`\\") {
		return "'" + strings.ReplaceAll(name, "'", `'\''`) + "'"
	}
	return name
}

// WakeDestination ends a rest: what waits goes out, and the alert closes.
func (rt *Rests) WakeDestination(ctx context.Context, id int64, name, why string) error {
	err := rt.store.Do(ctx, func(t *store.Tx) error {
		woke, err := t.Wake(ctx, id)
		if err != nil || !woke {
			return err
		}
		rt.node.Log.Info("a destination works again", "destination", name, "why", why)
		if err := t.CloseAlertsOf(ctx, []string{downCause(id)}); err != nil {
			return err
		}
		return t.Tell(ctx, db.Notice{Kind: job.NoticeDestinations})
	})
	if err != nil {
		return err
	}
	return rt.LetGo(ctx)
}

// LetGo lets go what was kept back for destinations that work again.
func (rt *Rests) LetGo(ctx context.Context) error {
	for more := true; more && ctx.Err() == nil; {
		var err error
		if more, err = rt.store.LetGo(ctx); err != nil {
			return err
		}
	}
	return nil
}

// GiveUpAll ends deliveries that waited for their destinations too long, with one alert for each
// run, and settles their runs.
func (rt *Rests) GiveUpAll(ctx context.Context, t *store.Tx, all []sending.Sending) error {
	byDestination := map[int64][]sending.Sending{}
	for _, s := range all {
		byDestination[s.DestinationID] = append(byDestination[s.DestinationID], s)
	}
	var runs []job.RunID
	for id, group := range byDestination {
		p, err := t.PlaceByID(ctx, records.Destination, id)
		if err != nil {
			return err
		}
		why := "the time to wait for the destination ran out"
		if p.RestAnswer != "" {
			why += ": " + p.RestAnswer // which names it
		}
		f := fault.New(fault.Destination, "", why, p.RestAdvice)
		ids := make([]int64, len(group))
		told := map[job.RunID]bool{}
		for i, s := range group {
			ids[i] = s.ID
		}
		if err := t.GiveUp(ctx, ids, f.Error(), f.Advice, string(f.Class)); err != nil {
			return err
		}
		waiting, err := t.WaitingFor(ctx, id)
		if err != nil {
			return err
		}
		if err := t.AlertFor(ctx, []string{downCause(id), settle.RefusesCause(id)}, waitingWords(waiting)); err != nil {
			return err
		}
		for _, s := range group {
			switch {
			case s.AlertID != nil:
				if err := t.NextStep(ctx, *s.AlertID,
					fmt.Sprintf("%s could not be told: %s", s.Address, f)); err != nil {
					return err
				}
			case s.RunID == nil: // an event of ours, whose subscription goes on
			case !told[*s.RunID]:
				told[*s.RunID] = true
				runs = append(runs, *s.RunID)
				if err := t.Log(ctx, job.LogLine{Level: "error", Text: "deliveries were given up: " + f.Error()},
					*s.RunID); err != nil {
					return err
				}
				if err := rt.settle.DeliveryAlert(ctx, t, s, job.AlertDeliveryFailed, f,
					"the destination was looked at again and again meanwhile"); err != nil {
					return err
				}
			}
		}
	}
	return rt.settle.Settle(ctx, t, slices.Compact(slices.Sorted(slices.Values(runs))))
}

// Rest lets a destination rest and returns the deliveries to those that wait for
// it; the first of them is the one that met the fault.
func (rt *Rests) Rest(ctx context.Context, group []sending.Sending, f *fault.Fault) {
	ctx, stop := node.Ending(ctx)
	defer stop()
	first := group[0]
	rt.node.Log.Warn("a destination fails; it rests until it is mended", "destination", first.DestinationID, "class",
		f.Class, "error", f, "deliveries", len(group))
	err := rt.store.Do(ctx, func(t *store.Tx) error {
		end := sending.Ended{
			State: job.DeliveryWaiting, Untried: true, Rests: true, Answer: f.Error(), Advice: f.Advice,
			Class: string(f.Class),
		}
		if err := t.EndSending(ctx, first, end); err != nil && !errors.Is(err, db.ErrStale) {
			return err
		}
		if err := t.GiveBack(ctx, group[1:]); err != nil {
			return err
		}
		return rt.restNow(ctx, t, first, f) // which keeps back all that is ready for it
	})
	for _, s := range group {
		rt.holdings.ReleaseSending(s)
	}
	if err != nil {
		rt.node.Log.Error("could not let a destination rest; leases will run out", "destination", first.DestinationID,
			"error", err)
	}
	// Whoever can be told over another destination is told now.
	if err := rt.store.HurryAlerts(ctx, first.DestinationID, "the mail server does not work: "+f.Error()); err != nil {
		rt.node.Log.Error("could not go on with alerts whose mails wait", "error", err)
	}
	rt.node.Probe.Wake()
}
