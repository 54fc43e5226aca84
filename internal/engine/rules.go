package engine

import (
	"context"

	"ironbell/internal/core/fault"
	"ironbell/internal/core/job"
	"ironbell/internal/core/moment"
	"ironbell/internal/core/rule"
)

// When gives the settings of all rules.
func (e *Engine) When() job.WhenSettings {
	return e.times.Settings()
}

// Frame reads the calendars anew and gives what moments are reckoned in.
func (e *Engine) Frame(ctx context.Context, calendars []string) (moment.Frame, error) {
	if err := e.times.Refresh(ctx, e.store); err != nil {
		return moment.Frame{}, err
	}
	if _, err := e.times.Calendar(calendars); err != nil {
		return moment.Frame{}, fault.WrongField("the question", "calendars", err)
	}
	return e.times.Frame(calendars), nil
}

// Rule reads a timing in a zone with the calendars of some names. Its error is a
// *fault.Invalid when it is about what was written.
func (e *Engine) Rule(ctx context.Context, timing job.Timing, zoneName string, calendars []string) (rule.Rule, error) {
	if err := e.times.Refresh(ctx, e.store); err != nil {
		return rule.Rule{}, err
	}
	return e.times.Read(timing, zoneName, calendars)
}
