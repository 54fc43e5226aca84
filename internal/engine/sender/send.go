package sender

import (
	"context"
	"errors"
	"time"

	"ironbell/internal/core/fault"
	"ironbell/internal/deliver"
	"ironbell/internal/engine/node"
	"ironbell/internal/store"
	"ironbell/internal/store/sending"
)

const (
	sendBatch  = 50               // deliveries that go over one line, one after another,
	batchTime  = 10 * time.Second // and for how long: what is more urgent by then goes first
	claimPause = 20 * time.Millisecond
	sendLimit  = 5 * time.Minute // longest time of one hand-over,
	sendSpeed  = 50_000          // and what it has beside for its bytes, in bytes a second
)

// destinationsAtOnce is how many destinations can have all the lines that one may
// have: what is slow at one holds up nobody else.
const destinationsAtOnce = 4

// sendAll hands the deliveries of one destination over on one line. Once the
// destination itself fails it rests, and the others wait with it.
func (sd *Sender) sendAll(ctx, living context.Context, group []sending.Sending, connected func()) {
	id, all := group[0].DestinationID, group
	destination, err := sd.destinations.ByID(living, id)
	var line deliver.Line
	if err == nil {
		line, err = sd.lines.take(living, id, destination)
	}
	if pauseOf(destination) == 0 {
		connected()
		sd.node.Send.Wake() // other batches were held up meanwhile
	}
	if err != nil && living.Err() == nil {
		sd.rests.Rest(ctx, group, fault.Of(err))
		return
	}
	defer func() {
		if line != nil {
			sd.lines.put(id, destination, line)
		}
	}()
	if group, err = sd.atGate(ctx, group); err != nil {
		if ctx.Err() == nil {
			sd.node.Log.Error("deliveries are given back: the gate could not be asked", "error", err)
		}
		sd.giveBack(living, all)
		return
	}
	began := time.Now()
	for i, s := range group {
		if ctx.Err() != nil || time.Since(began) > batchTime {
			sd.giveBack(ctx, group[i:])
			return
		}
		if line == nil {
			if line, err = destination.Open(living); err != nil {
				sd.rests.Rest(ctx, group[i:], fault.Of(err))
				return
			}
		}
		if err := sd.pace(ctx, destination, id); err != nil {
			sd.giveBack(ctx, group[i:])
			return
		}
		res, err := sd.handOver(living, line, destination, s)
		if err == nil {
			sd.outcome.Received(s, res)
			continue
		}
		if errors.As(err, new(*notRecorded)) {
			sd.node.Log.Error("deliveries are given back: the database did not take an offer", "error", err)
			line.Close()
			line = nil
			sd.giveBack(living, group[i:])
			return
		}
		f := fault.Of(err)
		if res.Offered && !res.Answered || !errors.As(err, new(*fault.Fault)) || f.Scope == fault.Destination {
			// The line is of no further use; the next delivery opens another.
			line.Close()
			line = nil
		}
		if f.Scope == fault.Destination && (!res.Offered || res.Answered) {
			sd.rests.Rest(living, group[i:], f)
			return
		}
		sd.outcome.Ended(living, s, res, err)
	}
}

// pauseOf is the least time between two messages to a destination.
func pauseOf(d deliver.Destination) time.Duration {
	if mailer, ok := d.(deliver.Mailer); ok {
		return mailer.Pause()
	}
	return 0
}

// pace waits for the turn of a destination that takes only so much at a time.
func (sd *Sender) pace(ctx context.Context, d deliver.Destination, id int64) error {
	pause := pauseOf(d)
	if pause == 0 {
		return nil
	}
	wait, err := sd.store.Pace(ctx, id, pause)
	if err == nil && wait > 0 && !node.Sleep(ctx, nil, wait) {
		err = ctx.Err()
	}
	return err
}

// giveBack returns deliveries that were claimed and not begun.
func (sd *Sender) giveBack(ctx context.Context, rest []sending.Sending) {
	ctx, stop := node.Ending(ctx)
	defer stop()
	err := sd.store.Do(ctx, func(t *store.Tx) error { return t.GiveBack(ctx, rest) })
	for _, s := range rest {
		sd.holdings.ReleaseSending(s)
	}
	if err != nil {
		sd.node.Log.Error("could not hand deliveries back; their leases will run out", "deliveries", len(rest), "error",
			err)
	}
}
