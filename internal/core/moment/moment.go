// Package moment reads moving dates, "start of month - 1 month", and reckons
// them from a nominal date, never from a clock: a run that is late, moved or
// repeated gets the dates that it was meant for.
//
//	moment = anchor { ("+" | "-") number unit }
//	anchor = "now" | "today" | "yesterday" | "tomorrow"
//	       | ("start" | "end") "of" ["this" | "last" | "next"] ("day" | "week" | "month" | "quarter" | "year")
//	unit   = minute, hour, day, week, month, quarter, year; singular or plural
//
// Weeks begin on Monday. The end of a period is its last day.
package moment

import (
	"fmt"
	"strconv"
	"strings"
	"time"
)

// Moment is a moving date. It is immutable.
type Moment struct {
	text   string
	anchor string // now, day, start or end
	period string // of start and end
	shift  int    // -1 last, 0 this, 1 next; days for the anchor day
	steps  []step
}

type step struct {
	n    int
	unit string
}

// maxStep bounds a step, so that no date leaves the calendar.
const maxStep = 100_000

// Parse reads the text of a moment. The error says what was expected.
func Parse(text string) (Moment, error) {
	words := strings.Fields(strings.ToLower(strings.NewReplacer("+", " + ", "-", " - ").Replace(text)))
	m := Moment{text: text}
	rest, err := m.readAnchor(words)
	if err != nil {
		return Moment{}, fmt.Errorf("%q is no moment: %w", text, err)
	}
	for len(rest) > 0 {
		s, err := readStep(rest)
		if err != nil {
			return Moment{}, fmt.Errorf("%q is no moment: %w", text, err)
		}
		m.steps = append(m.steps, s)
		rest = rest[3:]
	}
	return m, nil
}

func (m *Moment) readAnchor(words []string) (rest []string, err error) {
	if len(words) == 0 {
		return nil, fmt.Errorf("write an anchor such as today or start of month")
	}
	switch words[0] {
	case "now":
		m.anchor = "now"
		return words[1:], nil
	case "today", "yesterday", "tomorrow":
		m.anchor = "day"
		m.shift = map[string]int{"yesterday": -1, "tomorrow": 1}[words[0]]
		return words[1:], nil
	case "start", "end":
		m.anchor = words[0]
	default:
		return nil, fmt.Errorf("it begins with %q; begin with now, today, yesterday, tomorrow, start of or end of", words[0])
	}
	if len(words) < 3 || words[1] != "of" {
		return nil, fmt.Errorf("after %q comes of and a period, such as %s of month", words[0], words[0])
	}
	words = words[2:]
	if shift, ok := map[string]int{"last": -1, "this": 0, "next": 1}[words[0]]; ok {
		m.shift = shift
		words = words[1:]
	}
	if len(words) == 0 {
		return nil, fmt.Errorf("the period is missing: day, week, month, quarter or year")
	}
	switch words[0] {
	case "day", "week", "month", "quarter", "year":
		m.period = words[0]
		return words[1:], nil
	}
	return nil, fmt.Errorf("%q is no period; use day, week, month, quarter or year", words[0])
}

func readStep(words []string) (step, error) {
	if len(words) < 3 || (words[0] != "+" && words[0] != "-") {
		return step{}, fmt.Errorf("after the anchor come steps such as - 3 days, not %q", strings.Join(words, " "))
	}
	n, err := strconv.Atoi(words[1])
	if err != nil || n < 0 || n > maxStep {
		return step{}, fmt.Errorf("%q is no number from 0 to %d", words[1], maxStep)
	}
	if words[0] == "-" {
		n = -n
	}
	switch unit := strings.TrimSuffix(words[2], "s"); unit {
	case "minute", "hour", "day", "week", "month", "quarter", "year":
		return step{n: n, unit: unit}, nil
	}
	return step{}, fmt.Errorf("%q is no unit; use minutes, hours, days, weeks, months, quarters or years", words[2])
}

// String is the text as it was written.
func (m Moment) String() string { return m.text }

// At reckons the moment from a nominal instant, in that instant's zone. All
// anchors but "now" give midnight.
func (m Moment) At(nominal time.Time) time.Time {
	t := nominal
	if m.anchor != "now" {
		t = midnight(t)
	}
	switch m.anchor {
	case "day":
		t = t.AddDate(0, 0, m.shift)
	case "start":
		t = addTo(startOf(t, m.period), m.shift, m.period)
	case "end":
		t = addTo(startOf(t, m.period), m.shift+1, m.period).AddDate(0, 0, -1)
	}
	for _, s := range m.steps {
		t = addTo(t, s.n, s.unit)
	}
	return t
}

func midnight(t time.Time) time.Time {
	y, mo, d := t.Date()
	return time.Date(y, mo, d, 0, 0, 0, 0, t.Location())
}

func startOf(t time.Time, period string) time.Time {
	y, mo, d := t.Date()
	switch period {
	case "week":
		d -= (int(t.Weekday()) + 6) % 7
	case "month":
		d = 1
	case "quarter":
		mo, d = mo-(mo-1)%3, 1
	case "year":
		mo, d = 1, 1
	}
	return time.Date(y, mo, d, 0, 0, 0, 0, t.Location())
}

// addTo adds n units. A day that the month reached lacks becomes its last.
func addTo(t time.Time, n int, unit string) time.Time {
	switch unit {
	case "minute":
		return t.Add(time.Duration(n) * time.Minute)
	case "hour":
		return t.Add(time.Duration(n) * time.Hour)
	case "day":
		return t.AddDate(0, 0, n)
	case "week":
		return t.AddDate(0, 0, 7*n)
	}
	months := n * map[string]int{"month": 1, "quarter": 3, "year": 12}[unit]
	y, mo, d := t.Date()
	last := time.Date(y, mo+time.Month(months)+1, 0, 0, 0, 0, 0, time.UTC).Day()
	h, mi, s := t.Clock()
	return time.Date(y, mo+time.Month(months), min(d, last), h, mi, s, t.Nanosecond(), t.Location())
}
