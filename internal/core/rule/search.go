package rule

import (
	"slices"

	"ironbell/internal/core/civil"
	"ironbell/internal/core/zone"
)

type spanSeam = zone.Span

// maxRefused bounds how many rings in a row permitted hours may refuse before a
// search gives up.
const maxRefused = 20_000

// next is the first ring at or after an instant.
func (p *plan) next(from int64) (ring, bool) {
	end := p.end()
	for range maxRefused {
		begin := from
		switch {
		case p.from == never:
		case p.closed == Before:
			begin = max(from, p.from-maxSpanned*31*civil.Day)
		default:
			begin = max(from, p.from)
		}
		r, ok := p.find(begin, end)
		if i := p.firstAlso(from); i >= 0 && (!ok || p.moved[i].due <= r.due) {
			r, ok = p.moved[i], true
		}
		if !ok {
			return ring{}, false
		}
		if p.permittedAt(r.due) {
			return r, true
		}
		from = max(r.due+1, p.opening(r.due))
	}
	return ring{}, false
}

// firstAlso is the place of the first single date at or after an instant that
// is not left out, or -1.
func (p *plan) firstAlso(from int64) int {
	return slices.IndexFunc(p.moved, func(r ring) bool { return r.due >= from && !p.leftOut(r.nominal) })
}

// leftOut tells whether the text leaves an instant out.
func (p *plan) leftOut(nominal int64) bool {
	if len(p.except) > 0 {
		if _, found := slices.BinarySearch(p.except, nominal); found {
			return true
		}
	}
	if len(p.exceptDays) > 0 {
		serial, _ := civil.Split(nominal + p.spans.At(nominal).Offset)
		_, found := slices.BinarySearch(p.exceptDays, serial)
		return found
	}
	return false
}

// find is the first ring of the terms at or after an instant.
func (p *plan) find(from, end int64) (ring, bool) {
	limit := from + p.search
	moves := p.closed == Before || p.closed == After
	if !moves {
		limit = min(limit, end+1)
	}
	for {
		var r ring
		var wall int64
		var ok bool
		if p.times.kind == repeating {
			r.due, wall, ok = p.findRepeat(from, limit)
		} else {
			r.due, wall, ok = p.findWall(from, limit)
		}
		if !ok {
			return ring{}, false
		}
		r.nominal = r.due
		r.day, _ = civil.Split(wall)
		if moves && !p.standsForItself(r, end) {
			if r.nominal, r.day, ok = p.nominal(wall, r.due, end); !ok {
				if r.due > end+maxSpanned*31*civil.Day {
					return ring{}, false
				}
				from = r.due + 1
				continue
			}
		} else if !moves && p.leftOut(r.due) {
			from = r.due + 1
			continue
		}
		return r, true
	}
}

// standsForItself tells whether a ring is where it was named and no other was
// moved to it, as far as that can be said at once.
func (p *plan) standsForItself(r ring, end int64) bool {
	if p.selves == nil || r.due < p.from || r.due > end || p.leftOut(r.due) {
		return false
	}
	y, m, d := civil.Date(r.day)
	return p.selves.get(y, m, p.straight).Has(d)
}

// nominal finds the instant that the rule named for a ring that closed days may
// have moved. wall is the wall time of the ring, for repeats that of their
// window's start.
func (p *plan) nominal(wall, due, end int64) (instant, named int64, ok bool) {
	day, sec := civil.Split(wall)
	after := int64(0) // into the window
	if p.times.kind == repeating {
		after = due - p.spans.Instant(wall)
	}
	at := func(serial int64) int64 {
		if serial == day {
			return due
		}
		return p.spans.Instant(serial*civil.Day+sec) + after
	}
	named, ok = p.source(day, func(serial int64) bool {
		n := at(serial)
		return n >= p.from && n <= end && !p.leftOut(n)
	})
	if !ok {
		return 0, 0, false
	}
	return at(named), named, true
}

// findWall searches wall times span by span: within a span wall time is the
// instant plus the offset.
func (p *plan) findWall(from, limit int64) (due, wall int64, ok bool) {
	for from < limit {
		s := p.spans.At(from)
		until := min(limit, s.End)
		if p.times.kind == running {
			due, wall, ok = p.inRunning(from, until, s)
		} else {
			due, wall, ok = p.inSpan(from, until, s)
		}
		if ok {
			return due, wall, true
		}
		from = until
	}
	return 0, 0, false
}

// inSpan finds the first ring in [from, until), all of which has one offset.
func (p *plan) inSpan(from, until int64, s zone.Span) (due, wall int64, ok bool) {
	low, high := from+s.Offset, until+s.Offset
	switch gap := s.Offset - s.Before; {
	case gap < 0: // clocks went back: what was passed already rang the first time
		low = max(low, s.Start+s.Before)
	case gap > 0 && from < s.Start+gap: // clocks went forward: the skipped wall times ring now
		skipped, found := p.wall(from+s.Before, s.Start+s.Offset)
		usual, also := p.wall(low, high)
		if at := skipped - s.Before; found && at < until && (!also || at < usual-s.Offset) {
			return at, skipped, true
		}
		return usual - s.Offset, usual, also
	}
	wall, ok = p.wall(low, high)
	return wall - s.Offset, wall, ok
}

// inRunning finds the first instant of elapsed steps in [from, until), all of
// which has one offset.
func (p *plan) inRunning(from, until int64, s zone.Span) (due, wall int64, ok bool) {
	t := &p.times
	for low := from + s.Offset; ; {
		if wall, ok = p.wall(low, until+s.Offset); !ok {
			return 0, 0, false
		}
		due = wall - s.Offset
		if t.width >= t.period {
			return due, wall, true // every instant counts
		}
		over := civil.Mod(due-t.base, t.period)
		if over < t.width {
			return due, wall, true
		}
		low = wall + t.period - over
	}
}

// wall is the first wall time of the plan in [from, limit), both as seconds of
// wall time since 1970-01-01 00:00.
func (p *plan) wall(from, limit int64) (int64, bool) {
	serial, sec := civil.Split(from)
	y, m, d := civil.Date(serial)
	days := p.due(y, m).From(d)
	if days.Has(d) {
		if t, ok := p.timeOn(serial, sec); ok {
			w := serial*civil.Day + t
			return w, w < limit
		}
		days &^= 1 << d
	}
	for {
		if days != 0 {
			first := serial + int64(days.First()-d)
			t := p.times.first
			if p.mixed {
				t, _ = p.pickedTime(first, 0)
			}
			w := first*civil.Day + t
			return w, w < limit
		}
		serial += int64(civil.Length(y, m) - d + 1)
		y, m, d = p.following(y, m)
		if d != 1 {
			serial, d = civil.Serial(y, m, 1), 1
		}
		if serial*civil.Day >= limit {
			return 0, false
		}
		days = p.due(y, m)
	}
}

// following is the month after one; between years that are no period of the
// plan it jumps, and d is then not 1.
func (p *plan) following(y, m int) (yy, mm, d int) {
	if m < 12 {
		return y, m + 1, 1
	}
	if p.unit != year || p.every == 1 || p.closed == Before || p.closed == After {
		return y + 1, 1, 1
	}
	ay, _, _ := civil.Date(p.anchor)
	return y + 1 + int(civil.Mod(int64(ay-y-1), p.every)), 1, 0
}

// timeOn is the first time on a day at or after a second of it.
func (p *plan) timeOn(serial, sec int64) (int64, bool) {
	if p.mixed {
		return p.pickedTime(serial, sec)
	}
	return p.times.next(sec)
}

// findRepeat searches window by window: each is a stretch of elapsed time.
func (p *plan) findRepeat(from, limit int64) (due, wall int64, ok bool) {
	t := &p.times
	serial, _ := civil.Split(from + p.spans.At(from).Offset)
	if t.shut >= civil.Day {
		serial-- // the window of the day before may still be open
	}
	last, _ := civil.Split(limit)
	for {
		if serial, ok = p.day(serial, last+2); !ok {
			return 0, 0, false
		}
		wall = serial*civil.Day + t.open
		start := p.spans.Instant(wall)
		end := p.spans.Instant(serial*civil.Day + t.shut)
		if t.whole {
			end = p.spans.Instant((serial+1)*civil.Day) - 1
		}
		due = start
		if from > start {
			due = start + (from-start+t.step-1)/t.step*t.step
		}
		if due <= end {
			return due, wall, due < limit
		}
		serial++
	}
}

// day is the first due day in [from, limit).
func (p *plan) day(from, limit int64) (int64, bool) {
	serial := from
	y, m, d := civil.Date(serial)
	days := p.due(y, m).From(d)
	for days == 0 {
		serial += int64(civil.Length(y, m) - d + 1)
		y, m, d = p.following(y, m)
		if d != 1 {
			serial, d = civil.Serial(y, m, 1), 1
		}
		if serial >= limit {
			return 0, false
		}
		days = p.due(y, m)
	}
	serial += int64(days.First() - d)
	return serial, serial < limit
}

// permittedAt tells whether a run may start at an instant.
func (p *plan) permittedAt(at int64) bool {
	if len(p.hours) == 0 {
		return true
	}
	_, sec := civil.Split(at + p.spans.At(at).Offset)
	return p.permitted(sec)
}

// permitted tells whether a run may start at a second of the day.
func (p *plan) permitted(sec int64) bool {
	if len(p.hours) == 0 {
		return true
	}
	for _, h := range p.hours {
		if h.From <= h.To && sec >= h.From && sec <= h.To || h.From > h.To && (sec >= h.From || sec <= h.To) {
			return true
		}
	}
	return false
}

// opening is the instant after a given one at which permitted hours next begin.
func (p *plan) opening(at int64) int64 {
	serial, _ := civil.Split(at + p.spans.At(at).Offset)
	first := int64(always)
	for day := serial; day <= serial+1; day++ {
		for _, h := range p.hours {
			if t := p.spans.Instant(day*civil.Day + h.From); t > at {
				first = min(first, t)
			}
		}
	}
	return first
}
