package event

import (
	"fmt"
	"net/url"
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

// Said says an event in words, for those to whom it is told why a run is there.
func Said(e job.Event) string {
	place := e.Source[strings.LastIndexByte(e.Source, '/')+1:]
	if name, err := url.PathUnescape(place); err == nil {
		place = name
	}
	files, answers := strings.HasPrefix(e.Source, job.DestinationsSource), strings.HasPrefix(e.Source, job.SourcesSource)
	switch {
	case files && e.Type == job.EventFileArrived:
		return fmt.Sprintf("file %s arrived at %s", e.Subject, place)
	case files && e.Type == job.EventFileGone:
		return fmt.Sprintf("file %s is gone from %s", e.Subject, place)
	case answers && e.Type == job.EventAnswer:
		return fmt.Sprintf("%s answered %s", place, e.Subject)
	case e.Source == job.NodesSource && e.Type == job.EventStarted:
		return fmt.Sprintf("the service started (node %s)", e.Subject)
	}
	text := fmt.Sprintf("event %s of %s", e.Type, e.Source)
	if e.Subject != "" {
		text += " about " + e.Subject
	}
	return text
}
