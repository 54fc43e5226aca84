package rule_test

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"ironbell/internal/core/civil"
	"ironbell/internal/core/rule"
	"ironbell/internal/core/zone"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

// drawRecurrence draws an RRULE with any of its parts.
func drawRecurrence(t *rapid.T) string {
	freq := pick(t, "freq", "YEARLY", "MONTHLY", "WEEKLY", "DAILY", "HOURLY", "MINUTELY", "SECONDLY")
	numbers := func(label string, low, high int, signed bool) string {
		n := rapid.IntRange(low, high)
		if signed {
			n = rapid.OneOf(n, rapid.IntRange(-high, -max(low, 1)))
		}
		list := rapid.SliceOfNDistinct(n, 1, 4, rapid.ID[int]).Draw(t, label)
		return strings.Trim(strings.ReplaceAll(fmt.Sprint(list), " ", ","), "[]")
	}
	parts := []string{"FREQ=" + freq}
	if rapid.Bool().Draw(t, "interval") {
		parts = append(parts, fmt.Sprintf("INTERVAL=%d", rapid.IntRange(1, 9).Draw(t, "n")))
	}
	by := 0
	add := func(name, value string) {
		parts = append(parts, name+"="+value)
		by++
	}
	some := func(label string) bool { return rapid.IntRange(0, 3).Draw(t, label) == 0 }
	if some("months") {
		add("BYMONTH", numbers("month", 1, 12, false))
	}
	if freq == "YEARLY" && some("weeks") {
		add("BYWEEKNO", numbers("week", 1, 53, true))
	}
	if (freq == "YEARLY" || freq == "HOURLY" || freq == "MINUTELY" || freq == "SECONDLY") && some("year days") {
		add("BYYEARDAY", numbers("year day", 1, 366, true))
	}
	if freq != "WEEKLY" && some("month days") {
		add("BYMONTHDAY", numbers("month day", 1, 31, true))
	}
	if some("weekdays") {
		var list []string
		for _, d := range rapid.SliceOfNDistinct(rapid.SampledFrom([]string{"MO", "TU", "WE", "TH", "FR", "SA", "SU"}),
			1, 4, rapid.ID[string]).Draw(t, "weekday") {
			if (freq == "MONTHLY" || freq == "YEARLY" && !strings.Contains(strings.Join(parts, ";"), "BYWEEKNO")) &&
				rapid.Bool().Draw(t, "numbered") {
				d = numbers("n", 1, 4, true)
				d = strings.Split(d, ",")[0] + pick(t, "of", "MO", "FR", "SU")
			}
			list = append(list, d)
		}
		add("BYDAY", strings.Join(list, ","))
	}
	if some("hours") {
		add("BYHOUR", numbers("hour", 0, 23, false))
	}
	if some("minutes") {
		add("BYMINUTE", numbers("minute", 0, 59, false))
	}
	if some("seconds") {
		add("BYSECOND", numbers("second", 0, 59, false))
	}
	if by > 0 && some("positions") {
		add("BYSETPOS", numbers("position", 1, 3, true))
	}
	if some("week start") {
		parts = append(parts, "WKST="+pick(t, "wkst", "MO", "SU", "SA"))
	}
	switch rapid.IntRange(0, 4).Draw(t, "end") {
	case 0:
		parts = append(parts, fmt.Sprintf("COUNT=%d", rapid.IntRange(1, 30).Draw(t, "count")))
	case 1:
		parts = append(parts, fmt.Sprintf("UNTIL=20%02d0714T113000Z", rapid.IntRange(26, 40).Draw(t, "until")))
	}
	start := time.Unix(rapid.Int64Range(1766000000, 1798000000).Draw(t, "start"), 0).UTC() // 2026
	if rapid.Bool().Draw(t, "whole minute") {
		start = start.Truncate(time.Minute)
	}
	text := "DTSTART:" + start.Format("20060102T150405") + "\nRRULE:" + strings.Join(parts, ";")
	if some("left out") {
		text += "\nEXDATE:" + start.AddDate(0, 0, 7).Format("20060102T150405")
	}
	if some("added") {
		text += "\nRDATE:" + start.AddDate(0, 1, 3).Format("20060102T150405")
	}
	return text
}

// drawText draws a rule in any notation.
func drawText(t *rapid.T) string {
	switch rapid.IntRange(0, 2).Draw(t, "notation") {
	case 0:
		return cronText(t)
	case 1:
		return drawRecurrence(t)
	default:
		text := drawSentence(t).text
		if rapid.IntRange(0, 3).Draw(t, "repeats") == 0 {
			text = pick(t, "repeat", "every 15 minutes", "every 7 minutes", "every 50 seconds between 06:00 and 07:30",
				"every 20 minutes between 22:10 and 03:00",
				"every 5 hours", "every 36 hours elapsed from 2026-01-05 at 09:00",
				"every hour elapsed at minutes 5 and 35 in hours 8 to 12 from 2026-01-05 09:00",
				"every passing hour at :05 and :35", "every passing minute in hours 2",
				"in hours 6 to 9 at minutes 0 to 40 by 20 at seconds 0 and 30")
			if !strings.Contains(text, "elapsed") {
				days, _ := drawDays(t)
				text += " " + days
			}
		}
		text += pick(t, "closed", "", "", "", " skip closed days", " before closed days", " after closed days")
		if strings.Count(text, "closed days") > 1 ||
			strings.Contains(text, "elapsed") && strings.Contains(text, "closed") {
			t.Skip("two ways with closed days")
		}
		return text + pick(t, "bounds", "", "", " until 2034-05-01", " within 06:00 to 19:30")
	}
}

func drawRule(t *rapid.T) (rule.Rule, *time.Location) {
	z, err := zone.Load(rapid.SampledFrom(seamZones).Draw(t, "zone"))
	if err != nil {
		t.Fatal(err)
	}
	text := drawText(t)
	r, err := rule.Parse(text, z)
	if err != nil {
		for _, allowed := range []string{"never rings", "can only skip", "ends before", "has only", "only"} {
			if strings.Contains(err.Error(), allowed) {
				t.Skip(err.Error())
			}
		}
		t.Fatalf("%q: %s", text, err)
	}
	return r, z
}

// same compares what two rules ring from an instant on.
func same(t *rapid.T, what string, a, b rule.Rule, at time.Time) {
	for range 12 {
		x, okX := a.Next(at)
		y, okY := b.Next(at)
		if okX != okY || okX && !x.Equal(y) {
			t.Fatalf("%s: %q rings %s (%v), %q rings %s (%v), after %s", what, a, x, okX, b, y, okY, at)
		}
		if !okX {
			return
		}
		at = x
	}
}

// What is written in words, as cron or as iCalendar and read again rings at the
// same instants; the reading is its own reading.
func TestWrittenAndReadAgainIsTheSame(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		r, z := drawRule(t)
		at := drawInstant(t, z)
		again := func(what, text string) rule.Rule {
			b, err := rule.Parse(text, z)
			if err != nil {
				t.Fatalf("%q as %s is %q: %s", r, what, text, err)
			}
			return b
		}
		words := again("words", r.Reading())
		same(t, "words", r, words, at)
		if words.Notation() != rule.Words {
			t.Fatalf("%q is read as %s", r.Reading(), words.Notation())
		}
		if words.Reading() != r.Reading() {
			t.Fatalf("%q reads %q, read again %q", r, r.Reading(), words.Reading())
		}
		if text, ok := r.Cron(); ok {
			same(t, "cron", r, again("cron", text), at)
		} else if r.Notation() == rule.Cron {
			t.Fatalf("%q cannot be written as cron", r)
		}
		if text, ok := r.ICalendar(at); ok {
			b := again("iCalendar", text)
			if first, ok := b.Next(at.Add(-time.Second)); ok && !first.Before(at) {
				same(t, "iCalendar", r, b, first.Add(-time.Second))
			}
		} else if r.Notation() == rule.ICalendar {
			if _, rings := r.Next(at); rings && !strings.Contains(r.String(), "RDATE") {
				t.Fatalf("%q cannot be written as iCalendar", r)
			}
		}
	})
}

// Next is strictly after what it is given, asking from in between changes
// nothing, and a step is a ring or a ring that is passed over.
func TestNextIsAfterAndMonotone(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		r, z := drawRule(t)
		at := drawInstant(t, z)
		first, ok := r.Next(at)
		if !ok {
			return
		}
		if !first.After(at) {
			t.Fatalf("%q: %s is not after %s", r, first, at)
		}
		between := at.Add(time.Duration(rapid.Int64Range(0, int64(first.Sub(at))-1).Draw(t, "between")))
		if again, ok := r.Next(between); !ok || !again.Equal(first) {
			t.Fatalf("%q: from %s it is %s, from %s it is %s", r, at, first, between, again)
		}
		step := at
		for n := 0; ; n++ {
			ring, ok := r.Step(step)
			if !ok || !ring.Due.After(step) || ring.Due.After(first) || ring.Passed && r.Reason(ring) == "" {
				t.Fatalf("%q: the step after %s is %+v", r, step, ring)
			}
			if !ring.Passed {
				if !ring.Due.Equal(first) {
					t.Fatalf("%q: steps come to %s, next to %s", r, ring.Due, first)
				}
				break
			}
			if step = ring.Due; n > 5000 {
				return
			}
		}
	})
}

// Rings that closed days move never ring on a closed day, before never rings
// later and after never earlier than the rule named; every named date is rung
// for, and rings that fall together keep the latest date.
func TestClosedDaysMoveRings(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		z := time.UTC
		closed := randomCalendar{seed: rapid.Uint64().Draw(t, "seed"), rate: rapid.IntRange(10, 70).Draw(t, "rate")}
		text := drawSentence(t).text
		if strings.Contains(text, "closed days") || strings.Contains(text, "open day") {
			t.Skip()
		}
		how := pick(t, "how", rule.Skip, rule.Before, rule.After)
		plain, err := rule.Options{Zone: z, Calendar: closed}.Parse(text)
		if err != nil {
			t.Skip(err.Error())
		}
		moved, err := rule.Options{Zone: z, Calendar: closed, Closed: how}.Parse(text)
		if err != nil {
			t.Skip(err.Error())
		}
		at := drawInstant(t, z)
		from, to := at, at.AddDate(0, 0, 60)
		// What must ring: for each named date, where the calendar puts it.
		want := map[int64]int64{} // due to nominal
		for n := from.AddDate(0, 0, -200); ; {
			named, ok := plain.Next(n)
			if !ok || named.After(to.AddDate(0, 0, 200)) {
				break
			}
			n = named
			serial, sec := civil.Split(named.Unix())
			for k := 0; !closed.open(serial) && k < 400; k++ {
				switch how {
				case rule.Before:
					serial--
				case rule.After:
					serial++
				}
			}
			if closed.open(serial) {
				due := serial*civil.Day + sec
				want[due] = max(want[due], named.Unix())
			}
		}
		got := 0
		for n := from; ; got++ {
			ring, ok := moved.Step(n)
			for ok && ring.Passed {
				ring, ok = moved.Step(ring.Due)
			}
			if !ok || ring.Due.After(to) {
				break
			}
			n = ring.Due
			nominal, there := want[ring.Due.Unix()]
			if !there || ring.Nominal.Unix() != nominal {
				t.Fatalf("%q, %s closed days: rings %s for %s, expected it for %s", text, how, ring.Due, ring.Nominal,
					time.Unix(nominal, 0).UTC())
			}
			if how == rule.Before && ring.Due.After(ring.Nominal) ||
				how == rule.After && ring.Due.Before(ring.Nominal) {
				t.Fatalf("%q: %s moved %s to %s", text, how, ring.Nominal, ring.Due)
			}
			if !ring.Due.Equal(ring.Nominal) && !strings.Contains(moved.Reason(ring), "moved to") {
				t.Fatalf("%q gives no reason for %+v", text, ring)
			}
		}
		expected := 0
		for due := range want {
			if due > from.Unix() && due <= to.Unix() {
				expected++
			}
		}
		if got != expected {
			t.Fatalf("%q, %s closed days: %d rings from %s to %s, expected %d", text, how, got, from, to, expected)
		}
	})
}

// randomCalendar closes a share of all days.
type randomCalendar struct {
	seed uint64
	rate int // of a hundred
}

func (c randomCalendar) open(serial int64) bool {
	x := (uint64(serial) + c.seed) * 0x9e3779b97f4a7c15
	x ^= x >> 31
	x *= 0xbf58476d1ce4e5b9
	return int(x>>33%100) >= c.rate
}

func (c randomCalendar) Open(y, m int) civil.Mask {
	var mask civil.Mask
	for d := 1; d <= civil.Length(y, m); d++ {
		if c.open(civil.Serial(y, m, d)) {
			mask |= 1 << d
		}
	}
	return mask
}

func (randomCalendar) Why(int64) string { return "the sound is frozen" }

// A rule with a count rings that often, and its last ring is known.
func TestCounts(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		count := rapid.IntRange(1, 40).Draw(t, "count")
		text := fmt.Sprintf("%s from 2026-03-01 ending after %d rings",
			pick(t, "rule", "on weekdays at 06:00 and 18:00", "every 40 minutes",
				"on the last day of every month at 23:00", "every hour"), count)
		r, err := rule.Parse(text, time.UTC)
		if err != nil {
			t.Fatal(err)
		}
		last, n := time.Time{}, 0
		for at := time.Unix(0, 0); ; n++ {
			next, ok := r.Next(at)
			if !ok {
				break
			}
			at, last = next, next
		}
		if end, ok := r.Ends(); n != count || !ok || !end.Equal(last) {
			t.Fatalf("%q rings %d times, the last at %s, and says %s", text, n, last, end)
		}
	})
}

// Around every change of clocks of every zone, the engine rings as a walk over
// the minutes does.
func TestEverySeamOfEveryZone(t *testing.T) {
	texts := []string{"30 1 * * *", "15,45 0-3 * * *", "30 * * * *", "5 23 * * *"}
	from, to := time.Date(2022, 1, 1, 0, 0, 0, 0, time.UTC), time.Date(2029, 1, 1, 0, 0, 0, 0, time.UTC)
	seams := 0
	for _, name := range zone.Names() {
		z := zoneNamed(t, name)
		rules := make([]rule.Rule, len(texts))
		for i, text := range texts {
			rules[i] = parse(t, text, name)
		}
		zone.Of(z).Seams(from.Unix(), to.Unix(), func(s zone.Span) bool {
			seams++
			at := time.Unix(s.Start, 0).Add(-2 * time.Hour)
			for i, text := range texts {
				o := cronOracle(text, z)
				step := at
				for step.Before(at.Add(4 * time.Hour)) {
					want, found := o.first(step, 3*time.Hour)
					got, ok := rules[i].Next(step)
					if found != (ok && !got.After(want)) || found && !got.Equal(want) {
						t.Errorf("%s, %q after %s: %s, the walk found %s", name, text, step.In(z), got, want.In(z))
						return false
					}
					if !found {
						break
					}
					step = got
				}
			}
			return true
		})
	}
	assert.Greater(t, seams, 1500)
}

func zoneNamed(t testing.TB, name string) *time.Location {
	t.Helper()
	z, err := zone.Load(name)
	require.NoError(t, err)
	return z
}

func TestWarnings(t *testing.T) {
	at := time.Date(2026, 11, 23, 11, 0, 0, 0, time.UTC)
	for text, want := range map[string]string{
		"* 6 * * *":          "every minute of that hour, 60 times a day",
		"0 12 13 * 5":        "a day that matches either of them rings",
		"0 0 31 * *":         "Day 31 is passed over in February, April, June, September and November",
		"on day 30 at 06:00": "Day 30 is passed over in February.",
		"30 1 * * *": "On Sun 28 March 2027 the clocks go forward and 01:30 does not exist: it " +
			"rings at 02:30 BST instead.",
		"every minute":                "It rings up to 1440 times a day.",
		"*/7 * * * *":                 "The minute step 7 does not divide 60",
		"on open day 2 at 06:00":      "No calendar is named",
		"once on 2026-01-01 at 06:00": "It rings no more",
		"DTSTART:20261201T060000\nRRULE:FREQ=DAILY;UNTIL=20261224": "the whole day is meant",
	} {
		assert.Contains(t, strings.Join(parse(t, text, "Europe/London").Warnings(at, 288), "\n"), want, text)
	}
	for _, text := range []string{
		"every day at 06:00", "0 6 * * *", "15 6 * * 1-5",
		"on the last day of every month at 23:30", "*/15 * * * *", "every hour at :05", "0 0 1-31 * *",
	} {
		assert.Empty(t, parse(t, text, "Europe/London").Warnings(at, 288), text)
	}
	autumn := time.Date(2026, 8, 1, 0, 0, 0, 0, time.UTC)
	assert.Contains(t, parse(t, "30 1 * * *", "Europe/London").Warnings(autumn, 288)[0],
		"01:30 comes twice: it rings at the first, 01:30 BST")
}

func TestHowOften(t *testing.T) {
	at := time.Date(2026, 11, 23, 11, 0, 0, 0, time.UTC)
	for text, want := range map[string]string{
		"every day at 06:00":               "once a day",
		"on weekdays at 06:00":             "5 times a week",
		"on weekdays at 06:00 and 18:00":   "2 times a day on 5 days a week",
		"*/15 * * * *":                     "96 times a day",
		"every second":                     "86400 times a day",
		"on day 1 and 15 at 06:00":         "2 times a month",
		"on day 1 at 06:00":                "once a month",
		"on day 1 of jan and jul at 06:00": "2 times a year",
		"on feb 29 at 06:00":               "less than once a year",
		"once on 2026-12-01 at 14:00":      "once",
		"once on 2026-01-01 at 14:00":      "no more",
		"every 2 days at 06:00 from 2026-01-01 ending after 200 rings": "36 times in all",
	} {
		assert.Equal(t, want, parse(t, text, "UTC").Often(at), text)
	}
}

func TestSpacing(t *testing.T) {
	for text, want := range map[string]time.Duration{
		"every day at 06:00":           24 * time.Hour,
		"* * * * *":                    time.Minute,
		"*/5 * * * *":                  5 * time.Minute,
		"every 30 seconds":             30 * time.Second,
		"at 06:00, 06:00:20 and 09:00": 20 * time.Second,
		"at 23:59:50 and 00:00":        10 * time.Second,
		"every 90 minutes":             90 * time.Minute,
		"DTSTART:20261201T060000\nRRULE:FREQ=SECONDLY;INTERVAL=7": 7 * time.Second,
	} {
		assert.Equal(t, want, parse(t, text, "UTC").Spacing(), text)
	}
}

func FuzzParse(f *testing.F) {
	seeds := append([]string{
		"1,2,3-9/2 * * jan-mar sun", "\x00", "* * * * */99999999999999999999", "on the the the", "every every 2 2 days",
		"if mon", "only last of every",
		"DTSTART:20261201T140000\nRRULE:FREQ=DAILY;BYSETPOS=1", "DTSTART;TZID=:20261201", "RRULE:",
		"DTSTART:99991231T235959Z\nRRULE:FREQ=YEARLY;INTERVAL=9999",
		"DTSTART:20261201T080000Z\nRRULE:FREQ=SECONDLY;INTERVAL=9999;BYHOUR=9;BYMINUTE=1;BYSECOND=1",
		"every 9999 years at 06:00 from 2026-01-01",
		"on day 1 to 31 by 1 of every month if open days at 06:00 before closed days", "FREQ=HOURLY",
		"every hour elapsed from 0001-01-01 at 00:00",
	}, benched...)
	for _, c := range workedExamples {
		seeds = append(seeds, "DTSTART:"+c.start+"\nRRULE:"+c.rule)
	}
	for _, seed := range seeds {
		f.Add(seed)
	}
	z, err := zone.Load("Europe/London")
	require.NoError(f, err)
	f.Fuzz(func(t *testing.T, text string) {
		r, err := rule.Parse(text, z)
		if err != nil {
			return
		}
		at := time.Date(2026, 11, 23, 0, 0, 0, 0, time.UTC)
		got, ok := r.Next(at)
		if ok && !got.After(at) {
			t.Fatalf("%q: %s is not after %s", text, got, at)
		}
		again, err := rule.Parse(r.Reading(), z)
		if err != nil {
			t.Fatalf("%q reads %q: %s", text, r.Reading(), err)
		}
		if b, okB := again.Next(at); ok != okB || ok && !got.Equal(b) {
			t.Fatalf("%q rings %s, its reading %q %s", text, got, r.Reading(), b)
		}
		r.Warnings(at, 100)
	})
}
