// Package sender hands deliveries over: it claims those that are ready, asks the gate, and sends
// each destination's on lines that it keeps open. Before the other side can accept one, its
// offer is on record; what came of it is written by outcome.
package sender

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"sync"
	"time"

	"ironbell/internal/access"
	"ironbell/internal/artifact"
	"ironbell/internal/engine/lease"
	"ironbell/internal/engine/outcome"
	"ironbell/internal/engine/rests"

	"ironbell/internal/core/fault"
	"ironbell/internal/deliver"
	"ironbell/internal/engine/crash"
	"ironbell/internal/engine/node"
	"ironbell/internal/store"
)

// Sender is the loop of one node.
type Sender struct {
	node         *node.Node
	store        *store.Store
	destinations *deliver.Destinations
	files        *artifact.Folder
	holdings     *lease.Holdings
	links        access.Links
	outcome      *outcome.Outcome
	rests        *rests.Rests
	lines        lines
	offers       chan offered
	most         int // lines to one destination at once
}

// New makes the sender of a node, with at most so many lines to one destination.
func New(n *node.Node, s *store.Store, d *deliver.Destinations, files *artifact.Folder, h *lease.Holdings, links access.Links, o *outcome.Outcome, r *rests.Rests, most int) *Sender {
	return &Sender{
		node: n, store: s, destinations: d, files: files, holdings: h, links: links, outcome: o, rests: r,
		lines: newLines(), offers: make(chan offered), most: most,
	}
}

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
func (sd *Sender) send(ctx context.Context) {
	// Lines live longer than what goes over them. A hand-over that is under way
	// when the service stops is brought to its end: broken off after the offer it
	// would be unknown.
	living, hangUp := sd.node.AfterStop(ctx)
	defer hangUp()
	defer sd.lines.sweep(true)
	var batches sync.WaitGroup
	defer batches.Wait()
	for ctx.Err() == nil {
		busy, room := sd.lines.busy(sd.most, destinationsAtOnce*sd.most)
		if room == 0 || sd.node.Finishing.Load() {
			node.Sleep(ctx, sd.node.Send, sd.node.Poll) // until a batch ends
			continue
		}
		claimed, err := sd.store.ClaimDeliveries(ctx, sd.node.Name, sd.node.Lease, sendBatch, room, busy)
		if err != nil {
			sd.node.Failed(ctx, "claim deliveries", err)
			continue
		}
		sd.holdings.HoldSending(claimed)
		if len(claimed) > 0 {
			sd.node.Crash(crash.Send)
		}
		groups := map[int64][]store.Sending{}
		for _, s := range claimed {
			groups[s.DestinationID] = append(groups[s.DestinationID], s)
		}
		for id, group := range groups {
			connected, end := sd.lines.begin(id)
			batches.Go(func() {
				sd.sendAll(ctx, living, group, connected)
				end()
				sd.node.Send.Wake()
			})
		}
		if len(claimed) > 0 {
			// The same destinations have more once these are connected, which is told;
			// what others had was among them.
			node.Sleep(ctx, sd.node.Send, claimPause)
			continue
		}
		sd.lines.sweep(false)
		wait := min(sd.node.Poll, idleLine)
		if next, ok, err := sd.store.NextReady(ctx); err == nil && ok {
			wait = min(wait, next+5*time.Millisecond)
		}
		node.Sleep(ctx, sd.node.Send, wait)
	}
}

// sendAll hands the deliveries of one destination over on one line. Once the
// destination itself fails it rests, and the others wait with it.
func (sd *Sender) sendAll(ctx, living context.Context, group []store.Sending, connected func()) {
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

// handOver sends one delivery.
func (sd *Sender) handOver(ctx context.Context, line deliver.Line, d deliver.Destination, s store.Sending) (deliver.Result, error) {
	ctx, stop := context.WithTimeout(ctx, sendLimit+time.Duration(s.Size/sendSpeed)*time.Second)
	defer stop()
	content, err := sd.bytesOf(ctx, s)
	if err != nil {
		return deliver.Result{}, err
	}
	defer func() { _ = content.Close() }() // only read from
	h := deliver.Handover{
		ID: s.ID, To: s.Address, MessageID: s.MessageID, Name: s.Name, MediaType: s.MediaType, Size: s.Size, SHA256: s.SHA256, Try: s.Tries, IfExists: s.IfExists, Stamp: s.Stamp, Content: content,
		Alone: func(ctx context.Context, name string) (func(), error) {
			release, err := sd.store.Alone(ctx, s.DestinationID, name, 2*sd.node.Lease)
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
		tag := sd.links.Mark(s.ID)
		h.From, h.Headers = mailer.ReturnPath(tag), append(sd.leaveHeaders(s), deliver.TagField+": "+tag)
	}
	var asked time.Time
	return line.Send(ctx, h, func(context.Context) error {
		if asked.IsZero() {
			asked = time.Now()
			if err := sd.offer(s); err != nil {
				return err
			}
			sd.node.Crash(crash.Offer)
		}
		// A node that was held up just here must not say the last word: by now
		// another may have taken the delivery for lost.
		if held := time.Since(asked); held > sd.node.Lease/2 {
			return fault.Wrap(fmt.Errorf("this node was held up for %s", held.Round(time.Millisecond)), fault.Passing, fault.Message, "offer the message", "")
		}
		return nil
	})
}

// bytesOf opens what a delivery hands over.
func (sd *Sender) bytesOf(ctx context.Context, s store.Sending) (io.ReadSeekCloser, error) {
	if s.Key == "" && len(s.Body) > 0 {
		return inMemory{bytes.NewReader(s.Body)}, nil
	}
	return sd.files.Open(ctx, s.Key)
}

// inMemory is a text that is read like a file.
type inMemory struct{ *bytes.Reader }

func (inMemory) Close() error { return nil }

// giveBack returns deliveries that were claimed and not begun.
func (sd *Sender) giveBack(ctx context.Context, rest []store.Sending) {
	ctx, stop := node.Ending(ctx)
	defer stop()
	err := sd.store.Do(ctx, func(t *store.Tx) error { return t.GiveBack(ctx, rest) })
	for _, s := range rest {
		sd.holdings.ReleaseSending(s)
	}
	if err != nil {
		sd.node.Log.Error("could not hand deliveries back; their leases will run out", "deliveries", len(rest), "error", err)
	}
}

// leaveHeaders are the lines by which who gets a mail can leave the job's list with
// one click (RFC 2369, RFC 8058).
func (sd *Sender) leaveHeaders(s store.Sending) []string {
	if !s.MayLeave || s.JobID == nil {
		return nil
	}
	link := sd.links.Leave(*s.JobID, s.Address)
	if link == "" {
		return nil
	}
	return []string{"List-Unsubscribe: <" + link + ">", "List-Unsubscribe-Post: List-Unsubscribe=One-Click"}
}
