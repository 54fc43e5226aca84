package render

import (
	"bytes"
	"strings"
	"time"
	"unicode"
	"unicode/utf8"

	"ironbell/internal/core/locale"
	"ironbell/internal/core/rows"
	"ironbell/internal/core/shape"
)

// mostPlaces is how many decimals a number is shown with whose column does not say it.
const mostPlaces = 6

// looks finds how each column is written, by its first rows.
func (x *xlsxWriter) looks() error {
	for i, c := range x.plan.Columns {
		for _, line := range x.early {
			if c.Kind == rows.Number && line.Kind == shape.Data {
				x.places[i] = max(x.places[i], min(decimals(line.Cells[i].Text), mostPlaces))
			}
		}
	}
	x.base = make([]int, len(x.plan.Columns))
	for i := range x.plan.Columns {
		var err error
		if x.base[i], err = x.lookOf(look{form: x.numberForm(i)}); err != nil {
			return err
		}
	}
	return nil
}

// decimals is how many digits stand behind the point of a number.
func decimals(text []byte) int {
	_, behind, _ := bytes.Cut(text, []byte{'.'})
	return len(bytes.TrimRight(behind, "0"))
}

// numberForm is the number format of a column (ECMA-376 part 1, 18.8.31).
func (x *xlsxWriter) numberForm(i int) string {
	c := x.plan.Columns[i]
	switch c.Kind {
	case rows.Date, rows.Time, rows.Local, rows.Instant:
		if c.Date != "" {
			return sheetDate(c.Date)
		}
		if x.style.Locale.Name != "" && c.Kind != rows.Time {
			day := dateForm(x.style.Locale)
			if c.Kind != rows.Date {
				day += " hh:mm:ss"
			}
			return day
		}
		return map[rows.Kind]string{
			rows.Date: "yyyy-mm-dd", rows.Time: "hh:mm:ss", rows.Local: "yyyy-mm-dd hh:mm:ss",
			rows.Instant: "yyyy-mm-dd hh:mm:ss",
		}[c.Kind]
	case rows.Whole, rows.Number:
		if c.Decimals == nil && !c.Percent && c.Unit == "" && x.style.DataOnly {
			return ""
		}
		form := "#,##0"
		if c.Ungrouped || c.Percent {
			form = "0"
		}
		if places := x.places[i]; c.Decimals == nil && places > 0 {
			form += "." + strings.Repeat("0", max(places-map[bool]int{true: 2}[c.Percent], 0))
			form = strings.TrimSuffix(form, ".")
		} else if c.Decimals != nil && *c.Decimals > 0 {
			form += "." + strings.Repeat("0", *c.Decimals)
		}
		if c.Percent {
			form += "%"
		}
		unit := `"` + strings.ReplaceAll(c.Unit, `"`, "") + `"`
		switch {
		case c.Unit == "":
			return form
		case c.UnitFirst:
			return unit + form
		default:
			return form + " " + unit
		}
	}
	return ""
}

// sheetDate turns a date form into a number format.
func sheetDate(form string) string {
	return strings.NewReplacer("%-d", "d", "%d", "dd", "%e", "d", "%m", "mm", "%B", "mmmm", "%b", "mmm", "%h", "mmm",
		"%Y", "yyyy", "%y", "yy", "%H", "hh", "%I", "hh", "%M", "mm", "%S", "ss",
		"%p", "AM/PM", "%A", "dddd", "%a", "ddd", "%F", "yyyy-mm-dd", "%T", "hh:mm:ss", "%R", "hh:mm", "%%",
		"%").Replace(form)
}

// dateForm is the date of a locale as a number format.
func dateForm(l *locale.Locale) string {
	day := time.Date(2033, 11, 22, 0, 0, 0, 0, time.UTC)
	text := l.Date(day)
	var form strings.Builder
	for text != "" {
		found := false
		for _, of := range []struct{ text, form string }{
			{"2033", "yyyy"}, {"33", "yy"}, {"22", "dd"}, {"11", "mm"}, {l.Month(day), "mmm"},
		} {
			if rest, is := strings.CutPrefix(text, of.text); is && of.text != "" {
				form.WriteString(of.form)
				text, found = rest, true
				break
			}
		}
		if found {
			continue
		}
		r, size := utf8.DecodeRuneInString(text)
		if unicode.IsLetter(r) {
			form.WriteByte('\\') // a letter of its own, and no part of a date
		}
		form.WriteString(text[:size])
		text = text[size:]
	}
	return form.String()
}
