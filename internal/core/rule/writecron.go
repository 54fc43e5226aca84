package rule

import (
	"fmt"
	"math/bits"
	"strconv"
	"strings"

	"ironbell/internal/core/civil"
)

// Cron writes the rule as five cron fields; ok is false when cron cannot say it.
// Read again in the rule's zone it gives the same instants.
func (r Rule) Cron() (text string, ok bool) {
	if r.plan == nil {
		return "", false
	}
	p := r.plan
	if p.every > 1 || p.only != nil || p.from != never || p.until != always || p.count > 0 || p.closed != Ignore ||
		len(p.also)+len(p.except)+len(p.exceptDays)+len(p.hours) > 0 || len(p.terms) > 2 {
		return "", false
	}
	t, ok := p.asWall()
	if !ok || t.kind == running && !t.passing {
		return "", false
	}
	hours, minutes, seconds, ok := t.product()
	if !ok || seconds != 1 {
		return "", false
	}
	hourField := cronField(uint64(hours), 23)
	if t.passing { // only a field that begins with a star means passing minutes
		if hourField, ok = starred(uint64(hours), 0, 23); !ok {
			return "", false
		}
	}
	days, month, weekdays, ok := p.cronDays()
	if !ok {
		return "", false
	}
	minuteField, ok := starred(minutes, 0, 59)
	if _, list, stars := strings.Cut(minuteField, ","); !ok || stars && list != "" {
		minuteField = cronField(minutes, 59)
	}
	return strings.Join([]string{minuteField, hourField, days, month, weekdays}, " "), true
}

// asWall gives the times as wall times or passing minutes, where a repeat means
// the same in the zone.
func (p *plan) asWall() (times, bool) {
	t := p.times
	if t.kind != repeating {
		return t, true
	}
	if t.shut >= civil.Day || t.step%civil.Minute != 0 {
		return t, false
	}
	if t.whole && civil.Hour%t.step == 0 && p.shiftsBy(t.step) {
		out := times{kind: running, passing: true, unit: minute, every: 1, hours: allHours, seconds: 1}
		for m := int64(0); m < 60; m += t.step / civil.Minute {
			out.minutes |= 1 << m
		}
		return out, true
	}
	if !p.unmoved(t.open, t.shut) {
		return t, false
	}
	out := times{kind: wallTimes}
	for at := t.open; at <= t.shut; at += t.step {
		out.list = append(out.list, int32(at)) //nolint:gosec // within a day
	}
	out.count = len(out.list)
	return out, true
}

// product gives the times as all combinations of hours, minutes and seconds.
func (t *times) product() (hours uint32, minutes, seconds uint64, ok bool) {
	if t.list == nil {
		return t.hours, t.minutes, t.seconds, true
	}
	for _, at := range t.list {
		hours |= 1 << (at / 3600)
		minutes |= 1 << (at % 3600 / 60)
		seconds |= 1 << (at % 60)
	}
	count := bits.OnesCount32(hours) * bits.OnesCount64(minutes) * bits.OnesCount64(seconds)
	return hours, minutes, seconds, count == len(t.list)
}

// cronDays writes the three day fields.
func (p *plan) cronDays() (days, month, weekdays string, ok bool) {
	days, month, weekdays = "*", "*", "*"
	if len(p.terms) == 0 {
		return days, month, weekdays, true
	}
	for _, t := range p.terms {
		if t.fromEnd != 0 || t.nth != nil || t.days != nil || t.weeks != nil || t.open || t.shut || t.openNth != nil ||
			t.months != p.terms[0].months {
			return "", "", "", false
		}
	}
	t := p.terms[0]
	if t.months != 0 && t.months != allYear {
		month = cronField(uint64(t.months), 12)
	}
	if len(p.terms) == 2 {
		o := p.terms[1]
		if t.dates == 0 {
			t, o = o, t
		}
		if t.dates == 0 || t.weekdays != 0 || o.dates != 0 || o.weekdays == 0 {
			return "", "", "", false
		}
		return cronField(uint64(t.dates), 31), month, cronField(uint64(o.weekdays), 6), true
	}
	switch {
	case t.dates != 0 && t.weekdays != 0 && t.dates.Has(1):
		// A day field that begins with a star does not offer itself instead of
		// the other, so both must hold.
		days, ok = starred(uint64(t.dates), 1, 31)
		return days, month, cronField(uint64(t.weekdays), 6), ok
	case t.dates != 0 && t.weekdays&1 == 1:
		weekdays, ok = starred(uint64(t.weekdays), 0, 6)
		return cronField(uint64(t.dates), 31), month, weekdays, ok
	case t.dates != 0 && t.weekdays != 0:
		return "", "", "", false
	case t.dates != 0:
		days = cronField(uint64(t.dates), 31)
	case t.weekdays != 0:
		weekdays = cronField(uint64(t.weekdays), 6)
	}
	return days, month, weekdays, true
}

// cronField writes a set of numbers of a field as ranges, steps and numbers,
// without a star.
func cronField(mask uint64, high int) string {
	first, last, count := bits.TrailingZeros64(mask), 63-bits.LeadingZeros64(mask), bits.OnesCount64(mask)
	if step, even := evenly(mask); even && count > 3 && step > 1 {
		return fmt.Sprintf("%d-%d/%d", first, last, step)
	}
	list := spans(mask, high, strconv.Itoa)
	for i := range list {
		list[i] = strings.Replace(list[i], " to ", "-", 1)
	}
	return strings.Join(list, ",")
}

// starred writes a set so that the field begins with a star; ok is false when no
// step of a star stays within the set.
func starred(mask uint64, low, high int) (text string, ok bool) {
	if bits.OnesCount64(mask) == high-low+1 {
		return "*", true
	}
	widest := high
	if high == 6 {
		widest = 7 // the field goes to 7, its star to 6
	}
	for step := 2; step <= widest; step++ {
		var m uint64
		for n := low; n <= high; n += step {
			m |= 1 << n
		}
		if m&^mask != 0 {
			continue
		}
		text = fmt.Sprintf("*/%d", step)
		if rest := mask &^ m; rest != 0 {
			text += "," + cronField(rest, high)
		}
		return text, true
	}
	return "", false
}
