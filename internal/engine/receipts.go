package engine

import (
	"context"
	"errors"
	"slices"
	"sync"
	"time"

	"ironbell/internal/core/fault"
	"ironbell/internal/core/job"
	"ironbell/internal/deliver"
	"ironbell/internal/engine/crash"
	"ironbell/internal/engine/node"
	"ironbell/internal/store"
)

// The offers and receipts of all lines go through one goroutine each: what comes
// while a write is under way gathers, and goes into the next together.

const (
	maxReceipts = 500                  // in one transaction
	pause       = 4 * time.Millisecond // how long a receipt waits for others, since nobody waits for it
)

// offered is one offer that waits to be recorded.
type offered struct {
	store.Sending
	done chan error
}

// offer records that the other side may accept from now on; only then may the
// last byte go out.
func (e *Engine) offer(s store.Sending) error {
	o := offered{s, make(chan error, 1)}
	e.offers <- o
	return <-o.done
}

// notRecorded says that our own database could not be told of an offer: nothing
// was offered, and the delivery is as it was.
type notRecorded struct{ cause error }

func (n *notRecorded) Error() string { return "the offer could not be recorded: " + n.cause.Error() }
func (n *notRecorded) Unwrap() error { return n.cause }

// errGateMoved says that what may leave has changed since a delivery was let through:
// it is given back, and the gate is asked again.
var errGateMoved = errors.New("what may leave was changed just now")

// recordOffers records offers until their channel is closed.
func (e *Engine) recordOffers(ctx context.Context) {
	for o := range e.offers {
		group := node.Gather(o, e.offers, maxReceipts)
		all := make([]store.Sending, len(group))
		for i, o := range group {
			all[i] = o.Sending
		}
		bounded, stop := node.Ending(ctx)
		done, moved, err := e.store.Offer(bounded, all)
		stop()
		if err != nil {
			err = &notRecorded{err}
		}
		for _, o := range group {
			if err == nil && moved[o.ID] {
				o.done <- &notRecorded{errGateMoved}
				continue
			}
			if err == nil && !done[o.ID] {
				e.node.Refused.Add(1)
				o.done <- store.ErrStale
				continue
			}
			o.done <- err
		}
	}
}

// gather takes what else lies in a channel, up to a bound.
func gather[T any](first T, more <-chan T, most int) []T {
	group := []T{first}
	for len(group) < most {
		select {
		case next, ok := <-more:
			if !ok {
				return group
			}
			group = append(group, next)
		default:
			return group
		}
	}
	return group
}

// receipt is what the other side said when it accepted, to be recorded.
type receipt struct {
	store.Sending
	res deliver.Result
}

// received hands a receipt on and lets the line go on: the delivery stays held
// until it is recorded.
func (e *Engine) received(s store.Sending, res deliver.Result) {
	e.node.Crash(crash.Answer)
	e.receipts <- receipt{s, res}
}

// recordReceipts records receipts until their channel is closed.
func (e *Engine) recordReceipts(ctx context.Context) {
	for r := range e.receipts {
		node.Sleep(ctx, nil, pause)
		group := node.Gather(r, e.receipts, maxReceipts)
		bounded, stop := node.Ending(ctx)
		err := e.store.Do(bounded, func(t *store.Tx) error { return e.sent(bounded, t, group) })
		if err != nil && len(group) > 1 {
			// A broken one harms nobody else.
			for _, one := range group {
				if err := e.sentOne(ctx, one); err != nil {
					e.node.Log.Error("could not record that a delivery was accepted", "delivery", one.ID, "error", err)
				}
			}
		} else if err != nil {
			e.node.Log.Error("could not record that a delivery was accepted", "delivery", r.ID, "error", err)
		}
		stop()
		for _, r := range group {
			e.holdings.ReleaseSending(r.Sending)
			if err == nil {
				e.node.Crash(crash.Receipt)
			}
		}
	}
}

func (e *Engine) sentOne(ctx context.Context, r receipt) error {
	bounded, stop := node.Ending(ctx)
	defer stop()
	return e.store.Do(bounded, func(t *store.Tx) error { return e.sent(bounded, t, []receipt{r}) })
}

// sent records receipts and settles the runs that end with them.
func (e *Engine) sent(ctx context.Context, t *store.Tx, group []receipt) error {
	all := make([]store.Received, len(group))
	logs := map[job.RunID][]job.LogLine{}
	var places []int64
	var refused []string
	for i, r := range group {
		all[i] = store.Received{ID: r.ID, Answer: r.res.Answer, WentTo: r.res.To, Taken: r.res.Taken}
		if !slices.Contains(places, r.DestinationID) {
			places, refused = append(places, r.DestinationID), append(refused, refusesCause(r.DestinationID))
		}
		if r.AlertID != nil {
			continue
		}
		logs[*r.RunID] = append(logs[*r.RunID], job.LogLine{Part: r.Part, Text: map[bool]string{true: "taken for ", false: "sent to "}[r.res.Taken != ""] + r.Address + ": " + r.res.Answer})
	}
	if err := t.Receipts(ctx, all); err != nil {
		return err
	}
	if rested, err := t.Rested(ctx, places); err != nil {
		return err
	} else if rested {
		if err := t.GotThrough(ctx, places); err != nil {
			return err
		}
		if err := t.CloseAlertsOf(ctx, refused); err != nil {
			return err
		}
	}
	for _, r := range group {
		if r.AlertID != nil {
			s, _, err := e.alertSettings(ctx, t)
			if err == nil {
				err = t.Reached(ctx, *r.AlertID, "", time.Duration(s.Second))
			}
			if err != nil {
				return err
			}
		}
	}
	runs := make([]job.RunID, 0, len(logs))
	for run := range logs {
		runs = append(runs, run)
	}
	if err := t.LogMany(ctx, logs); err != nil {
		return err
	}
	if err := e.settleRuns(ctx, t, runs); err != nil {
		return err
	}
	for _, run := range runs {
		if err := t.Tell(ctx, store.Notice{Kind: job.NoticeRun, ID: run.String()}); err != nil {
			return err
		}
	}
	return nil
}

// deliverAll hands over until ctx ends.
func (e *Engine) deliverAll(ctx context.Context) {
	var clerk sync.WaitGroup
	clerk.Go(func() { e.recordOffers(context.WithoutCancel(ctx)) })
	e.send(ctx)
	close(e.offers)
	clerk.Wait()
}

// rest lets a destination rest and returns the deliveries to those that wait for
// it; the first of them is the one that met the fault.
func (e *Engine) rest(ctx context.Context, group []store.Sending, f *fault.Fault) {
	ctx, stop := node.Ending(ctx)
	defer stop()
	first := group[0]
	e.node.Log.Warn("a destination fails; it rests until it is mended", "destination", first.DestinationID, "class", f.Class, "error", f, "deliveries", len(group))
	err := e.store.Do(ctx, func(t *store.Tx) error {
		end := store.Ended{State: job.DeliveryWaiting, Untried: true, Rests: true, Answer: f.Error(), Advice: f.Advice, Class: string(f.Class)}
		if err := t.EndSending(ctx, first, end); err != nil && !errors.Is(err, store.ErrStale) {
			return err
		}
		if err := t.GiveBack(ctx, group[1:]); err != nil {
			return err
		}
		return e.restNow(ctx, t, first, f) // which keeps back all that is ready for it
	})
	for _, s := range group {
		e.holdings.ReleaseSending(s)
	}
	if err != nil {
		e.node.Log.Error("could not let a destination rest; leases will run out", "destination", first.DestinationID, "error", err)
	}
	// Whoever can be told over another destination is told now.
	if err := e.store.HurryAlerts(ctx, first.DestinationID, "the mail server does not work: "+f.Error()); err != nil {
		e.node.Log.Error("could not go on with alerts whose mails wait", "error", err)
	}
	e.node.Probe.Wake()
}
