// Package calendar tells which days are open and closed.
//
// A Definition is what people keep: the weekdays that are open, and entries that
// close or open single days, stretches of days, or days that come again by a
// rule. Compile lays a definition out, month by month; Combine makes one of
// several; ReadICS reads entries from an iCalendar file.
package calendar

import (
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"ironbell/internal/core/civil"
	"ironbell/internal/core/rule"
)

// Definition is a calendar as it is kept.
type Definition struct {
	Week   []string `json:"week,omitempty" minItems:"1" maxItems:"7" doc:"the weekdays that are open, such as mon; Monday to Friday when left out"`
	Closed []Entry  `json:"closed,omitempty" maxItems:"5000" doc:"days that are closed"`
	Open   []Entry  `json:"open,omitempty" maxItems:"5000" doc:"days that are open besides, whatever else is said of them"`
}

// Entry is a day, a stretch of days, or one that comes again.
type Entry struct {
	Label string `json:"label,omitempty" maxLength:"200" doc:"what the day is, such as Christmas Day"`
	Date  string `json:"date,omitempty" doc:"the day, or the first day from which a rule counts, such as 2026-12-25"`
	Days  int    `json:"days,omitempty" minimum:"0" maximum:"400" doc:"how many days in a row; one when left out"`
	Rule  string `json:"rule,omitempty" maxLength:"2000" doc:"how it comes again: on 25 dec, on the first tuesday of every month, or an iCalendar recurrence"`
}

// Calendar is a definition laid out. It is immutable and may be used by several
// goroutines.
type Calendar struct {
	name   string
	week   uint8
	months []civil.Mask  // open days of each month from firstYear on
	why    map[int64]int // closed day to the place of its entry
	labels []string
	last   int64 // the last day that an entry names
	also   []*Calendar
}

// Years that are laid out. Before and after them only the week counts.
const (
	firstYear = 1990
	lastYear  = 2126
	maxDays   = 200_000 // closed and open days of one calendar
)

var weekdays = []string{"sun", "mon", "tue", "wed", "thu", "fri", "sat"}

// Wrong is an error of one place of a definition.
type Wrong struct {
	Where    string // such as closed[3].rule
	Sentence string
}

func (e *Wrong) Error() string { return e.Where + ": " + e.Sentence }

// Compile lays a definition out. Its errors are joined *Wrong.
func Compile(name string, d Definition) (*Calendar, error) {
	c := &Calendar{name: name, why: map[int64]int{}, last: -1 << 40}
	var wrong []error
	for i, text := range d.Week {
		n := -1
		if len(text) >= 3 {
			n = slices.Index(weekdays, strings.ToLower(text)[:3])
		}
		if n < 0 {
			wrong = append(wrong,
				&Wrong{
					fmt.Sprintf("week[%d]", i),
					fmt.Sprintf("%q is no weekday; write mon, tue, wed, thu, fri, sat or sun", text),
				})
			continue
		}
		c.week |= 1 << n
	}
	if len(d.Week) == 0 {
		c.week = 0x3e
	}
	for y := firstYear; y <= lastYear; y++ {
		for m := 1; m <= 12; m++ {
			c.months = append(c.months, c.ofWeek(y, m))
		}
	}
	total := 0
	lay := func(kind string, entries []Entry, set func(place int, serial int64)) {
		for i, e := range entries {
			days, err := e.days()
			if err == nil && total+len(days) > maxDays {
				err = fmt.Errorf("there are more than %d closed and open days", maxDays)
			}
			if err != nil {
				wrong = append(wrong, &Wrong{fmt.Sprintf("%s[%d]", kind, i), err.Error()})
				continue
			}
			total += len(days)
			for _, serial := range days {
				c.last = max(c.last, serial)
				set(i, serial)
			}
		}
	}
	for _, e := range d.Closed {
		c.labels = append(c.labels, e.Label)
	}
	lay("closed", d.Closed, func(i int, serial int64) {
		c.close(serial)
		if _, twice := c.why[serial]; !twice {
			c.why[serial] = i
		}
	})
	lay("open", d.Open, func(_ int, serial int64) {
		y, m, date := civil.Date(serial)
		if place, ok := placeOf(y, m); ok {
			c.months[place] |= 1 << date
		}
		delete(c.why, serial)
	})
	if len(wrong) > 0 {
		return nil, errors.Join(wrong...)
	}
	if !slices.ContainsFunc(c.months, func(m civil.Mask) bool { return m != 0 }) {
		return nil, &Wrong{"week", "no day is open"}
	}
	return c, nil
}

func placeOf(y, m int) (int, bool) {
	return (y-firstYear)*12 + m - 1, y >= firstYear && y <= lastYear
}

func (c *Calendar) close(serial int64) {
	y, m, date := civil.Date(serial)
	if place, ok := placeOf(y, m); ok {
		c.months[place] &^= 1 << date
	}
}

func (c *Calendar) ofWeek(y, m int) civil.Mask {
	return civil.Spread(c.week, civil.Weekday(civil.Serial(y, m, 1))) & civil.Month(y, m)
}

// days lists the days of an entry, within the years that are laid out.
func (e Entry) days() ([]int64, error) {
	length := max(e.Days, 1)
	if length > 400 {
		return nil, errors.New("a stretch has at most 400 days")
	}
	from := int64(0)
	if e.Date != "" {
		d, err := time.Parse(time.DateOnly, e.Date)
		if err != nil {
			return nil, fmt.Errorf("%q is no date; write it as 2026-12-25", e.Date)
		}
		from = d.Unix() / civil.Day
	}
	var starts []int64
	switch {
	case e.Rule != "":
		r, err := e.recurrence()
		if err != nil {
			return nil, err
		}
		at := time.Date(firstYear-1, 12, 1, 0, 0, 0, 0, time.UTC)
		for end := time.Date(lastYear+1, 1, 1, 0, 0, 0, 0, time.UTC); len(starts)*length <= maxDays; {
			next, ok := r.Next(at)
			if !ok || !next.Before(end) {
				break
			}
			serial, _ := civil.Split(next.Unix())
			if n := len(starts); (n == 0 || starts[n-1] != serial) && (e.Date == "" || serial >= from) {
				starts = append(starts, serial)
			}
			at = next
		}
	case e.Date == "":
		return nil, errors.New("it needs a date or a rule")
	default:
		starts = []int64{from}
	}
	out := make([]int64, 0, len(starts)*length)
	for _, s := range starts {
		for i := range length {
			out = append(out, s+int64(i))
		}
	}
	return out, nil
}

// recurrence reads the rule of an entry. Days have no times, so a worded rule
// that names none is read at midnight.
func (e Entry) recurrence() (rule.Rule, error) {
	r, err := rule.Parse(e.Rule, time.UTC)
	if err == nil {
		return r, nil
	}
	text := e.Rule + " at 00:00"
	if e.Date != "" && !strings.Contains(e.Rule, "from ") {
		text += " from " + e.Date
	}
	if again, second := rule.Parse(text, time.UTC); second == nil {
		return again, nil
	}
	return r, fmt.Errorf("%q: %w", e.Rule, err)
}

// Combine makes a calendar that is open where all of several are.
func Combine(calendars ...*Calendar) *Calendar {
	if len(calendars) == 1 {
		return calendars[0]
	}
	c := &Calendar{week: 0x7f, also: calendars, last: -1 << 40}
	var names []string
	for _, a := range calendars {
		names = append(names, a.name)
		c.week &= a.week
	}
	c.name = strings.Join(names, " and ")
	for y := firstYear; y <= lastYear; y++ {
		for m := 1; m <= 12; m++ {
			days := civil.Month(y, m)
			for _, a := range calendars {
				days &= a.Open(y, m)
			}
			c.months = append(c.months, days)
		}
	}
	return c
}

// Name is the calendar's name; those of several are joined by "and".
func (c *Calendar) Name() string { return c.name }

// Open is the set of the open days of a month.
func (c *Calendar) Open(y, m int) civil.Mask {
	if place, ok := placeOf(y, m); ok {
		return c.months[place]
	}
	return c.ofWeek(y, m)
}

// Why says in a sentence why a day, counted from 1970-01-01, is closed, or that
// it is open.
func (c *Calendar) Why(serial int64) string {
	y, m, d := civil.Date(serial)
	for _, a := range c.also {
		if !a.Open(y, m).Has(d) {
			return a.Why(serial)
		}
	}
	day := fmt.Sprintf("%d %s", d, time.Month(m))
	if c.Open(y, m).Has(d) {
		return fmt.Sprintf("%s is open in calendar %s", day, c.name)
	}
	reason := fmt.Sprintf("%s is closed in calendar %s", day, c.name)
	if i, ok := c.why[serial]; ok && c.labels[i] != "" {
		return reason + " (" + c.labels[i] + ")"
	} else if !ok {
		return reason + " (a " + time.Weekday(civil.Weekday(serial)).String() + ")"
	}
	return reason
}

// Closing is a day that an entry closes.
type Closing struct {
	Date  string `json:"date"`
	Label string `json:"label"`
}

// Closings lists the days from one date to another that entries close, weekends
// apart, at most limit.
func (c *Calendar) Closings(from, to time.Time, limit int) []Closing {
	first, last := dayOf(from), dayOf(to)
	out := []Closing{}
	for serial := first; serial <= last && len(out) < limit; serial++ {
		if i, ok := c.why[serial]; ok {
			y, m, d := civil.Date(serial)
			out = append(out, Closing{fmt.Sprintf("%04d-%02d-%02d", y, m, d), c.labels[i]})
		}
	}
	return out
}

// Last is the last day that an entry names; ok is false when none names a day.
func (c *Calendar) Last() (day time.Time, ok bool) {
	if c.last < -1<<39 {
		return time.Time{}, false
	}
	return time.Unix(c.last*civil.Day, 0).UTC(), true
}

func dayOf(t time.Time) int64 {
	y, m, d := t.Date()
	return civil.Serial(y, int(m), d)
}
