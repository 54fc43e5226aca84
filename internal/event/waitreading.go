package event

import (
	"strings"

	"ironbell/internal/core/job"
)

// WaitReading says in words what a trigger waits for.
func WaitReading(w job.Wait) string {
	w = w.WithDefaults()
	parts := make([]string, 0, len(w.For))
	for _, c := range w.For {
		parts = append(parts, Reading(c))
	}
	between := " and "
	if w.Need == job.NeedAny {
		between = " or "
	}
	text := strings.Join(parts, between)
	if len(w.For) > 1 && w.Need == job.NeedAll {
		if w.Match == job.MatchDay {
			return text + ", for the same day"
		}
		return text + ", within " + w.Within.String()
	}
	return text
}
