package rule

import (
	"errors"
	"fmt"
	"strings"

	"ironbell/internal/core/phrase"

	"ironbell/internal/core/civil"
	"ironbell/internal/core/zone"
)

// moment reads a date with or without a time. whole says that it had none.
func (r *wordReader) moment() (instant int64, whole bool, err error) {
	if r.peek().kind != dateToken {
		return 0, false, r.expected("a date, such as 2026-12-01")
	}
	wall := r.take().value * civil.Day
	back := r.at
	r.skip("at")
	if r.peek().kind != clockToken {
		r.at = back
		return wall, true, nil
	}
	sec := r.take().value
	if r.listOfClocks() {
		r.at = back // "from 2026-01-05 at 06:00 and 18:00": these are the times of its rings
		return wall, true, nil
	}
	wall += sec
	if r.peek().kind == offsetToken {
		return wall - r.take().value, false, nil
	}
	return r.instant(wall), false, nil
}

// listOfClocks tells whether a list of times of day goes on here.
func (r *wordReader) listOfClocks() bool {
	n := 0
	for r.ahead(n).kind == commaToken || r.ahead(n).word == "and" || r.ahead(n).word == "at" {
		n++
	}
	return n > 0 && r.ahead(n).kind == clockToken
}

// instant lays a wall time onto an instant in the rule's zone, which must be
// said before the dates when it is not the job's.
func (r *wordReader) instant(wall int64) int64 { return zone.Of(r.p.zone).Instant(wall) }

func (r *wordReader) from() error {
	at, whole, err := r.moment()
	if err != nil {
		return err
	}
	if whole {
		at = r.instant(at)
	} else {
		_, sec := civil.Split(at + zone.Of(r.p.zone).At(at).Offset)
		r.startTime = &sec
	}
	r.p.from = max(r.p.from, at)
	return nil
}

func (r *wordReader) until() error {
	at, whole, err := r.moment()
	if err != nil {
		return err
	}
	if whole {
		at = r.instant(at+civil.Day) - 1
	}
	r.p.until = min(r.p.until, at)
	return nil
}

func (r *wordReader) ending() error {
	if r.is("on", "by") || r.peek().kind == dateToken {
		r.skip("on", "by")
		return r.until()
	}
	if !r.skip("after") {
		return r.expected("after and a number of rings, such as ending after 12 rings", "after")
	}
	t := r.peek()
	if t.kind != numberToken || t.value < 1 || t.value > maxCount {
		return r.expected(fmt.Sprintf("a number of rings from 1 to %d", maxCount))
	}
	r.at++
	if !r.skip("rings", "ring", "times") {
		return r.expected("rings", "rings")
	}
	r.p.count = int(t.value)
	return nil
}

func (r *wordReader) closed(how Closed) error {
	if !r.is("closed") || unitOf(r.ahead(1).word) != dayUnit {
		return r.expected("closed days behind "+string(how), "closed")
	}
	column := r.peek().column
	r.at += 2
	if r.p.closed != Ignore && r.p.closed != how {
		return r.wrongAt(column, "closed days are already dealt with by %q; one rule has one way", r.p.closed)
	}
	r.p.closed = how
	return nil
}

func (r *wordReader) once() error {
	r.skip("on")
	t := r.peek()
	if t.kind != dateToken {
		return r.expected("a date, such as 2026-12-01")
	}
	at, whole, err := r.moment()
	if err != nil {
		return err
	}
	if whole {
		return r.expected("at and a time of day, such as at 14:00", "at")
	}
	r.spoke = true
	r.p.setOnce(at)
	return nil
}

// setOnce makes the plan ring at one instant.
func (p *plan) setOnce(at int64) {
	p.spans = zone.Of(p.zone)
	serial, sec := civil.Split(at + p.spans.At(at).Offset)
	_, m, d := civil.Date(serial)
	p.terms = []term{{months: 1 << m, dates: 1 << d}}
	p.times = times{given: true, list: []int32{int32(sec)}} //nolint:gosec // within a day
	p.from, p.until = at, at
}

func (r *wordReader) only() error {
	column := r.peek().column
	list, err := r.places()
	if err != nil {
		return err
	}
	r.skip("ring", "rings")
	if !r.skip("of") {
		return r.expected("of every and a period, such as of every month", "of")
	}
	r.skip("every", "each", "the")
	u := unitOf(r.peek().word)
	if u == noUnit {
		return r.expected("day, week, month, quarter or year", unitWords...)
	}
	r.at++
	if r.p.only != nil {
		return r.wrongAt(column, "there is a second only; one rule has one")
	}
	if r.p.unit != noUnit && r.p.unit != u {
		return r.wrongAt(column, "the rule counts by %ss, so only must be of every %s", r.p.unit, r.p.unit)
	}
	r.p.only, r.p.unit = list, u
	return nil
}

func (r *wordReader) also() error {
	for {
		r.skip("on")
		at, whole, err := r.moment()
		if err != nil {
			return err
		}
		if whole {
			return r.expected("at and a time of day, such as at 12:00", "at")
		}
		r.p.also = append(r.p.also, at)
		if !r.more(func() bool { r.skip("on"); return r.peek().kind == dateToken }) {
			return nil
		}
	}
}

func (r *wordReader) except() error {
	for {
		r.skip("on")
		if r.startsDays() && r.peek().kind == wordToken {
			column := r.peek().column
			set, err := r.dayset()
			if err != nil {
				return err
			}
			if len(set) != 1 || set[0].weekdays == 0 || set[0].nth != nil || set[0].months != 0 {
				return r.wrongAt(column, "except leaves out weekdays, dates, or dates with a time")
			}
			r.barred |= set[0].weekdays
			return nil
		}
		at, whole, err := r.moment()
		if err != nil {
			return err
		}
		if whole {
			r.p.exceptDays = append(r.p.exceptDays, at/civil.Day)
		} else {
			r.p.except = append(r.p.except, at)
		}
		if !r.more(func() bool { r.skip("on"); return r.peek().kind == dateToken }) {
			return nil
		}
	}
}

func (r *wordReader) weekBegin() error {
	if !r.skip("begin", "start", "from") {
		return r.expected("begin on and a weekday, as in weeks begin on sun", "begin")
	}
	r.skip("on")
	d, ok := weekdayWords[r.peek().word]
	if !ok {
		return r.expected("a weekday", nameList(weekdayWords)...)
	}
	r.at++
	r.p.weekStart = uint8(d) //nolint:gosec // 0 to 6
	return nil
}

func (r *wordReader) zone() error {
	t := r.peek()
	z, err := zone.Load(t.text)
	if err != nil {
		wrong := r.expected("a time zone of the zone database, such as Europe/London")
		for _, name := range zone.Names() {
			var e *Error
			if errors.As(wrong, &e) && phrase.Near(t.word, []string{strings.ToLower(name)}) != "" {
				e.Meant = name
			}
		}
		return wrong
	}
	if r.p.from != never || r.p.until != always || r.p.also != nil || r.p.except != nil {
		return r.wrongAt(t.column, "say the zone before the dates, so that they are read in it")
	}
	r.at++
	r.p.zone = z
	return nil
}
