package rule

import (
	"fmt"
	"strings"

	"ironbell/internal/core/civil"
)

type window struct{ from, to int64 }

// repeat is "every 15 minutes" and its kin.
type repeat struct {
	n       int64
	unit    unit
	elapsed bool
	passing bool
	minutes []int64 // ":05" as seconds of the hour
	column  int
}

// everyNth refuses "every second tuesday", which people mean in two ways.
func (r *wordReader) everyNth() error {
	t, next := r.peek(), r.ahead(1)
	_, weekday := weekdayWords[next.word]
	if t.kind != ordinalToken && t.word != "other" || !weekday || t.kind == ordinalToken && t.value < 2 {
		return nil
	}
	n := max(t.value, 2)
	offers := []string{fmt.Sprintf("every %d weeks on %s from 2026-01-05 at 06:00", n, next.word)}
	if t.word != "other" && n <= 5 {
		offers = append([]string{fmt.Sprintf("on the %s %s of every month at 06:00", numeral(int(n)), next.word)}, offers...)
	}
	return r.offer("say which is meant: the "+next.word+" of a month by its number, or one in so many weeks", offers...)
}

// every reads a period, a repeat, or days.
func (r *wordReader) every() error {
	n, column, counted := int64(1), r.peek().column, false
	switch t := r.peek(); {
	case t.kind == numberToken, t.kind == ordinalToken && unitOf(r.ahead(1).word) != noUnit:
		n, counted = t.value, true
		r.at++
	case r.is("other") && unitOf(r.ahead(1).word) != noUnit:
		n, counted = 2, true
		r.at++
	}
	if err := r.everyNth(); err != nil {
		return err
	}
	passing := !counted && r.skip("passing")
	u := unitOf(r.peek().word)
	if u == noUnit || u == dayUnit && !counted && r.ahead(1).kind == numberToken {
		if counted || passing {
			return r.expected("days, weeks, months, years, hours, minutes or seconds", unitWords...)
		}
		if r.startsDays() {
			return r.days()
		}
		return r.expected("a length of time or days, such as every 15 minutes, every 2 weeks or every monday",
			append(unitWords, dayWords...)...)
	}
	if n < 1 || n > maxEvery {
		return r.wrongAt(column, "an interval is from 1 to %d", maxEvery)
	}
	r.at++
	if u <= hour {
		if r.repeat != nil {
			return r.wrongAt(column, "there is a second repeat; one rule repeats in one way")
		}
		r.repeat = &repeat{n: n, unit: u, passing: passing, elapsed: r.skip("elapsed"), column: column}
		return nil
	}
	if r.p.unit != noUnit {
		return r.wrongAt(column, "there is a second period; one rule counts in one period")
	}
	r.spoke = true
	if u == dayUnit && n == 1 {
		return nil
	}
	r.p.unit, r.p.every = u, n
	return nil
}

var unitWords = []string{
	"second", "seconds", "minute", "minutes", "hour", "hours", "day", "days", "week", "weeks",
	"month", "months", "quarter", "quarters", "year", "years",
}

func unitOf(word string) unit {
	for u := second; u <= year; u++ {
		if word == u.String() || word == u.String()+"s" {
			return u
		}
	}
	switch word {
	case "min", "mins":
		return minute
	}
	return noUnit
}

// times reads clock times, minutes of the hour, or lists of minutes or seconds.
func (r *wordReader) times() error {
	switch {
	case r.is("minutes", "minute"):
		r.at++
		mask, err := r.mask("minutes", 59)
		r.p.times.minutes |= mask
		r.p.times.inMinutes = true
		return err
	case r.is("seconds", "second"):
		r.at++
		mask, err := r.mask("seconds", 59)
		r.p.times.seconds |= mask
		r.p.times.inSeconds = true
		return err
	}
	kind := r.peek().kind
	if kind != clockToken && kind != minuteToken {
		if kind == numberToken && r.peek().value < 24 {
			n := r.peek().value
			return r.meant(fmt.Sprintf("%02d:00", n), "a time of day with its minutes")
		}
		if written := strings.Replace(r.peek().word, ".", ":", 1); written != r.peek().word {
			if _, ok := clock(written); ok { // "09.30"
				return r.meant(written, "a time of day with a colon")
			}
		}
		return r.expected("a time of day, such as 06:00 or 17:30, or minutes of the hour, such as :05")
	}
	for {
		t := r.take()
		if kind == clockToken {
			r.clocks = append(r.clocks, int32(t.value)) //nolint:gosec // within a day
		} else {
			if r.repeat == nil {
				r.repeat = &repeat{n: 1, unit: hour, column: t.column}
			}
			r.repeat.minutes = append(r.repeat.minutes, t.value)
		}
		if len(r.clocks) > maxListed {
			return r.wrongAt(t.column, "a rule has at most %d times of day", maxListed)
		}
		if !r.more(func() bool { r.skip("at"); return r.peek().kind == kind }) {
			return nil
		}
	}
}

// adverb reads "hourly", "monthly" and their like as "every hour", "every month".
func (r *wordReader) adverb(u unit) error {
	column := r.ahead(-1).column
	switch {
	case u == hour && r.repeat == nil:
		r.repeat = &repeat{n: 1, unit: hour, column: column}
	case u == hour:
		return r.wrongAt(column, "there is a second repeat; one rule repeats in one way")
	case r.p.unit != noUnit:
		return r.wrongAt(column, "there is a second period; one rule counts in one period")
	default:
		r.spoke, r.p.unit = true, u
	}
	return nil
}

// between reads a window of the day.
func (r *wordReader) between(join string) error {
	if r.peek().kind != clockToken {
		return r.expected("a time of day, such as 06:00")
	}
	w := &window{from: r.take().value}
	if !r.skip(join, "to", "and") {
		return r.expected(join + " and the end of the window")
	}
	if r.peek().kind != clockToken {
		return r.expected("a time of day, such as 22:00")
	}
	w.to = r.take().value
	if r.window != nil {
		return r.wrongAt(r.ahead(-1).column, "there is a second window; one rule has one")
	}
	r.window = w
	return nil
}

// within reads permitted hours.
func (r *wordReader) within() error {
	for {
		if r.peek().kind != clockToken {
			return r.expected("a time of day, such as 06:00")
		}
		h := Hours{From: r.take().value}
		if !r.skip("to", "and") {
			return r.expected("to and the end of the permitted hours")
		}
		if r.peek().kind != clockToken {
			return r.expected("a time of day, such as 22:00")
		}
		h.To = r.take().value
		r.p.hours = append(r.p.hours, h)
		if !r.more(func() bool { return r.peek().kind == clockToken }) {
			return nil
		}
	}
}

// wantsTime is what a rule lacks that says only on which days it rings.
const wantsTime = "expected a time of day, such as at 06:00, or a repeat, such as every 15 minutes"

func (r *wordReader) assembleTimes() error {
	p, t, rep := r.p, &r.p.times, r.repeat
	product := t.inHours || t.inMinutes || t.inSeconds
	t.given = true
	switch {
	case rep != nil && len(r.clocks) > 0:
		return r.wrongAt(rep.column, "a rule rings either at named times or in a repeat, not both")
	case rep != nil && (rep.passing || rep.elapsed):
		return r.running(rep)
	case product && (rep != nil || len(r.clocks) > 0 || r.window != nil):
		return r.wrongAt(1,
			"hours, minutes and seconds that are listed go with no other times; say every passing hour, or elapsed, "+
				"if that is meant")
	case product:
		if !t.inMinutes {
			t.minutes = 1
		}
	case rep != nil:
		return r.repeating(rep)
	case r.window != nil:
		return r.wrongAt(len(r.text)+1, "expected how often within the window, such as every 15 minutes")
	case len(r.clocks) > 0:
		t.list = r.clocks
	case r.startTime != nil && r.spoke: // "every 2 days from 2026-01-05 at 09:00"
		t.list = []int32{int32(*r.startTime)} //nolint:gosec // within a day
	case !r.spoke && p.from != never:
		return r.wrongAt(len(r.text)+1, "expected when: every day, on some days, or a repeat")
	default:
		return r.wrongAt(len(r.text)+1, wantsTime)
	}
	return nil
}

// running lays out elapsed and passing repeats.
func (r *wordReader) running(rep *repeat) error {
	t := &r.p.times
	if r.window != nil {
		return r.wrongAt(rep.column,
			"a window goes with repeats of the day; here say in hours, such as in hours 6 to 21")
	}
	t.kind, t.unit, t.every, t.passing = running, rep.unit, rep.n, rep.passing
	for _, m := range rep.minutes {
		if m%60 != 0 {
			return r.wrongAt(rep.column, "passing hours ring at whole minutes")
		}
		t.minutes |= 1 << (m / 60)
		t.inMinutes = true
	}
	if t.passing {
		if t.inSeconds {
			return r.wrongAt(rep.column, "passing hours and minutes ring at whole minutes")
		}
		if rep.unit == hour && !t.inMinutes {
			t.minutes = 1
		}
		t.unit, t.inHours, t.inMinutes = minute, true, true
	}
	return nil
}

// repeating lays out repeats within a day: whole hours that divide a day are
// times of the wall clock, all else elapses from midnight or from the start of
// the window.
func (r *wordReader) repeating(rep *repeat) error {
	t := &r.p.times
	step := rep.n * map[unit]int64{hour: civil.Hour, minute: civil.Minute, second: 1}[rep.unit]
	if step >= civil.Day {
		return r.wrongAt(rep.column,
			"a repeat within a day is shorter than a day; say every 2 days and the like, or every %d %ss elapsed "+
				"from a date", rep.n, rep.unit)
	}
	open, shut, whole := int64(0), civil.Day-1, true
	if r.window != nil {
		open, shut, whole = r.window.from, r.window.to, false
		if shut <= open {
			shut += civil.Day
		}
	}
	// A window over midnight belongs to the day on which it opens, so its rings
	// are no times of one day.
	wall := step%civil.Hour == 0 && civil.Day%step == 0 && shut < civil.Day
	if len(rep.minutes) > 0 && !wall {
		return r.wrongAt(rep.column, "minutes of the hour go with every hour, or with every 2, 3, 4, 6, 8 or 12 hours")
	}
	if !wall {
		t.kind, t.step, t.open, t.shut, t.whole = repeating, step, open, shut, whole
		return nil
	}
	minutes := rep.minutes
	begin := open - open%civil.Hour
	if len(minutes) == 0 {
		minutes = []int64{open % civil.Hour}
	}
	for at := begin; at <= shut; at += step {
		for _, m := range minutes {
			if at+m >= open && at+m <= shut {
				t.list = append(t.list, int32((at+m)%civil.Day))
			}
		}
	}
	if len(t.list) == 0 {
		return r.wrongAt(rep.column, "this never rings: no time of the repeat lies in the window")
	}
	return nil
}
