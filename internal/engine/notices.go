package engine

import (
	"context"
	"time"

	"ironbell/internal/core/job"
	"ironbell/internal/engine/node"
)

// Watch gives notices of changes until stop is called.
func (e *Engine) Watch() (notices <-chan job.Notice, stop func()) { return e.watchers.Watch() }

// listen hears notices of all nodes. Whenever its line was broken it wakes
// everybody, since something may have been missed.
func (e *Engine) listen(ctx context.Context) {
	wakeAll := func() {
		for _, c := range []node.Waker{e.node.Clock, e.node.Work, e.node.Send, e.node.Tell, e.node.Probe} {
			c.Wake()
		}
		e.watchers.Tell(job.Notice{Kind: job.NoticeEverything})
	}
	for ctx.Err() == nil {
		err := e.store.Listen(ctx, wakeAll, func(n job.Notice) {
			switch n.Kind {
			case job.NoticeJobs:
				e.node.Clock.Wake()
			case job.NoticeParts:
				e.node.Work.Wake()
			case job.NoticeDeliveries:
				e.node.Send.Wake()
			case job.NoticeNodes:
				e.node.Renew.Wake()
			case job.NoticeDestinations:
				e.node.Probe.Wake()
			case job.NoticeAlerts:
				e.node.Tell.Wake()
			case job.NoticeCancel:
				e.holdings.Cancel(n.ID)
			case job.NoticeCalendars:
				if err := e.times.Refresh(ctx, e.store); err != nil {
					e.node.Log.Warn("could not read the calendars; they are read when they are next needed", "error", err)
				}
			}
			e.watchers.Tell(n)
		})
		if ctx.Err() == nil {
			e.node.Log.Warn("the database's notices broke off; polling until they are back", "error", err)
			node.Sleep(ctx, nil, 2*time.Second)
		}
	}
}
