// Package moment reads moving dates, "start of month - 1 month", and reckons
// them from a nominal date, never from a clock: a run that is late, moved or
// repeated gets the dates that it was meant for.
//
//	text    = moment | range
//	range   = moment "to" moment | "last" number units | "this" period | "last" period
//	moment  = anchor { step }
//	anchor  = "now" | "today" | "yesterday" | "tomorrow" | "midnight"
//	        | ("start" | "end") "of" ( [which] period | "last" number units )
//	        | ("this" | "last" | "next" | "past") "hour" | which weekday | "open day" ("before" | "after") anchor
//	which   = "this" | "last" | "next"
//	period  = "hour" | "day" | "week" | "month" | "quarter" | "year"
//	step    = ("+" | "-") number units
//	units   = minute, hour, day, week, month, quarter, year, open day; singular or plural
//
// The first day of the week is a setting. The end of a period is its last day;
// the end of an hour is the next. "this monday" is the Monday of this week,
// "last monday" the nearest before today, "next monday" the nearest after.
package moment

import (
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"ironbell/internal/core/civil"
)

// Calendar tells which days are open.
type Calendar interface {
	Open(year, month int) civil.Mask
}

// Frame is what moments are reckoned in, beside the nominal date.
type Frame struct {
	WeekStart time.Weekday // first day of the week
	Calendar  Calendar     // Monday to Friday are open when it is nil
}

// DefaultFrame has weeks that begin on Monday.
var DefaultFrame = Frame{WeekStart: time.Monday}

// Moment is a moving date. It is immutable.
type Moment struct {
	text   string
	anchor anchor
	steps  []step
}

// anchor is where the steps begin.
type anchor struct {
	kind    string // now, day, start, end, weekday, open, whole
	period  string // of start and end
	weekday time.Weekday
	shift   int     // -1 last, 0 this, 1 next; days for the kind day; before or after for open
	base    *anchor // of open
	whole   *Moment // of the start or end of a range
	name    string  // of whole
}

type step struct {
	n    int
	unit string
}

// maxStep bounds a step, so that no date leaves the calendar.
const maxStep = 100_000

// maxOpen bounds how many days are looked through for an open one.
const maxOpen = 800

var (
	periods      = []string{"hour", "day", "week", "month", "quarter", "year"}
	units        = []string{"minute", "hour", "day", "week", "month", "quarter", "year", "open day"}
	whiches      = map[string]int{"last": -1, "past": -1, "previous": -1, "this": 0, "current": 0, "next": 1}
	weekdayNames = []string{"sunday", "monday", "tuesday", "wednesday", "thursday", "friday", "saturday"}
)

func words(text string) []string {
	return strings.Fields(strings.ToLower(strings.NewReplacer("+", " + ", "-", " - ", "–", " - ").Replace(text)))
}

// Parse reads the text of a moment. The error says what was expected.
func Parse(text string) (Moment, error) {
	m, rest, err := parse(words(text))
	if err == nil && len(rest) > 0 {
		err = fmt.Errorf("after the anchor come steps such as - 3 days, not %q", strings.Join(rest, " "))
	}
	if err != nil {
		return Moment{}, fmt.Errorf("%q is no moment: %w", text, err)
	}
	m.text = text
	return m, nil
}

// parse reads a moment and gives the words behind it.
func parse(words []string) (m Moment, rest []string, err error) {
	if m.anchor, rest, err = readAnchor(words); err != nil {
		return m, nil, err
	}
	for len(rest) > 0 && (rest[0] == "+" || rest[0] == "-") {
		var s step
		if s, rest, err = readStep(rest); err != nil {
			return m, nil, err
		}
		m.steps = append(m.steps, s)
	}
	return m, rest, nil
}

func readAnchor(words []string) (a anchor, rest []string, err error) {
	if len(words) == 0 {
		return a, nil, fmt.Errorf("write an anchor such as today or start of month")
	}
	if shift, ok := whiches[words[0]]; ok && len(words) > 1 {
		if words[1] == "hour" {
			return anchor{kind: "start", period: "hour", shift: max(shift, 0) + min(shift, 0)*btoi(words[0] != "past")},
				words[2:], nil
		}
		if d := weekdayOf(words[1]); d >= 0 {
			return anchor{kind: "weekday", weekday: time.Weekday(d), shift: shift}, words[2:], nil
		}
	}
	switch words[0] {
	case "now":
		return anchor{kind: "now"}, words[1:], nil
	case "today", "yesterday", "tomorrow", "midnight":
		return anchor{kind: "day", shift: map[string]int{"yesterday": -1, "tomorrow": 1}[words[0]]}, words[1:], nil
	case "open":
		if len(words) < 4 || words[1] != "day" || words[2] != "before" && words[2] != "after" {
			return a, nil,
				fmt.Errorf("after %q comes day before or day after and an anchor, such as open day before today",
					words[0])
		}
		base, rest, err := readAnchor(words[3:])
		if err != nil {
			return a, nil, err
		}
		shift := 1
		if words[2] == "before" {
			shift = -1
		}
		return anchor{kind: "open", shift: shift, base: &base}, rest, nil
	case "start", "end":
		a.kind = words[0]
	default:
		return a, nil,
			fmt.Errorf("it begins with %q; begin with now, today, yesterday, tomorrow, start of, end of, this, last, "+
				"next or open day before", words[0])
	}
	if len(words) < 3 || words[1] != "of" {
		return a, nil, fmt.Errorf("after %q comes of and a period, such as %s of month", words[0], words[0])
	}
	rest = words[2:]
	if shift, ok := whiches[rest[0]]; ok {
		a.shift = shift
		rest = rest[1:]
	}
	if a.shift == -1 && len(rest) > 1 {
		if n, unit, rest, err := readLength(rest); err == nil { // "start of last 8 weeks"
			r := lastOnes(n, unit)
			whole := r.from
			if a.kind == "end" {
				whole = r.to
			}
			return anchor{kind: "whole", whole: &whole, name: fmt.Sprintf("%s of last %d %ss", a.kind, n, unit)}, rest,
				nil
		}
	}
	if len(rest) == 0 {
		return a, nil, fmt.Errorf("the period is missing: hour, day, week, month, quarter or year")
	}
	if !slices.Contains(periods, rest[0]) {
		return a, nil, fmt.Errorf("%q is no period; use hour, day, week, month, quarter or year", rest[0])
	}
	a.period = rest[0]
	return a, rest[1:], nil
}

func weekdayOf(word string) int {
	return slices.IndexFunc(weekdayNames, func(name string) bool { return word == name || word == name[:3] })
}

func btoi(b bool) int {
	if b {
		return 1
	}
	return 0
}

// readStep reads a sign, a number and a unit.
func readStep(words []string) (s step, rest []string, err error) {
	if len(words) < 3 {
		return s, nil, fmt.Errorf("after the anchor come steps such as - 3 days, not %q", strings.Join(words, " "))
	}
	n, unit, rest, err := readLength(words[1:])
	if words[0] == "-" {
		n = -n
	}
	return step{n: n, unit: unit}, rest, err
}

// readLength reads a number and a unit.
func readLength(words []string) (n int, unit string, rest []string, err error) {
	n, err = strconv.Atoi(words[0])
	if err != nil || n < 0 || n > maxStep {
		return 0, "", nil, fmt.Errorf("%q is no number from 0 to %d", words[0], maxStep)
	}
	rest = words[1:]
	if len(rest) > 1 && rest[0] == "open" {
		rest = rest[1:]
		if strings.TrimSuffix(rest[0], "s") != "day" {
			return 0, "", nil, fmt.Errorf("only days are open or closed, not %q", rest[0])
		}
		return n, "open day", rest[1:], nil
	}
	if len(rest) > 0 {
		if unit := strings.TrimSuffix(rest[0], "s"); slices.Contains(units, unit) {
			return n, unit, rest[1:], nil
		}
		return 0, "", nil,
			fmt.Errorf("%q is no unit; use minutes, hours, days, open days, weeks, months, quarters or years", rest[0])
	}
	return 0, "", nil,
		fmt.Errorf("the unit is missing behind %d: minutes, hours, days, open days, weeks, months, quarters or years",
			n)
}

// String is the text as it was written.
func (m Moment) String() string { return m.text }

// At reckons the moment from a nominal instant, in that instant's zone. All
// anchors but "now" and hours give midnight.
func (m Moment) At(nominal time.Time, f Frame) time.Time {
	t := m.anchor.at(nominal, f)
	for _, s := range m.steps {
		t = f.add(t, s.n, s.unit)
	}
	return t
}

func (a anchor) at(nominal time.Time, f Frame) time.Time {
	t := nominal
	switch a.kind {
	case "now":
		return t
	case "start":
		return f.add(f.startOf(t, a.period), a.shift, a.period)
	case "end":
		t = f.add(f.startOf(t, a.period), a.shift+1, a.period)
		if a.period != "hour" {
			t = f.add(t, -1, "day")
		}
		return t
	case "weekday":
		today := midnight(t)
		switch ahead := (int(a.weekday) - int(today.Weekday()) + 7) % 7; a.shift {
		case -1:
			return f.add(today, ahead-7, "day")
		case 1:
			return f.add(today, ahead+7*btoi(ahead == 0), "day")
		default:
			start := f.startOf(t, "week")
			return f.add(start, (int(a.weekday)-int(start.Weekday())+7)%7, "day")
		}
	case "whole":
		return a.whole.At(nominal, f)
	case "open":
		return f.add(midnight(a.base.at(nominal, f)), a.shift, "open day")
	default:
		return f.add(midnight(t), a.shift, "day")
	}
}

// midnight is the first instant of the day.
func midnight(t time.Time) time.Time {
	y, mo, d := t.Date()
	return dayAt(y, mo, d, t.Location())
}

// dayAt is the first instant of a date. Where a zone sets its clocks forward at midnight,
// such as Santiago's and Havana's, the day begins later, and the package time may give
// the evening before.
func dayAt(y int, mo time.Month, d int, in *time.Location) time.Time {
	t := time.Date(y, mo, d, 0, 0, 0, 0, in)
	want := time.Date(y, mo, d, 0, 0, 0, 0, time.UTC).Day()
	for step := 0; t.Day() != want && step < 96; step++ {
		t = t.Add(15 * time.Minute)
	}
	return t
}

func (f Frame) startOf(t time.Time, period string) time.Time {
	y, mo, d := t.Date()
	switch period {
	case "hour":
		return t.Add(-time.Duration(t.Minute())*time.Minute - time.Duration(t.Second())*time.Second - time.Duration(t.Nanosecond()))
	case "week":
		d -= (int(t.Weekday()) - int(f.WeekStart) + 7) % 7
	case "month":
		d = 1
	case "quarter":
		mo, d = mo-(mo-1)%3, 1
	case "year":
		mo, d = 1, 1
	}
	return dayAt(y, mo, d, t.Location())
}

// add adds n units. A day that the month reached lacks becomes its last.
func (f Frame) add(t time.Time, n int, unit string) time.Time {
	switch unit {
	case "minute":
		return t.Add(time.Duration(n) * time.Minute)
	case "hour":
		return t.Add(time.Duration(n) * time.Hour)
	case "day", "week":
		if unit == "week" {
			n *= 7
		}
		if y, mo, d := t.Date(); t.Equal(midnight(t)) { // a day, and not a time of day
			return dayAt(y, mo, d+n, t.Location())
		}
		return t.AddDate(0, 0, n)
	case "open day":
		return f.addOpen(t, n)
	}
	months := n * map[string]int{"month": 1, "quarter": 3, "year": 12}[unit]
	y, mo, d := t.Date()
	last := time.Date(y, mo+time.Month(months)+1, 0, 0, 0, 0, 0, time.UTC).Day()
	if t.Equal(midnight(t)) {
		return dayAt(y, mo+time.Month(months), min(d, last), t.Location())
	}
	h, mi, s := t.Clock()
	return time.Date(y, mo+time.Month(months), min(d, last), h, mi, s, t.Nanosecond(), t.Location())
}

// addOpen goes n open days on, or back. Where the calendar has no more open days
// it stops.
func (f Frame) addOpen(t time.Time, n int) time.Time {
	step := 1
	if n < 0 {
		step, n = -1, -n
	}
	for closed := 0; n > 0 && closed < maxOpen; {
		t = f.add(t, step, "day")
		if f.open(t) {
			n, closed = n-1, 0
		} else {
			closed++
		}
	}
	return t
}

func (f Frame) open(t time.Time) bool {
	if f.Calendar == nil {
		return t.Weekday() != time.Saturday && t.Weekday() != time.Sunday
	}
	y, m, d := t.Date()
	return f.Calendar.Open(y, int(m)).Has(d)
}
