// Package rows is the stream of typed rows between a report and a renderer.
//
// A cell is canonical text with the kind of its column: numbers as decimal
// digits with a point, dates as 2006-01-02, instants as 2006-01-02 15:04:05 with
// an offset, yes or no as t or f. A renderer that needs more than the text reads
// it; one that does not passes the bytes on untouched. This keeps memory flat
// and exports close to the speed of the database's own copy.
package rows

import "time"

// Kind is the type of a column.
type Kind string

// The kinds.
const (
	Text    Kind = "text"
	Whole   Kind = "whole"
	Number  Kind = "number"
	Date    Kind = "date"
	Time    Kind = "time"      // a time of day
	Local   Kind = "timestamp" // a wall time without a zone
	Instant Kind = "instant"
	YesNo   Kind = "yes/no"
)

// Numeric tells whether cells of this kind are set to the right.
func (k Kind) Numeric() bool { return k == Whole || k == Number }

// Column is the head of a column.
type Column struct {
	Name string `json:"name"`
	Kind Kind   `json:"kind"`
}

// Cell is one value. Text is valid only until the next row is asked for.
type Cell struct {
	Text []byte
	Null bool
}

// Row is one row; it and its cells are reused for the next one.
type Row []Cell

// Sink takes the rows of one section after another. Columns comes once before a
// section's rows. Implementations copy what they keep.
type Sink interface {
	Columns(section string, columns []Column) error
	Row(Row) error
}

// True reads a yes/no cell.
func (c Cell) True() bool {
	return len(c.Text) > 0 && (c.Text[0] == 't' || c.Text[0] == 'T' || c.Text[0] == '1')
}

// When reads a date, timestamp or instant. ok is false for what has no place in
// a calendar: infinity, and years before 1 or after 9999.
func (c Cell) When(kind Kind) (t time.Time, ok bool) {
	rest := c.Text
	year, month, day, hour, minute, second, nano := 0, 1, 1, 0, 0, 0, 0
	if kind == Date || kind == Local || kind == Instant {
		if len(rest) < 10 || rest[4] != '-' || rest[7] != '-' {
			return t, false
		}
		var a, b, d bool
		year, a = digits(rest[:4])
		month, b = digits(rest[5:7])
		day, d = digits(rest[8:10])
		if !a || !b || !d || year == 0 || month == 0 || month > 12 || day == 0 || day > 31 {
			return t, false
		}
		rest = rest[10:]
	}
	zone := time.UTC
	switch kind {
	case Date:
	case Local, Instant:
		if len(rest) < 9 || rest[0] != ' ' && rest[0] != 'T' {
			return t, false
		}
		rest = rest[1:]
		fallthrough
	case Time:
		if len(rest) < 8 || rest[2] != ':' || rest[5] != ':' {
			return t, false
		}
		var a, b, d bool
		hour, a = digits(rest[:2])
		minute, b = digits(rest[3:5])
		second, d = digits(rest[6:8])
		if !a || !b || !d || hour > 23 || minute > 59 || second > 59 {
			return t, false
		}
		if rest, nano, ok = fraction(rest[8:]); !ok {
			return t, false
		}
		if kind == Instant {
			if zone, rest, ok = offset(rest); !ok {
				return t, false
			}
		}
	default:
		return t, false
	}
	if len(rest) > 0 {
		return t, false // BC, or something else
	}
	if kind == Time {
		return time.Date(0, 1, 1, hour, minute, second, nano, zone), true
	}
	t = time.Date(year, time.Month(month), day, hour, minute, second, nano, zone)
	return t, t.Day() == day // no 30 February
}

// digits reads digits and nothing else.
func digits(text []byte) (n int, ok bool) {
	for _, c := range text {
		if c < '0' || c > '9' {
			return 0, false
		}
		n = n*10 + int(c-'0')
	}
	return n, len(text) > 0
}

// fraction reads the part of a second, if there is one.
func fraction(text []byte) (rest []byte, nano int, ok bool) {
	if len(text) == 0 || text[0] != '.' {
		return text, 0, true
	}
	end := 1
	scale := 1_000_000_000
	for end < len(text) && text[end] >= '0' && text[end] <= '9' {
		if scale > 1 {
			scale /= 10
			nano += int(text[end]-'0') * scale
		}
		end++
	}
	return text[end:], nano, end > 1
}

// offset reads +01, +05:30 or -00:01:15, or Z.
func offset(text []byte) (*time.Location, []byte, bool) {
	if len(text) == 1 && text[0] == 'Z' {
		return time.UTC, nil, true
	}
	if len(text) < 3 || text[0] != '+' && text[0] != '-' {
		return nil, nil, false
	}
	seconds, unit := 0, 3600
	for rest := text[1:]; ; rest = rest[1:] {
		n, ok := digits(rest[:2])
		if !ok || unit == 0 {
			return nil, nil, false
		}
		seconds += n * unit
		unit /= 60
		if rest = rest[2:]; len(rest) < 3 || rest[0] != ':' {
			if text[0] == '-' {
				seconds = -seconds
			}
			return time.FixedZone("", seconds), rest, true
		}
	}
}
