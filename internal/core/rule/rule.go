// Package rule tells when something rings.
//
// A text in one of three notations is read into a plan, which has no trace of
// the notation left; one engine finds the next instant of any plan. The rooms,
// in the order in which a text passes them: words.go, cron.go and icalendar.go
// read; plan.go holds what was read, dates.go and times.go say which dates of a
// month and which times of a day are meant, closed.go moves dates off closed
// days; search.go finds the next wall time and lays it onto an instant;
// writewords.go, writecron.go and writeicalendar.go write a plan down again;
// warn.go says where a text means something other than it seems.
//
// Nothing here reads a clock. A Rule is immutable and may be used by several
// goroutines.
package rule

import (
	"fmt"
	"strings"
	"time"

	"ironbell/internal/core/civil"
)

// Rule is the text of a time trigger, read and ready to be asked. The zero
// value rings never.
type Rule struct {
	text     string
	notation Notation
	plan     *plan
	plain    *plan // the plan before closed days and permitted hours took rings away
	remarks  []string
}

// maxText is the longest text of a rule, in bytes.
const maxText = 10_000

// Notation is the form in which a rule was written.
type Notation string

// The notations.
const (
	Words     Notation = "words"
	Cron      Notation = "cron"
	ICalendar Notation = "icalendar"
)

// Calendar tells which days are open. It must not change while a rule uses it.
type Calendar interface {
	// Open is the set of the open days of a month.
	Open(year, month int) civil.Mask
	// Why says in a sentence why a day, counted from 1970-01-01, is closed.
	Why(serial int64) string
}

// Closed says what becomes of a ring whose day is closed.
type Closed string

// The ways to deal with closed days. Ignored rings on closed days, too.
const (
	Ignore Closed = ""
	Skip   Closed = "skip"   // passed over
	Before Closed = "before" // moved to the nearest open day before
	After  Closed = "after"  // moved to the nearest open day after
)

// Hours are permitted hours of the day, in seconds after midnight, both ends
// included. They run over midnight when To is before From.
type Hours struct{ From, To int64 }

// Options are what a trigger says beside the text of its rule. Both hold: the
// later start, the earlier end. Zone is needed, all else may be left out.
type Options struct {
	Zone       *time.Location
	Calendar   Calendar // Monday to Friday are open when left out
	Start, End time.Time
	Count      int // of rings from the start
	Closed     Closed
	Hours      []Hours
}

// Error is what is wrong with the text of a rule, and where.
type Error struct {
	Text     string
	Column   int // counted from 1, in bytes of Text
	Expected string
	Found    string
	Meant    string   // a word that may have been meant
	Offers   []string // whole rules of which one may have been meant
}

func (e *Error) Error() string {
	text := fmt.Sprintf("column %d: %s", e.Column, e.Expected)
	if e.Found != "" {
		text = fmt.Sprintf("column %d: found %q, expected %s", e.Column, e.Found, e.Expected)
	}
	if len(e.Offers) > 0 {
		text += fmt.Sprintf("; write %s", strings.Join(e.Offers, ", or "))
	}
	if e.Meant != "" {
		text += fmt.Sprintf("; did you mean %q?", e.Meant)
	}
	return text
}

// Parse reads the text of a rule that lives in a zone. The error is an *Error.
func Parse(text string, z *time.Location) (Rule, error) { return Options{Zone: z}.Parse(text) }

// Parse reads the text of a rule, in any notation, under the options. Its time
// is in proportion to the text. The error is an *Error.
func (o Options) Parse(text string) (Rule, error) {
	if len(text) > maxText {
		return Rule{},
			&Error{
				Text: text[:maxText], Column: maxText + 1,
				Expected: fmt.Sprintf("a rule has at most %d characters", maxText),
			}
	}
	r := Rule{text: text, notation: notationOf(text)}
	p := &plan{zone: o.Zone, from: never, until: always, calendar: o.Calendar, every: 1, weekStart: monday}
	if p.calendar == nil {
		p.calendar, p.defaultCalendar = weekdaysOpen{}, true
	}
	var err error
	switch r.notation {
	case Cron:
		err = readCron(p, text)
	case ICalendar:
		r.remarks, err = readICalendar(p, text, o)
	default:
		err = readWords(p, text, o)
	}
	if err != nil {
		return Rule{}, err
	}
	if err := p.finish(text, o); err != nil {
		return Rule{}, err
	}
	r.plan, r.plain = p, p
	if p.closed == Skip || len(p.hours) > 0 {
		plain := *p
		plain.memo, plain.hours = &memo{}, nil
		if p.closed == Skip {
			plain.closed = Ignore
		}
		r.plain = &plain
	}
	return r, nil
}

// notationOf tells the notations apart by how a text begins.
func notationOf(text string) Notation {
	if looksLikeICalendar(text) {
		return ICalendar
	}
	if looksLikeCron(text) {
		return Cron
	}
	return Words
}

// String is the text as it was written.
func (r Rule) String() string { return r.text }

// Notation is the form in which the rule was written.
func (r Rule) Notation() Notation { return r.notation }

// Location is the zone in which the rule lives.
func (r Rule) Location() *time.Location {
	if r.plan == nil {
		return time.UTC
	}
	return r.plan.zone
}

// Next is the first ring strictly after the given instant, in the zone of the
// rule; ok is false when none comes within the horizon (forty years, more for
// rules by many years).
//
// A wall time that does not exist rings at the instant that the offset before
// the gap gives, one that exists twice at the first (RFC 5545 section 3.3.5).
// Rules by elapsed time ring through both.
func (r Rule) Next(after time.Time) (next time.Time, ok bool) {
	if r.plan == nil {
		return time.Time{}, false
	}
	found, ok := r.plan.next(after.Unix() + 1)
	if !ok {
		return time.Time{}, false
	}
	return time.Unix(found.due, 0).In(r.plan.zone), true
}

// Ring is a due time with the date that the rule named for it.
type Ring struct {
	Due     time.Time
	Nominal time.Time // differs from Due when a closed day moved it
	Passed  bool      // it does not ring: its day is closed, or the hour is not permitted
	day     int64     // that was named
}

// Moved tells whether a closed day moved the ring.
func (r Ring) Moved() bool { return !r.Nominal.Equal(r.Due) }

// Moves tells whether closed days move rings of the rule, which then may lie far
// from the dates that it names.
func (r Rule) Moves() bool {
	return r.plan != nil && (r.plan.closed == Before || r.plan.closed == After)
}

// Step is the first ring strictly after the given instant, or the first that is
// passed over, whichever comes first.
func (r Rule) Step(after time.Time) (Ring, bool) {
	if r.plan == nil {
		return Ring{}, false
	}
	found, ok := r.plain.next(after.Unix() + 1)
	if !ok {
		return Ring{}, false
	}
	p := r.plan
	due := time.Unix(found.due, 0).In(p.zone)
	ring := Ring{Due: due, Nominal: due, day: found.day}
	if found.nominal != found.due {
		ring.Nominal = time.Unix(found.nominal, 0).In(p.zone)
	}
	ring.Passed = p.closed == Skip && !p.isOpen(found.day) || !p.permittedAt(found.due)
	return ring, true
}

// Reason says in a sentence why a ring of this rule was moved or passed over; it
// is empty for one that rings as it was named.
func (r Rule) Reason(ring Ring) string {
	p := r.plan
	switch {
	case p == nil:
		return ""
	case p.closed == Skip && !p.isOpen(ring.day):
		return p.calendar.Why(ring.day)
	case !p.permittedAt(ring.Due.Unix()):
		return fmt.Sprintf("%s is outside the permitted hours %s", ring.Due.Format("15:04"), readHours(p.hours))
	case ring.Moved():
		return fmt.Sprintf("%s; moved to %s", p.calendar.Why(ring.day), ring.Due.Format("Mon 2 January"))
	}
	return ""
}

// Permitted is the first instant at or after the given one at which the rule's
// permitted hours let a run start.
func (r Rule) Permitted(at time.Time) time.Time {
	if r.plan == nil || len(r.plan.hours) == 0 {
		return at
	}
	if r.plan.permittedAt(at.Unix()) {
		return at
	}
	return time.Unix(r.plan.opening(at.Unix()), 0).In(r.plan.zone)
}

// Ends is the last instant at which the rule may ring by its own end or count;
// ok is false when it has no end.
func (r Rule) Ends() (at time.Time, ok bool) {
	if r.plan == nil || r.plan.end() == always {
		return time.Time{}, false
	}
	return time.Unix(r.plan.end(), 0).In(r.plan.zone), true
}

// weekdaysOpen is the calendar of those who named none.
type weekdaysOpen struct{}

// Years whose open days are kept, since they are asked for all the time.
const keptFrom, keptTo = 1990, 2126

var keptOpen = func() (kept [(keptTo - keptFrom) * 12]civil.Mask) {
	for i := range kept {
		kept[i] = workdaysOf(keptFrom+i/12, i%12+1)
	}
	return kept
}()

func workdaysOf(year, month int) civil.Mask {
	return civil.Spread(workdays, civil.Weekday(civil.Serial(year, month, 1))) & civil.Month(year, month)
}

func (weekdaysOpen) Open(year, month int) civil.Mask {
	if i := (year-keptFrom)*12 + month - 1; i >= 0 && i < len(keptOpen) {
		return keptOpen[i]
	}
	return workdaysOf(year, month)
}

func (weekdaysOpen) Why(serial int64) string {
	y, m, d := civil.Date(serial)
	return fmt.Sprintf("%d %s %d is a %s, and without a calendar Monday to Friday are open", d, monthNames[m], y,
		weekdayNames[civil.Weekday(serial)])
}
