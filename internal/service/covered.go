package service

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"ironbell/internal/core/civil"
	"ironbell/internal/core/forecast"
	"ironbell/internal/core/job"
	"ironbell/internal/core/phrase"
	"ironbell/internal/core/zone"
)

// Over how long rule and values are looked at together, and how many days are named.
const (
	coveredMonths = 3
	coveredDays   = 92
)

// covered looks at the rule and the values of each trigger together: which days of the coming
// months come into no report, or into two.
func (js *Jobs) covered(d job.Definition, params []job.Parameter) []job.Covered {
	from, to := dayParameters(params)
	if from == "" {
		return nil
	}
	place, err := zone.Load(d.Zone)
	if err != nil {
		return nil
	}
	var out []job.Covered
	for i, t := range d.Triggers {
		if t.Rule == "" {
			continue
		}
		r, err := js.times.Rule(t.Timing, d.Zone, d.Calendars)
		if err != nil {
			continue // it is told of as wrong
		}
		values := t.Values.Over(d.Values)
		var spans []forecast.Span
		until := js.now().AddDate(0, coveredMonths, 0)
		last := int64(-1)
		for after, n := js.now(), 0; ; n++ {
			due, ok := r.Next(after)
			if !ok || due.After(until) {
				break
			}
			next, _ := r.Step(due.Add(-1))
			nominal := next.Nominal.In(place)
			day := serialOf(nominal)
			if n >= 2*coveredDays || day == last {
				spans = nil // several times a day it looks at the same days on purpose
				break
			}
			last, after = day, due
			bound, err := job.Bind(params, values, nominal, js.times.Frame(d.Calendars))
			if err != nil {
				spans = nil
				break
			}
			span, ok := spanOf(bound, from, to)
			if !ok {
				spans = nil
				break
			}
			spans = append(spans, span)
		}
		missed, several := forecast.Covered(spans)
		if len(missed)+len(several) == 0 || len(spans) < 3 {
			continue
		}
		out = append(out, toldCovered(i, missed, several))
	}
	return out
}

func toldCovered(trigger int, missed, several []int64) job.Covered {
	c := job.Covered{Trigger: trigger, Missed: dates(missed), Several: dates(several)}
	var says []string
	if len(missed) > 0 {
		says = append(says, fmt.Sprintf("%s of the coming months %s into no report: %s", phrase.Count(len(missed), "day"),
			phrase.Plural(len(missed), "comes", "come"), named(missed)))
	}
	if len(several) > 0 {
		says = append(says, fmt.Sprintf("%s %s into two: %s", phrase.Count(len(several), "day"),
			phrase.Plural(len(several), "comes", "come"), named(several)))
	}
	c.Says = phrase.Sentence(strings.Join(says, "; "))
	return c
}

// named are the first of many days, with their weekdays.
func named(days []int64) string {
	const shown = 4
	texts := make([]string, 0, shown)
	for _, d := range days[:min(len(days), shown)] {
		texts = append(texts, timeOf(d).Format("Mon 2 Jan"))
	}
	text := strings.Join(texts, ", ")
	if n := len(days) - shown; n > 0 {
		text += fmt.Sprintf(" and %d more", n)
	}
	return text
}

func dates(days []int64) []string {
	out := make([]string, 0, min(len(days), coveredDays))
	for _, d := range days[:min(len(days), coveredDays)] {
		out = append(out, timeOf(d).Format(time.DateOnly))
	}
	return out
}

func timeOf(serial int64) time.Time {
	y, m, d := civil.Date(serial)
	return time.Date(y, time.Month(m), d, 0, 0, 0, 0, time.UTC)
}

func serialOf(t time.Time) int64 { return civil.Serial(t.Year(), int(t.Month()), t.Day()) }

// dayParameters are the dates from and to which a job looks: the only date that it takes, or
// the two that are called so. Nothing where nobody can tell.
func dayParameters(params []job.Parameter) (from, to string) {
	var all []string
	for _, p := range params {
		if p.Type == job.TypeDate && !p.Several {
			all = append(all, p.Name)
		}
	}
	if len(all) == 1 {
		return all[0], all[0]
	}
	if len(all) != 2 {
		return "", ""
	}
	for _, words := range [][2]string{{"from", "to"}, {"from", "until"}, {"start", "end"}, {"first", "last"}} {
		for i, name := range all {
			if speaks(name, words[0]) && speaks(all[1-i], words[1]) {
				return name, all[1-i]
			}
		}
	}
	return "", ""
}

// speaks tells whether a word is one of those of a name, such as from of from_day.
func speaks(name, word string) bool {
	return slices.Contains(strings.Split(strings.ToLower(name), "_"), word)
}

// spanOf is the range of days of bound values. Dates that do not move tell of no day to come.
func spanOf(bound []job.Bound, from, to string) (s forecast.Span, ok bool) {
	found := 0
	for _, b := range bound {
		if b.Name != from && b.Name != to {
			continue
		}
		t, err := time.Parse(time.DateOnly, b.Text[:min(len(b.Text), len(time.DateOnly))])
		if err != nil || b.From == "" {
			return s, false
		}
		if b.Name == from {
			s.From, found = serialOf(t), found+1
		}
		if b.Name == to {
			s.To, found = serialOf(t), found+1
		}
	}
	return s, found == 2
}
