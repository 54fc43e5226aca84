package rule

import (
	"fmt"
	"strconv"
	"strings"
	"time"

	"ironbell/internal/core/civil"
	"ironbell/internal/core/zone"
)

// looksLikeICalendar tells whether a text begins like a recurrence of RFC 5545.
func looksLikeICalendar(text string) bool {
	text = strings.ToUpper(strings.TrimLeft(text, " \t\r\n"))
	for _, begin := range []string{"DTSTART", "RRULE:", "FREQ=", "RDATE", "EXDATE", "EXRULE"} {
		if strings.HasPrefix(text, begin) {
			return true
		}
	}
	return false
}

// icalReader reads the lines of a recurrence. Columns are those of the text as
// it was given.
type icalReader struct {
	text    string
	p       *plan
	o       Options
	remarks []string

	start      time.Time // of DTSTART; zero without one
	startWall  int64     // its wall time
	dateOnly   bool      // DTSTART is a date
	rule       icalLine  // the RRULE
	seen       map[string]bool
	freq       unit
	parts      map[string]icalPart
	partsOrder []string
}

// icalLine is one content line, unfolded (RFC 5545 section 3.1).
type icalLine struct {
	name   string
	params map[string]string
	value  string
	at     []int // column of each byte of value, counted from 0
	column int   // of the line
}

type icalPart struct {
	value  string
	column int // counted from 1
}

// readICalendar reads DTSTART, RRULE, RDATE and EXDATE (RFC 5545 sections
// 3.8.2.4, 3.8.5). Lines may stand on lines of their own, folded or not, or
// behind each other with blanks between.
func readICalendar(p *plan, text string, o Options) (remarks []string, err error) {
	r := &icalReader{text: text, p: p, o: o, seen: map[string]bool{}, parts: map[string]icalPart{}}
	lines, err := r.lines()
	if err != nil {
		return nil, err
	}
	// DTSTART first: it says in which zone all else is read.
	for _, l := range lines {
		if l.name == "DTSTART" {
			if err := r.dtstart(l); err != nil {
				return nil, err
			}
		}
	}
	if p.zone == nil {
		return nil, r.wrong(1, "", "a time zone, by DTSTART;TZID= or from the job")
	}
	p.spans = zone.Of(p.zone)
	for _, l := range lines {
		switch l.name {
		case "DTSTART":
		case "RRULE":
			r.rule = l
		case "RDATE":
			err = r.dates(l, false)
		case "EXDATE":
			err = r.dates(l, true)
		default:
			err = r.wrong(l.column, l.name, "DTSTART, RRULE, RDATE or EXDATE")
		}
		if err != nil {
			return nil, err
		}
	}
	if r.rule.name == "" {
		if r.start.IsZero() {
			return nil, r.wrong(1, "", "a DTSTART or an RRULE is missing")
		}
		r.once()
		return r.remarks, nil
	}
	if err := r.recurrence(); err != nil {
		return nil, err
	}
	return r.remarks, nil
}

func (r *icalReader) wrong(column int, found, expected string) *Error {
	return &Error{Text: r.text, Column: column, Found: found, Expected: expected}
}

// lines unfolds and parts the text.
func (r *icalReader) lines() ([]icalLine, error) {
	var lines []icalLine
	var flat []byte
	var at []int
	flush := func() error {
		defer func() { flat, at = nil, nil }()
		return r.line(flat, at, &lines)
	}
	text := r.text
	for i := 0; i < len(text); i++ {
		c := text[i]
		broken := c == '\n' || c == '\r' && i+1 < len(text) && text[i+1] == '\n' ||
			c == '\\' && i+1 < len(text) && text[i+1] == 'n'
		switch {
		case broken:
			if c != '\n' {
				i++
			}
			if i+1 < len(text) && (text[i+1] == ' ' || text[i+1] == '\t') && c != '\\' && !beginsProperty(text[i+2:]) {
				i++ // a folded line goes on
				continue
			}
			if err := flush(); err != nil {
				return nil, err
			}
		case (c == ' ' || c == '\t') && (len(flat) == 0 || beginsProperty(text[i+1:])):
			if err := flush(); err != nil {
				return nil, err
			}
		default:
			flat, at = append(flat, c), append(at, i)
		}
	}
	return lines, flush()
}

func beginsProperty(text string) bool {
	text = strings.ToUpper(text[:min(len(text), 8)])
	for _, name := range []string{"DTSTART", "RRULE", "RDATE", "EXDATE", "EXRULE"} {
		if strings.HasPrefix(text, name) {
			return true
		}
	}
	return false
}

// line parts one content line into name, parameters and value.
func (r *icalReader) line(flat []byte, at []int, lines *[]icalLine) error {
	text := strings.TrimRight(string(flat), " \t")
	if strings.TrimSpace(text) == "" {
		return nil
	}
	l := icalLine{params: map[string]string{}, column: at[0] + 1}
	if strings.HasPrefix(strings.ToUpper(text), "FREQ=") {
		l.name, l.value, l.at = "RRULE", text, at
	} else {
		head, value, ok := strings.Cut(text, ":")
		if !ok {
			return r.wrong(at[len(text)-1]+2, "", "expected a colon and a value behind "+strconv.Quote(shorten(text)))
		}
		name, params, _ := strings.Cut(head, ";")
		l.name, l.value, l.at = strings.ToUpper(name), value, at[len(head)+1:]
		for _, p := range strings.Split(params, ";") {
			if p == "" {
				continue
			}
			key, v, _ := strings.Cut(p, "=")
			l.params[strings.ToUpper(key)] = strings.Trim(v, `"`)
		}
	}
	if l.name == "EXRULE" {
		return r.wrong(l.column, l.name,
			"no rule of exceptions: RFC 5545 took EXRULE away; leave single dates out with EXDATE")
	}
	if (l.name == "RRULE" || l.name == "DTSTART") && r.seen[l.name] {
		return r.wrong(l.column, l.name, "only one "+l.name)
	}
	r.seen[l.name] = true
	*lines = append(*lines, l)
	return nil
}

func shorten(text string) string {
	if len(text) > 24 {
		return text[:24] + "..."
	}
	return text
}

// column of a byte of the line's value, counted from 1.
func (l icalLine) col(i int) int {
	if i < len(l.at) {
		return l.at[i] + 1
	}
	if len(l.at) == 0 {
		return l.column
	}
	return l.at[len(l.at)-1] + 2
}

// zoneOf is the zone in which a line's times are written.
func (r *icalReader) zoneOf(l icalLine) (*time.Location, error) {
	name, ok := l.params["TZID"]
	if !ok {
		return r.p.zone, nil
	}
	z, err := zone.Load(name)
	if err != nil {
		return nil, r.wrong(l.column, name, "a time zone of the zone database, such as Europe/London")
	}
	return z, nil
}

func (r *icalReader) dtstart(l icalLine) error {
	z, err := r.zoneOf(l)
	if err != nil {
		return err
	}
	if strings.HasSuffix(strings.ToUpper(l.value), "Z") {
		z = time.UTC
	}
	if z == nil {
		return r.wrong(l.column, "", "a time zone is needed: write DTSTART;TZID=Europe/London:...")
	}
	r.p.zone = z
	r.p.spans = zone.Of(z)
	at, dateOnly, err := r.instant(l, l.value, 0)
	if err != nil {
		return err
	}
	r.start, r.dateOnly = time.Unix(at, 0).In(z), dateOnly
	wall, _ := parseWall(l.value)
	r.startWall = wall
	r.p.from = at
	r.p.anchor, _ = civil.Split(wall)
	return nil
}

// parseWall reads 20261201T140000 or 20261201 as wall seconds.
func parseWall(text string) (wall int64, ok bool) {
	text = strings.TrimSuffix(strings.ToUpper(text), "Z")
	layout := "20060102T150405"
	if len(text) == 8 {
		layout = "20060102"
	}
	t, err := time.Parse(layout, text)
	if err != nil || t.Year() < firstYear {
		return 0, false
	}
	return t.Unix(), true
}

// instant reads a date or date-time of a line (RFC 5545 sections 3.3.4, 3.3.5).
func (r *icalReader) instant(l icalLine, text string, at int) (instant int64, dateOnly bool, err error) {
	wall, ok := parseWall(text)
	if !ok {
		return 0, false, r.wrong(l.col(at), text, "a date or time such as 20261201 or 20261201T140000")
	}
	z, err := r.zoneOf(l)
	if err != nil {
		return 0, false, err
	}
	if strings.HasSuffix(strings.ToUpper(text), "Z") {
		return wall, false, nil
	}
	return zone.Of(z).Instant(wall), len(text) == 8, nil
}

func (r *icalReader) dates(l icalLine, except bool) error {
	at := 0
	for _, text := range strings.Split(l.value, ",") {
		begin, _, _ := strings.Cut(text, "/") // of a period only its start counts
		instant, dateOnly, err := r.instant(l, begin, at)
		if err != nil {
			return err
		}
		switch {
		case except && dateOnly:
			wall, _ := parseWall(begin)
			serial, _ := civil.Split(wall)
			r.p.exceptDays = append(r.p.exceptDays, serial)
		case except:
			r.p.except = append(r.p.except, instant)
		default:
			r.p.also = append(r.p.also, instant)
		}
		at += len(text) + 1
	}
	return nil
}

// once makes a rule of a DTSTART alone, or with RDATEs.
func (r *icalReader) once() {
	p := r.p
	serial, sec := civil.Split(r.startWall)
	_, m, d := civil.Date(serial)
	p.terms = []term{{months: 1 << m, dates: 1 << d}}
	p.times = times{given: true, list: []int32{int32(sec)}} //nolint:gosec // within a day
	p.until = p.from
}

// recurrence reads the RRULE (RFC 5545 section 3.3.10).
func (r *icalReader) recurrence() error {
	if err := r.split(); err != nil {
		return err
	}
	p := r.p
	if p.from == never && !r.o.Start.IsZero() {
		start := r.o.Start.Unix()
		p.from, r.start = start, r.o.Start
		r.startWall = start + p.spans.At(start).Offset
		p.anchor, _ = civil.Split(r.startWall)
	}
	freqs := map[string]unit{
		"SECONDLY": second, "MINUTELY": minute, "HOURLY": hour, "DAILY": dayUnit, "WEEKLY": week, "MONTHLY": month,
		"YEARLY": year,
	}
	f, ok := r.parts["FREQ"]
	if !ok {
		return r.wrong(r.rule.col(0), "", "an RRULE begins with FREQ=, such as FREQ=WEEKLY")
	}
	if r.freq, ok = freqs[strings.ToUpper(f.value)]; !ok {
		return r.wrong(f.column, f.value, "SECONDLY, MINUTELY, HOURLY, DAILY, WEEKLY, MONTHLY or YEARLY")
	}
	var t term
	for _, name := range r.partsOrder {
		part := r.parts[name]
		read, ok := icalParts[name]
		if !ok {
			return r.wrong(part.column-len(name)-1, name,
				"a part of RFC 5545 section 3.3.10, such as INTERVAL, COUNT, UNTIL or BYDAY")
		}
		if err := read(r, &t, part); err != nil {
			return err
		}
	}
	if _, both := r.parts["COUNT"]; both && r.parts["UNTIL"].value != "" {
		return r.wrong(r.parts["UNTIL"].column-6, "UNTIL", "either COUNT or UNTIL")
	}
	if err := r.defaults(&t); err != nil {
		return err
	}
	r.lay(t)
	if len(p.only) > 0 && len(r.parts) == len(r.bare()) {
		return r.wrong(r.parts["BYSETPOS"].column, "BYSETPOS", "another BY part beside BYSETPOS")
	}
	if r.start.IsZero() {
		return nil
	}
	// A DTSTART that its own RRULE does not match is no instance.
	probe := *p
	probe.memo = nil
	probe.also, probe.except, probe.exceptDays, probe.count, probe.ending = nil, nil, nil, 0, nil
	probe.closed = Ignore
	if err := probe.finish(r.text, Options{Zone: p.zone}); err == nil {
		if first, ok := probe.next(p.from); ok && first.due != p.from {
			r.remarks = append(r.remarks,
				fmt.Sprintf("The start %s does not match its own rule, so it is no ring; the first is %s.",
					r.start.Format("Mon 2 January 2006 15:04:05"),
					time.Unix(first.due, 0).In(p.zone).Format("Mon 2 January 2006 15:04:05")))
		}
	}
	return nil
}

// bare are the parts that choose nothing themselves.
func (r *icalReader) bare() []string {
	var out []string
	for name := range r.parts {
		switch name {
		case "FREQ", "INTERVAL", "COUNT", "UNTIL", "WKST", "BYSETPOS":
			out = append(out, name)
		}
	}
	return out
}

// split parts the RRULE into its parts.
func (r *icalReader) split() error {
	at := 0
	for _, text := range strings.Split(r.rule.value, ";") {
		if strings.TrimSpace(text) != "" {
			name, value, ok := strings.Cut(text, "=")
			name = strings.ToUpper(strings.TrimSpace(name))
			if !ok || value == "" {
				return r.wrong(r.rule.col(at), text, "a part such as BYDAY=MO,FR")
			}
			if _, twice := r.parts[name]; twice {
				return r.wrong(r.rule.col(at), name, "each part only once")
			}
			r.parts[name] = icalPart{
				value: strings.TrimSpace(value), column: r.rule.col(at + strings.Index(text, "=") + 1),
			}
			r.partsOrder = append(r.partsOrder, name)
		}
		at += len(text) + 1
	}
	return nil
}

// defaults takes from DTSTART what the RRULE leaves open.
func (r *icalReader) defaults(t *term) error {
	has := func(names ...string) bool {
		for _, n := range names {
			if _, ok := r.parts[n]; ok {
				return true
			}
		}
		return false
	}
	needed := ""
	need := func(what string, given ...string) bool {
		if has(given...) {
			return false
		}
		if r.start.IsZero() {
			needed = what
			return false
		}
		return true
	}
	serial, sec := civil.Split(r.startWall)
	_, m, d := civil.Date(serial)
	switch r.freq {
	case year:
		switch {
		case need("day", "BYMONTH", "BYMONTHDAY", "BYYEARDAY", "BYWEEKNO", "BYDAY"):
			t.months, t.dates = 1<<m, 1<<d
		case need("day", "BYMONTHDAY", "BYYEARDAY", "BYWEEKNO", "BYDAY"):
			t.dates = 1 << d
		case has("BYWEEKNO") && need("weekday", "BYDAY", "BYMONTHDAY", "BYYEARDAY"):
			t.weekdays = 1 << civil.Weekday(serial)
		}
	case month:
		if need("day", "BYMONTHDAY", "BYDAY") {
			t.dates = 1 << d
		}
	case week:
		if need("weekday", "BYDAY") {
			t.weekdays = 1 << civil.Weekday(serial)
		}
	}
	tm := &r.p.times
	if r.freq >= dayUnit {
		if need("hour", "BYHOUR") {
			tm.hours = 1 << (sec / civil.Hour)
		}
		if need("minute", "BYMINUTE") {
			tm.minutes = 1 << (sec % civil.Hour / civil.Minute)
		}
		if !has("BYSECOND") && !r.start.IsZero() {
			tm.seconds = 1 << (sec % civil.Minute)
		}
	} else if r.start.IsZero() {
		needed = "start"
	}
	if needed != "" {
		return r.wrong(r.rule.col(0), "",
			"the "+needed+
				" is not said: put a DTSTART before the RRULE, such as DTSTART;TZID=Europe/London:20261201T060000")
	}
	return nil
}

// lay puts what was read into the plan.
func (r *icalReader) lay(t term) {
	p := r.p
	if t.months|uint16(t.weekdays) != 0 || t.dates|t.fromEnd != 0 || t.nth != nil || t.days != nil || t.weeks != nil {
		p.terms = []term{t}
	}
	p.times.given = true
	interval := p.every
	switch {
	case r.freq < dayUnit:
		p.times.kind, p.times.unit, p.times.every = running, r.freq, interval
		p.every, p.unit = 1, noUnit
		if p.only != nil {
			p.unit = r.freq
		}
	case interval > 1 || p.only != nil:
		p.unit = r.freq
	}
}
