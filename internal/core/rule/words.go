package rule

import (
	"fmt"
	"slices"
	"strings"

	"ironbell/internal/core/phrase"
)

// The grammar of worded rules. Clauses stand in any order, with or without
// commas; "the", "of", "every" and "each" may be left out where they only please
// the ear; names of weekdays and months may be cut to three letters.
//
//	rule     = clause { [","] clause }
//	clause   = "every" ( period | repeat | days ) | "on" days { "or" "on" days } { "if" days }
//	         | "in" months | "in" ("week"|"weeks") numbers | "in" "hours" numbers
//	         | "at" clocks | "at" minutes | "at" ("minutes"|"seconds") numbers
//	         | "between" clock "and" clock | "within" clock "to" clock
//	         | "once" "on" date "at" clock | "from" moment | "until" moment
//	         | "ending" "after" number "rings" | ("skip"|"before"|"after") "closed" "days"
//	         | "only" places "of" "every" unit | "also" "on" moment
//	         | "except" ["on"] (moment | weekday { ("," | "and") weekday })
//	         | "weeks" "begin" "on" weekday | "in" "zone" name
//	period   = [number] ("day"|"week"|"month"|"quarter"|"year")
//	repeat   = [number] ("hour"|"minute"|"second") ["elapsed"] | "passing" ("hour"|"minute")
//	days     = item { ("," | "and") item } [ "of" "every" ("month"|"quarter"|"year") | "of" months ]
//	item     = weekday ["to" weekday] | "weekdays" | "weekends" | "open" "days" | "closed" "days"
//	         | "day" numbers | places ("day"|weekday|"open" "day") | "open" "day" numbers
//	         | number month | month number
//	places   = place { ("," | "and") place }        place  = ordinal | [ordinal "to"] "last"
//	numbers  = span { ("," | "and") span }          span   = number ["to" number ["by" number]] | place
//	moment   = date [["at"] clock [offset]]         clocks = clock { ("," | "and") clock }

var (
	monthNames = [13]string{
		"", "January", "February", "March", "April", "May", "June", "July", "August", "September",
		"October", "November", "December",
	}
	weekdayNames = [7]string{"Sunday", "Monday", "Tuesday", "Wednesday", "Thursday", "Friday", "Saturday"}
	weekdayWords = nameTable(weekdayNames[:], map[string]int64{"tues": 2, "wednes": 3, "thur": 4, "thurs": 4})
	monthWords   = nameTable(monthNames[:], map[string]int64{"sept": 9})
	clauseWords  = []string{
		"every", "on", "in", "at", "between", "once", "from", "until", "ending", "skip", "before", "after", "within",
		"only", "also", "except", "weeks", "zone", "if", "or",
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
	barred    uint8  // weekdays of "except sundays"
	period    unit   // of "every quarter", wherever it stands
	inMonths  bool   // months are named
}

func readWords(p *plan, text string, o Options) error {
	r := &wordReader{text: text, tokens: lex(text), p: p, o: o}
	r.findPeriod()
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
	if t.kind == wordToken && !slices.Contains(known, t.word) {
		e.Meant = phrase.Near(t.word, known)
	}
	return e
}

// meant is the error at the token reached, in whose place another text was meant.
func (r *wordReader) meant(text, what string) error {
	t := r.peek()
	return &Error{Text: r.text, Column: t.column, Found: t.text, Expected: what, Meant: text}
}

// offer is the error at the token reached, with whole rules of which one may be meant.
func (r *wordReader) offer(what string, rules ...string) error {
	return &Error{Text: r.text, Column: r.peek().column, Expected: what, Offers: rules}
}

// scope is the period in which days are numbered that do not say in which.
func (r *wordReader) scope() unit {
	if r.period == quarter || r.period == year && !r.inMonths {
		return r.period
	}
	return month
}

// findPeriod looks for "every quarter" and its kin before anything is read, for it may stand
// before or behind the days that are numbered in it.
func (r *wordReader) findPeriod() {
	adverbs := map[string]unit{"monthly": month, "quarterly": quarter, "yearly": year}
	for i, t := range r.tokens {
		if t.kind != wordToken {
			continue
		}
		if u := adverbs[t.word]; u != noUnit {
			r.period = u
		}
		if u := unitOf(t.word); u >= month && i > 0 && (r.tokens[i-1].word == "every" || r.tokens[i-1].word == "each") &&
			(i < 2 || r.tokens[i-2].word != "of" && r.tokens[i-2].word != "in") {
			r.period = u
		}
		if i > 0 && r.tokens[i-1].word == "in" && monthWords[t.word] != 0 {
			r.inMonths = true
		}
	}
}

func (r *wordReader) wrongAt(column int, format string, args ...any) error {
	return &Error{Text: r.text, Column: column, Expected: fmt.Sprintf(format, args...)}
}

func (r *wordReader) clause() error {
	t := r.peek()
	if t.kind == clockToken || t.kind == minuteToken {
		return r.times()
	}
	if t.kind == dateToken {
		return r.once()
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
		"daily":     func(r *wordReader) error { r.spoke = true; return nil },
		"hourly":    func(r *wordReader) error { return r.adverb(hour) },
		"weekly":    func(r *wordReader) error { return r.adverb(week) },
		"monthly":   func(r *wordReader) error { return r.adverb(month) },
		"quarterly": func(r *wordReader) error { return r.adverb(quarter) },
		"yearly":    func(r *wordReader) error { return r.adverb(year) },
		"on":        (*wordReader).days,
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

// nameList are the names of a table in order.
func nameList(table map[string]int64) []string {
	out := make([]string, 0, len(table))
	for name := range table {
		out = append(out, name)
	}
	slices.Sort(out)
	return out
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
