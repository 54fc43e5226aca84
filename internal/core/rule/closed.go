package rule

import (
	"sync/atomic"

	"ironbell/internal/core/civil"
)

// memo keeps the due days of the months that were asked for last: rings of one
// rule come close together, and a month is reckoned once for all of them. Each
// place holds the number of its month above its days, in one word.
type memo [8]atomic.Uint64

// due is the set of the days of a month on which the plan rings, after closed
// days had their say.
func (p *plan) due(y, m int) civil.Mask {
	if p.memo == nil {
		return p.reckon(y, m)
	}
	return p.memo.get(y, m, p.reckon)
}

// get gives the days of a month, reckoned when they are not kept.
func (c *memo) get(y, m int, reckon func(y, m int) civil.Mask) civil.Mask {
	number := uint32(y*12+m) + 1<<31 //nolint:gosec // a name for the month, never 0
	place := &c[number%uint32(len(c))]
	if kept := place.Load(); uint32(kept>>32) == number {
		return civil.Mask(kept) //nolint:gosec // the lower half
	}
	days := reckon(y, m)
	place.Store(uint64(number)<<32 | uint64(days))
	return days
}

func (p *plan) reckon(y, m int) civil.Mask {
	switch p.closed {
	case Skip:
		if days := p.named(y, m); days != 0 {
			return days & p.calendar.Open(y, m)
		}
		return 0
	case Before:
		return p.dueBefore(y, m)
	case After:
		return p.dueAfter(y, m)
	default:
		return p.named(y, m)
	}
}

// dueBefore moves the closed ones of the named days to the open day before. The
// closed days with which the months that follow begin are moved into this one.
func (p *plan) dueBefore(y, m int) civil.Mask {
	open := p.calendar.Open(y, m)
	if open == 0 {
		return 0
	}
	named := p.named(y, m)
	out := named & open
	for shut := named &^ open; shut != 0; {
		before := open.Before(shut.Last())
		if before == 0 {
			break // into the month before
		}
		out |= 1 << before.Last()
		shut = shut.Before(before.Last())
	}
	if out.Has(open.Last()) || !p.namedBeyond(y, m, 1) {
		return out
	}
	return out | 1<<open.Last()
}

// dueAfter moves the closed ones of the named days to the open day after. The
// closed days with which the months before end are moved into this one.
func (p *plan) dueAfter(y, m int) civil.Mask {
	open := p.calendar.Open(y, m)
	if open == 0 {
		return 0
	}
	named := p.named(y, m)
	out := named & open
	for shut := named &^ open; shut != 0; {
		after := open.From(shut.First())
		if after == 0 {
			break // into the month after
		}
		out |= 1 << after.First()
		shut = shut.From(after.First())
	}
	if out.Has(open.First()) || !p.namedBeyond(y, m, -1) {
		return out
	}
	return out | 1<<open.First()
}

// namedBeyond tells whether a closed day is named between the end of a month and
// the first open day beyond it: after the month when step is 1, before it when
// step is -1.
func (p *plan) namedBeyond(y, m, step int) bool {
	for range maxSpanned {
		switch m += step; m {
		case 13:
			y, m = y+1, 1
		case 0:
			y, m = y-1, 12
		}
		open := p.calendar.Open(y, m)
		shut := civil.Month(y, m)
		switch {
		case open != 0 && step > 0:
			shut = shut.Before(open.First())
		case open != 0:
			shut = shut.From(open.Last() + 1)
		}
		if shut != 0 && p.named(y, m)&shut != 0 {
			return true
		}
		if open != 0 {
			return false
		}
	}
	return false
}

func (p *plan) isOpen(serial int64) bool {
	y, m, d := civil.Date(serial)
	return p.calendar.Open(y, m).Has(d)
}

func (p *plan) isNamed(serial int64) bool {
	y, m, d := civil.Date(serial)
	return p.named(y, m).Has(d)
}

// openDay is where closed days put a day; ok is false when it is passed over.
func (p *plan) openDay(serial int64) (int64, bool) {
	if p.closed == Ignore || p.isOpen(serial) {
		return serial, true
	}
	if p.closed == Skip {
		return 0, false
	}
	step := int64(1)
	if p.closed == Before {
		step = -1
	}
	for range maxSpanned * 31 {
		if serial += step; p.isOpen(serial) {
			return serial, true
		}
	}
	return 0, false
}

// straight is the set of the due days of a month that stand for themselves: they
// were named, and no closed day was moved there. Days at the ends of the month
// may be left out of it.
func (p *plan) straight(y, m int) civil.Mask {
	open, named := p.calendar.Open(y, m), p.named(y, m)
	var out civil.Mask
	for days := named & open; days != 0; days &= days - 1 {
		d := days.First()
		beside := open.From(d + 1) // the next open day; before it lie those that moved here
		if p.closed == After {
			beside = open.Before(d)
		}
		switch {
		case beside == 0:
		case p.closed == Before && named.From(d+1).Before(beside.First()) != 0:
		case p.closed == After && named.From(beside.Last()+1).Before(d) != 0:
		default:
			out |= 1 << d
		}
	}
	return out
}

// source is the latest day before (or at, or after) a due day that the plan
// named and closed days moved there, among those that are accepted. Rings that
// are moved onto one instant become one with the latest nominal date.
func (p *plan) source(due int64, accept func(serial int64) bool) (int64, bool) {
	y, m, d := civil.Date(due)
	open := p.calendar.Open(y, m)
	// Mostly the open day beside it lies in the same month.
	var from civil.Mask
	if later := open.From(d + 1); p.closed == Before && later != 0 {
		from = p.named(y, m).From(d).Before(later.First())
	} else if earlier := open.Before(d); p.closed == After && earlier != 0 {
		from = p.named(y, m).From(earlier.Last() + 1).Before(d + 1)
	} else {
		return p.sourceFar(due, accept)
	}
	for ; from != 0; from = from.Before(from.Last()) {
		if serial := due + int64(from.Last()-d); accept(serial) {
			return serial, true
		}
	}
	return 0, false
}

// sourceFar is source over the ends of months.
func (p *plan) sourceFar(due int64, accept func(serial int64) bool) (int64, bool) {
	if p.closed == After {
		for serial := due; serial > due-maxSpanned*31; serial-- {
			if serial != due && p.isOpen(serial) {
				break
			}
			if p.isNamed(serial) && accept(serial) {
				return serial, true
			}
		}
		return 0, false
	}
	last, found := int64(0), false
	for serial := due; serial < due+maxSpanned*31; serial++ {
		if serial != due && p.isOpen(serial) {
			break
		}
		if p.isNamed(serial) && accept(serial) {
			last, found = serial, true
		}
	}
	return last, found
}
