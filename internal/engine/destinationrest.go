package engine

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"ironbell/internal/core/fault"
	"ironbell/internal/core/job"
	"ironbell/internal/core/phrase"
	"ironbell/internal/deliver"
	"ironbell/internal/engine/node"
	"ironbell/internal/store"
)

// A destination that fails as a whole is noticed once: it rests, what waits for
// it is kept back, and one probe after another looks whether it is mended.

// LookLimit bounds one look at a place.
const LookLimit = 30 * time.Second

// giveUpBatch is how many deliveries are given up in one transaction.
const giveUpBatch = 500

// probeLongest is the longest time between two looks at a place that rests.
const probeLongest = 5 * time.Minute

// probeWait is the time after so many probes that failed.
func (e *Engine) probeWait(probes int) time.Duration {
	wait := e.node.FirstProbe
	for range min(probes, 20) {
		if wait *= 2; wait >= probeLongest {
			return probeLongest
		}
	}
	return wait
}

// downCause is the cause of the alert about a destination.
func downCause(id int64) string { return fmt.Sprintf("destination:%d", id) }

// restNow lets a destination rest. A lasting fault is told at once; one that may
// pass when the first probe has failed, too.
func (e *Engine) restNow(ctx context.Context, t *store.Tx, s store.Sending, f *fault.Fault) error {
	rested, inRow, err := t.Rest(ctx, s.DestinationID, f, e.node.FirstProbe)
	if err != nil {
		return err
	}
	if s.RunID != nil {
		if err := t.Log(ctx, job.LogLine{Level: "warn", Part: s.Part, Text: fmt.Sprintf("the delivery to %s waits: %s", s.Address, f)}, *s.RunID); err != nil {
			return err
		}
	}
	if err := t.Tell(ctx, store.Notice{Kind: job.NoticeDestinations}); err != nil {
		return err
	}
	if !rested && inRow >= restsInRow {
		return e.refusesAlert(ctx, t, s, f, inRow)
	}
	if rested || f.Class == fault.Passing {
		return nil
	}
	p, err := t.PlaceByID(ctx, store.Destination, s.DestinationID)
	if err != nil {
		return err
	}
	return e.downAlert(ctx, t, store.Resting{ID: p.ID, Name: p.Name, Since: e.node.Now(), Answer: f.Error(), Advice: f.Advice, Class: string(f.Class)})
}

// restsInRow is how often a destination may rest, and seem mended, without that
// anything gets through, before somebody is told.
const restsInRow = 3

func refusesCause(id int64) string { return fmt.Sprintf("refuses:%d", id) }

// refusesAlert tells that a destination is fine whenever it is looked at, and refuses
// whatever is handed over. It closes when something gets through.
func (e *Engine) refusesAlert(ctx context.Context, t *store.Tx, s store.Sending, f *fault.Fault, inRow int) error {
	p, err := t.PlaceByID(ctx, store.Destination, s.DestinationID)
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
		Kind: job.AlertDown, Cause: refusesCause(p.ID), Job: "Destination " + p.Name,
		Happened: fmt.Sprintf("The destination %q answers when it is looked at, and refuses what is handed over: %d times in a row. %s.", p.Name, inRow, phrase.Upper(f.Error())),
		ForWhom:  waitingWords(waiting), Tried: "It is tried again and again, at growing intervals.", Advice: advice,
		Next: "What waits goes out by itself when it takes something.",
	})
}

// downAlert tells that a destination does not work: one alert for all that waits.
func (e *Engine) downAlert(ctx context.Context, t *store.Tx, r store.Resting) error {
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
		tried = fmt.Sprintf("It was looked at %d %s since. What waits goes out by itself when it works.", r.Probes, phrase.Plural(r.Probes, "time", "times"))
	}
	return t.OpenAlert(ctx, job.Alert{
		Kind: job.AlertDown, Cause: downCause(r.ID), Job: "Destination " + r.Name, Happened: fmt.Sprintf("The destination %q does not work. %s.", r.Name, phrase.Upper(r.Answer)),
		ForWhom: waitingWords(waiting), Tried: tried, Advice: advice + " Then test the destination: ironbell destinations -test " + quoted(r.Name),
	})
}

// waitingWords says what waits for a destination.
func waitingWords(w store.Waiting) string {
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

// probe looks after what rests: whether it works again, and what waited too long. Others
// are asked beside it, so that none of them holds it up.
func (e *Engine) probe(ctx context.Context) {
	defer e.asking.all.Wait()
	for {
		for doing, do := range map[string]func(context.Context) error{"look at destinations that rest": e.probeAll, "let deliveries go": e.letGo, "give deliveries up": e.giveUpWaiting, "end what nobody said yes to": e.nobodySaidYes, "ask about what was taken": e.askTaken, "look at sources that rest": e.lookAtRests, "give up what waits for sources": e.giveUpKept} {
			if err := do(ctx); err != nil {
				e.node.Failed(ctx, doing, err)
			}
		}
		wait := min(e.node.Poll, e.node.Lease/2)
		if next, ok, err := e.store.NextReady(ctx); err == nil && ok {
			wait = min(wait, max(next, 0)+5*time.Millisecond)
		}
		if !node.Sleep(ctx, e.node.Probe, max(wait, 50*time.Millisecond)) {
			return
		}
	}
}

func (e *Engine) probeAll(ctx context.Context) error {
	for ctx.Err() == nil && e.asking.free() {
		r, ok, err := e.store.TakeProbe(ctx, e.probeWait)
		if err != nil || !ok {
			return err
		}
		e.ask(ctx, fmt.Sprintf("destination:%d", r.ID), "look at a destination that rests", func() error {
			for more := true; more; {
				var err error
				if more, err = e.store.KeepBack(ctx, r.ID); err != nil {
					return err
				}
			}
			return e.probeOne(ctx, r)
		})
	}
	return nil
}

// probeOne looks at one destination.
func (e *Engine) probeOne(ctx context.Context, r store.Resting) error {
	destination, err := e.destinations.ByID(ctx, r.ID)
	if err == nil {
		looking, stop := context.WithTimeout(ctx, LookLimit)
		err = deliver.Probe(looking, destination)
		stop()
	}
	if ctx.Err() != nil {
		return ctx.Err()
	}
	if err == nil {
		return e.wakeDestination(ctx, r.ID, r.Name, "it answers again")
	}
	f := fault.Of(err)
	r.Answer, r.Advice = f.Error(), f.Advice
	return e.store.Do(ctx, func(t *store.Tx) error {
		if _, _, err := t.Rest(ctx, r.ID, f, e.node.FirstProbe); err != nil {
			return err
		}
		return e.downAlert(ctx, t, r)
	})
}

// wakeDestination ends a rest: what waits goes out, and the alert closes.
func (e *Engine) wakeDestination(ctx context.Context, id int64, name, why string) error {
	err := e.store.Do(ctx, func(t *store.Tx) error {
		woke, err := t.Wake(ctx, id)
		if err != nil || !woke {
			return err
		}
		e.node.Log.Info("a destination works again", "destination", name, "why", why)
		if err := t.CloseAlertsOf(ctx, []string{downCause(id)}); err != nil {
			return err
		}
		return t.Tell(ctx, store.Notice{Kind: job.NoticeDestinations})
	})
	if err != nil {
		return err
	}
	return e.letGo(ctx)
}

// letGo lets go what was kept back for destinations that work again.
func (e *Engine) letGo(ctx context.Context) error {
	for more := true; more && ctx.Err() == nil; {
		var err error
		if more, err = e.store.LetGo(ctx); err != nil {
			return err
		}
	}
	return nil
}

// giveUpWaiting ends deliveries that waited for their destination too long.
func (e *Engine) giveUpWaiting(ctx context.Context) error {
	for ctx.Err() == nil {
		n := 0
		err := e.store.Do(ctx, func(t *store.Tx) error {
			all, err := t.GivenUp(ctx, giveUpBatch)
			n = len(all)
			if err != nil || n == 0 {
				return err
			}
			return e.giveUpAll(ctx, t, all)
		})
		if err != nil || n < giveUpBatch {
			return err
		}
	}
	return nil
}

func (e *Engine) giveUpAll(ctx context.Context, t *store.Tx, all []store.Sending) error {
	byDestination := map[int64][]store.Sending{}
	for _, s := range all {
		byDestination[s.DestinationID] = append(byDestination[s.DestinationID], s)
	}
	var runs []job.RunID
	for id, group := range byDestination {
		p, err := t.PlaceByID(ctx, store.Destination, id)
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
		if err := t.AlertFor(ctx, []string{downCause(id), refusesCause(id)}, waitingWords(waiting)); err != nil {
			return err
		}
		for _, s := range group {
			switch {
			case s.AlertID != nil:
				if err := t.NextStep(ctx, *s.AlertID, fmt.Sprintf("%s could not be told: %s", s.Address, f)); err != nil {
					return err
				}
			case !told[*s.RunID]:
				told[*s.RunID] = true
				runs = append(runs, *s.RunID)
				if err := t.Log(ctx, job.LogLine{Level: "error", Text: "deliveries were given up: " + f.Error()}, *s.RunID); err != nil {
					return err
				}
				if err := e.deliveryAlert(ctx, t, s, job.AlertDeliveryFailed, f, "the destination was looked at again and again meanwhile"); err != nil {
					return err
				}
			}
		}
	}
	return e.settleRuns(ctx, t, slices.Compact(slices.Sorted(slices.Values(runs))))
}
