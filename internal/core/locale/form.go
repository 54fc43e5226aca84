package locale

import (
	"bytes"
	"strconv"
	"strings"
	"time"

	"ironbell/internal/core/job"
	"ironbell/internal/core/rows"

	"github.com/lestrrat-go/strftime"
)

// Form writes the cells of one column. It belongs to one goroutine.
type Form struct {
	l      *Locale
	kind   rows.Kind
	column job.Column
	group  bool
	zone   *time.Location // nil: instants stay in the zone in which they came
	date   *DateForm
	days   map[string]string // dates repeat; each is written once
	byDay  map[int]string    // of instants: the day
	clocks [24 * 60]string   // of instants: the time of day
	digits []byte
}

// Form gives the form of a column. zone is where instants are shown; nil leaves
// them as they come. grouped sets marks between thousands. A date form that
// cannot be read is an error.
func (l *Locale) Form(kind rows.Kind, c job.Column, zone *time.Location, grouped bool) (*Form, error) {
	f := &Form{l: l, kind: kind, column: c, group: grouped && !c.Ungrouped, zone: zone, days: map[string]string{}}
	if c.Date != "" {
		var err error
		if f.date, err = ReadDate(c.Date); err != nil {
			return nil, err
		}
	}
	return f, nil
}

// DateForm is a form of dates and times as strftime has it (POSIX.1-2024, strftime), whose names of months and days
// are those of a locale. Any number of goroutines may use it.
type DateForm struct{ pieces []piece }

// piece is a piece of a date form: a name that the locale gives, or the rest.
type piece struct {
	name byte // B b h A a, or 0
	rest *strftime.Strftime
}

// ReadDate reads a form such as %A %e %B %Y.
func ReadDate(form string) (*DateForm, error) {
	d := &DateForm{}
	from := 0
	flush := func(to int) error {
		if to == from {
			return nil
		}
		rest, err := strftime.New(form[from:to])
		if err != nil {
			return err
		}
		d.pieces = append(d.pieces, piece{rest: rest})
		return nil
	}
	for i := 0; i+1 < len(form); i++ {
		if form[i] != '%' {
			continue
		}
		if strings.IndexByte("BbhAa", form[i+1]) >= 0 {
			if err := flush(i); err != nil {
				return nil, err
			}
			d.pieces = append(d.pieces, piece{name: form[i+1]})
			from = i + 2
		}
		i++
	}
	return d, flush(len(form))
}

// Text writes an instant; in English without a locale.
func (d *DateForm) Text(l *Locale, t time.Time) string {
	var out strings.Builder
	for _, p := range d.pieces {
		if p.rest != nil {
			out.WriteString(p.rest.FormatString(t))
		} else {
			out.WriteString(l.name(p.name, t))
		}
	}
	return out.String()
}

// CheckDate tells what is wrong with a date form.
func CheckDate(form string) error {
	_, err := ReadDate(form)
	return err
}

// name is the name of a month or a day.
func (l *Locale) name(of byte, t time.Time) string {
	if l == nil || l.data == nil {
		return t.Format(map[byte]string{'B': "January", 'b': "Jan", 'h': "Jan", 'A': "Monday", 'a': "Mon"}[of])
	}
	switch of {
	case 'B':
		return l.data.MonthWide(t.Month())
	case 'A':
		return l.data.WeekdayWide(t.Weekday())
	case 'a':
		return l.data.WeekdayAbbreviated(t.Weekday())
	default:
		return l.data.MonthAbbreviated(t.Month())
	}
}

// Text writes a cell.
func (f *Form) Text(c rows.Cell) string { return string(f.Append(nil, c)) }

// Append writes a cell behind dst. What has no form, such as a date without a
// place in the calendar or a number that is none, stands as the source gave it.
func (f *Form) Append(dst []byte, c rows.Cell) []byte {
	if c.Null {
		return dst
	}
	switch f.kind {
	case rows.Whole, rows.Number:
		return f.number(dst, c.Text)
	case rows.YesNo:
		if c.True() {
			return append(dst, f.l.Words.Yes...)
		}
		return append(dst, f.l.Words.No...)
	case rows.Date, rows.Time, rows.Local, rows.Instant:
		return f.when(dst, c)
	default:
		return append(dst, c.Text...)
	}
}

// maxDays bounds how many written dates are kept.
const maxDays = 2000

func (f *Form) when(dst []byte, c rows.Cell) []byte {
	if f.kind == rows.Date {
		if text, ok := f.days[string(c.Text)]; ok {
			return append(dst, text...)
		}
	}
	t, ok := c.When(f.kind)
	if !ok {
		return append(dst, c.Text...)
	}
	if f.kind == rows.Instant && f.zone != nil {
		t = t.In(f.zone)
	}
	if f.date == nil && (f.kind == rows.Instant || f.kind == rows.Local) {
		return f.instant(dst, t)
	}
	var text string
	switch {
	case f.date != nil:
		text = f.date.Text(f.l, t)
	case f.kind == rows.Date:
		text = f.l.Date(t)
	case f.kind == rows.Time:
		text = f.l.Clock(t)
	default:
		text = f.l.DateTime(t)
	}
	if f.kind == rows.Date {
		if len(f.days) >= maxDays {
			clear(f.days)
		}
		f.days[string(c.Text)] = text
	}
	return append(dst, text...)
}

// instant writes a day and a time of day, each once for all rows that have it.
func (f *Form) instant(dst []byte, t time.Time) []byte {
	year, month, day := t.Date()
	key := (year*100+int(month))*100 + day
	date, ok := f.byDay[key]
	if !ok {
		if len(f.byDay) >= maxDays || f.byDay == nil {
			f.byDay = map[int]string{}
		}
		date = f.l.Date(t) + " "
		f.byDay[key] = date
	}
	minute := t.Hour()*60 + t.Minute()
	if f.clocks[minute] == "" {
		f.clocks[minute] = f.l.Clock(t)
	}
	return append(append(dst, date...), f.clocks[minute]...)
}

// number writes decimal digits in the locale's marks, with as many decimals as
// the column says, rounded half away from zero.
func (f *Form) number(dst, text []byte) []byte {
	if bytes.IndexByte(text, 'e') >= 0 || bytes.IndexByte(text, 'E') >= 0 {
		v, err := strconv.ParseFloat(string(text), 64)
		if err != nil {
			return append(dst, text...)
		}
		text = strconv.AppendFloat(nil, v, 'f', -1, 64)
	}
	negative := len(text) > 0 && text[0] == '-'
	if negative {
		text = text[1:]
	}
	whole, decimals, _ := bytes.Cut(text, []byte{'.'})
	if len(whole)+len(decimals) == 0 || !digitsOnly(whole) || !digitsOnly(decimals) {
		if negative {
			dst = append(dst, '-')
		}
		return append(dst, text...) // not a number, or infinite
	}
	d := append(append(f.digits[:0], whole...), decimals...)
	point := len(whole)
	if f.column.Percent {
		for point += 2; len(d) < point; {
			d = append(d, '0')
		}
	}
	places := len(d) - point
	if f.column.Decimals != nil {
		places = *f.column.Decimals
	}
	if point+places < len(d) {
		up := d[point+places] >= '5'
		d = d[:point+places]
		for i := len(d) - 1; up && i >= 0; i-- {
			if d[i]++; d[i] <= '9' {
				up = false
			} else {
				d[i] = '0'
			}
		}
		if up {
			d = append([]byte{'1'}, d...)
			point++
		}
	}
	for len(d) < point+places {
		d = append(d, '0')
	}
	f.digits = d
	for point > 1 && d[0] == '0' {
		d, point = d[1:], point-1
	}
	if negative && len(bytes.Trim(d, "0")) > 0 {
		dst = append(dst, '-')
	}
	if f.column.Unit != "" && f.column.UnitFirst {
		dst = append(dst, f.column.Unit...)
	}
	if point == 0 {
		dst = append(dst, '0')
	}
	for i := range point {
		if left := point - i; f.group && i > 0 && left >= f.l.first && (left-f.l.first)%f.l.others == 0 {
			dst = append(dst, f.l.group...)
		}
		dst = append(dst, d[i])
	}
	if places > 0 {
		dst = append(append(dst, f.l.Decimal...), d[point:]...)
	}
	if f.column.Percent {
		dst = append(dst, "\u00a0%"...)
	}
	if f.column.Unit != "" && !f.column.UnitFirst {
		dst = append(append(dst, "\u00a0"...), f.column.Unit...)
	}
	return dst
}

func digitsOnly(text []byte) bool {
	for _, c := range text {
		if c < '0' || c > '9' {
			return false
		}
	}
	return true
}
