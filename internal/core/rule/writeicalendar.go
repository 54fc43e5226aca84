package rule

import (
	"fmt"
	"math/bits"
	"slices"
	"strconv"
	"strings"
	"time"

	"ironbell/internal/core/civil"
)

// recurrence is an RRULE under construction, as far as its parts are known.
type recurrence struct {
	freq     unit
	interval int64
	parts    []string
}

func (c *recurrence) add(name string, list []string) {
	if len(list) > 0 {
		c.parts = append(c.parts, name+"="+strings.Join(list, ","))
	}
}

// ICalendar writes the rule as lines of RFC 5545, the DTSTART being its first
// ring at or after start; ok is false when RRULE cannot say it. Read again it
// gives the same instants from there on.
func (r Rule) ICalendar(start time.Time) (text string, ok bool) {
	if r.plan == nil {
		return "", false
	}
	p := r.plan
	if p.closed != Ignore || len(p.hours) > 0 || len(p.terms) > 1 {
		return "", false
	}
	c := recurrence{freq: p.unit, interval: p.every}
	var lines []string
	first, ok := p.firstClear(start.Unix())
	if !ok {
		return "", false
	}
	if !p.isOnce() {
		if !p.recurrence(&c) {
			return "", false
		}
		switch {
		case p.count > 0 && first == p.from || p.count > 0 && start.Unix() <= p.from:
			c.add("COUNT", []string{strconv.Itoa(p.count)})
		case p.end() != always:
			c.add("UNTIL", []string{utcStamp(p.end())})
		}
		if p.weekStart != monday {
			c.add("WKST", []string{icalDays[p.weekStart]})
		}
		names := map[unit]string{
			second: "SECONDLY", minute: "MINUTELY", hour: "HOURLY", dayUnit: "DAILY", week: "WEEKLY", month: "MONTHLY",
			year: "YEARLY",
		}
		head := "FREQ=" + names[c.freq]
		if c.interval > 1 {
			head += fmt.Sprintf(";INTERVAL=%d", c.interval)
		}
		lines = append(lines, "RRULE:"+strings.Join(append([]string{head}, c.parts...), ";"))
	}
	t := time.Unix(first, 0).In(p.zone)
	if p.zone == time.UTC || p.zone.String() == "UTC" {
		lines = append([]string{"DTSTART:" + utcStamp(first)}, lines...)
	} else {
		lines = append([]string{"DTSTART;TZID=" + p.zone.String() + ":" + t.Format("20060102T150405")}, lines...)
	}
	if list := stamps(p.also); len(list) > 0 {
		lines = append(lines, "RDATE:"+strings.Join(list, ","))
	}
	if list := stamps(p.except); len(list) > 0 {
		lines = append(lines, "EXDATE:"+strings.Join(list, ","))
	}
	if len(p.exceptDays) > 0 {
		var list []string
		for _, serial := range p.exceptDays {
			list = append(list, time.Unix(serial*civil.Day, 0).UTC().Format("20060102"))
		}
		lines = append(lines, "EXDATE;VALUE=DATE:"+strings.Join(list, ","))
	}
	return strings.Join(lines, "\n"), true
}

// firstClear is the first ring of the terms that a wall time names without
// doubt, so that a DTSTART can hold it; for elapsed steps one before the first
// ring does, too. Dates that are left out may begin it.
func (p *plan) firstClear(from int64) (int64, bool) {
	if p.times.kind == running && p.times.width > 1 && !p.times.passing {
		return p.from, p.spans.Instant(p.from+p.spans.At(p.from).Offset) == p.from // its hours are counted from there
	}
	free := *p
	free.memo, free.selves = nil, nil
	free.also, free.moved, free.except, free.exceptDays = nil, nil, nil, nil
	for range maxListed {
		r, ok := free.next(max(from, p.from))
		if !ok {
			return 0, false
		}
		step := max(p.times.period, 1) // far enough to leave an hour that comes twice
		step *= (4*civil.Hour + step - 1) / step
		for at := r.due; ; at -= step {
			wall := at + p.spans.At(at).Offset
			if p.spans.Instant(wall) == at && (p.times.kind != wallTimes || free.standsAt(wall)) {
				return at, true
			}
			if p.times.kind != running || at < r.due-10*step {
				break
			}
		}
		from = r.due + 1
	}
	return 0, false
}

// standsAt tells whether the plan names a wall time, so that a ring stands where
// it was named and not where a change of clocks moved it.
func (p *plan) standsAt(wall int64) bool {
	serial, sec := civil.Split(wall)
	t, ok := p.timeOn(serial, sec)
	return ok && t == sec
}

func utcStamp(at int64) string { return time.Unix(at, 0).UTC().Format("20060102T150405Z") }

func stamps(list []int64) []string {
	out := make([]string, len(list))
	for i, at := range list {
		out[i] = utcStamp(at)
	}
	return out
}

var icalDays = [7]string{"SU", "MO", "TU", "WE", "TH", "FR", "SA"}

// recurrence fills in the frequency and the BY parts.
func (p *plan) recurrence(c *recurrence) bool {
	var t term
	if len(p.terms) == 1 {
		t = p.terms[0]
	}
	if t.open || t.shut || t.openNth != nil || c.freq == quarter || !t.quarters() {
		return false
	}
	tm, ok := p.asWall()
	if !ok {
		return false
	}
	only := p.only
	if tm.kind == running {
		if c.interval > 1 || c.freq >= dayUnit {
			return false // periods of days go with no frequency below them
		}
		c.freq, c.interval = tm.unit, tm.every
	} else if _, _, _, product := tm.product(); !product {
		// Times that are no combinations are picked out of the combinations.
		if c.freq != noUnit && c.freq != dayUnit || only != nil {
			return false
		}
		c.freq = dayUnit
		if only, ok = tm.positions(); !ok {
			return false
		}
	}
	if !t.frequency(c) {
		return false
	}
	if !t.byDays(c) {
		return false
	}
	hours, minutes, seconds, _ := tm.product()
	switch {
	case tm.kind != running:
		// One hour, minute or second is that of DTSTART.
		for _, by := range []struct {
			name string
			mask uint64
		}{{"BYHOUR", uint64(hours)}, {"BYMINUTE", minutes}, {"BYSECOND", seconds}} {
			if by.mask&(by.mask-1) != 0 {
				c.add(by.name, bitList(by.mask))
			}
		}
	default:
		if tm.inHours && hours != allHours {
			c.add("BYHOUR", bitList(uint64(hours)))
		}
		if tm.passing || tm.inMinutes {
			c.add("BYMINUTE", bitList(minutes))
		}
		if tm.inSeconds {
			c.add("BYSECOND", bitList(tm.saidSeconds()))
		}
	}
	var list []string
	for _, n := range only {
		list = append(list, strconv.Itoa(n))
	}
	c.add("BYSETPOS", list)
	return true
}

// quarters turns days that are numbered in a quarter into days of its first or
// last month; ok is false when that cannot be.
func (t *term) quarters() (ok bool) {
	first, last := uint16(1<<1|1<<4|1<<7|1<<10), uint16(1<<3|1<<6|1<<9|1<<12)
	var months uint16
	turn := func(n nth, limit int) bool {
		want := first
		if n.n < 0 {
			want = last
		}
		if n.n > limit || n.n < -limit || months != 0 && months != want || t.months != 0 ||
			t.dates|t.fromEnd != 0 && months == 0 {
			return false
		}
		months = want
		return true
	}
	days, weekdays := []nth(nil), []nth(nil)
	for _, n := range t.days {
		if n.of != quarter {
			days = append(days, n)
			continue
		}
		if !turn(n, 28) || len(t.nth) > 0 {
			return false
		}
		if n.n > 0 {
			t.dates |= 1 << n.n
		} else {
			t.fromEnd |= 1 << -n.n
		}
	}
	for _, n := range t.nth {
		if n.of == quarter {
			if !turn(n, 4) || t.weekdays != 0 {
				return false
			}
			n.of = month
		}
		weekdays = append(weekdays, n)
	}
	if months != 0 {
		if days != nil {
			return false
		}
		t.months = months
	}
	t.days, t.nth = days, weekdays
	return true
}

// frequency chooses FREQ where the rule counts no periods, and refuses one that
// cannot carry the conditions (RFC 5545 section 3.3.10, the table of BY parts).
func (t *term) frequency(c *recurrence) bool {
	scope := noUnit
	for _, n := range t.nth {
		scope = n.of
	}
	if c.freq == noUnit {
		switch {
		case t.weeks != nil || t.days != nil || scope == year:
			c.freq = year
		case scope == month || t.dates|t.fromEnd != 0:
			c.freq = month
		case t.weekdays != 0:
			c.freq = week
		default:
			c.freq = dayUnit
		}
	}
	switch {
	case scope == year && (c.freq != year || t.months != 0 || t.weeks != nil):
		return false
	case scope == month && c.freq != month && c.freq != year:
		return false
	case scope == month && c.freq == year && t.weeks != nil:
		return false
	case t.weeks != nil && c.freq != year:
		return false
	case t.days != nil && c.freq >= dayUnit && c.freq != year:
		return false
	case t.dates|t.fromEnd != 0 && c.freq == week:
		return false
	}
	if scope == month && c.freq == year && t.months == 0 {
		t.months = allYear
	}
	return true
}

// byDays writes the conditions on days.
func (t *term) byDays(c *recurrence) bool {
	c.add("BYMONTH", bitList(uint64(t.months)))
	var list []string
	for _, w := range t.weeks {
		list = append(list, strconv.Itoa(w))
	}
	c.add("BYWEEKNO", list)
	list = nil
	for _, n := range t.days {
		list = append(list, strconv.Itoa(n.n))
	}
	c.add("BYYEARDAY", list)
	dates, weekdays := t.dates, t.weekdays
	if dates|t.fromEnd == 0 && weekdays == 0 && t.nth == nil && t.days == nil {
		// Said out, since a frequency would take it from DTSTART.
		switch {
		case c.freq == week || t.weeks != nil:
			weekdays = allWeek
		case c.freq == month || c.freq == year:
			dates = 0xfffffffe
		}
	}
	list = bitList(uint64(dates))
	for n := 1; n <= 31; n++ {
		if t.fromEnd>>n&1 == 1 {
			list = append(list, strconv.Itoa(-n))
		}
	}
	c.add("BYMONTHDAY", list)
	list = nil
	for i := range 7 {
		if d := (i + 1) % 7; weekdays>>d&1 == 1 {
			list = append(list, icalDays[d])
		}
	}
	for _, n := range t.nth {
		list = append(list, strconv.Itoa(n.n)+icalDays[n.weekday])
	}
	c.add("BYDAY", list)
	return true
}

// positions are the places of the listed times among all combinations of their
// hours, minutes and seconds.
func (t *times) positions() ([]int, bool) {
	hours, minutes, seconds, _ := t.product()
	all := times{hours: hours, minutes: minutes, seconds: seconds}
	all.measure()
	if all.count > 366 {
		return nil, false
	}
	var out []int
	for i := range all.count {
		if _, found := slices.BinarySearch(t.list, int32(all.nth(i))); found { //nolint:gosec // within a day
			out = append(out, i+1)
		}
	}
	return out, true
}

func bitList(mask uint64) []string {
	out := make([]string, 0, bits.OnesCount64(mask))
	for n := range 64 {
		if mask>>n&1 == 1 {
			out = append(out, strconv.Itoa(n))
		}
	}
	return out
}
