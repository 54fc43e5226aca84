// Package notices hands notices of changes on to those who watch: the live pages, and
// whoever follows a run. It holds what it is given for nobody: a watcher that does not keep
// up loses the oldest and is told that it missed something.
package notices

import (
	"sync"

	"ironbell/internal/core/job"
)

// held is how many notices wait for one watcher.
const held = 64

// Watchers are those who watch. They may be used by several goroutines; the zero value has
// none.
type Watchers struct {
	mu  sync.Mutex
	all map[chan job.Notice]bool
}

// Watch gives notices until stop is called. A watcher that does not keep up gets one of the
// kind job.NoticeEverything in place of those that it missed.
func (w *Watchers) Watch() (notices <-chan job.Notice, stop func()) {
	c := make(chan job.Notice, held)
	w.mu.Lock()
	defer w.mu.Unlock()
	if w.all == nil {
		w.all = map[chan job.Notice]bool{}
	}
	w.all[c] = true
	return c, func() {
		w.mu.Lock()
		defer w.mu.Unlock()
		delete(w.all, c)
	}
}

// Tell gives a notice to all of them. It waits for nobody.
func (w *Watchers) Tell(n job.Notice) {
	w.mu.Lock()
	defer w.mu.Unlock()
	for c := range w.all {
		select {
		case c <- n:
			continue
		default:
		}
		// Full: drop the oldest and leave word that something was missed.
		select {
		case <-c:
		default:
		}
		select {
		case c <- job.Notice{Kind: job.NoticeEverything}:
		default:
		}
	}
}
