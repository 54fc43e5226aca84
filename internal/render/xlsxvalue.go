package render

import (
	"fmt"
	"strconv"
	"time"
	"unicode/utf8"

	"ironbell/internal/core/rows"

	"github.com/xuri/excelize/v2"
)

// sheetValue gives a cell its real type: a float64, a bool, a text or nothing. What a
// spreadsheet cannot hold as such, a number of more than 15 digits or a date
// before 1900, stays text.
func sheetValue(zone *time.Location, kind rows.Kind, c rows.Cell, say func(string)) any {
	if c.Null {
		return nil
	}
	switch kind {
	case rows.Whole, rows.Number:
		if digits(c.Text) <= 15 { // of what stands before the point: more would be another number
			if f, err := strconv.ParseFloat(string(c.Text), 64); err == nil && f-f == 0 { // neither NaN nor infinite
				return f
			}
		}
	case rows.YesNo:
		return c.True()
	case rows.Date, rows.Local, rows.Instant:
		if t, ok := c.When(kind); ok && t.Year() >= 1900 {
			if kind == rows.Instant && zone != nil {
				t = t.In(zone)
			}
			// A sheet knows no zones: the wall time is what stands in the cell.
			_, offset := t.Zone()
			return excelTime(t.Unix() + int64(offset))
		}
	}
	const longest = excelize.TotalCellChars // characters of a cell
	text := string(c.Text)
	if len(text) > longest && utf8.RuneCountInString(text) > longest {
		say(fmt.Sprintf("texts longer than %d characters are cut short in the spreadsheet; csv or json hold "+
			"all of them", longest))
		text = string([]rune(text)[:longest-1]) + "…"
	}
	return text
}

// excelTime is a wall time as days since 1899-12-30 (ECMA-376 part 1, 18.17.4.1).
func excelTime(wall int64) float64 { return float64(wall)/86400 + 25569 }

func digits(text []byte) int {
	n := 0
	for _, c := range text {
		if c == '.' {
			break
		}
		if c >= '0' && c <= '9' {
			n++
		}
	}
	return n
}
