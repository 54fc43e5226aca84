package rule_test

import (
	"slices"
	"strconv"
	"strings"
	"testing"
	"time"

	"ironbell/internal/core/rule"

	"pgregory.net/rapid"
)

// naive reads an RRULE by the letter of RFC 5545 section 3.3.10: period by
// period it takes every second, minute, hour or day there is, keeps those that
// all parts let through, applies BYSETPOS, and counts. It knows UTC only.
type naive struct {
	freq     string
	interval int
	start    time.Time
	by       map[string][]string
	week     time.Weekday
}

func readNaive(start time.Time, text string) naive {
	n := naive{interval: 1, start: start, by: map[string][]string{}, week: time.Monday}
	for _, part := range strings.Split(text, ";") {
		name, value, _ := strings.Cut(part, "=")
		switch name {
		case "FREQ":
			n.freq = value
		case "INTERVAL":
			n.interval, _ = strconv.Atoi(value)
		case "WKST":
			n.week = weekdayNamed(value)
		default:
			n.by[name] = strings.Split(value, ",")
		}
	}
	return n
}

func weekdayNamed(text string) time.Weekday {
	return time.Weekday(slices.Index([]string{"SU", "MO", "TU", "WE", "TH", "FR", "SA"}, text))
}

func (n naive) has(names ...string) bool {
	return slices.ContainsFunc(names, func(name string) bool { return n.by[name] != nil })
}

// counts tells whether a list of numbers holds n, or its distance from the end.
func (n naive) counts(name string, value, length int) bool {
	return slices.ContainsFunc(n.by[name], func(text string) bool {
		v, _ := strconv.Atoi(text)
		return v == value || v < 0 && value == length+1+v
	})
}

// dayFits tells whether all parts about days let a day through, with what is
// taken from the start where a frequency leaves the day open.
func (n naive) dayFits(d time.Time) bool {
	days := time.Date(d.Year()+1, 1, 1, 0, 0, 0, 0, time.UTC).AddDate(0, 0, -1).YearDay()
	month := time.Date(d.Year(), d.Month()+1, 0, 0, 0, 0, 0, time.UTC).Day()
	if n.has("BYMONTH") && !n.counts("BYMONTH", int(d.Month()), 12) {
		return false
	}
	if n.has("BYWEEKNO") {
		number, weeks := n.weekOf(d)
		if !n.counts("BYWEEKNO", number, weeks) {
			return false
		}
	}
	if n.has("BYYEARDAY") && !n.counts("BYYEARDAY", d.YearDay(), days) {
		return false
	}
	if n.has("BYMONTHDAY") && !n.counts("BYMONTHDAY", d.Day(), month) {
		return false
	}
	if n.has("BYDAY") &&
		!slices.ContainsFunc(n.by["BYDAY"], func(text string) bool { return n.weekdayFits(d, text, month, days) }) {
		return false
	}
	switch {
	case n.freq == "YEARLY" && !n.has("BYMONTH", "BYWEEKNO", "BYYEARDAY", "BYMONTHDAY", "BYDAY"):
		return d.Month() == n.start.Month() && d.Day() == n.start.Day()
	case n.freq == "YEARLY" && !n.has("BYWEEKNO", "BYYEARDAY", "BYMONTHDAY", "BYDAY"),
		n.freq == "MONTHLY" && !n.has("BYMONTHDAY", "BYDAY"):
		return d.Day() == n.start.Day()
	case n.freq == "YEARLY" && n.has("BYWEEKNO") && !n.has("BYYEARDAY", "BYMONTHDAY", "BYDAY"),
		n.freq == "WEEKLY" && !n.has("BYDAY"):
		return d.Weekday() == n.start.Weekday()
	}
	return true
}

func (n naive) weekdayFits(d time.Time, text string, month, year int) bool {
	w := weekdayNamed(text[len(text)-2:])
	if d.Weekday() != w {
		return false
	}
	number, err := strconv.Atoi(text[:len(text)-2])
	if err != nil {
		return true
	}
	day, length := d.Day(), month
	if n.freq == "YEARLY" && !n.has("BYMONTH") {
		day, length = d.YearDay(), year
	}
	if number > 0 {
		return (day-1)/7+1 == number
	}
	return (length-day)/7+1 == -number
}

// weekOf is the number of a day's week, and how many weeks its year has: week 1
// is the first with four days in its year.
func (n naive) weekOf(d time.Time) (number, weeks int) {
	begin := func(t time.Time) time.Time { return t.AddDate(0, 0, -(int(t.Weekday())-int(n.week)+7)%7) }
	first := func(year int) time.Time { return begin(time.Date(year, 1, 4, 0, 0, 0, 0, time.UTC)) }
	year := d.Year()
	switch {
	case d.Before(first(year)):
		year--
	case !d.Before(first(year + 1)):
		year++
	}
	return int(begin(d).Sub(first(year)).Hours()/24)/7 + 1, int(first(year+1).Sub(first(year)).Hours()/24) / 7
}

// period numbers the period in which a time lies, from that of the start.
func (n naive) period(t time.Time) int {
	week := func(t time.Time) int {
		d := t.Truncate(24 * time.Hour)
		return int(d.AddDate(0, 0, -(int(d.Weekday())-int(n.week)+7)%7).Unix() / 604800)
	}
	switch n.freq {
	case "YEARLY":
		return t.Year() - n.start.Year()
	case "MONTHLY":
		return t.Year()*12 + int(t.Month()) - n.start.Year()*12 - int(n.start.Month())
	case "WEEKLY":
		return week(t) - week(n.start)
	}
	unit := map[string]time.Duration{
		"DAILY": 24 * time.Hour, "HOURLY": time.Hour, "MINUTELY": time.Minute, "SECONDLY": time.Second,
	}[n.freq]
	return int(t.Truncate(unit).Sub(n.start.Truncate(unit)) / unit)
}

// timesOf lists the times of a day that the parts about times let through.
func (n naive) timesOf(d time.Time) []time.Time {
	var out []time.Time
	order := slices.Index([]string{"SECONDLY", "MINUTELY", "HOURLY", "DAILY", "WEEKLY", "MONTHLY", "YEARLY"}, n.freq)
	values := func(name string, size, own, level int) []int {
		var list []int
		for v := range size {
			switch {
			case n.has(name):
				if n.counts(name, v, 1<<30) {
					list = append(list, v)
				}
			case order > level: // a frequency above it takes it from the start
				if v == own {
					list = append(list, v)
				}
			default:
				list = append(list, v)
			}
		}
		return list
	}
	seconds := values("BYSECOND", 60, n.start.Second(), 0)
	for _, h := range values("BYHOUR", 24, n.start.Hour(), 2) {
		for _, m := range values("BYMINUTE", 60, n.start.Minute(), 1) {
			for _, s := range seconds {
				out = append(out,
					d.Add(time.Duration(h)*time.Hour+time.Duration(m)*time.Minute+time.Duration(s)*time.Second))
			}
		}
	}
	return out
}

// rings lists the first rings from the start on, looking at so many days.
func (n naive) rings(days, limit int) []time.Time {
	var out, set []time.Time
	flush := func() {
		kept := set
		if n.has("BYSETPOS") {
			kept = nil
			for i, t := range set {
				if n.counts("BYSETPOS", i+1, len(set)) {
					kept = append(kept, t)
				}
			}
		}
		for _, t := range kept {
			if !t.Before(n.start) {
				out = append(out, t)
			}
		}
		set = nil
	}
	current := -1 << 40
	// The period in which the start lies may begin before it, with its year.
	begin := n.start.Truncate(24 * time.Hour)
	if n.freq == "YEARLY" || n.freq == "MONTHLY" || n.freq == "WEEKLY" {
		begin, days = begin.AddDate(-1, 0, 0), days+366
	}
	for i := range days {
		d := begin.AddDate(0, 0, i)
		if !n.dayFits(d) {
			continue
		}
		for _, t := range n.timesOf(d) {
			p := n.period(t)
			if p%n.interval != 0 {
				continue
			}
			if p != current {
				flush()
				current = p
			}
			set = append(set, t)
		}
		if len(out) >= limit {
			return out[:limit]
		}
	}
	if !n.has("BYSETPOS") { // of a period that was not walked to its end nobody knows the last
		flush()
	}
	return out[:min(len(out), limit)]
}

// The engine rings an RRULE as the letter of the RFC has it.
func TestRecurrencesAgreeWithTheLetter(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		lines := strings.Split(drawRecurrence(t), "\n")
		text, _, _ := strings.Cut(strings.TrimPrefix(lines[1], "RRULE:"), ";COUNT=")
		text, _, _ = strings.Cut(text, ";UNTIL=")
		start, err := time.Parse("20060102T150405", strings.TrimPrefix(lines[0], "DTSTART:"))
		if err != nil {
			t.Fatal(err)
		}
		days := map[string]int{
			"SECONDLY": 2, "MINUTELY": 9, "HOURLY": 60, "DAILY": 700, "WEEKLY": 1500, "MONTHLY": 2200, "YEARLY": 3300,
		}
		n := readNaive(start, text)
		if n.freq == "SECONDLY" && n.has("BYDAY", "BYMONTH", "BYMONTHDAY", "BYYEARDAY") {
			t.Skip("too many seconds to walk")
		}
		want := n.rings(days[n.freq], 12)
		r, err := rule.Parse(lines[0]+"\nRRULE:"+text, time.UTC)
		if err != nil {
			if (strings.Contains(err.Error(), "never rings") || strings.Contains(err.Error(), "has only")) &&
				len(want) == 0 {
				return
			}
			t.Fatalf("%s %s: %s; the letter has %v", lines[0], text, err, want)
		}
		at := start.Add(-time.Second)
		for i, w := range want {
			next, ok := r.Next(at)
			if !ok || !next.Equal(w) {
				t.Fatalf("%s %s: ring %d is %s (%v), by the letter %s", lines[0], text, i, next, ok, w)
			}
			at = next
		}
	})
}
