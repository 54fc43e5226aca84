package notify

import (
	"context"
	"encoding/json"
	"fmt"
	"time"

	"ironbell/internal/core/job"
	"ironbell/internal/deliver"
	"ironbell/internal/engine/node"
	"ironbell/internal/store"
	"ironbell/internal/store/db"
)

// call tells of an alert over HTTP.
func (nr *Notifier) call(ctx context.Context, a job.Alert) {
	s := job.AlertSettings{}
	if _, err := nr.store.Setting(ctx, db.AlertSetting, &s); err != nil || s.Call == "" {
		return // it was changed just now
	}
	ctx, stop := context.WithTimeout(ctx, callLimit)
	defer stop()
	answer, err := func() (string, error) {
		_, d, err := nr.destinations.ByName(ctx, s.Call)
		if err != nil {
			return "", err
		}
		caller, ok := d.(deliver.Caller)
		if !ok {
			return "", fmt.Errorf("the destination %q takes no calls", s.Call)
		}
		n, err := nr.store.Calling(ctx, a.ID)
		if err != nil {
			return "", err
		}
		body, err := json.Marshal(map[string]any{
			"alert": a.ID, "kind": a.Kind, "about": a.Job, "run": a.RunID, "happened": a.Happened,
			"for_whom": a.ForWhom, "advice": a.Advice,
			"since": a.OpenedAt, "count": a.Count, "owner": a.Owner,
			"link": fmt.Sprintf("%s/alerts/%d", nr.links.URL, a.ID),
		})
		if err != nil {
			return "", err
		}
		return caller.Call(ctx, deliver.Call{
			ID: fmt.Sprintf("alert-%d-%d", a.ID, n), Method: "POST", MediaType: "application/json", Body: body,
			Now: nr.node.Now(),
		})
	}()
	ending, end := node.Ending(ctx)
	defer end()
	if err := nr.store.Do(ending, func(t *store.Tx) error {
		if err != nil {
			return t.Unreached(ending, a.ID, fmt.Sprintf("the call to %q failed: %s", s.Call, err), nr.every*10)
		}
		return t.Reached(ending, a.ID, fmt.Sprintf("called %q, which answered %s", s.Call, answer),
			time.Duration(s.WithDefaults().Repeat))
	}); err != nil {
		nr.node.Log.Error("could not record how a call about an alert went", "alert", a.ID, "error", err)
	}
}
