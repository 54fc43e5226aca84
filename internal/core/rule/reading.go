package rule

import (
	"fmt"
	"math/bits"
	"strconv"
	"strings"
)

var weekdayNames = [7]string{"Sunday", "Monday", "Tuesday", "Wednesday", "Thursday", "Friday", "Saturday"}

var monthNames = [13]string{"", "January", "February", "March", "April", "May", "June", "July", "August", "September", "October", "November", "December"}

// Reading says the rule in words: "Monday to Friday at 06:15".
func (r Rule) Reading() string {
	if r.zone == nil {
		return "never"
	}
	p := r.pattern
	parts := []string{p.readDays()}
	if p.months != 0x1ffe {
		parts = append(parts, "in "+join(spans(uint64(p.months), 12, func(n int) string { return monthNames[n] }), "and"))
	}
	parts = append(parts, p.readTimes())
	text := strings.Join(parts, " ")
	if every, ok := strings.CutPrefix(text, "every day every"); ok {
		text = "every" + every
	}
	return text
}

func (p pattern) readDays() string {
	allDays, allWeek := p.days == 0xfffffffe, p.weekdays == 0x7f
	dates := "on day " + join(spans(uint64(p.days), 31, strconv.Itoa), "and") + " of the month"
	week := join(weekSpans(p.weekdays), "and")
	switch {
	case p.either && !allDays && !allWeek:
		return dates + " and also on every " + week
	case p.either, allDays && allWeek:
		return "every day"
	case allDays:
		return week
	case allWeek:
		return dates
	default:
		return dates + " when it is a " + join(weekSpans(p.weekdays), "or")
	}
}

// weekSpans reads the week from Monday, as people do.
func weekSpans(mask uint8) []string {
	fromMonday := uint64(mask>>1) | uint64(mask&1)<<6
	return spans(fromMonday<<1, 7, func(n int) string { return weekdayNames[n%7] })
}

func (p pattern) readTimes() string {
	minutes, hours := bits.OnesCount64(p.minutes), bits.OnesCount32(p.hours)
	if hours == 24 {
		switch step := evenStep(p.minutes, 60); {
		case minutes == 60:
			return "every minute"
		case step > 0 && p.minutes&1 == 1:
			return fmt.Sprintf("every %d minutes", step)
		case step > 0:
			return fmt.Sprintf("every %d minutes from :%02d", step, bits.TrailingZeros64(p.minutes))
		default:
			return "every hour at " + join(spansOf(p.minutes, 60, func(n int) string { return fmt.Sprintf(":%02d", n) }), "and")
		}
	}
	if step, first, last := progression(p.hours); minutes == 1 && hours > 3 && step > 0 {
		m := bits.TrailingZeros64(p.minutes)
		every := fmt.Sprintf("every %d hours", step)
		if step == 1 {
			every = "every hour"
		}
		return fmt.Sprintf("%s from %02d:%02d to %02d:%02d", every, first, m, last, m)
	}
	if minutes*hours <= 8 {
		var times []string
		for h := range 24 {
			for m := range 60 {
				if p.hours>>h&1 == 1 && p.minutes>>m&1 == 1 {
					times = append(times, fmt.Sprintf("%02d:%02d", h, m))
				}
			}
		}
		return "at " + join(times, "and")
	}
	within := "in the hours " + join(spans(uint64(p.hours), 23, func(n int) string { return fmt.Sprintf("%02d", n) }), "and")
	switch step := evenStep(p.minutes, 60); {
	case minutes == 60:
		return "every minute " + within
	case step > 0 && p.minutes&1 == 1:
		return fmt.Sprintf("every %d minutes %s", step, within)
	default:
		return "at " + join(spansOf(p.minutes, 60, func(n int) string { return fmt.Sprintf(":%02d", n) }), "and") + " " + within
	}
}

// progression tells whether the set bits are evenly spaced, and from where to where.
func progression(mask uint32) (step, first, last int) {
	first, last = bits.TrailingZeros32(mask), 31-bits.LeadingZeros32(mask)
	count := bits.OnesCount32(mask)
	if count < 2 || (last-first)%(count-1) != 0 {
		return 0, first, last
	}
	step = (last - first) / (count - 1)
	for h := first; h <= last; h += step {
		if mask>>h&1 == 0 {
			return 0, first, last
		}
	}
	return step, first, last
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

func join(items []string, last string) string {
	if len(items) < 2 {
		return strings.Join(items, "")
	}
	return strings.Join(items[:len(items)-1], ", ") + " " + last + " " + items[len(items)-1]
}
