// Package rows is the stream of typed rows between a report and a renderer.
//
// A cell is canonical text with the kind of its column: numbers as decimal
// digits with a point, dates as 2006-01-02, instants as 2006-01-02 15:04:05 with
// an offset, yes or no as t or f. A renderer that needs more than the text reads
// it; one that does not passes the bytes on untouched. This keeps memory flat
// and exports close to the speed of the database's own copy.
package rows

import (
	"bytes"
	"time"
)

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
	text := string(c.Text)
	if bytes.HasSuffix(c.Text, []byte(" BC")) {
		return t, false
	}
	layouts := map[Kind][]string{
		Date:    {"2006-01-02"},
		Time:    {"15:04:05.999999", "15:04:05"},
		Local:   {"2006-01-02 15:04:05.999999"},
		Instant: {"2006-01-02 15:04:05.999999-07", "2006-01-02 15:04:05.999999-07:00", "2006-01-02 15:04:05.999999-07:00:00"},
	}[kind]
	for _, layout := range layouts {
		if t, err := time.Parse(layout, text); err == nil {
			return t, true
		}
	}
	return t, false
}
