package rule

import (
	"ironbell/internal/core/civil"
)

// named is the set of the days of a month that the plan names, before closed
// days have their say.
func (p *plan) named(y, m int) civil.Mask {
	days := p.matching(y, m)
	if days == 0 {
		return 0
	}
	if p.only != nil && p.unit >= week {
		days = p.picked(y, m, days)
	}
	if p.bounded {
		days = p.within(y, m, days)
	}
	for _, serial := range p.exceptDays {
		if ey, em, ed := civil.Date(serial); ey == y && em == m {
			days &^= 1 << ed
		}
	}
	return days
}

// matching is the set of the days that satisfy a term and lie in a period.
func (p *plan) matching(y, m int) civil.Mask {
	all := civil.Month(y, m)
	days := all
	if len(p.terms) > 0 {
		days = 0
		for i := range p.terms {
			if t := &p.terms[i]; t.months == 0 || t.months>>m&1 == 1 {
				days |= p.satisfying(t, y, m)
			}
		}
		days &= all
	}
	if p.every > 1 && days != 0 {
		days &= p.inPeriod(y, m)
	}
	return days
}

// satisfying is the set of the days that satisfy a term; it may hold days that
// the month lacks.
func (p *plan) satisfying(t *term, y, m int) civil.Mask {
	days := ^civil.Mask(1)
	if t.dates|t.fromEnd != 0 {
		days = t.dates
		if t.fromEnd != 0 {
			days |= civil.FromEnd(t.fromEnd, civil.Length(y, m))
		}
	}
	if t.weekdays != 0 || t.nth != nil {
		first := civil.Weekday(civil.Serial(y, m, 1))
		var of civil.Mask
		if t.weekdays != 0 {
			of = civil.Spread(t.weekdays, first)
		}
		for _, n := range t.nth {
			of |= nthWeekday(n, y, m, first)
		}
		days &= of
	}
	if t.days != nil {
		days &= numbered(t.days, y, m)
	}
	if t.weeks != nil {
		days &= p.inWeeks(t.weeks, y, m)
	}
	if t.open {
		days &= p.calendar.Open(y, m)
	}
	if t.shut {
		days &^= p.calendar.Open(y, m)
	}
	if t.openNth != nil {
		var of civil.Mask
		for _, n := range t.openNth {
			if d := p.nthOpen(n, y, m); d != 0 {
				of |= 1 << d
			}
		}
		days &= of
	}
	return days
}

// nthWeekday is the n-th weekday of a month, or of its year, as a set of days of
// the month. first is the weekday of the month's first.
func nthWeekday(n nth, y, m, first int) civil.Mask {
	if n.of != month {
		start, end := bounds(n.of, y, m)
		var serial int64
		if n.n > 0 {
			serial = start + civil.Mod(int64(n.weekday)-int64(civil.Weekday(start)), 7) + 7*int64(n.n-1)
		} else {
			serial = end - 1 - civil.Mod(int64(civil.Weekday(end-1))-int64(n.weekday), 7) + 7*int64(n.n+1)
		}
		if serial < start || serial >= end {
			return 0
		}
		return inMonth(serial, y, m)
	}
	length := civil.Length(y, m)
	if n.n > 0 {
		d := 1 + (int(n.weekday)-first+7)%7 + 7*(n.n-1)
		if d > length {
			return 0
		}
		return 1 << d
	}
	last := (first + length - 1) % 7
	d := length - (last-int(n.weekday)+7)%7 + 7*(n.n+1)
	if d < 1 {
		return 0
	}
	return 1 << d
}

// bounds are the first day of the quarter or year of a month, and the first
// after it.
func bounds(of unit, y, m int) (start, end int64) {
	if of == quarter {
		q := (m-1)/3*3 + 1
		return civil.Serial(y, q, 1), civil.Serial(y, q+2, civil.Length(y, q+2)) + 1
	}
	return civil.Serial(y, 1, 1), civil.Serial(y+1, 1, 1)
}

// inMonth is the set of one day when it lies in a month, and empty otherwise.
func inMonth(serial int64, y, m int) civil.Mask {
	d := serial - civil.Serial(y, m, 1) + 1
	if d < 1 || d > int64(civil.Length(y, m)) {
		return 0
	}
	return 1 << d
}

// numbered are the days of a month by their number in their quarter or year.
func numbered(list []nth, y, m int) civil.Mask {
	var days civil.Mask
	for _, n := range list {
		start, end := bounds(n.of, y, m)
		serial := start + int64(n.n) - 1
		if n.n < 0 {
			serial = end + int64(n.n)
		}
		if serial >= start && serial < end {
			days |= inMonth(serial, y, m)
		}
	}
	return days
}

// inWeeks are the days of a month in numbered weeks: week 1 is the first with
// at least four days in its year (ISO 8601, with the start of the week free as
// in RFC 5545 section 3.3.10).
func (p *plan) inWeeks(weeks []int, y, m int) civil.Mask {
	first := civil.Serial(y, m, 1)
	length := int64(civil.Length(y, m))
	var days civil.Mask
	for start := p.weekOf(first); start < first+length; start += 7 {
		middle, _, _ := civil.Date(start + 3)
		number := int(start+3-civil.Serial(middle, 1, 1))/7 + 1
		last := int(p.weekOf(civil.Serial(middle, 12, 28))+3-civil.Serial(middle, 1, 1))/7 + 1
		for _, w := range weeks {
			if w == number || w == number-last-1 {
				days |= weekMask(start, first)
			}
		}
	}
	return days
}

// weekOf is the day on which the week of a day begins.
func (p *plan) weekOf(serial int64) int64 {
	return serial - civil.Mod(int64(civil.Weekday(serial))-int64(p.weekStart), 7)
}

// weekMask are the days of a week in the month that begins on first; it may
// hold days that the month lacks.
func weekMask(start, first int64) civil.Mask {
	at := start - first + 1
	if at <= 0 {
		return civil.Mask(0x7f) >> (-at) &^ 1
	}
	return civil.Mask(uint64(0x7f) << at & 0xffffffff)
}

// nthOpen is the n-th open day of a period, when it lies in the month, else 0.
func (p *plan) nthOpen(n nth, y, m int) int {
	from, to := m, m
	switch n.of {
	case quarter:
		from = (m-1)/3*3 + 1
		to = from + 2
	case year:
		from, to = 1, 12
	}
	left := n.n
	if n.n > 0 {
		for mm := from; mm < m && left > 0; mm++ {
			left -= p.calendar.Open(y, mm).Count()
		}
		if left <= 0 {
			return 0
		}
		return p.calendar.Open(y, m).Nth(left)
	}
	for mm := to; mm > m && left < 0; mm-- {
		left += p.calendar.Open(y, mm).Count()
	}
	if left >= 0 {
		return 0
	}
	return p.calendar.Open(y, m).Nth(left)
}

// inPeriod are the days of a month that lie in every n-th period from the anchor.
func (p *plan) inPeriod(y, m int) civil.Mask {
	ay, am, _ := civil.Date(p.anchor)
	switch p.unit {
	case year:
		if civil.Mod(int64(y-ay), p.every) == 0 {
			return ^civil.Mask(1)
		}
	case quarter:
		if civil.Mod(int64(y*4+(m-1)/3-ay*4-(am-1)/3), p.every) == 0 {
			return ^civil.Mask(1)
		}
	case month:
		if civil.Mod(int64(y*12+m-ay*12-am), p.every) == 0 {
			return ^civil.Mask(1)
		}
	case week:
		first := civil.Serial(y, m, 1)
		anchor := p.weekOf(p.anchor)
		var days civil.Mask
		for start := first - civil.Mod(first-anchor, 7*p.every); start < first+31; start += 7 * p.every {
			if start+7 > first {
				days |= weekMask(start, first)
			}
		}
		return days
	case dayUnit:
		first := civil.Serial(y, m, 1)
		var days civil.Mask
		for d := 1 + civil.Mod(p.anchor-first, p.every); d <= 31; d += p.every {
			days |= 1 << d
		}
		return days
	default:
		return ^civil.Mask(1)
	}
	return 0
}

// within leaves out the days before the start and after the end.
func (p *plan) within(y, m int, days civil.Mask) civil.Mask {
	first := civil.Serial(y, m, 1)
	if p.from != never {
		serial, _ := civil.Split(p.from + p.spans.At(p.from).Offset)
		if d := serial - first + 1; d > 31 {
			return 0
		} else if d > 1 {
			days = days.From(int(d))
		}
	}
	if end := p.end(); end != always {
		serial, _ := civil.Split(end + p.spans.At(end).Offset)
		if d := serial - first + 2; d < 1 {
			return 0
		} else if d <= 31 {
			days = days.Before(int(d))
		}
	}
	return days
}

// picked are the days of a month on which a picked ring lies.
func (p *plan) picked(y, m int, days civil.Mask) civil.Mask {
	var out civil.Mask
	p.periods(y, m, days, func(s *set) {
		for _, n := range p.only {
			if serial, _, ok := s.at(n, p.times.count); ok {
				out |= inMonth(serial, y, m)
			}
		}
	})
	return out
}

// pickedTime is the first picked time at or after a second of a day.
func (p *plan) pickedTime(serial, sec int64) (found int64, ok bool) {
	y, m, _ := civil.Date(serial)
	p.periods(y, m, p.matching(y, m), func(s *set) {
		for _, n := range p.only {
			at, i, has := s.at(n, p.times.count)
			if !has || at != serial {
				continue
			}
			if t := p.times.nth(i); t >= sec && (!ok || t < found) {
				found, ok = t, true
			}
		}
	})
	return found, ok
}

// set is the days of one period, month by month.
type set struct {
	months [12]civil.Mask
	first  [12]int64 // day on which each month begins
	n      int       // months in use
	total  int       // days
}

func (s *set) add(y, m int, days civil.Mask) {
	s.months[s.n], s.first[s.n] = days, civil.Serial(y, m, 1)
	s.n++
	s.total += days.Count()
}

// at finds the n-th ring of a period whose days have a number of times each:
// its day and the place of its time.
func (s *set) at(n, times int) (serial int64, time int, ok bool) {
	i := n - 1
	if n < 0 {
		i = s.total*times + n
	}
	if i < 0 || i >= s.total*times {
		return 0, 0, false
	}
	day, time := i/times, i%times
	for k := range s.n {
		if c := s.months[k].Count(); day >= c {
			day -= c
			continue
		}
		return s.first[k] + int64(s.months[k].Nth(day+1)) - 1, time, true
	}
	return 0, 0, false
}

// periods calls with the days of each period that overlaps a month whose own
// matching days are given.
func (p *plan) periods(y, m int, days civil.Mask, each func(*set)) {
	var s set
	switch p.unit {
	case month:
		s.add(y, m, days)
		each(&s)
	case quarter:
		for mm := (m-1)/3*3 + 1; mm <= (m-1)/3*3+3; mm++ {
			s.add(y, mm, p.matching(y, mm))
		}
		each(&s)
	case year:
		for mm := 1; mm <= 12; mm++ {
			s.add(y, mm, p.matching(y, mm))
		}
		each(&s)
	case week:
		first := civil.Serial(y, m, 1)
		for start := p.weekOf(first); start < first+int64(civil.Length(y, m)); start += 7 {
			s = set{}
			for at := start; at < start+7; {
				wy, wm, wd := civil.Date(at)
				length := civil.Length(wy, wm)
				in := p.matching(wy, wm).From(wd)
				if last := wd + int(start+7-at); last <= length {
					in = in.Before(last)
				}
				s.add(wy, wm, in)
				at += int64(length - wd + 1)
			}
			each(&s)
		}
	}
}
