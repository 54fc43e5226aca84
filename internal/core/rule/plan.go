package rule

import (
	"fmt"
	"math"
	"slices"
	"sync"
	"time"

	"ironbell/internal/core/civil"
	"ironbell/internal/core/zone"
)

// plan is what a rule says, whatever notation it was written in: the dates that
// satisfy one of its terms and fall into one of its periods, at its times,
// within its bounds.
type plan struct {
	zone    *time.Location
	ownZone bool // the text says the zone, and it is not that of the job
	spans   *zone.Spans

	terms     []term // a date satisfies any of them; none means every date
	unit      unit   // of the periods that every and only speak of
	every     int64
	anchor    int64 // day from which periods are counted
	weekStart uint8
	only      []int // which of the rings of a period are meant (RFC 5545 BYSETPOS)
	times     times

	from, until int64 // seconds since 1970, both included; never and always when not given
	count       int   // of rings from from; 0 for any number
	ending      *ending
	also        []int64 // further instants (RDATE), in order
	except      []int64 // instants left out (EXDATE), in order
	exceptDays  []int64 // whole days left out, in order

	closed          Closed
	calendar        Calendar
	defaultCalendar bool
	hours           []Hours

	search  int64  // how far a search goes, in seconds
	mixed   bool   // only picks times, so that the dates differ in their times
	bounded bool   // dates outside from and until are left out before they are moved
	moved   []ring // the rings of also, when closed days move
	memo    *memo  // of due days; nil in plans that are asked once
	selves  *memo  // of due days that stand for themselves, where closed days move others
}

const (
	never  = math.MinInt64 / 4
	always = math.MaxInt64 / 4

	lastInstant = 253402300799 // 9999-12-31 23:59:59 UTC: counts go no farther
	yearSeconds = 366 * civil.Day
	horizon     = 40 * yearSeconds // 29 February falls on a given weekday every 28 years, 40 around 2100

	// Bounds of what one rule may ask for.
	maxCount   = 100_000
	maxListed  = 1000
	maxEvery   = 10_000
	maxSpanned = 24 // months in a row without an open day
)

const (
	sunday   = uint8(0)
	monday   = uint8(1)
	workdays = uint8(0x3e)
	weekend  = uint8(0x41)
	allWeek  = uint8(0x7f)
	allYear  = uint16(0x1ffe)
)

// unit is a length of time by which periods are counted.
type unit uint8

const (
	noUnit unit = iota
	second
	minute
	hour
	dayUnit
	week
	month
	quarter
	year
)

var unitNames = [...]string{"", "second", "minute", "hour", "day", "week", "month", "quarter", "year"}

func (u unit) String() string { return unitNames[u] }

// term is a condition on a date. All that is given must hold.
type term struct {
	months   uint16     // bits 1 to 12; 0 for any
	dates    civil.Mask // days of the month
	fromEnd  civil.Mask // days of the month counted from its last, which is 1
	weekdays uint8      // bits 0 (Sunday) to 6; 0 for any
	nth      []nth      // the n-th weekday of a month or year
	days     []nth      // the n-th day of a quarter or year
	weeks    []int      // weeks of the year, counted from its last when negative
	open     bool       // open days
	shut     bool       // closed days
	openNth  []nth      // the n-th open day of a month, quarter or year
}

// nth is a day by its number in a period, counted from the end when negative.
type nth struct {
	n       int
	of      unit
	weekday uint8 // of term.nth
}

// ring is a due time and the instant that was named for it, in seconds since
// 1970, with the day that was named: a window that runs over midnight belongs to
// the day on which it opens.
type ring struct{ due, nominal, day int64 }

// ending finds the instant of the last ring that a count allows, once.
type ending struct {
	once sync.Once
	at   int64
}

// finish checks a plan that was read, lays the options over it and makes it
// ready to be searched.
func (p *plan) finish(text string, o Options) error {
	wrong := func(format string, args ...any) error {
		return &Error{Text: text, Column: 1, Expected: fmt.Sprintf(format, args...)}
	}
	lacking := func(format string, args ...any) error {
		return &Error{Text: text, Column: len(text) + 1, Expected: fmt.Sprintf(format, args...)}
	}
	p.spans = zone.Of(p.zone)
	p.ownZone = o.Zone != nil && p.zone.String() != o.Zone.String()
	if !o.Start.IsZero() {
		p.from = max(p.from, o.Start.Unix())
	}
	if !o.End.IsZero() {
		p.until = min(p.until, o.End.Unix())
	}
	if o.Count != 0 && (p.count == 0 || o.Count < p.count) {
		p.count = o.Count
	}
	if o.Closed != Ignore {
		if p.closed != Ignore && p.closed != o.Closed {
			return wrong("the rule says %q of closed days and its trigger %q; let one of them say it", p.closed,
				o.Closed)
		}
		p.closed = o.Closed
	}
	p.hours = append(p.hours, o.Hours...)
	switch {
	case p.count < 0 || p.count > maxCount:
		return wrong("a count of rings is from 1 to %d", maxCount)
	case p.count > 0 && p.from == never:
		return lacking("a count of rings needs a start: add from and a date, such as from 2026-12-01")
	case p.every > 1 && p.from == never:
		return lacking("every %d %ss needs a start: add from and a date, such as from 2026-12-01", p.every, p.unit)
	case p.every > maxEvery:
		return wrong("the longest interval is %d", maxEvery)
	case p.from > p.until:
		return wrong("it ends before it begins")
	case len(p.also) > maxListed || len(p.except)+len(p.exceptDays) > maxListed:
		return wrong("at most %d single dates may be added or left out", maxListed)
	case (p.closed == Before || p.closed == After) && p.times.kind == running && !p.times.passing:
		return wrong("a rule that counts elapsed hours, minutes or seconds can only skip closed days")
	}
	if p.anchor == 0 && p.from != never {
		p.anchor, _ = civil.Split(p.from + p.spans.At(p.from).Offset)
	}
	if p.count > 0 {
		p.ending = &ending{}
	}
	p.search = horizon
	switch p.unit {
	case year:
		p.search = min(p.every, 100) * horizon
	case month:
		p.search = min((p.every+11)/12, 100) * horizon
	}
	slices.Sort(p.also)
	slices.Sort(p.except)
	slices.Sort(p.exceptDays)
	if err := p.times.finish(p, wrong); err != nil {
		return err
	}
	if p.mixed && (p.closed == Before || p.closed == After) {
		return wrong("a rule that picks some of several times in a %s can only skip closed days", p.unit)
	}
	p.bounded = (p.closed == Before || p.closed == After) && (p.from != never || p.until != always || p.count > 0)
	p.moveAlso()
	if err := p.checkRings(wrong); err != nil {
		return err
	}
	p.memo = &memo{}
	if p.closed == Before || p.closed == After {
		p.selves = &memo{}
	}
	return nil
}

// checkRings refuses a plan that never rings, and says why.
func (p *plan) checkRings(wrong func(string, ...any) error) error {
	if p.times.kind == wallTimes && !p.times.anyPermitted(p) {
		return wrong("this never rings: each of its times is outside the permitted hours")
	}
	// Counting takes time and ends nothing before its first ring.
	uncounted := *p
	uncounted.count, uncounted.ending = 0, nil
	if _, ok := uncounted.next(p.earliest()); ok {
		return nil
	}
	unmoved := uncounted
	unmoved.memo, unmoved.selves, unmoved.closed, unmoved.hours = nil, nil, Ignore, nil
	if _, ok := unmoved.next(p.earliest()); ok {
		return wrong("this never rings: each of its times is on a closed day or outside the permitted hours")
	}
	free := unmoved
	free.until, free.count, free.except, free.exceptDays = always, 0, nil, nil
	if first, ok := free.next(p.earliest()); ok {
		if p.until != always && first.due > p.until {
			return wrong("this never rings: it ends on %s, before its first time",
				time.Unix(p.until, 0).In(p.zone).Format("2 January 2006 15:04"))
		}
		return wrong("this never rings: all its times are left out")
	}
	for i := range p.terms {
		if reason := p.terms[i].impossible(); reason != "" {
			return wrong("this never rings: %s", reason)
		}
	}
	return wrong("this never rings: no time satisfies all that it asks for")
}

// impossible says why no date satisfies a term, as far as one can say it simply.
func (t *term) impossible() string {
	if t.dates != 0 {
		longest := 0
		for m := 1; m <= 12; m++ {
			if t.months == 0 || t.months>>m&1 == 1 {
				longest = max(longest, civil.Length(2000, m))
			}
		}
		if t.dates.First() > longest {
			return fmt.Sprintf("none of its months has a day %d", t.dates.First())
		}
	}
	for _, o := range t.openNth {
		return fmt.Sprintf("no %s has an open day %d", o.of, o.n)
	}
	return ""
}

// earliest is from where a rule that has no start is searched: the year 2000
// begins a cycle of the calendar.
func (p *plan) earliest() int64 {
	switch {
	case len(p.moved) > 0 && p.from != never:
		return min(p.from, p.moved[0].due) - 62*civil.Day
	case p.from != never:
		return p.from - 62*civil.Day
	case p.until != always && p.until < 946684800:
		return p.until - p.search
	default:
		return 946684800
	}
}

// usesCalendar tells whether the plan looks at open days.
func (p *plan) usesCalendar() bool {
	return p.closed != Ignore ||
		slices.ContainsFunc(p.terms, func(t term) bool { return t.open || t.shut || len(t.openNth) > 0 })
}

// end is the last instant at which the plan may name a ring. Rings are counted
// before closed days and single dates have their say.
func (p *plan) end() int64 {
	if p.ending == nil {
		return p.until
	}
	p.ending.once.Do(func() {
		counting := *p
		counting.memo, counting.selves = nil, nil
		counting.count, counting.ending, counting.closed, counting.hours = 0, nil, Ignore, nil
		counting.also, counting.moved, counting.except, counting.exceptDays, counting.bounded = nil, nil, nil, nil,
			false
		at := p.from - 1
		for range p.count {
			r, ok := counting.next(at + 1)
			if !ok || r.due > lastInstant {
				break
			}
			at = r.due
		}
		p.ending.at = min(at, p.until)
	})
	return p.ending.at
}

// moveAlso reckons where closed days put the single further dates.
func (p *plan) moveAlso() {
	p.moved = nil
	for _, at := range p.also {
		r := ring{due: at, nominal: at}
		r.day, _ = civil.Split(at + p.spans.At(at).Offset)
		if p.closed != Ignore {
			wall := at + p.spans.At(at).Offset
			serial, sec := civil.Split(wall)
			to, ok := p.openDay(serial)
			if !ok {
				continue
			}
			if to != serial {
				r.due = p.spans.Instant(to*civil.Day + sec)
			}
		}
		p.moved = append(p.moved, r)
	}
	slices.SortStableFunc(p.moved, func(a, b ring) int { return int(max(min(a.due-b.due, 1), -1)) })
}
