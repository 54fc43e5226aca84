// Package rule tells when something rings.
//
// A text in one of several notations is read into a Rule; one engine finds the
// next instant of any Rule and knows nothing of the notation it came from. The
// rooms, in the order in which a text passes them: cron.go reads cron text into
// a pattern of wall minutes; pattern.go finds the next wall minute of a pattern
// by bit masks; rule.go lays wall minutes onto instants in a time zone;
// reading.go says a pattern in words.
//
// Nothing here reads a clock. A Rule is immutable and may be used by several
// goroutines.
package rule

import (
	"fmt"
	"strings"
	"time"
	_ "time/tzdata" // zones are compiled in, so that every node reckons alike
)

// Rule is the text of a time trigger, read and ready to be asked. The zero
// value rings never.
type Rule struct {
	text    string
	zone    *time.Location
	pattern pattern
	passing bool // rings at each passing wall minute, also in a repeated hour
}

// Error is what is wrong with the text of a rule, and where.
type Error struct {
	Text     string
	Column   int // counted from 1, in bytes of Text
	Expected string
	Found    string
}

func (e *Error) Error() string {
	if e.Found == "" {
		return fmt.Sprintf("column %d: %s", e.Column, e.Expected)
	}
	return fmt.Sprintf("column %d: found %q, expected %s", e.Column, e.Found, e.Expected)
}

// Zone loads a time zone by its name in the zone database. Unlike
// time.LoadLocation it refuses "" and "Local", which would make a rule depend
// on the machine.
func Zone(name string) (*time.Location, error) {
	if name == "" || strings.EqualFold(name, "local") {
		return nil, fmt.Errorf("a time zone is needed, such as Europe/London")
	}
	z, err := time.LoadLocation(name)
	if err != nil {
		return nil, fmt.Errorf("there is no time zone %q; use a name of the zone database, such as Europe/London", name)
	}
	return z, nil
}

// Parse reads the text of a rule that lives in zone. The error is an *Error.
func Parse(text string, zone *time.Location) (Rule, error) {
	p, passing, err := parseCron(text)
	if err != nil {
		return Rule{}, err
	}
	return Rule{text: text, zone: zone, pattern: p, passing: passing}, nil
}

// String is the text as it was written.
func (r Rule) String() string { return r.text }

// Location is the zone in which the rule lives.
func (r Rule) Location() *time.Location { return r.zone }

// Next is the first ring strictly after the given instant, in the zone of the
// rule; ok is false when none comes within the horizon of forty years.
//
// A wall time that does not exist rings at the instant that the offset before
// the gap gives, one that exists twice at the first (RFC 5545 section 3.3.5).
// A rule that rings at each passing wall minute rings in both.
func (r Rule) Next(after time.Time) (next time.Time, ok bool) {
	if r.zone == nil {
		return time.Time{}, false
	}
	// The zone's history is a row of spans with one offset each. Within a span
	// wall time is the instant plus the offset, so the search is done on wall
	// minutes and carried back; only the seams need thought.
	from := after.Unix()
	from = from - mod(from, 60) + 60
	end := from + horizon
	for from < end {
		t := time.Unix(from, 0).In(r.zone)
		_, offset := t.Zone()
		spanStart, spanEnd := t.ZoneBounds()
		until := end
		if !spanEnd.IsZero() && spanEnd.Unix() < until {
			until = spanEnd.Unix()
		}
		first, found := r.inSpan(from, until, int64(offset), spanStart)
		if found {
			return time.Unix(first, 0).In(r.zone), true
		}
		from = until
		// A seam that is no whole minute (zones before about 1940) would set
		// the search between minutes.
		if m := mod(from, 60); m != 0 {
			from += 60 - m
		}
	}
	return time.Time{}, false
}

// inSpan finds the first ring in [from, until), all of which has one offset.
func (r Rule) inSpan(from, until, offset int64, start time.Time) (int64, bool) {
	wall := from + offset
	if r.passing || start.IsZero() {
		return r.firstBefore(wall, until+offset, offset)
	}
	_, before := start.Add(-time.Second).Zone()
	seam := start.Unix()
	switch gap := offset - int64(before); {
	case gap < 0: // clocks went back: what was passed already rang the first time
		wall = max(wall, seam+int64(before))
		return r.firstBefore(wall, until+offset, offset)
	case gap > 0 && from < seam+gap: // clocks went forward: the skipped wall times ring now
		skipped, found := r.firstBefore(from+int64(before), seam+offset, int64(before))
		usual, also := r.firstBefore(wall, until+offset, offset)
		if found && (!also || skipped < usual) && skipped < until {
			return skipped, true
		}
		return usual, also
	default:
		return r.firstBefore(wall, until+offset, offset)
	}
}

// firstBefore is the instant of the first matching wall minute in [wall, limit).
func (r Rule) firstBefore(wall, limit, offset int64) (int64, bool) {
	w, ok := r.pattern.next(wall, limit)
	if !ok {
		return 0, false
	}
	return w - offset, true
}

// mod is the remainder that is never negative.
func mod(a, b int64) int64 { return ((a % b) + b) % b }
