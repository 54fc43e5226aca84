package rule

import (
	"fmt"
	"math/bits"
	"strconv"
	"strings"
	"time"

	"ironbell/internal/core/civil"
)

// Reading says the rule in words, "on weekdays at 06:15". Read again it gives
// the same instants.
func (r Rule) Reading() string {
	if r.plan == nil {
		return "never"
	}
	return r.plan.words()
}

func (p *plan) words() string {
	var out []string
	add := func(text string) {
		if text != "" {
			out = append(out, text)
		}
	}
	if p.isOnce() {
		if p.ownZone {
			add("in zone " + p.zone.String())
		}
		add("once on " + p.sayMoment(p.from, true))
	} else {
		days := p.sayDays()
		times := p.sayTimes()
		if days == "every day" && p.times.kind != wallTimes ||
			days == "every day" && strings.HasPrefix(times, "every ") {
			days = ""
		}
		add(days)
		add(times)
		if p.only != nil {
			add(fmt.Sprintf("only %s of every %s", join(places(p.only)), p.unit))
		}
		if p.weekStart != monday && (p.unit == week || len(p.terms) > 0 && p.terms[0].weeks != nil) {
			add("weeks begin on " + weekdayNames[p.weekStart])
		}
	}
	if !p.isOnce() {
		if p.ownZone {
			add("in zone " + p.zone.String())
		}
		if p.from != never {
			add("from " + p.sayStart())
		}
		if p.until != always {
			add("until " + p.sayMoment(p.until, false))
		}
	}
	if p.count > 0 {
		add(fmt.Sprintf("ending after %d rings", p.count))
	}
	if len(p.also) > 0 {
		var list []string
		for _, at := range p.also {
			list = append(list, p.sayMoment(at, true))
		}
		add("also on " + join(list))
	}
	if len(p.except)+len(p.exceptDays) > 0 {
		var list []string
		for _, serial := range p.exceptDays {
			list = append(list, time.Unix(serial*civil.Day, 0).UTC().Format(time.DateOnly))
		}
		for _, at := range p.except {
			list = append(list, p.sayMoment(at, true))
		}
		add("except on " + join(list))
	}
	if p.closed != Ignore {
		add(string(p.closed) + " closed days")
	}
	if len(p.hours) > 0 {
		add("within " + readHours(p.hours))
	}
	return strings.Join(out, " ")
}

// isOnce tells whether the plan is one instant, as "once" makes it.
func (p *plan) isOnce() bool {
	return p.from == p.until && len(p.terms) == 1 && len(p.times.list) == 1 && p.count == 0
}

func readHours(hours []Hours) string {
	var list []string
	for _, h := range hours {
		list = append(list, sayClock(h.From)+" to "+sayClock(h.To))
	}
	return join(list)
}

func sayClock(sec int64) string {
	sec = civil.Mod(sec, civil.Day)
	if sec%60 != 0 {
		return fmt.Sprintf("%02d:%02d:%02d", sec/3600, sec%3600/60, sec%60)
	}
	return fmt.Sprintf("%02d:%02d", sec/3600, sec%3600/60)
}

// sayMoment writes an instant as wall time, with its offset where the wall time
// comes twice. A bound that is a whole day is written as its date.
func (p *plan) sayMoment(at int64, exact bool) string {
	t := time.Unix(at, 0).In(p.zone)
	offset := p.spans.At(at).Offset
	wall := at + offset
	text := t.Format(time.DateOnly)
	_, sec := civil.Split(wall)
	again := p.spans.Instant(wall) == at
	if !exact && again && (at == p.from && sec == 0 || at == p.until && at == p.spans.Instant(wall-sec+civil.Day)-1) {
		return text
	}
	text += " at " + sayClock(sec)
	if !again {
		text += t.Format(" -07:00")
	}
	return text
}

// sayStart says the start: as a date alone where no time of that day comes
// before it.
func (p *plan) sayStart() string {
	wall := p.from + p.spans.At(p.from).Offset
	serial, sec := civil.Split(wall)
	midnight := p.spans.Instant(serial * civil.Day)
	if p.times.kind == wallTimes && sec <= p.times.first && len(p.moved) == 0 && midnight+sec == p.from &&
		p.spans.At(midnight).Offset == p.spans.At(p.from).Offset {
		return time.Unix(serial*civil.Day, 0).UTC().Format(time.DateOnly)
	}
	return p.sayMoment(p.from, false)
}

// sayDays says the periods, dates, months and weeks.
func (p *plan) sayDays() string {
	var out []string
	if p.every > 1 {
		out = append(out, fmt.Sprintf("every %d %ss", p.every, p.unit))
	}
	months, weeks := uint16(0), []int(nil)
	same := true
	for i, t := range p.terms {
		if i == 0 {
			months, weeks = t.months, t.weeks
		} else if t.months != months {
			same = false
		}
	}
	within := !same
	if len(p.terms) == 1 && p.terms[0].numbersDays() && months != 0 && months != allYear {
		within, months = true, 0
	}
	var sets []string
	for _, t := range p.terms {
		if text := t.say(within); text != "" {
			sets = append(sets, "on "+text)
		}
	}
	if len(sets) > 0 {
		out = append(out, strings.Join(sets, " or "))
	} else if p.every == 1 {
		out = append(out, "every day")
	}
	if same && months != 0 && months != allYear {
		out = append(out, "in "+sayMonths(months))
	}
	if weeks != nil {
		var list []string
		for _, w := range weeks {
			if w < 0 {
				list = append(list, place(w)+" week")
			} else {
				list = append(list, "week "+strconv.Itoa(w))
			}
		}
		out = append(out, "in "+join(list))
	}
	return strings.Join(out, " ")
}

func sayMonths(mask uint16) string {
	return join(spans(uint64(mask), 12, func(n int) string { return monthNames[n] }))
}

// numbersDays tells whether a term counts days of a month, so that the names of
// its months can follow them.
func (t term) numbersDays() bool {
	byMonth := t.dates|t.fromEnd != 0
	for _, n := range t.nth {
		byMonth = byMonth || n.of == month
	}
	for _, n := range t.openNth {
		byMonth = byMonth || n.of == month
	}
	return byMonth
}

// say writes a term's conditions: the first is where it rings, the others are
// joined by "if".
func (t term) say(withMonths bool) string {
	var parts []string
	add := func(items []string, scope unit) {
		if len(items) == 0 {
			return
		}
		text := join(items)
		switch {
		case withMonths && t.months != 0 && scope <= month:
			text += " of " + sayMonths(t.months)
		case scope != noUnit:
			text += " of every " + scope.String()
		}
		parts = append(parts, text)
	}
	var items []string
	if step, even := evenly(uint64(t.dates)); even && step > 1 && t.dates.Count() > 3 {
		items = append(items, sayNumbers(uint64(t.dates)))
	} else {
		items = append(items, spans(uint64(t.dates), 31, strconv.Itoa)...)
	}
	if len(items) > 0 {
		items[0] = "day " + items[0]
	}
	for n := 1; n <= 31; n++ {
		if t.fromEnd>>n&1 == 1 {
			items = append(items, place(-n)+" day")
		}
	}
	add(items, month)

	scope := noUnit
	items = nil
	if t.weekdays != 0 {
		items = weekSpans(t.weekdays)
	}
	for _, n := range t.nth {
		items = append(items, place(n.n)+" "+weekdayNames[n.weekday])
		scope = n.of
	}
	add(items, scope)

	items = sayNumbered("day", t.days)
	if len(items) > 0 {
		add(items, t.days[0].of)
	}
	items = sayNumbered("open day", t.openNth)
	if len(items) > 0 {
		add(items, t.openNth[0].of)
	}
	if t.open {
		add([]string{"open days"}, noUnit)
	}
	if t.shut {
		add([]string{"closed days"}, noUnit)
	}
	return strings.Join(parts, " if ")
}

func sayNumbered(noun string, list []nth) []string {
	var front, back []string
	for _, n := range list {
		if n.n > 0 {
			front = append(front, strconv.Itoa(n.n))
		} else {
			back = append(back, place(n.n)+" "+noun)
		}
	}
	if len(front) > 0 {
		front[0] = noun + " " + front[0]
	}
	return append(front, back...)
}

// places writes positions, "the first" and "the 2nd to last".
func places(list []int) []string {
	out := make([]string, len(list))
	for i, n := range list {
		out[i] = place(n)
	}
	return out
}

func place(n int) string {
	if n == -1 {
		return "the last"
	}
	if n < 0 {
		return "the " + numeral(-n) + " to last"
	}
	return "the " + numeral(n)
}

func numeral(n int) string {
	for word, value := range ordinals {
		if value == int64(n) && n <= 5 {
			return word
		}
	}
	switch {
	case n%100/10 == 1:
		return strconv.Itoa(n) + "th"
	case n%10 == 1:
		return strconv.Itoa(n) + "st"
	case n%10 == 2:
		return strconv.Itoa(n) + "nd"
	case n%10 == 3:
		return strconv.Itoa(n) + "rd"
	}
	return strconv.Itoa(n) + "th"
}

// weekSpans reads the week from Monday, as people do.
func weekSpans(mask uint8) []string {
	switch mask {
	case workdays:
		return []string{"weekdays"}
	case weekend:
		return []string{"weekends"}
	}
	fromMonday := uint64(mask>>1) | uint64(mask&1)<<6
	return spans(fromMonday<<1, 7, func(n int) string { return weekdayNames[n%7] })
}

// mostListed is how many times of day are written one by one.
const mostListed = 24

// sayTimes says the times of a day.
func (p *plan) sayTimes() string {
	t := &p.times
	switch {
	case t.kind == repeating:
		text := sayEvery(t.step)
		if !t.whole {
			text += fmt.Sprintf(" between %s and %s", sayClock(t.open), sayClock(t.shut))
		}
		return text
	case t.passing:
		return p.sayPassing()
	case t.kind == running:
		text := "every " + t.unit.String() + " elapsed"
		if t.every > 1 {
			text = fmt.Sprintf("every %d %ss elapsed", t.every, t.unit)
		}
		if t.inHours {
			text += " in hours " + sayNumbers(uint64(t.hours))
		}
		if t.inMinutes {
			text += " at minutes " + sayNumbers(t.minutes)
		}
		if t.inSeconds {
			text += " at seconds " + sayNumbers(t.saidSeconds())
		}
		return text
	}
	if text, ok := p.saySteps(); ok {
		return text
	}
	if t.list == nil && t.count > mostListed {
		text := "in hours " + sayNumbers(uint64(t.hours)) + " at minutes " + sayNumbers(t.minutes)
		if t.seconds != 1 {
			text += " at seconds " + sayNumbers(t.seconds)
		}
		return text
	}
	list := make([]string, t.count)
	for i := range list {
		list[i] = sayClock(t.nth(i))
	}
	return "at " + join(list)
}

// saySteps says evenly spaced times of day as a repeat, where that means the
// same.
func (p *plan) saySteps() (string, bool) {
	t := &p.times
	if t.count < 4 {
		return "", false
	}
	first, step := t.nth(0), t.nth(1)-t.nth(0)
	for i := 2; i < t.count; i++ {
		if t.nth(i)-t.nth(i-1) != step {
			return "", false
		}
	}
	last := first + step*int64(t.count-1)
	wall := step%civil.Hour == 0 && civil.Day%step == 0
	if !wall && (p.only != nil || step%civil.Minute != 0 || !p.unmoved(first, last)) {
		return "", false
	}
	whole := last+step >= civil.Day && first < step
	switch {
	case whole && first == 0 && (wall || last+step == civil.Day):
		return sayEvery(step), true
	case whole && wall && first < civil.Hour && first%60 == 0:
		return fmt.Sprintf("%s at :%02d", sayEvery(step), first/60), true
	default:
		return fmt.Sprintf("%s between %s and %s", sayEvery(step), sayClock(first), sayClock(last)), true
	}
}

// unmoved tells whether no change of clocks of the zone ever touches a stretch
// of the day, so that elapsed and wall time are the same in it.
func (p *plan) unmoved(first, last int64) bool {
	free := true
	p.spans.Seams(0, always, func(s spanSeam) bool {
		for _, offset := range []int64{s.Before, s.Offset} {
			_, sec := civil.Split(s.Start + offset)
			if sec >= first && sec <= last || sec == 0 && last >= civil.Day-1 {
				free = false
			}
		}
		// A change that skips or repeats the stretch whole.
		_, low := civil.Split(s.Start + min(s.Before, s.Offset))
		if size := abs(s.Offset - s.Before); low <= first && low+size >= first || size >= civil.Day/2 {
			free = false
		}
		return free
	})
	return free
}

// shiftsBy tells whether all changes of clocks since 1970 move by whole steps.
func (p *plan) shiftsBy(step int64) bool {
	whole := true
	p.spans.Seams(0, always, func(s spanSeam) bool {
		whole = (s.Offset-s.Before)%step == 0 && civil.Mod(s.Start+s.Before, step) == 0
		return whole
	})
	return whole
}

func (p *plan) sayPassing() string {
	t := &p.times
	count := bits.OnesCount64(t.minutes)
	if t.hours == allHours && t.minutes&1 == 1 {
		if step := evenStep(t.minutes, 60); step > 0 && p.shiftsBy(int64(step)*60) {
			return sayEvery(int64(step) * 60)
		}
	}
	text := "every passing hour"
	if t.hours != allHours {
		text += " in hours " + sayNumbers(uint64(t.hours))
	}
	if count <= 6 {
		list := spansOf(t.minutes, 60, func(n int) string { return fmt.Sprintf(":%02d", n) })
		return text + " at " + join(list)
	}
	return text + " at minutes " + sayNumbers(t.minutes)
}

func sayEvery(step int64) string {
	n, u := step, second
	switch {
	case step%civil.Hour == 0:
		n, u = step/civil.Hour, hour
	case step%civil.Minute == 0:
		n, u = step/civil.Minute, minute
	}
	if n == 1 {
		return "every " + u.String()
	}
	return fmt.Sprintf("every %d %ss", n, u)
}

// sayNumbers lists the set bits: even ones as "0 to 56 by 7", runs as "6 to 21".
func sayNumbers(mask uint64) string {
	if step, even := evenly(mask); even && step > 1 && bits.OnesCount64(mask) > 3 {
		return fmt.Sprintf("%d to %d by %d", bits.TrailingZeros64(mask), 63-bits.LeadingZeros64(mask), step)
	}
	return join(spans(mask, 59, strconv.Itoa))
}

// evenly tells whether the set bits have one distance, and which.
func evenly(mask uint64) (step int, even bool) {
	first, last, count := bits.TrailingZeros64(mask), 63-bits.LeadingZeros64(mask), bits.OnesCount64(mask)
	if count < 2 || (last-first)%(count-1) != 0 {
		return 0, false
	}
	step = (last - first) / (count - 1)
	for n := first; n <= last; n += step {
		if mask>>n&1 == 0 {
			return 0, false
		}
	}
	return step, true
}

// evenStep is the distance of the set bits when they are evenly spread over the
// whole of n, and 0 otherwise.
func evenStep(mask uint64, n int) int {
	count := bits.OnesCount64(mask)
	if count < 2 || n%count != 0 {
		return 0
	}
	step, first := n/count, bits.TrailingZeros64(mask)
	for i := range count {
		if mask>>(first+i*step)&1 == 0 {
			return 0
		}
	}
	return step
}

// spans lists the set bits, runs of three and more as "a to b".
func spans(mask uint64, top int, name func(int) string) []string {
	var out []string
	for n := 0; n <= top; n++ {
		if mask>>n&1 == 0 {
			continue
		}
		last := n
		for last < top && mask>>(last+1)&1 == 1 {
			last++
		}
		if last-n >= 2 {
			out = append(out, name(n)+" to "+name(last))
		} else {
			for i := n; i <= last; i++ {
				out = append(out, name(i))
			}
		}
		n = last
	}
	return out
}

// spansOf lists the set bits one by one.
func spansOf(mask uint64, n int, name func(int) string) []string {
	var out []string
	for i := range n {
		if mask>>i&1 == 1 {
			out = append(out, name(i))
		}
	}
	return out
}

func join(items []string) string {
	if len(items) < 2 {
		return strings.Join(items, "")
	}
	return strings.Join(items[:len(items)-1], ", ") + " and " + items[len(items)-1]
}
