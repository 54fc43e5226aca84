package engine

import (
	"context"
	"sync"
	"time"

	"ironbell/internal/core/job"
	"ironbell/internal/store"
)

// live hands notices on to those who watch.
type live struct {
	mu       sync.Mutex
	watchers map[chan store.Notice]bool
}

// Watch gives notices of changes until stop is called. A watcher that does not
// keep up gets a notice of the kind job.NoticeEverything in place of those it missed.
func (e *Engine) Watch() (notices <-chan store.Notice, stop func()) {
	c := make(chan store.Notice, 64)
	e.live.mu.Lock()
	defer e.live.mu.Unlock()
	if e.live.watchers == nil {
		e.live.watchers = map[chan store.Notice]bool{}
	}
	e.live.watchers[c] = true
	return c, func() {
		e.live.mu.Lock()
		defer e.live.mu.Unlock()
		delete(e.live.watchers, c)
	}
}

func (l *live) tell(n store.Notice) {
	l.mu.Lock()
	defer l.mu.Unlock()
	for c := range l.watchers {
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
		case c <- store.Notice{Kind: job.NoticeEverything}:
		default:
		}
	}
}

// listen hears notices of all nodes. Whenever its line was broken it wakes
// everybody, since something may have been missed.
func (e *Engine) listen(ctx context.Context) {
	wakeAll := func() {
		for _, c := range []chan struct{}{e.wakeClock, e.wakeWork, e.wakeSend, e.wakeTell, e.wakeProbe} {
			wake(c)
		}
		e.live.tell(store.Notice{Kind: job.NoticeEverything})
	}
	for ctx.Err() == nil {
		err := e.store.Listen(ctx, wakeAll, func(n store.Notice) {
			switch n.Kind {
			case job.NoticeJobs:
				wake(e.wakeClock)
			case job.NoticeParts:
				wake(e.wakeWork)
			case job.NoticeDeliveries:
				wake(e.wakeSend)
			case job.NoticeNodes:
				wake(e.wakeRenew)
			case job.NoticeDestinations:
				wake(e.wakeProbe)
			case job.NoticeAlerts:
				wake(e.wakeTell)
			case job.NoticeCancel:
				e.cancelled(n.ID)
			case job.NoticeCalendars:
				if err := e.times.Refresh(ctx, e.store); err != nil {
					e.o.Log.Warn("could not read the calendars; they are read when they are next needed", "error", err)
				}
			}
			e.live.tell(n)
		})
		if ctx.Err() == nil {
			e.o.Log.Warn("the database's notices broke off; polling until they are back", "error", err)
			sleep(ctx, nil, 2*time.Second)
		}
	}
}
