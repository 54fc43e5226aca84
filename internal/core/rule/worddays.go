package rule

import (
	"strings"

	"ironbell/internal/core/civil"
	"ironbell/internal/core/zone"
)

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
		case "weekday", "weekdays", "workday", "workdays", "weekend", "weekends", "day", "days", "the", "last", "every",
			"each":
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
	if r.peek().kind == dateToken {
		return r.once()
	}
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
	both := false    // the weekday and the date must hold together
	for {
		r.skip("the", "every", "each", "on")
		had := byWeekday.weekdays
		if err := r.item(&byWeekday, &byDate, &byOpen, &plain); err != nil {
			return nil, err
		}
		if byWeekday.weekdays != had && r.startsNumber() { // "fri the 13th" is both
			if had != 0 || byDate.days != nil {
				return nil, r.wrongAt(r.peek().column, "a weekday with its number in the month stands alone, as in on fri the 13th")
			}
			r.skip("the")
			list, err := r.places()
			if err != nil {
				return nil, err
			}
			for _, n := range list {
				byDate.days = append(byDate.days, nth{n: n})
			}
			both = true
			break
		}
		if !r.more(func() bool { return r.startsItem() }) {
			break
		}
	}
	scope, months := r.scope(), r.dated
	r.dated = 0
	if months != 0 {
		scope = month
	}
	if r.is(nameList(monthWords)...) && byDate.days != nil && months == 0 { // "29 feb"
		var err error
		scope = month
		if months, err = r.monthList(); err != nil {
			return nil, err
		}
	} else if r.is("of", "in") && (r.is("of") || r.isPeriodPhrase()) {
		r.at++
		r.skip("every", "each", "the", "any")
		switch u := unitOf(r.peek().word); {
		case u == month || u == quarter || u == year:
			if r.period >= month && u != r.period {
				return nil, r.wrongAt(r.peek().column, "every %s and of every %s say two things; leave one out", r.period, u)
			}
			scope = u
			r.at++
		case r.is(nameList(monthWords)...):
			scope = month
			var err error
			if months, err = r.monthList(); err != nil {
				return nil, err
			}
		default:
			return nil,
				r.expected("month, quarter, year or the names of months", append(unitWords, nameList(monthWords)...)...)
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
		if both {
			byDate, _ = byWeekday.and(byDate)
			out = nil
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

// startsNumber tells whether "the 13th" follows, which is no weekday's place.
func (r *wordReader) startsNumber() bool {
	n := 0
	for r.ahead(n).word == "the" {
		n++
	}
	next := r.ahead(n + 1)
	_, placed := weekdayWords[next.word]
	return r.ahead(n).kind == ordinalToken && !placed && unitOf(next.word) == noUnit && next.word != "open" &&
		next.word != "to"
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
		if next.kind == numberToken ||
			next.kind == wordToken && unitOf(next.word) != noUnit && next.word != "day" && next.word != "days" ||
			next.word == "passing" || next.word == "other" {
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
	case t.kind == wordToken && monthWords[t.word] != 0 &&
		(r.ahead(1).kind == numberToken || r.ahead(1).kind == ordinalToken) && r.dated == 0:
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
		return r.expected("days, such as mon, weekdays, day 15, the last day or the first monday of every month",
			append(nameList(weekdayWords), dayWords...)...)
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
		if !ok &&
			(t.kind != wordToken || t.word == "of" || t.word == "and" || clauses[t.word] != nil ||
				monthWords[t.word] != 0) {
			// "the 15th" is day 15.
			for _, n := range places {
				byDate.days = append(byDate.days, nth{n: n})
			}
			return nil
		}
		if r.is("weekday", "weekdays", "workday", "workdays") {
			place := placeWords(places)
			return r.offer("name a weekday, or say which days count",
				"on the "+place+" open day of every month at 06:00",
				"on weekdays at 06:00, only the "+place+" of every month")
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
		mask, err := r.mask("hours", 23)
		r.p.times.hours |= uint32(mask) //nolint:gosec // 24 bits
		r.p.times.inHours = true
		return err
	case r.is("zone"):
		r.at++
		return r.zone()
	}
	if !r.is(nameList(monthWords)...) {
		return r.expected("months, weeks or hours, such as in jan and jul or in hours 6 to 21",
			append(nameList(monthWords), "hours", "weeks", "zone")...)
	}
	mask, err := r.monthList()
	r.months |= mask
	return err
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
	if byDate(t) && byDate(o) || byWeekday(t) && byWeekday(o) || t.days != nil && o.days != nil ||
		t.openNth != nil && o.openNth != nil {
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

// heldTogether refuses days that a period beside them does not hold: what would be
// dropped, or read otherwise than it was written.
func (r *wordReader) heldTogether() error {
	p := r.p
	if p.every != 1 || p.only != nil || p.unit < week {
		return nil
	}
	for _, t := range r.sets {
		plain := t.weekdays != 0 && t.nth == nil && t.dates|t.fromEnd == 0 && t.days == nil
		numbered := t.dates|t.fromEnd != 0 || t.days != nil || t.openNth != nil || t.nth != nil
		switch {
		case p.unit == week && numbered:
			return r.wrongAt(1, "every week goes with weekdays, and days of a month with every month; leave one out")
		case p.unit > week && plain:
			return r.wrongAt(1, "every %s does not say on which of these weekdays; write the first or last of them, "+
				"as in on the first monday of every %s, or leave every %s out for each of them", p.unit, p.unit, p.unit)
		}
	}
	return nil
}

// placeWords are places as people write them: first, 2nd, last, 2nd to last.
func placeWords(places []int) string {
	all := make([]string, len(places))
	for i, n := range places {
		switch {
		case n == 1:
			all[i] = "first"
		case n == -1:
			all[i] = "last"
		case n < 0:
			all[i] = numeral(-n) + " to last"
		default:
			all[i] = numeral(n)
		}
	}
	return strings.Join(all, " and ")
}

func (r *wordReader) assembleDays() error {
	p := r.p
	p.terms = r.sets
	if err := r.heldTogether(); err != nil {
		return err
	}
	if r.barred != 0 {
		if len(p.terms) == 0 {
			p.terms, r.sets = []term{{}}, []term{{}}
		}
		for i := range p.terms {
			t := &p.terms[i]
			if t.nth != nil {
				return r.wrongAt(1, "weekdays that are numbered take no except; say it in another rule")
			}
			if t.weekdays == 0 {
				t.weekdays = allWeek
			}
			if t.weekdays &^= r.barred; t.weekdays == 0 {
				return r.wrongAt(1, "this never rings: all its weekdays are left out")
			}
		}
	}
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
			return r.wrongAt(len(r.text)+1, "expected the days: every %s does not say on which; add on and days",
				p.unit)
		}
	}
	// Without days a period rings on the day on which it starts.
	if len(r.sets) == 0 && p.from != never && p.unit >= week && p.only == nil {
		serial, _ := civil.Split(p.from + zone.Of(p.zone).At(p.from).Offset)
		_, m, d := civil.Date(serial)
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
