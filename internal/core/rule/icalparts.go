package rule

import (
	"fmt"
	"strconv"
	"strings"

	"ironbell/internal/core/civil"
)

// icalParts reads each part of an RRULE.
var icalParts map[string]func(r *icalReader, t *term, part icalPart) error

func init() {
	icalParts = map[string]func(*icalReader, *term, icalPart) error{
		"FREQ": func(*icalReader, *term, icalPart) error { return nil },
		"INTERVAL": func(r *icalReader, _ *term, part icalPart) error {
			list, err := r.numbers(part, 1, maxEvery, false)
			if err == nil && len(list) != 1 {
				err = r.wrong(part.column, part.value, "one number")
			}
			if err == nil {
				r.p.every = int64(list[0])
			}
			return err
		},
		"COUNT": func(r *icalReader, _ *term, part icalPart) error {
			list, err := r.numbers(part, 1, maxCount, false)
			if err == nil && len(list) != 1 {
				err = r.wrong(part.column, part.value, "one number")
			}
			if err == nil {
				r.p.count = list[0]
			}
			return err
		},
		"UNTIL": func(r *icalReader, _ *term, part icalPart) error {
			wall, ok := parseWall(part.value)
			if !ok {
				return r.wrong(part.column, part.value, "a date or time such as 20261231 or 20261231T235959Z")
			}
			switch {
			case strings.HasSuffix(strings.ToUpper(part.value), "Z"):
				r.p.until = wall
			case len(part.value) == 8:
				r.p.until = r.p.spans.Instant(wall+civil.Day) - 1
				if !r.dateOnly {
					r.remarks = append(r.remarks, "UNTIL is a date without a time: the whole day is meant.")
				}
			default:
				r.p.until = r.p.spans.Instant(wall)
			}
			return nil
		},
		"WKST": func(r *icalReader, _ *term, part icalPart) error {
			d := icalDay(part.value)
			if d < 0 {
				return r.wrong(part.column, part.value, "a weekday: MO, TU, WE, TH, FR, SA or SU")
			}
			r.p.weekStart = uint8(d) //nolint:gosec // 0 to 6
			return nil
		},
		"BYSETPOS": func(r *icalReader, _ *term, part icalPart) error {
			list, err := r.numbers(part, 1, 366, true)
			r.p.only = list
			return err
		},
		"BYMONTH": func(r *icalReader, t *term, part icalPart) error {
			list, err := r.numbers(part, 1, 12, false)
			for _, n := range list {
				t.months |= 1 << n
			}
			return err
		},
		"BYMONTHDAY": func(r *icalReader, t *term, part icalPart) error {
			if r.freq == week {
				return r.misplaced(part, "BYMONTHDAY", "WEEKLY")
			}
			list, err := r.numbers(part, 1, 31, true)
			for _, n := range list {
				if n > 0 {
					t.dates |= 1 << n
				} else {
					t.fromEnd |= 1 << -n
				}
			}
			return err
		},
		"BYYEARDAY": func(r *icalReader, t *term, part icalPart) error {
			if r.freq == dayUnit || r.freq == week || r.freq == month {
				return r.misplaced(part, "BYYEARDAY", strings.ToUpper(r.parts["FREQ"].value))
			}
			list, err := r.numbers(part, 1, 366, true)
			for _, n := range list {
				t.days = append(t.days, nth{n: n, of: year})
			}
			return err
		},
		"BYWEEKNO": func(r *icalReader, t *term, part icalPart) error {
			if r.freq != year {
				return r.misplaced(part, "BYWEEKNO", strings.ToUpper(r.parts["FREQ"].value))
			}
			list, err := r.numbers(part, 1, 53, true)
			t.weeks = list
			return err
		},
		"BYDAY": func(r *icalReader, t *term, part icalPart) error { return r.byDay(t, part) },
		"BYHOUR": func(r *icalReader, _ *term, part icalPart) error {
			list, err := r.numbers(part, 0, 23, false)
			for _, n := range list {
				r.p.times.hours |= 1 << n
			}
			r.p.times.inHours = true
			return err
		},
		"BYMINUTE": func(r *icalReader, _ *term, part icalPart) error {
			list, err := r.numbers(part, 0, 59, false)
			for _, n := range list {
				r.p.times.minutes |= 1 << n
			}
			r.p.times.inMinutes = true
			return err
		},
		"BYSECOND": func(r *icalReader, _ *term, part icalPart) error {
			list, err := r.numbers(part, 0, 60, false)
			for _, n := range list {
				r.p.times.seconds |= 1 << min(n, 59) // a leap second is the one before it (section 3.3.12)
			}
			r.p.times.inSeconds = true
			return err
		},
	}
}

func (r *icalReader) misplaced(part icalPart, name, freq string) error {
	return r.wrong(part.column-len(name)-1, name, "no "+name+" with FREQ="+freq+" (RFC 5545 section 3.3.10)")
}

// numbers reads a list of numbers, each from low to high, or their negatives.
func (r *icalReader) numbers(part icalPart, low, high int, signed bool) ([]int, error) {
	var out []int
	at := 0
	for _, text := range strings.Split(part.value, ",") {
		n, err := strconv.Atoi(text)
		size := n
		if signed {
			size = max(n, -n)
		}
		if err != nil || size < low || size > high || len(text) > 7 {
			want := fmt.Sprintf("a number from %d to %d", low, high)
			if signed {
				want += fmt.Sprintf(" or from -%d to -%d", high, low)
			}
			return nil, r.wrong(part.column+at, text, want)
		}
		out = append(out, n)
		if len(out) > maxListed {
			return nil, r.wrong(part.column, "", fmt.Sprintf("a list has at most %d numbers", maxListed))
		}
		at += len(text) + 1
	}
	return out, nil
}

// icalDay is the number of a weekday, 0 for SU, or -1.
func icalDay(text string) int {
	if len(text) != 2 {
		return -1
	}
	i := strings.Index("SUMOTUWETHFRSA", strings.ToUpper(text))
	if i < 0 || i%2 != 0 {
		return -1
	}
	return i / 2
}

func (r *icalReader) byDay(t *term, part icalPart) error {
	of := noUnit
	_, inMonth := r.parts["BYMONTH"]
	_, inWeek := r.parts["BYWEEKNO"]
	switch {
	case r.freq == month, r.freq == year && inMonth && !inWeek:
		of = month
	case r.freq == year && !inWeek:
		of = year
	}
	at := 0
	for _, text := range strings.Split(part.value, ",") {
		d := -1
		if len(text) >= 2 {
			d = icalDay(text[len(text)-2:])
		}
		if d < 0 {
			return r.wrong(part.column+at, text, "weekdays such as MO or, in a month or year, 1MO or -1FR")
		}
		if number := text[:len(text)-2]; number != "" {
			n, err := strconv.Atoi(number)
			if err != nil || n == 0 || n > 53 || n < -53 {
				return r.wrong(part.column+at, text, "a number from 1 to 53 or from -53 to -1 before the weekday")
			}
			if of == noUnit {
				return r.wrong(part.column+at, text,
					"a weekday without a number: numbers count in a month or year only")
			}
			t.nth = append(t.nth, nth{n: n, of: of, weekday: uint8(d)})
		} else {
			t.weekdays |= 1 << d
		}
		at += len(text) + 1
	}
	return nil
}
