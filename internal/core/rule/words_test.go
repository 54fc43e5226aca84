package rule_test

import (
	"fmt"
	"slices"
	"strings"
	"testing"
	"time"

	"ironbell/internal/core/rule"
	"ironbell/internal/core/zone"

	"github.com/stretchr/testify/assert"
	"pgregory.net/rapid"
)

func TestNextOfWords(t *testing.T) {
	for _, c := range []struct {
		text string
		want []string // from Monday 2026-11-23 11:00 in London
	}{
		{"every day at 06:00", []string{"Tue 2026-11-24 06:00 +0000", "Wed 2026-11-25 06:00 +0000"}},
		{
			"on mon, wed, fri at 07:30",
			[]string{"Wed 2026-11-25 07:30 +0000", "Fri 2026-11-27 07:30 +0000", "Mon 2026-11-30 07:30 +0000"},
		},
		{"on weekdays at 08:00 and 17:00", []string{"Mon 2026-11-23 17:00 +0000", "Tue 2026-11-24 08:00 +0000"}},
		{
			"on day 1 and 15 of every month at 02:00",
			[]string{"Tue 2026-12-01 02:00 +0000", "Tue 2026-12-15 02:00 +0000"},
		},
		{
			"on the last day of every month at 23:30",
			[]string{"Mon 2026-11-30 23:30 +0000", "Thu 2026-12-31 23:30 +0000"},
		},
		{
			"on the first monday of every month at 18:15",
			[]string{"Mon 2026-12-07 18:15 +0000", "Mon 2027-01-04 18:15 +0000"},
		},
		{
			"on the last friday of every month at 16:00",
			[]string{"Fri 2026-11-27 16:00 +0000", "Fri 2026-12-25 16:00 +0000"},
		},
		{"on open day 3 of every month at 09:00", []string{"Thu 2026-12-03 09:00 +0000", "Tue 2027-01-05 09:00 +0000"}},
		{
			"on the last open day of every quarter at 18:00",
			[]string{"Thu 2026-12-31 18:00 +0000", "Wed 2027-03-31 18:00 +0100"},
		},
		{
			"in jan, apr, jul, oct on day 5 at 04:00",
			[]string{"Tue 2027-01-05 04:00 +0000", "Mon 2027-04-05 04:00 +0100"},
		},
		{"every 2 days at 00:00 from 2026-08-25", []string{"Wed 2026-11-25 00:00 +0000", "Fri 2026-11-27 00:00 +0000"}},
		{
			"every 2 weeks on mon at 09:00 from 2026-01-05",
			[]string{"Mon 2026-12-07 09:00 +0000", "Mon 2026-12-21 09:00 +0000"},
		},
		{
			"every 2 weeks at 09:00 from 2026-01-06",
			[]string{"Tue 2026-11-24 09:00 +0000", "Tue 2026-12-08 09:00 +0000"},
		},
		{
			"on open days between 06:00 and 22:00, every 15 minutes",
			[]string{"Mon 2026-11-23 11:15 +0000", "Mon 2026-11-23 11:30 +0000"},
		},
		{
			"on open days between 10:30 and 11:15, every 15 minutes",
			[]string{"Mon 2026-11-23 11:15 +0000", "Tue 2026-11-24 10:30 +0000"},
		},
		{"every hour at :05", []string{"Mon 2026-11-23 11:05 +0000", "Mon 2026-11-23 12:05 +0000"}},
		{
			"every 5 hours",
			[]string{"Mon 2026-11-23 15:00 +0000", "Mon 2026-11-23 20:00 +0000", "Tue 2026-11-24 00:00 +0000"},
		},
		{
			"every 90 minutes between 22:00 and 02:00",
			[]string{
				"Mon 2026-11-23 22:00 +0000", "Mon 2026-11-23 23:30 +0000", "Tue 2026-11-24 01:00 +0000",
				"Tue 2026-11-24 22:00 +0000",
			},
		},
		{
			"on fri every hour between 22:00 and 02:00",
			[]string{"Fri 2026-11-27 22:00 +0000", "Fri 2026-11-27 23:00 +0000", "Sat 2026-11-28 00:00 +0000"},
		},
		{"once on 2026-12-01 at 14:00", []string{"Tue 2026-12-01 14:00 +0000", "never"}},
		{
			"every day at 06:00 until 2026-11-25",
			[]string{"Tue 2026-11-24 06:00 +0000", "Wed 2026-11-25 06:00 +0000", "never"},
		},
		{"every day at 06:00 from 2026-11-20 ending after 5 rings", []string{"Tue 2026-11-24 06:00 +0000", "never"}},
		{"on sat at 06:00 before closed days", []string{"Fri 2026-11-27 06:00 +0000", "Fri 2026-12-04 06:00 +0000"}},
		{"on sat at 06:00 after closed days", []string{"Mon 2026-11-30 06:00 +0000", "Mon 2026-12-07 06:00 +0000"}},
		{
			"on fri and sat at 06:00 skip closed days",
			[]string{"Fri 2026-11-27 06:00 +0000", "Fri 2026-12-04 06:00 +0000"},
		},
		{
			"on fri to sun at 06:00 before closed days",
			[]string{"Fri 2026-11-27 06:00 +0000", "Fri 2026-12-04 06:00 +0000"},
		},
		{"on closed days at 10:00", []string{"Sat 2026-11-28 10:00 +0000", "Sun 2026-11-29 10:00 +0000"}},
		{
			"on day 13 of every month or on fri at 12:00",
			[]string{
				"Fri 2026-11-27 12:00 +0000", "Fri 2026-12-04 12:00 +0000", "Fri 2026-12-11 12:00 +0000",
				"Sun 2026-12-13 12:00 +0000",
			},
		},
		{"on day 13 of every month if fri at 12:00", []string{"Fri 2027-08-13 12:00 +0100"}},
		{
			"on the 2nd to last day of every month at 12:00",
			[]string{"Sun 2026-11-29 12:00 +0000", "Wed 2026-12-30 12:00 +0000"},
		},
		{
			"on the first monday of every quarter at 12:00",
			[]string{"Mon 2027-01-04 12:00 +0000", "Mon 2027-04-05 12:00 +0100"},
		},
		{"on day 100 of every year at 12:00", []string{"Sat 2027-04-10 12:00 +0100", "Sun 2028-04-09 12:00 +0100"}},
		{"on 25 dec at 08:00", []string{"Fri 2026-12-25 08:00 +0000", "Sat 2027-12-25 08:00 +0000"}},
		{"on feb 29 at 08:00", []string{"Tue 2028-02-29 08:00 +0000"}},
		{
			"on weekdays at 09:00 only the last of every month",
			[]string{"Mon 2026-11-30 09:00 +0000", "Thu 2026-12-31 09:00 +0000", "Fri 2027-01-29 09:00 +0000"},
		},
		{"in week 1 on mon at 09:00", []string{"Mon 2027-01-04 09:00 +0000", "Mon 2028-01-03 09:00 +0000"}},
		{
			"every 36 hours elapsed from 2026-11-23 09:00",
			[]string{"Tue 2026-11-24 21:00 +0000", "Thu 2026-11-26 09:00 +0000"},
		},
		{"every day at 06:00 except on 2026-11-24 also on 2026-11-24 at 07:00", []string{"Wed 2026-11-25 06:00 +0000"}},
		{
			"every day at 06:00 except on 2026-11-24 at 06:00 also on 2026-11-24 at 07:00",
			[]string{"Tue 2026-11-24 07:00 +0000", "Wed 2026-11-25 06:00 +0000"},
		},
		{
			"every 2 hours within 12:00 to 15:00",
			[]string{"Mon 2026-11-23 12:00 +0000", "Mon 2026-11-23 14:00 +0000", "Tue 2026-11-24 12:00 +0000"},
		},
		{
			"every day at 06:00 in zone America/New_York",
			[]string{"Tue 2026-11-24 06:00 -0500", "Wed 2026-11-25 06:00 -0500"},
		},
		{
			"on the first and third tuesday of every month at 6pm",
			[]string{"Tue 2026-12-01 18:00 +0000", "Tue 2026-12-15 18:00 +0000"},
		},
		{
			"Every Monday, Tuesday and Friday at noon",
			[]string{"Mon 2026-11-23 12:00 +0000", "Tue 2026-11-24 12:00 +0000", "Fri 2026-11-27 12:00 +0000"},
		},
		{"weekdays 6:30", []string{"Tue 2026-11-24 06:30 +0000"}},
		{"on mon-fri at 06:30:15", []string{"Tue 2026-11-24 06:30 +0000"}},
		{"on the 1st and the 15th at 09:00", []string{"Tue 2026-12-01 09:00 +0000", "Tue 2026-12-15 09:00 +0000"}},
		{
			"every other day at 09:00 from 2026-11-22",
			[]string{"Tue 2026-11-24 09:00 +0000", "Thu 2026-11-26 09:00 +0000"},
		},
		{
			"every 3 months on day 31 at 09:00 from 2026-01-01",
			[]string{"Sun 2027-01-31 09:00 +0000", "Sat 2027-07-31 09:00 +0100"},
		},
		{"monthly on the 1st at 09:00", []string{"Tue 2026-12-01 09:00 +0000"}},
		{"weekly on fri at 09:00", []string{"Fri 2026-11-27 09:00 +0000"}},
		{"hourly at :30", []string{"Mon 2026-11-23 11:30 +0000"}},
		{"on the last working day of the month at 17:00", []string{"Mon 2026-11-30 17:00 +0000"}},
		{"at 06:00 on business days", []string{"Tue 2026-11-24 06:00 +0000"}},
		{"on 2026-12-01 at 14:00", []string{"Tue 2026-12-01 14:00 +0000", "never"}},
		{
			"every day except sundays and mondays at 12:00",
			[]string{"Tue 2026-11-24 12:00 +0000", "Wed 2026-11-25 12:00 +0000"},
		},
		{
			"on weekdays except on fri at 12:00",
			[]string{
				"Mon 2026-11-23 12:00 +0000", "Tue 2026-11-24 12:00 +0000", "Wed 2026-11-25 12:00 +0000",
				"Thu 2026-11-26 12:00 +0000", "Mon 2026-11-30 12:00 +0000",
			},
		},
		{"every quarter on open day 1 of the quarter at 09:00", []string{"Fri 2027-01-01 09:00 +0000"}},
	} {
		t.Run(c.text, func(t *testing.T) {
			assert.Equal(t, c.want, next(t, parse(t, c.text, "Europe/London"), "2026-11-23T11:00:00Z", len(c.want)))
		})
	}
}

// Worded repeats run on elapsed time from midnight or from their window's start;
// repeats by whole hours that divide a day are wall times.
func TestRepeatsWhenTheClocksChange(t *testing.T) {
	for _, c := range []struct {
		text, from string
		want       []string
	}{
		// 25 October 2026: 02:00 BST becomes 01:00 GMT.
		{
			"every 30 minutes", "2026-10-25T00:29:00Z",
			[]string{
				"Sun 2026-10-25 01:30 +0100", "Sun 2026-10-25 01:00 +0000", "Sun 2026-10-25 01:30 +0000",
				"Sun 2026-10-25 02:00 +0000",
			},
		},
		{
			"every 45 minutes", "2026-10-25T00:29:00Z",
			[]string{
				"Sun 2026-10-25 01:30 +0100", "Sun 2026-10-25 01:15 +0000", "Sun 2026-10-25 02:00 +0000",
				"Sun 2026-10-25 02:45 +0000",
			},
		},
		{"every hour", "2026-10-25T00:00:00Z", []string{"Sun 2026-10-25 02:00 +0000", "Sun 2026-10-25 03:00 +0000"}},
		{
			"every passing hour at :00", "2026-10-25T00:00:00Z",
			[]string{"Sun 2026-10-25 01:00 +0000", "Sun 2026-10-25 02:00 +0000"},
		},
		{"every 2 hours", "2026-10-24T23:30:00Z", []string{"Sun 2026-10-25 02:00 +0000", "Sun 2026-10-25 04:00 +0000"}},
		// 28 March 2027: 01:00 GMT becomes 02:00 BST.
		{
			"every 45 minutes", "2027-03-28T00:00:00Z",
			[]string{"Sun 2027-03-28 00:45 +0000", "Sun 2027-03-28 02:30 +0100", "Sun 2027-03-28 03:15 +0100"},
		},
		{"every hour", "2027-03-28T00:00:00Z", []string{"Sun 2027-03-28 02:00 +0100", "Sun 2027-03-28 03:00 +0100"}},
		{
			"every 15 minutes between 01:30 and 02:45", "2027-03-28T00:00:00Z",
			[]string{"Sun 2027-03-28 02:30 +0100", "Sun 2027-03-28 02:45 +0100", "Mon 2027-03-29 01:30 +0100"},
		},
	} {
		assert.Equal(t, c.want, next(t, parse(t, c.text, "Europe/London"), c.from, len(c.want)), "%s from %s", c.text,
			c.from)
	}
}

func TestWordsThatCannotBeRead(t *testing.T) {
	for text, want := range map[string]string{
		"":                   "column 1: expected a rule",
		"  ":                 "expected a rule",
		"every day":          "column 10: expected a time of day",
		"on mondey at 07:00": `column 4: found "mondey", expected days, such as mon, weekdays, day 15, the last day or the first monday of every month; did you mean "monday"?`,
		"evrey day at 07:00": `did you mean "every"?`,
		"on mon at 7":        `column 11: found "7", expected a time of day with its minutes; did you mean "07:00"?`,
		"on mon at 09.30":    `found "09.30", expected a time of day with a colon; did you mean "09:30"?`,
		"every second tuesday of the month": "say which is meant: the tuesday of a month by its number, or one in so many " +
			"weeks; write on the second tuesday of every month at 06:00, or every 2 weeks on tuesday from",
		"every other monday at 06:00":                 "write every 2 weeks on monday from",
		"on the first weekday of every month":         "write on the first open day of every month at 06:00, or on weekdays",
		"every quarter on mon at 06:00":               "every quarter does not say on which of these weekdays",
		"every month on weekdays at 06:00":            "leave every month out for each of them",
		"every week on day 15 at 06:00":               "every week goes with weekdays",
		"every year on day 1 of every month at 06:00": "every year and of every month say two things",
		"on mon and fri the 13th at 06:00":            "a weekday with its number in the month stands alone",
		"on mon at 25:00":                             `column 11: found "25:00", expected a time of day`,
		"at 06:00":                                    "",
		"every 2 weeks on mon at 09:00":               "column 30: every 2 weeks needs a start",
		"every day at 06:00 ending after 3 rings":     "a count of rings needs a start",
		"every day at 06:00 ending after 0 rings":     `column 33: found "0", expected a number of rings from 1`,
		"every 36 hours": "column 7: a repeat within a day is " +
			"shorter than a day",
		"every 0 days at 06:00":                                   "column 7: an interval is from 1",
		"every 15 minutes at 06:00":                               "either at named times or in a repeat",
		"between 06:00 and 22:00":                                 "expected how often within the window",
		"every 7 hours at :05":                                    "minutes of the hour go with every hour",
		"on the first of every month at 06:00":                    "",
		"on the first mondey of every month at 06:00":             `column 14: found "mondey", expected day, open day or a weekday; did you mean "monday"?`,
		"on day 32 of every month at 06:00":                       "a month has days 1 to 31",
		"on day 30 at 06:00 in feb":                               "this never rings: none of its months has a day 30",
		"on open day 28 of every month at 06:00":                  "this never rings: no month has an open day 28",
		"in jan on day 1 of feb at 06:00":                         "the months that it names exclude each other",
		"on mon if tue at 06:00":                                  "if adds a condition of another kind",
		"on weekends at 06:00 skip closed days":                   "each of its times is on a closed day",
		"every day at 06:00 within 07:00 to 08:00":                "outside the permitted hours",
		"every day at 06:00 skip closed":                          `expected closed days`,
		"every day at 06:00 skip closed days before closed days":  `already dealt with by "skip"`,
		"monthly at 09:00":                                        "every month does not say on which",
		"on sat at 06:00 except weekends":                         "all its weekdays are left out",
		"every day at 06:00 except the last day":                  "except leaves out weekdays, dates",
		"hourly every 2 hours":                                    "second repeat",
		"on the last weekday of every month at 09:00":             "only the last of every month",
		"once on 2026-12-01":                                      "expected at and a time of day",
		"once on 1 december at 14:00":                             "column 9: found \"1\", expected a date",
		"once on 2026-02-30 at 14:00":                             `found "2026-02-30", expected a date`,
		"every day at 06:00 until 2026-01-01 from 2026-12-01":     "it ends before it begins",
		"every day at 06:00 in zone Europe/Lodnon":                `did you mean "Europe/London"?`,
		"every day at 06:00 in hours 6 to 4":                      "a range runs upwards",
		"every day at 06:00 please":                               `column 20: found "please", expected every, on, in`,
		"every monday on tuesday at 06:00 every week every month": "second period",
		"on mon at 09:00 only the last":                           "expected of every and a period",
	} {
		r, err := rule.Parse(text, zoneNamed(t, "Europe/London"))
		if want == "" {
			assert.NoError(t, err, text)
			continue
		}
		var e *rule.Error
		if assert.ErrorAs(t, err, &e, "%s: %s", text, r.Reading()) {
			assert.Contains(t, e.Error(), want, text)
			assert.GreaterOrEqual(t, e.Column, 1)
			assert.LessOrEqual(t, e.Column, len(text)+1)
		}
	}
}

// sentence is a worded rule with what it means, told in another way.
type sentence struct {
	text    string
	day     func(d time.Time) bool // of a date at midnight UTC
	minutes map[int]bool           // of the day
}

var weekdayWords = []string{"sun", "monday", "Tue", "wed", "thursday", "fri", "sat"}

func pick[T any](t *rapid.T, label string, from ...T) T {
	return rapid.SampledFrom(from).Draw(t, label)
}

// lastOf is the number of days of a date's month.
func lastOf(d time.Time) int { return time.Date(d.Year(), d.Month()+1, 0, 0, 0, 0, 0, time.UTC).Day() }

func isWorkday(d time.Time) bool { return d.Weekday() != time.Saturday && d.Weekday() != time.Sunday }

// openNumber counts the workdays of the month up to a date.
func openNumber(d time.Time) int {
	n := 0
	for day := 1; day <= d.Day(); day++ {
		if isWorkday(time.Date(d.Year(), d.Month(), day, 0, 0, 0, 0, time.UTC)) {
			n++
		}
	}
	return n
}

// drawDays draws one production of the days with its meaning.
func drawDays(t *rapid.T) (text string, day func(time.Time) bool) {
	number := func(label string, low, high int) int { return rapid.IntRange(low, high).Draw(t, label) }
	switch number("days", 0, 11) {
	case 0:
		return "every day", func(time.Time) bool { return true }
	case 1:
		a, b := number("a", 0, 6), number("b", 0, 6)
		return "on " + weekdayWords[a] + pick(t, "join", ", ", " and ", ", and ") + weekdayWords[b],
			func(d time.Time) bool {
				return int(d.Weekday()) == a || int(d.Weekday()) == b
			}
	case 2:
		return pick(t, "weekdays", "on weekdays", "every weekday", "on mon to fri", "on open days"), isWorkday
	case 3:
		return pick(t, "weekends", "on weekends", "on sat and sun", "on closed days"),
			func(d time.Time) bool { return !isWorkday(d) }
	case 4:
		a, b := number("a", 1, 31), number("b", 1, 31)
		return fmt.Sprintf("on day %d and %d%s", a, b, pick(t, "of", "", " of every month", " of the month")),
			func(d time.Time) bool { return d.Day() == a || d.Day() == b }
	case 5:
		return "on the last day" + pick(t, "of", "", " of every month"),
			func(d time.Time) bool { return d.Day() == lastOf(d) }
	case 6:
		n, w := number("n", 1, 4), number("w", 0, 6)
		return fmt.Sprintf("on the %s %s of every month",
				pick(t, "form", []string{"first", "second", "third", "fourth"}[n-1],
					[]string{"1st", "2nd", "3rd", "4th"}[n-1]), weekdayWords[w]), func(d time.Time) bool {
				return int(d.Weekday()) == w && (d.Day()-1)/7 == n-1
			}
	case 7:
		w := number("w", 0, 6)
		return "on the last " + weekdayWords[w] + " of every month", func(d time.Time) bool {
			return int(d.Weekday()) == w && d.Day()+7 > lastOf(d)
		}
	case 8:
		n := number("n", 1, 20)
		return fmt.Sprintf("on open day %d of every month", n),
			func(d time.Time) bool { return isWorkday(d) && openNumber(d) == n }
	case 9:
		return "on the last open day of every quarter", func(d time.Time) bool {
			last := time.Date(d.Year(), (d.Month()-1)/3*3+4, 0, 0, 0, 0, 0, time.UTC)
			for !isWorkday(last) {
				last = last.AddDate(0, 0, -1)
			}
			return d.Equal(last)
		}
	case 10:
		n := number("n", 2, 9)
		start := time.Date(1990, 1, number("start", 1, 28), 0, 0, 0, 0, time.UTC)
		return fmt.Sprintf("from %s every %d days", start.Format(time.DateOnly), n), func(d time.Time) bool {
			return !d.Before(start) && int(d.Sub(start).Hours()/24)%n == 0
		}
	default:
		n, w := number("n", 2, 4), number("w", 0, 6)
		start := time.Date(1990, 1, number("start", 1, 28), 0, 0, 0, 0, time.UTC)
		monday := start.AddDate(0, 0, -(int(start.Weekday())+6)%7)
		return fmt.Sprintf("every %d weeks on %s from %s", n, weekdayWords[w], start.Format(time.DateOnly)),
			func(d time.Time) bool {
				return !d.Before(start) && int(d.Weekday()) == w && int(d.Sub(monday).Hours()/24)/7%n == 0
			}
	}
}

func drawSentence(t *rapid.T) sentence {
	days, day := drawDays(t)
	s := sentence{day: day, minutes: map[int]bool{}}
	var times string
	switch rapid.IntRange(0, 2).Draw(t, "times") {
	case 0:
		var list []string
		for range rapid.IntRange(1, 3).Draw(t, "count") {
			m := rapid.IntRange(0, 24*60-1).Draw(t, "minute")
			s.minutes[m] = true
			list = append(list, fmt.Sprintf("%02d:%02d", m/60, m%60))
		}
		times = "at " + strings.Join(list, pick(t, "join", ", ", " and "))
	case 1:
		m := rapid.IntRange(0, 59).Draw(t, "minute")
		for h := range 24 {
			s.minutes[h*60+m] = true
		}
		times = fmt.Sprintf("every hour at :%02d", m)
	default:
		n := pick(t, "n", 2, 3, 4, 6, 8)
		from := rapid.IntRange(0, 20).Draw(t, "from")
		for h := from; h <= 21; h += n {
			s.minutes[h*60+30] = true
		}
		if from*60+30 > 21*60+30 {
			t.Skip()
		}
		times = fmt.Sprintf("every %d hours between %02d:30 and 21:30", n, from)
	}
	months, inMonths := "", func(time.Time) bool { return true }
	if rapid.Bool().Draw(t, "months") {
		a, b := rapid.IntRange(1, 12).Draw(t, "a"), rapid.IntRange(1, 12).Draw(t, "b")
		months = fmt.Sprintf("in %s and %s", strings.ToLower(time.Month(a).String()[:3]), time.Month(b))
		inMonths = func(d time.Time) bool { return int(d.Month()) == a || int(d.Month()) == b }
	}
	closed := ""
	skips := rapid.Bool().Draw(t, "skip")
	if skips {
		closed = "skip closed days"
	}
	s.day = func(d time.Time) bool { return day(d) && inMonths(d) && (!skips || isWorkday(d)) }
	clauses := rapid.Permutation([]string{days, times, months, closed}).Draw(t, "order")
	clauses = slices.DeleteFunc(clauses, func(c string) bool { return c == "" })
	s.text = strings.Join(clauses, pick(t, "comma", " ", ", "))
	return s
}

// The grammar's sentences mean what a walk over the minutes says.
func TestWordsAgreeWithAWalkOverTheMinutes(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		z, err := zone.Load(rapid.SampledFrom(seamZones).Draw(t, "zone"))
		if err != nil {
			t.Fatal(err)
		}
		s := drawSentence(t)
		r, err := rule.Parse(s.text, z)
		if err != nil {
			if strings.Contains(err.Error(), "never rings") {
				t.Skip("never rings")
			}
			t.Fatalf("%q: %s", s.text, err)
		}
		at := drawInstant(t, z)
		o := oracle{zone: z, matches: func(w time.Time) bool {
			return s.minutes[w.Hour()*60+w.Minute()] && s.day(w.Truncate(24*time.Hour))
		}}
		want, found := o.first(at, 72*time.Hour)
		agree(t, r, at, want, found)
	})
}

// drawInstant draws an instant from 1991 to 2040, often beside a change of clocks.
func drawInstant(t *rapid.T, z *time.Location) time.Time {
	at := time.Unix(rapid.Int64Range(662688000, 2208988800).Draw(t, "at"), 0).In(z)
	if _, end := at.ZoneBounds(); end.After(at) && rapid.Bool().Draw(t, "at a seam") {
		at = end.Add(time.Duration(rapid.IntRange(-200, 30).Draw(t, "minutes")) * time.Minute)
	}
	return at
}

// What stands beside "every quarter" is numbered in it, wherever the two stand.
func TestDaysAreNumberedInTheirPeriod(t *testing.T) {
	for text, reading := range map[string]string{
		"every quarter on day 1 at 06:00":                  "on day 1 of every quarter at 06:00",
		"on the last day every quarter at 06:00":           "on the last day of every quarter at 06:00",
		"quarterly on open day 2 at 06:00":                 "on open day 2 of every quarter at 06:00",
		"yearly on the first monday at 06:00":              "on the first Monday of every year at 06:00",
		"every year on day 15 in march at 06:00":           "on day 15 of March at 06:00",
		"every year on 25 december at 06:00":               "on day 25 of December at 06:00",
		"monthly on day 3 at 06:00":                        "on day 3 of every month at 06:00",
		"on fri the 13th at 06:00":                         "on day 13 of every month if Friday at 06:00",
		"on friday the 13th and skip closed days at 06:00": "on day 13 of every month if Friday at 06:00 skip closed days",
		"on the 13th at 06:00":                             "on day 13 of every month at 06:00",
		"on mon, wed and the 13th at 06:00":                "on Monday and Wednesday or on day 13 of every month at 06:00",
	} {
		assert.Equal(t, reading, parse(t, text, "Europe/London").Reading(), text)
	}
}
