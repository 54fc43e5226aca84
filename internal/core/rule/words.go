package rule

import (
	"errors"
	"fmt"
	"slices"
	"strings"

	"ironbell/internal/core/civil"
	"ironbell/internal/core/zone"
)

// The grammar of worded rules. Clauses stand in any order, with or without
// commas; "the", "of", "every" and "each" may be left out where they only please
// the ear; names of weekdays and months may be cut to three letters.
//
//	rule     = clause { [","] clause }
//	clause   = "every" ( period | repeat | days )
//	         | "on" days { "or" "on" days } { "if" days }
//	         | "in" months | "in" ("week"|"weeks") numbers | "in" "hours" numbers
//	         | "at" clocks | "at" minutes | "at" ("minutes"|"seconds") numbers
//	         | "between" clock "and" clock
//	         | "once" "on" date "at" clock
//	         | "from" moment | "until" moment | "ending" "after" number "rings"
//	         | ("skip" | "before" | "after") "closed" "days"
//	         | "within" clock "to" clock
//	         | "only" places "of" "every" unit
//	         | "also" "on" moment | "except" "on" moment
//	         | "weeks" "begin" "on" weekday | "zone" name
//	period   = [number] ("day"|"week"|"month"|"quarter"|"year")
//	repeat   = [number] ("hour"|"minute"|"second") ["elapsed"] | "passing" ("hour"|"minute")
//	days     = item { ("," | "and") item } [ "of" "every" ("month"|"quarter"|"year") | "of" months ]
//	item     = weekday ["to" weekday] | "weekdays" | "weekends" | "open" "days" | "closed" "days"
//	         | "day" numbers | places ("day" | weekday | "open" "day") | "open" "day" numbers
//	places   = place { ("," | "and") place }        place = ordinal | [ordinal "to"] "last"
//	numbers  = span { ("," | "and") span }          span = number ["to" number ["by" number]] | place
//	moment   = date [["at"] clock [offset]]
//	clocks   = clock { ("," | "and") clock }        minutes = ":" mm { ("," | "and") ":" mm }

var (
	monthNames   = [13]string{"", "January", "February", "March", "April", "May", "June", "July", "August", "September", "October", "November", "December"}
	weekdayNames = [7]string{"Sunday", "Monday", "Tuesday", "Wednesday", "Thursday", "Friday", "Saturday"}
	weekdayWords = nameTable(weekdayNames[:], map[string]int64{"tues": 2, "wednes": 3, "thur": 4, "thurs": 4})
	monthWords   = nameTable(monthNames[:], map[string]int64{"sept": 9})
	clauseWords  = []string{
		"every", "on", "in", "at", "between", "once", "from", "until", "ending", "skip", "before", "after", "within", "only", "also", "except", "weeks", "zone", "if", "or",
	}
	dayWords = []string{"weekdays", "weekends", "open", "closed", "day", "last", "first"}
)

// nameTable finds names by their whole and by their first three letters.
func nameTable(names []string, more map[string]int64) map[string]int64 {
	table := map[string]int64{}
	for i, name := range names {
		if name == "" {
			continue
		}
		name = strings.ToLower(name)
		table[name], table[name[:3]], table[name+"s"] = int64(i), int64(i), int64(i)
	}
	for name, i := range more {
		table[name] = i
	}
	return table
}

// wordReader reads a worded rule. What it meets is kept in the order of the
// text and put together at the end, so that clauses may come in any order.
type wordReader struct {
	text   string
	tokens []token
	at     int
	p      *plan
	o      Options

	sets      []term // what "on" named, any of which will do
	months    uint16
	weeks     []int
	clocks    []int32
	window    *window
	repeat    *repeat
	startTime *int64 // the time of day of "from 2026-01-05 at 09:00"
	spoke     bool   // a clause about days was there
	dated     uint16 // the month of "feb 29"
}

type window struct{ from, to int64 }

// repeat is "every 15 minutes" and its kin.
type repeat struct {
	n       int64
	unit    unit
	elapsed bool
	passing bool
	minutes []int64 // ":05" as seconds of the hour
	column  int
}

func readWords(p *plan, text string, o Options) error {
	r := &wordReader{text: text, tokens: lex(text), p: p, o: o}
	if r.peek().kind == endToken {
		return r.expected("a rule, such as every day at 06:00")
	}
	for {
		for r.peek().kind == commaToken || r.peek().word == "and" {
			r.at++
		}
		if r.peek().kind == endToken {
			break
		}
		if err := r.clause(); err != nil {
			return err
		}
	}
	return r.assemble()
}

func (r *wordReader) peek() token { return r.tokens[r.at] }

func (r *wordReader) ahead(n int) token { return r.tokens[min(r.at+n, len(r.tokens)-1)] }

func (r *wordReader) take() token {
	t := r.tokens[r.at]
	if t.kind != endToken {
		r.at++
	}
	return t
}

// skip passes over words that only please the ear.
func (r *wordReader) skip(words ...string) bool {
	passed := false
	for r.peek().kind == wordToken && slices.Contains(words, r.peek().word) {
		r.at++
		passed = true
	}
	return passed
}

func (r *wordReader) is(words ...string) bool {
	return r.peek().kind == wordToken && slices.Contains(words, r.peek().word)
}

// more passes over a comma, an "and" or both when what follows belongs to the
// list, too.
func (r *wordReader) more(belongs func() bool) bool {
	back := r.at
	if r.peek().kind == commaToken {
		r.at++
	}
	r.skip("and")
	if r.at > back && belongs() {
		return true
	}
	r.at = back
	return false
}

// expected is the error at the token reached. known are words that may have
// been meant.
func (r *wordReader) expected(what string, known ...string) error {
	t := r.peek()
	e := &Error{Text: r.text, Column: t.column, Expected: what}
	if t.kind == endToken {
		e.Expected = "expected " + what
		return e
	}
	e.Found = t.text
	if t.kind == wordToken {
		e.Meant = closest(t.word, known)
	}
	return e
}

func (r *wordReader) wrongAt(column int, format string, args ...any) error {
	return &Error{Text: r.text, Column: column, Expected: fmt.Sprintf(format, args...)}
}

func (r *wordReader) clause() error {
	t := r.peek()
	if t.kind == clockToken || t.kind == minuteToken {
		return r.times()
	}
	if t.kind == wordToken {
		if read, ok := clauses[t.word]; ok {
			r.at++
			return read(r)
		}
	}
	if r.startsDays() {
		return r.days()
	}
	known := slices.Concat(clauseWords, dayWords)
	for name := range weekdayWords {
		if len(name) > 3 {
			known = append(known, name)
		}
	}
	slices.Sort(known)
	return r.expected("every, on, in, at, between, from, until or another word that begins a clause", known...)
}

// clauses reads each clause, its first word being passed.
var clauses map[string]func(*wordReader) error

func init() {
	clauses = map[string]func(*wordReader) error{
		"every": (*wordReader).every, "each": (*wordReader).every,
		"daily": func(r *wordReader) error { r.spoke = true; return nil },
		"on":    (*wordReader).days,
		"or": func(r *wordReader) error {
			r.skip("on")
			if len(r.sets) == 0 {
				return r.wrongAt(r.peek().column, "or joins two sets of days, as in on day 13 or on fri")
			}
			return r.days()
		},
		"in":      (*wordReader).in,
		"at":      (*wordReader).times,
		"between": func(r *wordReader) error { return r.between("and") },
		"once":    (*wordReader).once,
		"from": func(r *wordReader) error {
			if r.peek().kind == clockToken {
				return r.between("to")
			}
			return r.from()
		},
		"starting":  (*wordReader).from,
		"beginning": (*wordReader).from,
		"until":     (*wordReader).until, "till": (*wordReader).until,
		"ending":  (*wordReader).ending,
		"skip":    func(r *wordReader) error { return r.closed(Skip) },
		"before":  func(r *wordReader) error { return r.closed(Before) },
		"after":   func(r *wordReader) error { return r.closed(After) },
		"within":  (*wordReader).within,
		"only":    (*wordReader).only,
		"also":    (*wordReader).also,
		"except":  (*wordReader).except,
		"weeks":   (*wordReader).weekBegin,
		"zone":    (*wordReader).zone,
		"if":      (*wordReader).condition,
		"running": func(r *wordReader) error { return nil },
	}
}

// every reads a period, a repeat, or days.
func (r *wordReader) every() error {
	n, column, counted := int64(1), r.peek().column, false
	switch t := r.peek(); {
	case t.kind == numberToken, t.kind == ordinalToken && unitOf(r.ahead(1).word) != noUnit:
		n, counted = t.value, true
		r.at++
	case r.is("other") && unitOf(r.ahead(1).word) != noUnit:
		n, counted = 2, true
		r.at++
	}
	passing := !counted && r.skip("passing")
	u := unitOf(r.peek().word)
	if u == noUnit || u == dayUnit && !counted && r.ahead(1).kind == numberToken {
		if counted || passing {
			return r.expected("days, weeks, months, years, hours, minutes or seconds", unitWords...)
		}
		if r.startsDays() {
			return r.days()
		}
		return r.expected("a length of time or days, such as every 15 minutes, every 2 weeks or every monday", append(unitWords, dayWords...)...)
	}
	if n < 1 || n > maxEvery {
		return r.wrongAt(column, "an interval is from 1 to %d", maxEvery)
	}
	r.at++
	if u <= hour {
		if r.repeat != nil {
			return r.wrongAt(column, "there is a second repeat; one rule repeats in one way")
		}
		r.repeat = &repeat{n: n, unit: u, passing: passing, elapsed: r.skip("elapsed"), column: column}
		return nil
	}
	if r.p.unit != noUnit {
		return r.wrongAt(column, "there is a second period; one rule counts in one period")
	}
	r.spoke = true
	if u == dayUnit && n == 1 {
		return nil
	}
	r.p.unit, r.p.every = u, n
	return nil
}

var unitWords = []string{"second", "seconds", "minute", "minutes", "hour", "hours", "day", "days", "week", "weeks", "month", "months", "quarter", "quarters", "year", "years"}

func unitOf(word string) unit {
	for u := second; u <= year; u++ {
		if word == u.String() || word == u.String()+"s" {
			return u
		}
	}
	switch word {
	case "min", "mins":
		return minute
	}
	return noUnit
}

// startsDays tells whether a set of days begins here.
func (r *wordReader) startsDays() bool {
	t := r.peek()
	switch t.kind {
	case ordinalToken:
		return true
	case wordToken:
		if _, ok := weekdayWords[t.word]; ok {
			return true
		}
		switch t.word {
		case "weekday", "weekdays", "workday", "workdays", "weekend", "weekends", "day", "days", "the", "last", "every", "each":
			return true
		case "open", "closed":
			return unitOf(r.ahead(1).word) == dayUnit
		}
	}
	return false
}

// days reads a set of days. Its items are united.
func (r *wordReader) days() error {
	r.skip("on")
	set, err := r.dayset()
	if err != nil {
		return err
	}
	r.spoke = true
	r.sets = append(r.sets, set...)
	return nil
}

// dayset reads items up to where another clause begins.
func (r *wordReader) dayset() ([]term, error) {
	var byWeekday, byDate, byOpen term
	var plain []term // open days, closed days
	for {
		r.skip("the", "every", "each", "on")
		if err := r.item(&byWeekday, &byDate, &byOpen, &plain); err != nil {
			return nil, err
		}
		if !r.more(func() bool { return r.startsItem() }) {
			break
		}
	}
	scope, months := month, r.dated
	r.dated = 0
	if r.is(nameList(monthWords)...) && byDate.days != nil && months == 0 { // "29 feb"
		var err error
		if months, err = r.monthList(); err != nil {
			return nil, err
		}
	} else if r.is("of", "in") && (r.is("of") || r.isPeriodPhrase()) {
		r.at++
		r.skip("every", "each", "the", "any")
		switch u := unitOf(r.peek().word); {
		case u == month || u == quarter || u == year:
			scope = u
			r.at++
		case r.is(nameList(monthWords)...):
			var err error
			if months, err = r.monthList(); err != nil {
				return nil, err
			}
		default:
			return nil, r.expected("month, quarter, year or the names of months", append(unitWords, nameList(monthWords)...)...)
		}
	}
	var out []term
	if byWeekday.weekdays != 0 || byWeekday.nth != nil {
		for i := range byWeekday.nth {
			byWeekday.nth[i].of = scope
		}
		out = append(out, byWeekday)
	}
	if byDate.days != nil {
		if err := byDate.number(scope, r); err != nil {
			return nil, err
		}
		out = append(out, byDate)
	}
	if byOpen.openNth != nil {
		for i := range byOpen.openNth {
			byOpen.openNth[i].of = scope
		}
		out = append(out, byOpen)
	}
	out = append(out, plain...)
	for i := range out {
		out[i].months = months
	}
	return out, nil
}

// isPeriodPhrase tells "in the month" from "in jan".
func (r *wordReader) isPeriodPhrase() bool {
	n := 1
	for t := r.ahead(n); t.word == "the" || t.word == "every" || t.word == "each"; t = r.ahead(n) {
		n++
	}
	u := unitOf(r.ahead(n).word)
	return u == month || u == quarter || u == year
}

// number turns days that were numbered before their period was known into days
// of the month, or of a quarter or year.
func (t *term) number(scope unit, r *wordReader) error {
	limit := map[unit]int{month: 31, quarter: 92, year: 366}[scope]
	list := t.days
	t.days = nil
	for _, d := range list {
		if d.n == 0 || d.n > limit || d.n < -limit {
			return r.wrongAt(r.peek().column, "a %s has days 1 to %d", scope, limit)
		}
		switch {
		case scope != month:
			t.days = append(t.days, nth{n: d.n, of: scope})
		case d.n > 0:
			t.dates |= 1 << d.n
		default:
			t.fromEnd |= 1 << -d.n
		}
	}
	return nil
}

// startsItem tells whether one more item of a set of days begins here.
func (r *wordReader) startsItem() bool {
	t := r.peek()
	if t.kind == wordToken && (t.word == "on" || t.word == "the" || t.word == "every" || t.word == "each") {
		// "and on day 5", "and the last day"; but "every 15 minutes" is a clause.
		next := r.ahead(1)
		if next.kind == numberToken || next.kind == wordToken && unitOf(next.word) != noUnit && next.word != "day" && next.word != "days" || next.word == "passing" || next.word == "other" {
			return false
		}
		r.at++
		defer func() { r.at-- }()
		return r.startsDays()
	}
	return r.startsDays()
}

// item reads one item of a set of days.
func (r *wordReader) item(byWeekday, byDate, byOpen *term, plain *[]term) error {
	t := r.peek()
	if _, ok := weekdayWords[t.word]; ok && t.kind == wordToken {
		mask, err := r.weekdaySpan()
		byWeekday.weekdays |= mask
		return err
	}
	switch {
	case t.kind == numberToken && monthWords[r.ahead(1).word] != 0:
		r.at++
		byDate.days = append(byDate.days, nth{n: int(min(t.value, 400))})
	case t.kind == wordToken && monthWords[t.word] != 0 && (r.ahead(1).kind == numberToken || r.ahead(1).kind == ordinalToken) && r.dated == 0:
		r.at++
		r.dated = 1 << monthWords[t.word]
		list, err := r.numbers(31)
		for _, n := range list {
			byDate.days = append(byDate.days, nth{n: n})
		}
		return err
	case r.is("weekday", "weekdays", "workday", "workdays"):
		r.at++
		byWeekday.weekdays |= workdays
	case r.is("weekend", "weekends"):
		r.at++
		byWeekday.weekdays |= weekend
	case r.is("day", "days"):
		r.at++
		list, err := r.numbers(366)
		for _, n := range list {
			byDate.days = append(byDate.days, nth{n: n})
		}
		return err
	case r.is("open", "closed"):
		open := r.take().word == "open"
		if unitOf(r.peek().word) != dayUnit {
			return r.expected("days behind open or closed", "day", "days")
		}
		r.at++
		if k := r.peek().kind; open && (k == numberToken || k == ordinalToken) {
			list, err := r.numbers(366)
			for _, n := range list {
				byOpen.openNth = append(byOpen.openNth, nth{n: n})
			}
			return err
		}
		*plain = append(*plain, term{open: open, shut: !open})
	case t.kind == ordinalToken || r.is("last"):
		return r.placed(byWeekday, byDate, byOpen)
	default:
		return r.expected("days, such as mon, weekdays, day 15, the last day or the first monday of every month", append(nameList(weekdayWords), dayWords...)...)
	}
	return nil
}

// placed reads "the first and last monday", "the 2nd to last open day".
func (r *wordReader) placed(byWeekday, byDate, byOpen *term) error {
	places, err := r.places()
	if err != nil {
		return err
	}
	switch t := r.peek(); {
	case r.is("day", "days"):
		r.at++
		for _, n := range places {
			byDate.days = append(byDate.days, nth{n: n})
		}
	case r.is("open") && unitOf(r.ahead(1).word) == dayUnit:
		r.at += 2
		for _, n := range places {
			byOpen.openNth = append(byOpen.openNth, nth{n: n})
		}
	default:
		d, ok := weekdayWords[t.word]
		if !ok && (t.kind != wordToken || t.word == "of" || t.word == "and" || clauses[t.word] != nil || monthWords[t.word] != 0) {
			// "the 15th" is day 15.
			for _, n := range places {
				byDate.days = append(byDate.days, nth{n: n})
			}
			return nil
		}
		if !ok {
			return r.expected("day, open day or a weekday", append(nameList(weekdayWords), "day", "open")...)
		}
		r.at++
		for _, n := range places {
			byWeekday.nth = append(byWeekday.nth, nth{n: n, weekday: uint8(d)}) //nolint:gosec // 0 to 6
		}
		// "the first monday and tuesday" counts both.
		for r.more(func() bool { _, ok := weekdayWords[r.peek().word]; return ok && r.ahead(1).word != "to" }) {
			d := weekdayWords[r.take().word]
			for _, n := range places {
				byWeekday.nth = append(byWeekday.nth, nth{n: n, weekday: uint8(d)}) //nolint:gosec // 0 to 6
			}
		}
	}
	return nil
}

// places reads "first", "last", "2nd to last" and lists of them.
func (r *wordReader) places() ([]int, error) {
	var out []int
	for {
		n, err := r.place()
		if err != nil {
			return nil, err
		}
		out = append(out, n)
		isPlace := func() bool {
			r.skip("the")
			return r.peek().kind == ordinalToken || r.is("last")
		}
		if !r.more(func() bool {
			// "the first monday and the last friday": the noun comes between.
			return isPlace()
		}) {
			return out, nil
		}
	}
}

func (r *wordReader) place() (int, error) {
	r.skip("the")
	t := r.peek()
	if r.skip("last") {
		return -1, nil
	}
	if t.kind != ordinalToken || t.value < 1 || t.value > 366 {
		return 0, r.expected("first, second, 3rd, last or 2nd to last", "first", "last")
	}
	r.at++
	if r.is("to") && r.ahead(1).word == "last" {
		r.at += 2
		return -int(t.value), nil
	}
	if r.skip("last") {
		return -int(t.value), nil
	}
	return int(t.value), nil
}

// numbers reads "1, 15 and 20 to 22", "0 to 59 by 7", "1 and the last".
func (r *wordReader) numbers(limit int64) ([]int, error) {
	var out []int
	for {
		if r.is("the", "last") || r.peek().kind == ordinalToken {
			n, err := r.place()
			if err != nil {
				return nil, err
			}
			out = append(out, n)
		} else {
			span, err := r.span(limit)
			if err != nil {
				return nil, err
			}
			out = append(out, span...)
		}
		if !r.more(func() bool {
			if r.peek().kind == numberToken {
				return true
			}
			// "the last" without a noun behind it belongs to the numbers.
			n := 0
			if r.ahead(n).word == "the" {
				n++
			}
			if r.ahead(n).kind == ordinalToken {
				n++
				if r.ahead(n).word == "to" {
					n++
				}
			}
			if r.ahead(n).word == "last" {
				n++
			}
			next := r.ahead(n)
			_, weekday := weekdayWords[next.word]
			return n > 0 && next.kind != ordinalToken && !weekday && next.word != "day" && next.word != "days" && next.word != "open" && next.word != "week"
		}) {
			return out, nil
		}
	}
}

// span reads "5", "5 to 9" and "0 to 59 by 7".
func (r *wordReader) span(limit int64) ([]int, error) {
	number := func() (int, error) {
		t := r.peek()
		if t.kind != numberToken || t.value > limit {
			return 0, r.expected(fmt.Sprintf("a number up to %d", limit))
		}
		r.at++
		return int(t.value), nil
	}
	low, err := number()
	if err != nil {
		return nil, err
	}
	if !r.is("to") || r.ahead(1).kind != numberToken {
		return []int{low}, nil
	}
	r.at++
	column := r.peek().column
	high, err := number()
	if err != nil {
		return nil, err
	}
	if high < low {
		return nil, r.wrongAt(column, "a range runs upwards: %d to %d does not", low, high)
	}
	step := 1
	if r.skip("by") {
		column := r.peek().column
		if step, err = number(); err != nil {
			return nil, err
		}
		if step < 1 {
			return nil, r.wrongAt(column, "a step is at least 1")
		}
	}
	var out []int
	for n := low; n <= high; n += step {
		out = append(out, n)
	}
	return out, nil
}

// weekdaySpan reads "mon" or "mon to fri".
func (r *wordReader) weekdaySpan() (uint8, error) {
	from := weekdayWords[r.take().word]
	if !r.is("to", "through") {
		return 1 << from, nil
	}
	to, ok := weekdayWords[r.ahead(1).word]
	if !ok {
		r.at++
		return 0, r.expected("a weekday", nameList(weekdayWords)...)
	}
	r.at += 2
	var mask uint8
	for d := from; ; d = (d + 1) % 7 {
		mask |= 1 << d
		if d == to {
			return mask, nil
		}
	}
}

// in reads months, weeks, hours, or a zone.
func (r *wordReader) in() error {
	r.skip("the")
	switch {
	case r.is("week", "weeks", "last"), r.peek().kind == ordinalToken:
		return r.weekNumbers()
	case r.is("hours", "hour"):
		r.at++
		list, err := r.numbers(23)
		for _, n := range list {
			if n < 0 {
				return r.wrongAt(r.peek().column, "hours are numbers from 0 to 23")
			}
			r.p.times.hours |= 1 << n
		}
		r.p.times.inHours = true
		return err
	case r.is("zone"):
		r.at++
		return r.zone()
	}
	if !r.is(nameList(monthWords)...) {
		return r.expected("months, weeks or hours, such as in jan and jul or in hours 6 to 21", append(nameList(monthWords), "hours", "weeks", "zone")...)
	}
	mask, err := r.monthList()
	r.months |= mask
	return err
}

func (r *wordReader) weekNumbers() error {
	for {
		r.skip("the", "week", "weeks")
		list, err := r.numbers(53)
		if err != nil {
			return err
		}
		for _, n := range list {
			if n == 0 || n > 53 || n < -53 {
				return r.wrongAt(r.peek().column, "weeks are numbered from 1 to 53")
			}
		}
		r.weeks = append(r.weeks, list...)
		r.skip("week", "weeks")
		if !r.more(func() bool { return r.is("the", "week", "weeks") }) {
			break
		}
	}
	if r.skip("of") {
		r.skip("every", "each", "the", "year")
	}
	return nil
}

func (r *wordReader) monthList() (uint16, error) {
	var mask uint16
	for {
		from, ok := monthWords[r.peek().word]
		if !ok {
			return 0, r.expected("a month", nameList(monthWords)...)
		}
		r.at++
		to := from
		if r.is("to", "through") {
			r.at++
			if to, ok = monthWords[r.peek().word]; !ok {
				return 0, r.expected("a month", nameList(monthWords)...)
			}
			r.at++
		}
		for m := from; ; m = m%12 + 1 {
			mask |= 1 << m
			if m == to {
				break
			}
		}
		if !r.more(func() bool { _, ok := monthWords[r.peek().word]; return ok }) {
			return mask, nil
		}
	}
}

// nameList are the names of a table in order.
func nameList(table map[string]int64) []string {
	out := make([]string, 0, len(table))
	for name := range table {
		out = append(out, name)
	}
	slices.Sort(out)
	return out
}

// times reads clock times, minutes of the hour, or lists of minutes or seconds.
func (r *wordReader) times() error {
	switch {
	case r.is("minutes", "minute"):
		r.at++
		list, err := r.numbers(59)
		for _, n := range list {
			if n < 0 {
				return r.wrongAt(r.peek().column, "minutes are numbers from 0 to 59")
			}
			r.p.times.minutes |= 1 << n
		}
		r.p.times.inMinutes = true
		return err
	case r.is("seconds", "second"):
		r.at++
		list, err := r.numbers(59)
		for _, n := range list {
			if n < 0 {
				return r.wrongAt(r.peek().column, "seconds are numbers from 0 to 59")
			}
			r.p.times.seconds |= 1 << n
		}
		r.p.times.inSeconds = true
		return err
	}
	kind := r.peek().kind
	if kind != clockToken && kind != minuteToken {
		if kind == numberToken && r.peek().value < 24 {
			n := r.peek().value
			return r.expected(fmt.Sprintf("a time of day with its minutes, such as %02d:00", n))
		}
		return r.expected("a time of day, such as 06:00 or 17:30, or minutes of the hour, such as :05")
	}
	for {
		t := r.take()
		if kind == clockToken {
			r.clocks = append(r.clocks, int32(t.value))
		} else {
			if r.repeat == nil {
				r.repeat = &repeat{n: 1, unit: hour, column: t.column}
			}
			r.repeat.minutes = append(r.repeat.minutes, t.value)
		}
		if len(r.clocks) > maxListed {
			return r.wrongAt(t.column, "a rule has at most %d times of day", maxListed)
		}
		if !r.more(func() bool { r.skip("at"); return r.peek().kind == kind }) {
			return nil
		}
	}
}

// between reads a window of the day.
func (r *wordReader) between(join string) error {
	if r.peek().kind != clockToken {
		return r.expected("a time of day, such as 06:00")
	}
	w := &window{from: r.take().value}
	if !r.skip(join, "to", "and") {
		return r.expected(join + " and the end of the window")
	}
	if r.peek().kind != clockToken {
		return r.expected("a time of day, such as 22:00")
	}
	w.to = r.take().value
	if r.window != nil {
		return r.wrongAt(r.ahead(-1).column, "there is a second window; one rule has one")
	}
	r.window = w
	return nil
}

// within reads permitted hours.
func (r *wordReader) within() error {
	for {
		if r.peek().kind != clockToken {
			return r.expected("a time of day, such as 06:00")
		}
		h := Hours{From: r.take().value}
		if !r.skip("to", "and") {
			return r.expected("to and the end of the permitted hours")
		}
		if r.peek().kind != clockToken {
			return r.expected("a time of day, such as 22:00")
		}
		h.To = r.take().value
		r.p.hours = append(r.p.hours, h)
		if !r.more(func() bool { return r.peek().kind == clockToken }) {
			return nil
		}
	}
}

// moment reads a date with or without a time. whole says that it had none.
func (r *wordReader) moment() (instant int64, whole bool, err error) {
	if r.peek().kind != dateToken {
		return 0, false, r.expected("a date, such as 2026-12-01")
	}
	wall := r.take().value * civil.Day
	back := r.at
	r.skip("at")
	if r.peek().kind != clockToken {
		r.at = back
		return wall, true, nil
	}
	sec := r.take().value
	if r.listOfClocks() {
		r.at = back // "from 2026-01-05 at 06:00 and 18:00": these are the times of its rings
		return wall, true, nil
	}
	wall += sec
	if r.peek().kind == offsetToken {
		return wall - r.take().value, false, nil
	}
	return r.instant(wall), false, nil
}

// listOfClocks tells whether a list of times of day goes on here.
func (r *wordReader) listOfClocks() bool {
	n := 0
	for r.ahead(n).kind == commaToken || r.ahead(n).word == "and" || r.ahead(n).word == "at" {
		n++
	}
	return n > 0 && r.ahead(n).kind == clockToken
}

// instant lays a wall time onto an instant in the rule's zone, which must be
// said before the dates when it is not the job's.
func (r *wordReader) instant(wall int64) int64 { return zone.Of(r.p.zone).Instant(wall) }

func (r *wordReader) from() error {
	at, whole, err := r.moment()
	if err != nil {
		return err
	}
	if whole {
		at = r.instant(at)
	} else {
		_, sec := civil.Split(at + zone.Of(r.p.zone).At(at).Offset)
		r.startTime = &sec
	}
	r.p.from = max(r.p.from, at)
	return nil
}

func (r *wordReader) until() error {
	at, whole, err := r.moment()
	if err != nil {
		return err
	}
	if whole {
		at = r.instant(at+civil.Day) - 1
	}
	r.p.until = min(r.p.until, at)
	return nil
}

func (r *wordReader) ending() error {
	if r.is("on", "by") || r.peek().kind == dateToken {
		r.skip("on", "by")
		return r.until()
	}
	if !r.skip("after") {
		return r.expected("after and a number of rings, such as ending after 12 rings", "after")
	}
	t := r.peek()
	if t.kind != numberToken || t.value < 1 || t.value > maxCount {
		return r.expected(fmt.Sprintf("a number of rings from 1 to %d", maxCount))
	}
	r.at++
	if !r.skip("rings", "ring", "times") {
		return r.expected("rings", "rings")
	}
	r.p.count = int(t.value)
	return nil
}

func (r *wordReader) closed(how Closed) error {
	if !r.is("closed") || unitOf(r.ahead(1).word) != dayUnit {
		return r.expected("closed days behind "+string(how), "closed")
	}
	column := r.peek().column
	r.at += 2
	if r.p.closed != Ignore && r.p.closed != how {
		return r.wrongAt(column, "closed days are already dealt with by %q; one rule has one way", r.p.closed)
	}
	r.p.closed = how
	return nil
}

func (r *wordReader) once() error {
	r.skip("on")
	t := r.peek()
	if t.kind != dateToken {
		return r.expected("a date, such as 2026-12-01")
	}
	at, whole, err := r.moment()
	if err != nil {
		return err
	}
	if whole {
		return r.expected("at and a time of day, such as at 14:00", "at")
	}
	r.spoke = true
	r.p.setOnce(at)
	return nil
}

// setOnce makes the plan ring at one instant.
func (p *plan) setOnce(at int64) {
	p.spans = zone.Of(p.zone)
	serial, sec := civil.Split(at + p.spans.At(at).Offset)
	_, m, d := civil.Date(serial)
	p.terms = []term{{months: 1 << m, dates: 1 << d}}
	p.times = times{given: true, list: []int32{int32(sec)}}
	p.from, p.until = at, at
}

func (r *wordReader) only() error {
	column := r.peek().column
	list, err := r.places()
	if err != nil {
		return err
	}
	r.skip("ring", "rings")
	if !r.skip("of") {
		return r.expected("of every and a period, such as of every month", "of")
	}
	r.skip("every", "each", "the")
	u := unitOf(r.peek().word)
	if u == noUnit {
		return r.expected("day, week, month, quarter or year", unitWords...)
	}
	r.at++
	if r.p.only != nil {
		return r.wrongAt(column, "there is a second only; one rule has one")
	}
	if r.p.unit != noUnit && r.p.unit != u {
		return r.wrongAt(column, "the rule counts by %ss, so only must be of every %s", r.p.unit, r.p.unit)
	}
	r.p.only, r.p.unit = list, u
	return nil
}

func (r *wordReader) also() error {
	for {
		r.skip("on")
		at, whole, err := r.moment()
		if err != nil {
			return err
		}
		if whole {
			return r.expected("at and a time of day, such as at 12:00", "at")
		}
		r.p.also = append(r.p.also, at)
		if !r.more(func() bool { r.skip("on"); return r.peek().kind == dateToken }) {
			return nil
		}
	}
}

func (r *wordReader) except() error {
	for {
		r.skip("on")
		at, whole, err := r.moment()
		if err != nil {
			return err
		}
		if whole {
			r.p.exceptDays = append(r.p.exceptDays, at/civil.Day)
		} else {
			r.p.except = append(r.p.except, at)
		}
		if !r.more(func() bool { r.skip("on"); return r.peek().kind == dateToken }) {
			return nil
		}
	}
}

func (r *wordReader) weekBegin() error {
	if !r.skip("begin", "start", "from") {
		return r.expected("begin on and a weekday, as in weeks begin on sun", "begin")
	}
	r.skip("on")
	d, ok := weekdayWords[r.peek().word]
	if !ok {
		return r.expected("a weekday", nameList(weekdayWords)...)
	}
	r.at++
	r.p.weekStart = uint8(d) //nolint:gosec // 0 to 6
	return nil
}

func (r *wordReader) zone() error {
	t := r.peek()
	z, err := zone.Load(t.text)
	if err != nil {
		wrong := r.expected("a time zone of the zone database, such as Europe/London")
		for _, name := range zone.Names() {
			var e *Error
			if errors.As(wrong, &e) && closest(t.word, []string{strings.ToLower(name)}) != "" {
				e.Meant = name
			}
		}
		return wrong
	}
	if r.p.from != never || r.p.until != always || r.p.also != nil || r.p.except != nil {
		return r.wrongAt(t.column, "say the zone before the dates, so that they are read in it")
	}
	r.at++
	r.p.zone = z
	return nil
}

// condition reads "if": days that must hold beside the set before it.
func (r *wordReader) condition() error {
	column := r.peek().column
	set, err := r.dayset()
	if err != nil {
		return err
	}
	if len(r.sets) == 0 {
		r.sets = []term{{}}
	}
	var out []term
	for _, a := range r.sets {
		for _, b := range set {
			both, ok := a.and(b)
			if !ok {
				return r.wrongAt(column, "if adds a condition of another kind, as in on day 1 to 7 if mon")
			}
			out = append(out, both)
		}
	}
	r.sets = out
	return nil
}

// and joins two conditions; ok is false when they are of a kind that cannot be
// joined in one term.
func (t term) and(o term) (both term, ok bool) {
	byDate := func(t term) bool { return t.dates|t.fromEnd != 0 }
	byWeekday := func(t term) bool { return t.weekdays != 0 || t.nth != nil }
	if byDate(t) && byDate(o) || byWeekday(t) && byWeekday(o) || t.days != nil && o.days != nil || t.openNth != nil && o.openNth != nil {
		return t, false
	}
	switch {
	case t.months == 0:
		t.months = o.months
	case o.months != 0:
		t.months &= o.months
		if t.months == 0 {
			return t, false
		}
	}
	t.dates, t.fromEnd, t.weekdays = t.dates|o.dates, t.fromEnd|o.fromEnd, t.weekdays|o.weekdays
	t.nth, t.days, t.openNth = append(t.nth, o.nth...), append(t.days, o.days...), append(t.openNth, o.openNth...)
	t.open, t.shut = t.open || o.open, t.shut || o.shut
	return t, true
}

// assemble puts together what the clauses said.
func (r *wordReader) assemble() error {
	p := r.p
	if p.zone == nil {
		return r.wrongAt(1, "a time zone is needed")
	}
	if p.from != never && p.from == p.until && len(p.terms) == 1 && len(r.sets) == 0 {
		return nil // once
	}
	if p.from == never && !r.o.Start.IsZero() {
		p.from = r.o.Start.Unix()
	}
	if err := r.assembleDays(); err != nil {
		return err
	}
	return r.assembleTimes()
}

func (r *wordReader) assembleDays() error {
	p := r.p
	p.terms = r.sets
	if r.months != 0 || r.weeks != nil {
		if len(p.terms) == 0 {
			p.terms = []term{{}}
		}
		for i := range p.terms {
			t := &p.terms[i]
			switch {
			case t.months == 0:
				t.months = r.months
			case r.months != 0:
				t.months &= r.months
				if t.months == 0 {
					return r.wrongAt(1, "this never rings: the months that it names exclude each other")
				}
			}
			t.weeks = r.weeks
		}
	}
	if p.every == 1 && p.only == nil && p.unit != noUnit && len(r.sets) == 0 && p.from == never {
		if p.unit == week || p.unit == month || p.unit == quarter || p.unit == year && len(p.terms) == 0 {
			return r.wrongAt(len(r.text)+1, "expected the days: every %s does not say on which; add on and days", p.unit)
		}
	}
	// Without days a period rings on the day on which it starts.
	if len(r.sets) == 0 && p.from != never && p.unit >= week && p.only == nil {
		serial, _ := civil.Split(p.from + zone.Of(p.zone).At(p.from).Offset)
		y, m, d := civil.Date(serial)
		_ = y
		t := term{months: r.months, weeks: r.weeks}
		switch p.unit {
		case week:
			t.weekdays = 1 << civil.Weekday(serial)
		case month:
			t.dates = 1 << d
		case quarter:
			t.dates = 1 << d
			for q := (m-1)%3 + 1; q <= 12; q += 3 {
				t.months |= 1 << q
			}
		case year:
			t.dates = 1 << d
			if t.months == 0 {
				t.months = 1 << m
			}
		}
		p.terms = []term{t}
	}
	if p.every == 1 && p.only == nil {
		p.unit = noUnit
	}
	return nil
}

func (r *wordReader) assembleTimes() error {
	p, t, rep := r.p, &r.p.times, r.repeat
	product := t.inHours || t.inMinutes || t.inSeconds
	t.given = true
	switch {
	case rep != nil && len(r.clocks) > 0:
		return r.wrongAt(rep.column, "a rule rings either at named times or in a repeat, not both")
	case rep != nil && (rep.passing || rep.elapsed):
		return r.running(rep)
	case product && (rep != nil || len(r.clocks) > 0 || r.window != nil):
		return r.wrongAt(1, "hours, minutes and seconds that are listed go with no other times; say every passing hour, or elapsed, if that is meant")
	case product:
		if !t.inMinutes {
			t.minutes = 1
		}
	case rep != nil:
		return r.repeating(rep)
	case r.window != nil:
		return r.wrongAt(len(r.text)+1, "expected how often within the window, such as every 15 minutes")
	case len(r.clocks) > 0:
		t.list = r.clocks
	case r.startTime != nil && r.spoke: // "every 2 days from 2026-01-05 at 09:00"
		t.list = []int32{int32(*r.startTime)} //nolint:gosec // within a day
	case !r.spoke && p.from != never:
		return r.wrongAt(len(r.text)+1, "expected when: every day, on some days, or a repeat")
	default:
		return r.wrongAt(len(r.text)+1, "expected a time of day, such as at 06:00, or a repeat, such as every 15 minutes")
	}
	return nil
}

// running lays out elapsed and passing repeats.
func (r *wordReader) running(rep *repeat) error {
	t := &r.p.times
	if r.window != nil {
		return r.wrongAt(rep.column, "a window goes with repeats of the day; here say in hours, such as in hours 6 to 21")
	}
	t.kind, t.unit, t.every, t.passing = running, rep.unit, rep.n, rep.passing
	for _, m := range rep.minutes {
		if m%60 != 0 {
			return r.wrongAt(rep.column, "passing hours ring at whole minutes")
		}
		t.minutes |= 1 << (m / 60)
		t.inMinutes = true
	}
	if t.passing {
		if t.inSeconds {
			return r.wrongAt(rep.column, "passing hours and minutes ring at whole minutes")
		}
		if rep.unit == hour && !t.inMinutes {
			t.minutes = 1
		}
		t.unit, t.inHours, t.inMinutes = minute, true, true
	}
	return nil
}

// repeating lays out repeats within a day: whole hours that divide a day are
// times of the wall clock, all else elapses from midnight or from the start of
// the window.
func (r *wordReader) repeating(rep *repeat) error {
	t := &r.p.times
	step := rep.n * map[unit]int64{hour: civil.Hour, minute: civil.Minute, second: 1}[rep.unit]
	if step >= civil.Day {
		return r.wrongAt(rep.column, "a repeat within a day is shorter than a day; say every 2 days and the like, or every %d %ss elapsed from a date", rep.n, rep.unit)
	}
	open, shut, whole := int64(0), civil.Day-1, true
	if r.window != nil {
		open, shut, whole = r.window.from, r.window.to, false
		if shut <= open {
			shut += civil.Day
		}
	}
	// A window over midnight belongs to the day on which it opens, so its rings
	// are no times of one day.
	wall := step%civil.Hour == 0 && civil.Day%step == 0 && shut < civil.Day
	if len(rep.minutes) > 0 && !wall {
		return r.wrongAt(rep.column, "minutes of the hour go with every hour, or with every 2, 3, 4, 6, 8 or 12 hours")
	}
	if !wall {
		t.kind, t.step, t.open, t.shut, t.whole = repeating, step, open, shut, whole
		return nil
	}
	minutes := rep.minutes
	begin := open - open%civil.Hour
	if len(minutes) == 0 {
		minutes = []int64{open % civil.Hour}
	}
	for at := begin; at <= shut; at += step {
		for _, m := range minutes {
			if at+m >= open && at+m <= shut {
				t.list = append(t.list, int32((at+m)%civil.Day))
			}
		}
	}
	if len(t.list) == 0 {
		return r.wrongAt(rep.column, "this never rings: no time of the repeat lies in the window")
	}
	return nil
}
