package service

import (
	"context"

	"ironbell/internal/core/fault"
	"ironbell/internal/core/job"
	"ironbell/internal/core/moment"
	"ironbell/internal/core/rule"
)

// When gives the settings of all rules.
func (cs *Calendars) When() job.WhenSettings {
	return cs.times.Settings()
}

// Frame reads the calendars anew and gives what moments are reckoned in.
func (cs *Calendars) Frame(ctx context.Context, calendars []string) (moment.Frame, error) {
	if err := cs.times.Refresh(ctx, cs.store); err != nil {
		return moment.Frame{}, err
	}
	if _, err := cs.times.Calendar(calendars); err != nil {
		return moment.Frame{}, fault.WrongField("the question", "calendars", err)
	}
	return cs.times.Frame(calendars), nil
}

// Rule reads a timing in a zone with the calendars of some names. Its error is a
// *fault.Invalid when it is about what was written.
func (cs *Calendars) Rule(ctx context.Context, timing job.Timing, zoneName string,
	calendars []string,
) (rule.Rule, error) {
	if err := cs.times.Refresh(ctx, cs.store); err != nil {
		return rule.Rule{}, err
	}
	return cs.times.Read(timing, zoneName, calendars)
}
