package engine

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

// lines keeps open lines to destinations between two batches.
type lines struct {
	mu   sync.Mutex
	idle map[int64][]idle
	shut bool
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
