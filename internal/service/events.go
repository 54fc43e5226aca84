package service

import (
	"context"

	"ironbell/internal/core/fault"
	"ironbell/internal/core/job"
	"ironbell/internal/store"
)

// Report records an event that was reported from outside and starts the jobs
// that wait for it, before anybody is answered. An event of the same source and
// id starts nothing a second time. Whether it may be reported was asked before.
func (es *Events) Report(ctx context.Context, who job.Person,
	ev job.Event,
) (started []job.RunID, fresh bool, err error) {
	is, err := es.installation.Is(ctx)
	if err != nil {
		return nil, false, err
	}
	if is.Copy != nil || !is.Test.Leaves("event:"+ev.Type) {
		return nil, false,
			fault.New(fault.Task, "take the event", "this installation is a copy, and takes no events from outside",
				"Report it to the original, or name event:"+ev.Type+" for the copy.")
	}
	err = es.store.Do(ctx, func(t *store.Tx) error {
		var err error
		started, fresh, err = es.waits.Raise(ctx, t, ev, &who.ID, nil)
		return err
	})
	return started, fresh, err
}
