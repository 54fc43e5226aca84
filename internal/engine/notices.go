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
		for _, c := range []node.Waker{e.Node.Clock, e.Node.Work, e.Node.Send, e.Node.Tell, e.Node.Probe, e.Node.Turns} {
			c.Wake()
		}
		e.watchers.Tell(job.Notice{Kind: job.NoticeEverything})
	}
	for ctx.Err() == nil {
		err := e.Store.Listen(ctx, wakeAll, func(n job.Notice) {
			switch n.Kind {
			case job.NoticeJobs:
				e.Node.Clock.Wake()
			case job.NoticeParts:
				e.Node.Work.Wake()
			case job.NoticeDeliveries:
				e.Node.Send.Wake()
			case job.NoticeNodes:
				e.Node.Renew.Wake()
			case job.NoticeDestinations:
				e.Node.Probe.Wake()
			case job.NoticeSettings:
				e.Node.Turns.Wake()
			case job.NoticeAlerts:
				e.Node.Tell.Wake()
			case job.NoticeCancel:
				e.Holdings.Cancel(n.ID)
			case job.NoticeCalendars:
				if err := e.Times.Refresh(ctx, e.Store); err != nil {
					e.Node.Log.Warn("could not read the calendars; they are read when they are next needed", "error",
						err)
				}
			}
			e.watchers.Tell(n)
		})
		if ctx.Err() == nil {
			e.Node.Log.Warn("the database's notices broke off; polling until they are back", "error", err)
			node.Sleep(ctx, nil, 2*time.Second)
		}
	}
}
