package rule

import (
	"strconv"
	"strings"

	"ironbell/internal/core/civil"
)

// field describes one of the five fields of a cron text (POSIX crontab, with
// names and steps).
type field struct {
	name     string
	min, max int
	names    []string // names for min, min+1, ...
}

var cronFields = [5]field{
	{name: "minute", min: 0, max: 59},
	{name: "hour", min: 0, max: 23},
	{name: "day of the month", min: 1, max: 31},
	{
		name: "month", min: 1, max: 12,
		names: []string{"jan", "feb", "mar", "apr", "may", "jun", "jul", "aug", "sep", "oct", "nov", "dec"},
	},
	{name: "weekday", min: 0, max: 7, names: []string{"sun", "mon", "tue", "wed", "thu", "fri", "sat"}},
}

// looksLikeCron tells whether a text begins with a cron field.
func looksLikeCron(text string) bool {
	first, _, _ := strings.Cut(strings.TrimLeft(text, " \t"), " ")
	if first == "" || isDate(first) {
		return false
	}
	return strings.Trim(first, "0123456789*,/-") == ""
}

// readCron reads five cron fields (POSIX crontab, with names and steps).
//
// A day field that begins with a star is unrestricted: it does not decide by
// the other's leave. If neither does, a day matches by either field, otherwise
// it must match both (so "*/2" still means every other day). A text whose hour
// field begins with a star means each passing wall minute.
func readCron(p *plan, text string) error {
	var masks [5]uint64
	var starred [5]bool
	at := 0
	for i, f := range cronFields {
		for at < len(text) && (text[at] == ' ' || text[at] == '\t') {
			at++
		}
		start := at
		for at < len(text) && text[at] != ' ' && text[at] != '\t' {
			at++
		}
		if start == at {
			return &Error{
				Text: text, Column: start + 1,
				Expected: "a cron text has five fields (minute hour day month weekday); the " + f.name + " is missing",
			}
		}
		var err error
		if masks[i], err = f.parse(text, start, at); err != nil {
			return err
		}
		starred[i] = text[start] == '*'
	}
	if rest := strings.TrimLeft(text[at:], " \t"); rest != "" {
		return &Error{
			Text: text, Column: len(text) - len(rest) + 1, Found: strings.TrimSpace(rest),
			Expected: "the end: a cron text has five fields (minute hour day month weekday)",
		}
	}
	p.times = times{kind: wallTimes, given: true, minutes: masks[0], hours: uint32(masks[1])} //nolint:gosec // no field has more bits
	if starred[1] {
		p.times.kind, p.times.passing, p.times.unit, p.times.every = running, true, minute, 1
		p.times.inMinutes, p.times.inHours = true, true
	}
	t := term{months: uint16(masks[3])} //nolint:gosec // 13 bits
	if t.months == allYear {
		t.months = 0
	}
	dates, weekdays := civil.Mask(masks[2]), uint8(masks[4]&0x7f|masks[4]>>7&1) //nolint:gosec // no field has more bits; 7 is Sunday, too
	if dates == 0xfffffffe {
		dates = 0
	}
	if weekdays == allWeek {
		weekdays = 0
	}
	switch {
	case !starred[2] && !starred[4] && (dates == 0 || weekdays == 0):
		// Either field lets every day through.
	case !starred[2] && !starred[4]:
		byDate, byWeekday := t, t
		byDate.dates, byWeekday.weekdays = dates, weekdays
		p.terms = []term{byDate, byWeekday}
		return nil
	default:
		t.dates, t.weekdays = dates, weekdays
	}
	if t.months|uint16(t.weekdays) != 0 || t.dates != 0 {
		p.terms = []term{t}
	}
	return nil
}

// parse reads the items of one field, text[start:end], into a mask.
func (f field) parse(text string, start, end int) (mask uint64, err error) {
	for at := start; ; {
		comma := strings.IndexByte(text[at:end], ',')
		stop := end
		if comma >= 0 {
			stop = at + comma
		}
		m, err := f.item(text, at, stop)
		if err != nil {
			return 0, err
		}
		mask |= m
		if comma < 0 {
			return mask, nil
		}
		at = stop + 1
	}
}

// item reads one of: a star, a number or name, a range; each with a step.
func (f field) item(text string, start, end int) (uint64, error) {
	body, step := end, 1
	if slash := strings.IndexByte(text[start:end], '/'); slash >= 0 {
		body = start + slash
		n, err := strconv.Atoi(text[body+1 : end])
		if err != nil || n < 1 || n > f.max {
			return 0, f.wrong(text, body+1, end, "a step from 1 to "+strconv.Itoa(f.max))
		}
		step = n
	}
	low, high := f.min, f.max
	if f.names != nil && f.max == 7 {
		high = 6
	}
	if text[start:body] != "*" {
		dash := strings.IndexByte(text[start:body], '-')
		var err error
		if dash < 0 {
			if low, err = f.number(text, start, body); err != nil {
				return 0, err
			}
			high = low
			if body != end {
				return 0, f.wrong(text, start, end, "a star or a range before the step, such as */5 or 10-40/5")
			}
		} else {
			if low, err = f.number(text, start, start+dash); err != nil {
				return 0, err
			}
			if high, err = f.number(text, start+dash+1, body); err != nil {
				return 0, err
			}
			if high < low {
				return 0, f.wrong(text, start, body, "a range that runs upwards")
			}
		}
	}
	var mask uint64
	for n := low; n <= high; n += step {
		mask |= 1 << n
	}
	return mask, nil
}

func (f field) number(text string, start, end int) (int, error) {
	word := text[start:end]
	for i, name := range f.names {
		if strings.EqualFold(word, name) {
			return f.min + i, nil
		}
	}
	n, err := strconv.Atoi(word)
	if err != nil || n < f.min || n > f.max || word[0] == '+' || word[0] == '-' {
		want := article(f.name) + " from " + strconv.Itoa(f.min) + " to " + strconv.Itoa(f.max)
		if f.names != nil {
			want += " or a name such as " + f.names[1]
		}
		return 0, f.wrong(text, start, end, want)
	}
	return n, nil
}

func (f field) wrong(text string, start, end int, expected string) *Error {
	found := text[start:end]
	if found == "" {
		return &Error{Text: text, Column: start + 1, Expected: "expected " + expected}
	}
	return &Error{Text: text, Column: start + 1, Found: found, Expected: expected}
}

func article(noun string) string {
	if noun == "hour" {
		return "an hour"
	}
	return "a " + noun
}
