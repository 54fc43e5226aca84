package rule

import (
	"math/bits"
	"slices"

	"ironbell/internal/core/civil"
)

// kind tells how the times of a plan are reckoned.
type kind uint8

const (
	wallTimes kind = iota // times of the day by the wall clock, each once
	repeating             // elapsed steps that start anew at midnight or with a window of the day
	running               // elapsed steps from the start, or each passing wall minute
)

// times are the times of a day at which a plan rings.
type times struct {
	kind  kind
	given bool // the text named times

	// Wall times: a list, or all combinations of hours, minutes and seconds.
	list    []int32 // seconds of the day in order; used when it is not nil
	hours   uint32  // bits 0 to 23
	minutes uint64  // bits 0 to 59
	seconds uint64  // bits 0 to 59
	count   int     // of times in a day
	first   int64   // the earliest, as seconds of the day

	// Repeating: every step seconds in [open, shut] of a day; shut is beyond
	// the day's end when the window runs over midnight. whole is a window from
	// midnight to midnight.
	step, open, shut int64
	whole            bool

	// Running: every n units from the start, at the wall times that the masks
	// let through.
	unit                          unit
	every                         int64
	passing                       bool // each passing wall minute, without a start
	inHours, inMinutes, inSeconds bool // which of the masks the text named
	// An instant t counts when (t - base) mod period < width.
	base, period, width int64
	namedSeconds        uint64  // the seconds before only chose among them
	chosen              []int32 // the times that only picks; used instead of the masks when not nil
}

const (
	allHours   = uint32(1)<<24 - 1
	allSixties = uint64(1)<<60 - 1
)

// finish makes the times ready to be searched.
func (t *times) finish(p *plan, wrong func(string, ...any) error) error {
	if t.hours == 0 {
		t.hours = allHours
	}
	if t.minutes == 0 {
		t.minutes = allSixties
	}
	if t.kind == running {
		if err := t.run(p, wrong); err != nil {
			return err
		}
	} else if t.seconds == 0 {
		t.seconds = 1
	}
	if t.kind == repeating {
		t.count, t.first = int((t.shut-t.open)/t.step)+1, t.open
		if p.only != nil {
			return wrong("only picks among times that are named one by one, not among repeats")
		}
		return nil
	}
	slices.Sort(t.list)
	t.list = slices.Compact(t.list)
	t.measure()
	if p.only == nil {
		return nil
	}
	switch {
	case p.unit == noUnit:
		return wrong("only needs a period, such as only the last of every month")
	case t.kind == wallTimes && p.unit == dayUnit:
		t.list = pick(p.only, t.count, func(i int) int32 { return int32(t.nth(i)) }) //nolint:gosec // within a day
		if len(t.list) == 0 {
			return wrong("this never rings: a day has only %d of these times", t.count)
		}
		p.only, p.unit = nil, noUnit
		if p.every > 1 {
			p.unit = dayUnit
		}
		t.measure()
	case t.kind == wallTimes && p.unit < dayUnit:
		return wrong("only of every %s needs a rule that rings by elapsed %ss", p.unit, p.unit)
	case t.kind == wallTimes:
		p.mixed = t.count > 1
	}
	return nil
}

// measure counts the times and finds the first.
func (t *times) measure() {
	t.count = bits.OnesCount32(t.hours) * bits.OnesCount64(t.minutes) * bits.OnesCount64(t.seconds)
	if t.list != nil {
		t.count = len(t.list)
	}
	t.first, _ = t.next(0)
}

// pick chooses among count things by number, from the end when negative.
func pick(only []int, count int, of func(int) int32) []int32 {
	out := []int32{}
	for _, n := range only {
		i := n - 1
		if n < 0 {
			i = count + n
		}
		if i >= 0 && i < count {
			out = append(out, of(i))
		}
	}
	slices.Sort(out)
	return slices.Compact(out)
}

// run lays the elapsed steps out (RFC 5545 section 3.3.10, HOURLY and finer).
func (t *times) run(p *plan, wrong func(string, ...any) error) error {
	if t.passing {
		t.seconds, t.period, t.width = 1, 1, 1
		return nil
	}
	if p.from == never {
		return wrong("every %d elapsed %ss needs a start: add from and a date with a time", t.every, t.unit)
	}
	_, sec := civil.Split(p.from + p.spans.At(p.from).Offset)
	length := map[unit]int64{hour: civil.Hour, minute: civil.Minute, second: 1}[t.unit]
	t.period, t.base, t.width = length*t.every, p.from, 1
	switch {
	case t.unit == hour && t.inMinutes:
		t.base, t.width = p.from-sec%civil.Hour, civil.Hour
	case t.unit != second && t.inSeconds:
		t.base, t.width = p.from-sec%civil.Minute, civil.Minute
	}
	if t.seconds == 0 {
		t.seconds = allSixties
		if t.unit == hour && t.inMinutes {
			t.seconds = 1 << (sec % 60)
		}
	}
	if p.only != nil {
		if err := t.choose(p, sec, wrong); err != nil {
			return err
		}
	}
	if !t.reachable(p) {
		return wrong("this never rings: none of its elapsed steps falls on a time that it names")
	}
	return nil
}

// choose applies only to the rings of each hour or minute.
func (t *times) choose(p *plan, sec int64, wrong func(string, ...any) error) error {
	if p.unit != t.unit {
		return wrong("only counts the rings of one %s here", t.unit)
	}
	minutes, seconds := t.minutes, t.seconds
	if !t.inMinutes {
		minutes = 1 << (sec % civil.Hour / civil.Minute)
	}
	if !t.inSeconds {
		seconds = 1 << (sec % civil.Minute)
	}
	block := times{hours: 1, minutes: minutes, seconds: seconds}
	if t.unit == minute {
		block.minutes = 1
	}
	if t.unit == second {
		block.minutes, block.seconds = 1, 1
	}
	block.measure()
	chosen := pick(p.only, block.count, func(i int) int32 { return int32(block.nth(i)) }) //nolint:gosec // within a day
	if len(chosen) == 0 {
		return wrong("this never rings: a %s has only %d of these times", t.unit, block.count)
	}
	switch {
	case len(chosen) == block.count:
		// All are chosen: nothing to leave out.
	case t.unit == hour:
		for h := range 24 {
			if t.hours>>h&1 == 1 {
				for _, s := range chosen {
					t.chosen = append(t.chosen, int32(h*3600)+s)
				}
			}
		}
	default:
		t.namedSeconds, t.seconds = t.seconds, 0
		for _, s := range chosen {
			t.seconds |= 1 << s
		}
	}
	return nil
}

// saidSeconds are the seconds as the text named them.
func (t *times) saidSeconds() uint64 {
	if t.namedSeconds != 0 {
		return t.namedSeconds
	}
	return t.seconds
}

// reachable tells whether some time of the day can be met by the elapsed steps
// under the offsets that the zone knows. It keeps a search from walking forty
// years in vain.
func (t *times) reachable(p *plan) bool {
	step := gcd(t.period, civil.Day)
	start := p.spans.At(p.from).Offset
	p.spans.Seams(0, always, func(s spanSeam) bool {
		step = gcd(step, abs(s.Offset-s.Before))
		return step > 1
	})
	if step <= t.width {
		return true
	}
	for at := int64(0); ; at++ {
		found, ok := t.next(at)
		if !ok {
			return false
		}
		if civil.Mod(found-start-t.base, step) < t.width {
			return true
		}
		at = found
	}
}

func gcd(a, b int64) int64 {
	for b != 0 {
		a, b = b, a%b
	}
	return a
}

func abs(n int64) int64 { return max(n, -n) }

// anyPermitted tells whether one of the times of a day lies in permitted hours.
func (t *times) anyPermitted(p *plan) bool {
	for at, ok := t.next(0); ok; at, ok = t.next(at + 1) {
		if p.permitted(at) {
			return true
		}
	}
	return false
}

// next is the first time of the day at or after a second of it.
func (t *times) next(sec int64) (int64, bool) {
	list := t.list
	if t.chosen != nil {
		list = t.chosen
	}
	if list != nil {
		if len(list) > 16 {
			i, _ := slices.BinarySearch(list, int32(min(sec, civil.Day))) //nolint:gosec // within a day
			list = list[i:]
		}
		for _, at := range list {
			if int64(at) >= sec {
				return int64(at), true
			}
		}
		return 0, false
	}
	if sec >= civil.Day {
		return 0, false
	}
	h, m, s := sec/civil.Hour, sec%civil.Hour/civil.Minute, sec%civil.Minute
	if t.hours>>h&1 == 1 {
		if t.minutes>>m&1 == 1 {
			if rest := t.seconds >> s << s; rest != 0 {
				return h*civil.Hour + m*civil.Minute + int64(bits.TrailingZeros64(rest)), true
			}
		}
		if rest := t.minutes >> (m + 1) << (m + 1); rest != 0 {
			return h*civil.Hour + int64(bits.TrailingZeros64(rest))*civil.Minute +
				int64(bits.TrailingZeros64(t.seconds)), true
		}
	}
	if rest := t.hours >> (h + 1) << (h + 1); rest != 0 {
		return int64(bits.TrailingZeros32(rest))*civil.Hour + int64(bits.TrailingZeros64(t.minutes))*civil.Minute +
			int64(bits.TrailingZeros64(t.seconds)), true
	}
	return 0, false
}

// nth is the time of the day with a number, counted from 0.
func (t *times) nth(i int) int64 {
	if t.list != nil {
		return int64(t.list[i])
	}
	minutes, seconds := bits.OnesCount64(t.minutes), bits.OnesCount64(t.seconds)
	return int64(bit(uint64(t.hours), i/(minutes*seconds)))*civil.Hour +
		int64(bit(t.minutes, i/seconds%minutes))*civil.Minute + int64(bit(t.seconds, i%seconds))
}

// bit is the place of the n-th set bit, counted from 0.
func bit(mask uint64, n int) int {
	for ; n > 0; n-- {
		mask &= mask - 1
	}
	return bits.TrailingZeros64(mask)
}

// spacing is the smallest distance between two times of a day, or over midnight
// between two days that follow each other, in seconds. A day at least when
// there is one time.
func (t *times) spacing() int64 {
	switch {
	case t.kind == repeating && t.count > 1:
		return t.step
	case t.kind == running && t.width == 1 && !t.passing:
		return t.period
	case t.count < 2 && t.chosen == nil:
		return civil.Day
	}
	least := civil.Day
	first, _ := t.next(0)
	for at := first; least > 1; {
		following, ok := t.next(at + 1)
		if !ok {
			return min(least, first+civil.Day-at)
		}
		least = min(least, following-at)
		at = following
	}
	return least
}
