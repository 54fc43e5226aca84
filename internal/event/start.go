package event

import (
	"context"

	"ironbell/internal/core/job"
)

// start is a start of the service.
type start struct{}

func (start) Says(c job.Condition) bool { return c.Start != "" }

func (start) Check(_ context.Context, k *Checking, where string, c job.Condition) error {
	alone(k, where, c)
	checkSample(k, where, c.OnlyIf, "a start", map[string]any{"node": "quay-1", "first": true})
	if c.Start != job.StartAny && c.Start != job.StartFirst {
		k.V.Add(where+".start", "there is no start of %q; use any node or first node", c.Start)
	}
	return nil
}

func (start) Reading(c job.Condition) string {
	if c.Start == job.StartFirst {
		return withOnlyIf("a start of the service, of its first node", c)
	}
	return withOnlyIf("a start of the service, of any node", c)
}

func (start) Matches(c job.Condition, h Happening) (matches bool, why string) {
	// Others may report the type, and no other source.
	if h.Event == nil || h.Event.Type != job.EventStarted || h.Event.Source != job.NodesSource {
		return false, ""
	}
	if data, ok := h.Facts["data"].(map[string]any); c.Start == job.StartFirst && (!ok || data["first"] != true) {
		return false, ""
	}
	return onlyIf(c, h)
}
