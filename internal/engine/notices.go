package engine

import (
	"context"
	"time"

	"ironbell/internal/core/job"
)

// Watch gives notices of changes until stop is called.
func (e *Engine) Watch() (notices <-chan job.Notice, stop func()) { return e.watchers.Watch() }

// listen hears notices of all nodes. Whenever its line was broken it wakes
// everybody, since something may have been missed.
func (e *Engine) listen(ctx context.Context) {
	wakeAll := func() {
		for _, c := range []chan struct{}{e.wakeClock, e.wakeWork, e.wakeSend, e.wakeTell, e.wakeProbe} {
			wake(c)
		}
		e.watchers.Tell(job.Notice{Kind: job.NoticeEverything})
	}
	for ctx.Err() == nil {
		err := e.store.Listen(ctx, wakeAll, func(n job.Notice) {
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
				e.holdings.Cancel(n.ID)
			case job.NoticeCalendars:
				if err := e.times.Refresh(ctx, e.store); err != nil {
					e.o.Log.Warn("could not read the calendars; they are read when they are next needed", "error", err)
				}
			}
			e.watchers.Tell(n)
		})
		if ctx.Err() == nil {
			e.o.Log.Warn("the database's notices broke off; polling until they are back", "error", err)
			sleep(ctx, nil, 2*time.Second)
		}
	}
}
