package rule

import "math/bits"

const (
	minute  = int64(60)
	hour    = 60 * minute
	day     = 24 * hour
	horizon = 40 * 366 * day // 29 February falls on a given weekday every 28 years, 40 around 2100
)

// pattern is a set of wall minutes, each field a mask of the numbers it allows.
type pattern struct {
	minutes  uint64 // bits 0 to 59
	hours    uint32 // bits 0 to 23
	days     uint32 // bits 1 to 31
	months   uint16 // bits 1 to 12
	weekdays uint8  // bits 0 (Sunday) to 6
	either   bool   // a day matches by its date or by its weekday, not only by both
}

// next is the first wall minute of the pattern in [from, limit), both as
// seconds of wall time since 1970-01-01 00:00. from is a whole minute.
func (p *pattern) next(from, limit int64) (int64, bool) {
	days, rest := from/day, mod(from, day)
	if from < 0 && rest != 0 {
		days--
	}
	year, month, date := civil(days)
	h, m := rest/hour, rest%hour/minute
	for {
		if p.months>>month&1 == 1 {
			mask := p.daysOf(year, month)
			// What is left of the month: the day reached, at its time of day,
			// then the days after it from midnight.
			if mask>>date&1 == 1 {
				if hh, mm, ok := p.timeOfDay(h, m); ok {
					w := serial(year, month, date)*day + hh*hour + mm*minute
					return w, w < limit
				}
			}
			if later := mask >> (date + 1) << (date + 1); later != 0 {
				d := bits.TrailingZeros32(later)
				w := serial(year, month, d)*day + int64(bits.TrailingZeros32(p.hours))*hour + int64(bits.TrailingZeros64(p.minutes))*minute
				return w, w < limit
			}
		}
		month, date, h, m = month+1, 1, 0, 0
		if month > 12 {
			year, month = year+1, 1
		}
		if serial(year, month, 1)*day >= limit {
			return 0, false
		}
	}
}

// timeOfDay is the first allowed time at or after h:m on the same day.
func (p *pattern) timeOfDay(h, m int64) (hh, mm int64, ok bool) {
	if p.hours>>h&1 == 1 {
		if rest := p.minutes >> m << m; rest != 0 {
			return h, int64(bits.TrailingZeros64(rest)), true
		}
	}
	if rest := p.hours >> (h + 1) << (h + 1); rest != 0 {
		return int64(bits.TrailingZeros32(rest)), int64(bits.TrailingZeros64(p.minutes)), true
	}
	return 0, 0, false
}

// daysOf is the mask of the pattern's days in one month.
func (p *pattern) daysOf(year, month int) uint32 {
	length := monthLength(year, month)
	all := uint32(1)<<(length+1) - 2
	// The weekdays' mask repeated over the month, turned so that bit 1 is the first.
	first := int(mod(serial(year, month, 1)+4, 7)) // 1970-01-01 was a Thursday
	week := uint64(p.weekdays) | uint64(p.weekdays)<<7
	week = week >> first & 0x7f
	spread := uint32((week | week<<7 | week<<14 | week<<21 | week<<28) << 1 & 0xffffffff)
	if p.either {
		return (p.days | spread) & all
	}
	return p.days & spread & all
}

func monthLength(year, month int) int {
	switch month {
	case 2:
		if year%4 == 0 && (year%100 != 0 || year%400 == 0) {
			return 29
		}
		return 28
	case 4, 6, 9, 11:
		return 30
	default:
		return 31
	}
}

// serial counts the days from 1970-01-01 to a date of the Gregorian calendar;
// civil is its inverse. Years are counted from March, so that the leap day is
// the last of its year and the lengths of the months follow one line.
func serial(year, month, date int) int64 {
	y, m := int64(year), int64(month)
	if m <= 2 {
		y--
		m += 12
	}
	era := (y - mod(y, 400)) / 400
	ofEra := y - era*400
	ofYear := (153*(m-3)+2)/5 + int64(date) - 1
	return era*146097 + ofEra*365 + ofEra/4 - ofEra/100 + ofYear - 719468
}

func civil(days int64) (year, month, date int) {
	z := days + 719468
	rest := mod(z, 146097)
	era := (z - rest) / 146097
	ofEra := (rest - rest/1460 + rest/36524 - rest/146096) / 365
	ofYear := rest - (365*ofEra + ofEra/4 - ofEra/100)
	m := (5*ofYear + 2) / 153
	d := ofYear - (153*m+2)/5 + 1
	y := era*400 + ofEra
	if m >= 10 {
		y++
		m -= 12
	}
	return int(y), int(m + 3), int(d)
}
