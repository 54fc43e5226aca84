package moment

import (
	"fmt"
	"slices"
	"strings"
	"time"
)

// Range is a stretch between two moving dates: "midnight to past hour", "last 8
// weeks", "last month". Dates include both ends; of instants the second is where
// the stretch ends.
type Range struct {
	text     string
	from, to Moment
}

// ParseRange reads the text of a range. The error says what was expected.
func ParseRange(text string) (Range, error) {
	r, err := parseRange(words(text))
	if err != nil {
		return Range{}, fmt.Errorf("%q is no range: %w", text, err)
	}
	r.text = text
	return r, nil
}

func parseRange(words []string) (Range, error) {
	if len(words) > 0 && words[0] == "the" {
		words = words[1:]
	}
	if shift, ok := first(words); ok && len(words) > 1 {
		// "last 8 weeks": the whole weeks before this one. Hours and minutes end now.
		if n, unit, rest, err := readLength(words[1:]); err == nil && shift == -1 && len(rest) == 0 {
			return lastOnes(n, unit), nil
		}
		if period := words[1]; slices.Contains(periods, period) && len(words) == 2 {
			return Range{
				from: Moment{anchor: anchor{kind: "start", period: period, shift: shift}},
				to:   Moment{anchor: anchor{kind: "end", period: period, shift: shift}},
			}, nil
		}
	}
	from, rest, err := parse(words)
	if err != nil {
		return Range{}, err
	}
	if len(rest) == 0 || rest[0] != "to" && rest[0] != "until" {
		return Range{},
			fmt.Errorf("after %q comes to and where it ends, such as midnight to past hour",
				strings.Join(words[:len(words)-len(rest)], " "))
	}
	rest = rest[1:]
	if len(rest) > 0 && rest[0] == "the" {
		rest = rest[1:]
	}
	to, rest, err := parse(rest)
	if err != nil {
		return Range{}, err
	}
	if len(rest) > 0 {
		return Range{}, fmt.Errorf("%q stands behind its end", strings.Join(rest, " "))
	}
	return Range{from: from, to: to}, nil
}

func first(words []string) (shift int, ok bool) {
	if len(words) == 0 {
		return 0, false
	}
	shift, ok = whiches[words[0]]
	return shift, ok
}

// lastOnes is the stretch of the last n units.
func lastOnes(n int, unit string) Range {
	now, before := Moment{anchor: anchor{kind: "now"}}, []step{{n: -n, unit: unit}}
	switch unit {
	case "minute", "hour":
		return Range{from: Moment{anchor: now.anchor, steps: before}, to: now}
	case "open day":
		// Through yesterday, from the n-th open day before today.
		return Range{
			from: Moment{anchor: anchor{kind: "day"}, steps: before},
			to:   Moment{anchor: anchor{kind: "day", shift: -1}},
		}
	default:
		start := anchor{kind: "start", period: unit}
		return Range{
			from: Moment{anchor: start, steps: before},
			to:   Moment{anchor: anchor{kind: "end", period: unit, shift: -1}},
		}
	}
}

// String is the text as it was written.
func (r Range) String() string { return r.text }

// At reckons both ends from a nominal instant, in that instant's zone.
func (r Range) At(nominal time.Time, f Frame) (from, to time.Time) {
	return r.from.At(nominal, f), r.to.At(nominal, f)
}
