package sender

import (
	"context"
	"sync"
	"time"

	"ironbell/internal/deliver"
)

const (
	idleLine  = 20 * time.Second // how long a line is kept that nobody uses
	freshLine = 2 * time.Second  // how long one is trusted without asking whether it is still there
	maxIdle   = 4                // idle lines to one destination
)

// lines keeps open lines to destinations between two batches, and knows where
// batches are under way. While one is not yet connected, nothing else is claimed
// for its destination: one that does not answer holds up one batch, and not all of
// them. The same holds for one that is paced, as long as the batch lasts.
type lines struct {
	mu      sync.Mutex
	idle    map[int64][]idle
	batches map[int64]int // under way, by destination
	dialing map[int64]int // of them those that are not connected yet
	shut    bool
}

func newLines() lines {
	return lines{idle: map[int64][]idle{}, batches: map[int64]int{}, dialing: map[int64]int{}}
}

// begin says that a batch for a destination was claimed. It is told when the batch
// is connected, and when it is over.
func (l *lines) begin(id int64) (connected, end func()) {
	l.count(l.batches, id, 1)
	l.count(l.dialing, id, 1)
	connected = sync.OnceFunc(func() { l.count(l.dialing, id, -1) })
	return connected, func() {
		connected()
		l.count(l.batches, id, -1)
	}
}

func (l *lines) count(of map[int64]int, id int64, by int) {
	l.mu.Lock()
	defer l.mu.Unlock()
	if of[id] += by; of[id] == 0 {
		delete(of, id)
	}
}

// busy lists the destinations for which nothing more is to be claimed now, when
// each has at most so many batches at once, and tells for how many others there is
// room when all together have at most total.
func (l *lines) busy(most, total int) (ids []int64, room int) {
	l.mu.Lock()
	defer l.mu.Unlock()
	for id, n := range l.batches {
		if n >= most || l.dialing[id] > 0 {
			ids = append(ids, id)
		}
		total -= n
	}
	return ids, max(total, 0)
}

type idle struct {
	line  deliver.Line
	of    deliver.Destination // as it was then: settings that were saved since make another
	since time.Time
}

// take gives a line to a destination: one that is idle, or a new one. ctx is that
// of the line's whole life.
func (l *lines) take(ctx context.Context, id int64, d deliver.Destination) (deliver.Line, error) {
	for {
		l.mu.Lock()
		list := l.idle[id]
		if len(list) == 0 {
			l.mu.Unlock()
			return d.Open(ctx)
		}
		last := list[len(list)-1]
		l.idle[id] = list[:len(list)-1]
		l.mu.Unlock()
		rested := time.Since(last.since)
		if last.of == d && rested < idleLine && (rested < freshLine || last.line.Fit()) {
			return last.line, nil
		}
		last.line.Close()
	}
}

// put gives a line back. A list of idle ones is bounded.
func (l *lines) put(id int64, d deliver.Destination, line deliver.Line) {
	l.mu.Lock()
	if l.shut || len(l.idle[id]) >= maxIdle {
		l.mu.Unlock()
		line.Close()
		return
	}
	l.idle[id] = append(l.idle[id], idle{line, d, time.Now()})
	l.mu.Unlock()
}

// sweep closes lines that nobody used for long; all of them when everything ends.
func (l *lines) sweep(all bool) {
	l.mu.Lock()
	var old []deliver.Line
	for id, list := range l.idle {
		kept := list[:0]
		for _, i := range list {
			if all || time.Since(i.since) > idleLine {
				old = append(old, i.line)
				continue
			}
			kept = append(kept, i)
		}
		if l.idle[id] = kept; len(kept) == 0 {
			delete(l.idle, id)
		}
	}
	l.shut = l.shut || all
	l.mu.Unlock()
	for _, line := range old {
		line.Close()
	}
}
