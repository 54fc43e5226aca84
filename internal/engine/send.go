package engine

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"sync"
	"time"

	"ironbell/internal/core/fault"
	"ironbell/internal/core/job"
	"ironbell/internal/core/policy"
	"ironbell/internal/deliver"
	"ironbell/internal/engine/crash"
	"ironbell/internal/engine/node"
	"ironbell/internal/store"
	"ironbell/internal/task"
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

// send hands deliveries over, several destinations at once.
func (e *Engine) send(ctx context.Context) {
	// Lines live longer than what goes over them. A hand-over that is under way
	// when the service stops is brought to its end: broken off after the offer it
	// would be unknown.
	living, hangUp := e.node.AfterStop(ctx)
	defer hangUp()
	defer e.lines.sweep(true)
	var batches sync.WaitGroup
	defer batches.Wait()
	for ctx.Err() == nil {
		busy, room := e.lines.busy(e.o.Senders, destinationsAtOnce*e.o.Senders)
		if room == 0 || e.node.Finishing.Load() {
			node.Sleep(ctx, e.node.Send, e.node.Poll) // until a batch ends
			continue
		}
		claimed, err := e.store.ClaimDeliveries(ctx, e.node.Name, e.node.Lease, sendBatch, room, busy)
		if err != nil {
			e.node.Failed(ctx, "claim deliveries", err)
			continue
		}
		e.holdings.HoldSending(claimed)
		if len(claimed) > 0 {
			e.node.Crash(crash.Send)
		}
		groups := map[int64][]store.Sending{}
		for _, s := range claimed {
			groups[s.DestinationID] = append(groups[s.DestinationID], s)
		}
		for id, group := range groups {
			connected, end := e.lines.begin(id)
			batches.Go(func() {
				e.sendAll(ctx, living, group, connected)
				end()
				e.node.Send.Wake()
			})
		}
		if len(claimed) > 0 {
			// The same destinations have more once these are connected, which is told;
			// what others had was among them.
			node.Sleep(ctx, e.node.Send, claimPause)
			continue
		}
		e.lines.sweep(false)
		wait := min(e.node.Poll, idleLine)
		if next, ok, err := e.store.NextReady(ctx); err == nil && ok {
			wait = min(wait, next+5*time.Millisecond)
		}
		node.Sleep(ctx, e.node.Send, wait)
	}
}

// sendAll hands the deliveries of one destination over on one line. Once the
// destination itself fails it rests, and the others wait with it.
func (e *Engine) sendAll(ctx, living context.Context, group []store.Sending, connected func()) {
	id, all := group[0].DestinationID, group
	destination, err := e.destinations.ByID(living, id)
	var line deliver.Line
	if err == nil {
		line, err = e.lines.take(living, id, destination)
	}
	if pauseOf(destination) == 0 {
		connected()
		e.node.Send.Wake() // other batches were held up meanwhile
	}
	if err != nil && living.Err() == nil {
		e.rest(ctx, group, fault.Of(err))
		return
	}
	defer func() {
		if line != nil {
			e.lines.put(id, destination, line)
		}
	}()
	if group, err = e.atGate(ctx, group); err != nil {
		if ctx.Err() == nil {
			e.node.Log.Error("deliveries are given back: the gate could not be asked", "error", err)
		}
		e.giveBack(living, all)
		return
	}
	began := time.Now()
	for i, s := range group {
		if ctx.Err() != nil || time.Since(began) > batchTime {
			e.giveBack(ctx, group[i:])
			return
		}
		if line == nil {
			if line, err = destination.Open(living); err != nil {
				e.rest(ctx, group[i:], fault.Of(err))
				return
			}
		}
		if err := e.pace(ctx, destination, id); err != nil {
			e.giveBack(ctx, group[i:])
			return
		}
		res, err := e.handOver(living, line, destination, s)
		if err == nil {
			e.received(s, res)
			continue
		}
		if errors.As(err, new(*notRecorded)) {
			e.node.Log.Error("deliveries are given back: the database did not take an offer", "error", err)
			line.Close()
			line = nil
			e.giveBack(living, group[i:])
			return
		}
		f := fault.Of(err)
		if res.Offered && !res.Answered || !errors.As(err, new(*fault.Fault)) || f.Scope == fault.Destination {
			// The line is of no further use; the next delivery opens another.
			line.Close()
			line = nil
		}
		if f.Scope == fault.Destination && (!res.Offered || res.Answered) {
			e.rest(living, group[i:], f)
			return
		}
		e.ended(living, s, res, err)
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
func (e *Engine) pace(ctx context.Context, d deliver.Destination, id int64) error {
	pause := pauseOf(d)
	if pause == 0 {
		return nil
	}
	wait, err := e.store.Pace(ctx, id, pause)
	if err == nil && wait > 0 && !node.Sleep(ctx, nil, wait) {
		err = ctx.Err()
	}
	return err
}

// handOver sends one delivery.
func (e *Engine) handOver(ctx context.Context, line deliver.Line, d deliver.Destination, s store.Sending) (deliver.Result, error) {
	ctx, stop := context.WithTimeout(ctx, sendLimit+time.Duration(s.Size/sendSpeed)*time.Second)
	defer stop()
	content, err := e.bytesOf(ctx, s)
	if err != nil {
		return deliver.Result{}, err
	}
	defer func() { _ = content.Close() }() // only read from
	h := deliver.Handover{
		ID: s.ID, To: s.Address, MessageID: s.MessageID, Name: s.Name, MediaType: s.MediaType, Size: s.Size, SHA256: s.SHA256, Try: s.Tries, IfExists: s.IfExists, Stamp: s.Stamp, Content: content,
		Alone: func(ctx context.Context, name string) (func(), error) {
			release, err := e.store.Alone(ctx, s.DestinationID, name, 2*e.node.Lease)
			switch {
			case err == nil:
				return release, nil
			case ctx.Err() != nil:
				return nil, fault.Wrap(err, fault.Passing, fault.Message, "choose a name at the destination", "Others of this name went there all the time.")
			}
			return nil, &notRecorded{err}
		},
	}
	if mailer, ok := d.(deliver.Mailer); ok {
		tag := e.links.Mark(s.ID)
		h.From, h.Headers = mailer.ReturnPath(tag), append(e.leaveHeaders(s), deliver.TagField+": "+tag)
	}
	var asked time.Time
	return line.Send(ctx, h, func(context.Context) error {
		if asked.IsZero() {
			asked = time.Now()
			if err := e.offer(s); err != nil {
				return err
			}
			e.node.Crash(crash.Offer)
		}
		// A node that was held up just here must not say the last word: by now
		// another may have taken the delivery for lost.
		if held := time.Since(asked); held > e.node.Lease/2 {
			return fault.Wrap(fmt.Errorf("this node was held up for %s", held.Round(time.Millisecond)), fault.Passing, fault.Message, "offer the message", "")
		}
		return nil
	})
}

// bytesOf opens what a delivery hands over.
func (e *Engine) bytesOf(ctx context.Context, s store.Sending) (io.ReadSeekCloser, error) {
	if s.Key == "" && len(s.Body) > 0 {
		return inMemory{bytes.NewReader(s.Body)}, nil
	}
	return e.files.Open(ctx, s.Key)
}

// inMemory is a text that is read like a file.
type inMemory struct{ *bytes.Reader }

func (inMemory) Close() error { return nil }

// ended writes how a hand-over went that was not accepted, and settles its run.
func (e *Engine) ended(ctx context.Context, s store.Sending, res deliver.Result, err error) {
	defer e.holdings.ReleaseSending(s)
	ctx, stop := node.Ending(ctx)
	defer stop()
	if res.Offered {
		e.node.Crash(crash.Answer)
	}
	log := e.node.Log.With("delivery", s.ID, "to", s.Address)
	var write func(*store.Tx) error
	switch {
	case errors.Is(err, store.ErrStale):
		log.Warn("another node has this delivery now, or it was settled")
		return
	case res.Offered && !res.Answered:
		write = func(t *store.Tx) error { return e.unknown(ctx, t, s, fault.Of(err)) }
	default:
		f := fault.Of(err)
		log.Warn("a delivery failed", "try", s.Tries, "class", f.Class, "scope", f.Scope, "error", f)
		write = func(t *store.Tx) error { return e.notSent(ctx, t, s, f) }
	}
	switch err := e.store.Do(ctx, write); {
	case err == nil:
		if res.Offered {
			e.node.Crash(crash.Receipt)
		}
	case errors.Is(err, store.ErrStale):
		e.node.Refused.Add(1)
		log.Warn("a write about a delivery was refused: another node has it now, or it was settled")
	default:
		log.Error("could not write how a delivery went", "error", err)
	}
}

// notSent decides with policy whether a delivery waits for another try.
func (e *Engine) notSent(ctx context.Context, t *store.Tx, s store.Sending, f *fault.Fault) error {
	now := e.node.Now()
	again := policy.AfterFault(s.Retry(), s.Tries, f, now, now) // until stands in GiveUpAt
	if again.Retry && s.GiveUpAt != nil && now.Add(again.Wait).After(*s.GiveUpAt) {
		again = policy.Again{Reason: "the time to try had run out"}
	}
	end := store.Ended{State: job.DeliveryFailed, Answer: f.Error(), Advice: f.Advice, Class: string(f.Class)}
	if again.Retry {
		end.State, end.Wait = job.DeliveryWaiting, again.Wait
	}
	if err := t.EndSending(ctx, s, end); err != nil {
		return err
	}
	text := fmt.Sprintf("not sent to %s: %s; %s", s.Address, f, again.Reason)
	if again.Retry {
		return e.afterDelivery(ctx, t, s, "warn", text)
	}
	if s.AlertID != nil {
		return t.NextStep(ctx, *s.AlertID, fmt.Sprintf("%s could not be told: %s", s.Address, f))
	}
	if err := e.deliveryAlert(ctx, t, s, job.AlertDeliveryFailed, f, again.Reason); err != nil {
		return err
	}
	return e.afterDelivery(ctx, t, s, "error", text)
}

// unknown marks a delivery whose answer was lost. It is never tried again by
// itself, unless its job says so.
func (e *Engine) unknown(ctx context.Context, t *store.Tx, s store.Sending, f *fault.Fault) error {
	text := fmt.Sprintf("nobody knows whether %s has it: it was offered, and the answer was lost (%s)", s.Address, f)
	if err := t.EndSending(ctx, s, store.Ended{State: job.DeliveryUnknown, Answer: f.Error(), Advice: lookFor(s), Class: string(f.Class)}); err != nil {
		return err
	}
	if s.IfUnknown == job.UnknownResend {
		if err := t.Resend(ctx, s.ID, task.NextMessageID(s.MessageID)); err != nil {
			return err
		}
		return e.afterDelivery(ctx, t, s, "warn", text+"; sent again, as the job says")
	}
	if s.AlertID != nil {
		// An alert that may have arrived goes on to the next person.
		return t.NextStep(ctx, *s.AlertID, text)
	}
	if err := e.deliveryAlert(ctx, t, s, job.AlertDeliveryUnknown, f, "it was offered once; it is not sent again by itself"); err != nil {
		return err
	}
	return e.afterDelivery(ctx, t, s, "error", text)
}

// lookFor is what to do about a delivery that is unknown.
func lookFor(s store.Sending) string {
	const then = ", then settle the delivery: mark it as sent, or send it again."
	if s.Name == "" { // a mail
		return "Ask the recipient" + then
	}
	return fmt.Sprintf("Look whether %s is there and whole, with %d bytes"+then, s.Address, s.Size)
}

// afterDelivery logs the change where it belongs and settles the run.
func (e *Engine) afterDelivery(ctx context.Context, t *store.Tx, s store.Sending, level, text string) error {
	if s.AlertID != nil {
		return nil // it is tried again; the alert's next step has its own time
	}
	if err := t.Log(ctx, job.LogLine{Level: level, Part: s.Part, Text: text}, *s.RunID); err != nil {
		return err
	}
	if err := e.settleRun(ctx, t, *s.RunID); err != nil {
		return err
	}
	return t.Tell(ctx, store.Notice{Kind: job.NoticeRun, ID: s.RunID.String()})
}

// giveBack returns deliveries that were claimed and not begun.
func (e *Engine) giveBack(ctx context.Context, rest []store.Sending) {
	ctx, stop := node.Ending(ctx)
	defer stop()
	err := e.store.Do(ctx, func(t *store.Tx) error { return t.GiveBack(ctx, rest) })
	for _, s := range rest {
		e.holdings.ReleaseSending(s)
	}
	if err != nil {
		e.node.Log.Error("could not hand deliveries back; their leases will run out", "deliveries", len(rest), "error", err)
	}
}

// leaveHeaders are the lines by which who gets a mail can leave the job's list with
// one click (RFC 2369, RFC 8058).
func (e *Engine) leaveHeaders(s store.Sending) []string {
	if !s.MayLeave || s.JobID == nil {
		return nil
	}
	link := e.links.Leave(*s.JobID, s.Address)
	if link == "" {
		return nil
	}
	return []string{"List-Unsubscribe: <" + link + ">", "List-Unsubscribe-Post: List-Unsubscribe=One-Click"}
}
