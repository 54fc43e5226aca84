// Package civil reckons with the dates of the Gregorian calendar, without time
// zones: days are counted from 1970-01-01 (day 0), and the days of one month
// are kept as a Mask.
package civil

import "math/bits"

// Lengths of time in seconds, as a wall clock without changes shows them.
const (
	Minute = int64(60)
	Hour   = 60 * Minute
	Day    = 24 * Hour
)

// The years that people may name. Before them zones had the times of their places; what is
// reckoned from a later one could leave the years that RFC 3339 writes.
const (
	FirstYear = 1900
	LastYear  = 9000
)

// Known tells whether all of some years may be named.
func Known(years ...int) bool {
	for _, y := range years {
		if y < FirstYear || y > LastYear {
			return false
		}
	}
	return true
}

// Mask is a set of the days of one month: bit 1 is the first, bit 31 the last.
type Mask uint32

// Has tells whether a day of the month is in the set.
func (m Mask) Has(date int) bool { return m>>date&1 == 1 }

// First is the lowest day of a set that is not empty.
func (m Mask) First() int { return bits.TrailingZeros32(uint32(m)) }

// Last is the highest day of a set that is not empty.
func (m Mask) Last() int { return 31 - bits.LeadingZeros32(uint32(m)) }

// Count is the number of days in the set.
func (m Mask) Count() int { return bits.OnesCount32(uint32(m)) }

// From leaves out the days before date.
func (m Mask) From(date int) Mask { return m >> date << date }

// Before leaves out date and the days after it.
func (m Mask) Before(date int) Mask { return m & (1<<date - 1) }

// Nth is the n-th day of the set from its first, counted from 1; from its last
// when n is negative. It is 0 when there is none.
func (m Mask) Nth(n int) int {
	for ; n > 1 && m != 0; n-- {
		m &= m - 1
	}
	if n > 0 && m != 0 {
		return m.First()
	}
	for ; n < -1 && m != 0; n++ {
		m = m.Before(m.Last())
	}
	if n < 0 && m != 0 {
		return m.Last()
	}
	return 0
}

// Month is the set of all days of a month.
func Month(year, month int) Mask { return 1<<(Length(year, month)+1) - 2 }

// FromEnd turns a set that is counted from the end of a month (bit 1 is its
// last day) into its days.
func FromEnd(counted Mask, length int) Mask {
	turned := bits.Reverse32(uint32(counted)) // bit k is now bit 31-k, and day length+1-k is wanted
	if length >= 30 {
		return Mask(turned<<(length-30)) &^ 1
	}
	return Mask(turned>>(30-length)) &^ 1
}

// Spread is the set of a month's days that fall on the given days of the week,
// bits 0 (Sunday) to 6. first is the weekday of the first of the month.
func Spread(weekdays uint8, first int) Mask {
	week := uint64(weekdays) | uint64(weekdays)<<7
	week = week >> first & 0x7f
	return Mask((week | week<<7 | week<<14 | week<<21 | week<<28) << 1 & 0xffffffff)
}

// Leap tells whether a year has a 29 February.
func Leap(year int) bool { return year%4 == 0 && (year%100 != 0 || year%400 == 0) }

// Length is the number of days of a month.
func Length(year, month int) int {
	switch month {
	case 2:
		if Leap(year) {
			return 29
		}
		return 28
	case 4, 6, 9, 11:
		return 30
	default:
		return 31
	}
}

// Serial counts the days from 1970-01-01 to a date. Years are counted from
// March, so that the leap day is the last of its year and the lengths of the
// months follow one line.
func Serial(year, month, date int) int64 {
	y, m := int64(year), int64(month)
	if m <= 2 {
		y--
		m += 12
	}
	era := (y - Mod(y, 400)) / 400
	ofEra := y - era*400
	ofYear := (153*(m-3)+2)/5 + int64(date) - 1
	return era*146097 + ofEra*365 + ofEra/4 - ofEra/100 + ofYear - 719468
}

// Date is the inverse of Serial, for years from -32800 on. It finds quotients by
// multiplication (C. Neri and L. Schneider, Euclidean affine functions and their
// application to calendar algorithms, 2022): a search calls it for each ring.
func Date(serial int64) (year, month, date int) {
	const eras = 82                              // of 400 years, so that all numbers are positive
	n := 4*uint32(serial+719468+eras*146097) + 3 //nolint:gosec // days of some 40,000 years
	century := n / 146097
	ofCentury := 4*(n%146097/4) + 3
	product := 2939745 * uint64(ofCentury)
	ofYear := uint32(product) / 2939745 / 4 //nolint:gosec // the lower half is wanted
	m := 2141*ofYear + 197913
	year, month, date = int(100*century)+int(product>>32)-400*eras, int(m>>16), int(m&0xffff/2141)+1
	if ofYear >= 306 { // January and February end the year that March begins
		year, month = year+1, month-12
	}
	return year, month, date
}

// Weekday is 0 for Sunday to 6 for Saturday.
func Weekday(serial int64) int { return int(Mod(serial+4, 7)) } // 1970-01-01 was a Thursday

// Split parts seconds of wall time since 1970-01-01 00:00 into day and second
// of the day.
func Split(wall int64) (serial, second int64) {
	second = Mod(wall, Day)
	return (wall - second) / Day, second
}

// Mod is the remainder that is never negative.
func Mod(a, b int64) int64 {
	r := a % b
	if r < 0 {
		r += b
	}
	return r
}
