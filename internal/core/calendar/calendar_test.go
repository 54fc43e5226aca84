package calendar_test

import (
	"strings"
	"testing"
	"time"

	"ironbell/internal/core/calendar"
	"ironbell/internal/core/civil"
	"ironbell/internal/core/rule"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

var holidays = calendar.Definition{Closed: []calendar.Entry{
	{Label: "Christmas Day", Rule: "on 25 dec"},
	{Label: "Boxing Day", Date: "2026-12-28"},
	{Label: "Turn of the year", Date: "2026-12-31", Days: 2},
	{Label: "Spring holiday", Date: "2026-01-01", Rule: "on the last monday of may"},
}, Open: []calendar.Entry{{Label: "Stocktaking", Date: "2026-11-28"}}}

func compile(t testing.TB, name string, d calendar.Definition) *calendar.Calendar {
	t.Helper()
	c, err := calendar.Compile(name, d)
	require.NoError(t, err)
	return c
}

func day(text string) time.Time {
	d, err := time.Parse(time.DateOnly, text)
	if err != nil {
		panic(err)
	}
	return d
}

func isOpen(c *calendar.Calendar, date string) bool {
	d := day(date)
	return c.Open(d.Year(), int(d.Month())).Has(d.Day())
}

func serial(text string) int64 { return day(text).Unix() / 86400 }

func TestOpenAndClosedDays(t *testing.T) {
	c := compile(t, "Public holidays", holidays)
	for date, open := range map[string]bool{
		"2026-11-23": true, "2026-11-28": true, "2026-11-29": false, "2026-12-25": false, "2031-12-25": false,
		"2026-12-28": false, "2027-12-28": true,
		"2026-12-30": true, "2026-12-31": false, "2027-01-01": false, "2027-05-31": false, "2025-05-26": true,
		"1900-01-01": true, "2200-12-25": true,
	} {
		assert.Equal(t, open, isOpen(c, date), date)
	}
	for date, why := range map[string]string{
		"2026-12-25": "25 December is closed in calendar Public holidays (Christmas Day)",
		"2026-11-29": "29 November is closed in calendar Public holidays (a Sunday)",
		"2026-11-23": "23 November is open in calendar Public holidays",
	} {
		assert.Equal(t, why, c.Why(serial(date)), date)
	}
	last, ok := compile(t, "x", calendar.Definition{Closed: holidays.Closed[1:3]}).Last()
	assert.True(t, ok)
	assert.Equal(t, "2027-01-01", last.Format(time.DateOnly))
	assert.Equal(t,
		[]calendar.Closing{
			{Date: "2026-12-25", Label: "Christmas Day"},
			{Date: "2026-12-28", Label: "Boxing Day"},
			{Date: "2026-12-31", Label: "Turn of the year"},
		},
		c.Closings(day("2026-12-01"), day("2026-12-31"), 10))
}

func TestSeveralCombined(t *testing.T) {
	harbour := compile(t, "Harbour", calendar.Definition{
		Week:   []string{"mon", "tue", "wed", "thu", "fri", "saturday"},
		Closed: []calendar.Entry{{Label: "slipway", Rule: "on the first tuesday of every month"}},
	})
	both := calendar.Combine(compile(t, "Public holidays", holidays), harbour)
	assert.Equal(t, "Public holidays and Harbour", both.Name())
	for date, open := range map[string]bool{
		"2026-12-01": false, "2026-12-02": true, "2026-12-25": false, "2026-12-05": false, "2026-11-28": true,
	} {
		assert.Equal(t, open, isOpen(both, date), date)
	}
	assert.Equal(t, "1 December is closed in calendar Harbour (slipway)", both.Why(serial("2026-12-01")))
	assert.Equal(t, "25 December is closed in calendar Public holidays (Christmas Day)", both.Why(serial("2026-12-25")))

	r, err := rule.Options{
		Zone: time.UTC, Calendar: both, Closed: rule.After,
	}.Parse("on day 1 and 25 of every month at 06:00")
	require.NoError(t, err)
	ring, ok := r.Step(day("2026-11-26"))
	require.True(t, ok)
	assert.Equal(t, "Wed 2 Dec", ring.Due.Format("Mon 2 Jan"))
	assert.Equal(t, "1 December is closed in calendar Harbour (slipway); moved to Wed 2 December", r.Reason(ring))
	ring, _ = r.Step(ring.Due)
	assert.Equal(t, "Tue 29 Dec", ring.Due.Format("Mon 2 Jan"), "Christmas, a weekend and Boxing Day")
	assert.Equal(t, "Fri 25 Dec", ring.Nominal.Format("Mon 2 Jan"))
}

func TestDefinitionsThatAreWrong(t *testing.T) {
	for want, d := range map[string]calendar.Definition{
		`week[1]: "funday" is no weekday`:      {Week: []string{"mon", "funday"}},
		`closed[0]: it needs a date or a rule`: {Closed: []calendar.Entry{{Label: "x"}}},
		`closed[1]: "25.12.2026" is no date`: {Closed: []calendar.Entry{
			{Date: "2026-12-25"},
			{Date: "25.12.2026"},
		}},
		`open[0]: "on day 30 of feb": column`:       {Open: []calendar.Entry{{Rule: "on day 30 of feb"}}},
		`closed[0]: a stretch has at most 400 days`: {Closed: []calendar.Entry{{Date: "2026-12-25", Days: 401}}},
		`there are more than 200000 closed`:         {Closed: []calendar.Entry{{Rule: "every day", Days: 400}}},
		`week: no day is open`: {
			Week: []string{"sun"}, Closed: []calendar.Entry{{Rule: "on sun"}},
		},
	} {
		_, err := calendar.Compile("x", d)
		assert.ErrorContains(t, err, want)
	}
}

// A file as calendar programs write it: folded lines, escapes, yearly repeats,
// stretches with an end that is not included, a cancelled event, a replaced one.
const exported = "BEGIN:VCALENDAR\r\nVERSION:2.0\r\nPRODID:-//Tarnwick Sound Ferries//Office//EN\r\n" +
	"BEGIN:VEVENT\r\nUID:1@tarnwick.example\r\nDTSTAMP:20260101T000000Z\r\nDTSTART;VALUE=DATE:20251225\r\nDTEND;VALUE=DATE:20251226\r\nRRULE:FREQ=YEARLY\r\n" +
	"SUMMARY:Christmas Day\\, with a name that is so long that the line\r\n  is folded\r\nEND:VEVENT\r\n" +
	"BEGIN:VEVENT\r\nUID:2@tarnwick.example\r\nDTSTAMP:20260101T000000Z\r\nDTSTART;VALUE=DATE:20260810\r\nDTEND;VALUE=DATE:20260815\r\nSUMMARY:Regatta week\r\nEND:VEVENT\r\n" +
	"BEGIN:VEVENT\r\nUID:3@tarnwick.example\r\nDTSTAMP:20260101T000000Z\r\nDTSTART;TZID=Europe/London:20260106T000000\r\nDTEND;TZID=Europe/London:20260107T000000\r\n" +
	"RRULE:FREQ=MONTHLY;BYDAY=1TU\r\nEXDATE;TZID=Europe/London:20260303T000000\r\nSUMMARY:Slipway\r\nEND:VEVENT\r\n" +
	"BEGIN:VEVENT\r\nUID:3@tarnwick.example\r\nDTSTAMP:20260101T000000Z\r\nRECURRENCE-ID;TZID=Europe/London:20260407T000000\r\nDTSTART;VALUE=DATE:20260408\r\nSUMMARY:Slipway\\, a day later\r\nEND:VEVENT\r\n" +
	"BEGIN:VEVENT\r\nUID:4@tarnwick.example\r\nDTSTAMP:20260101T000000Z\r\nDTSTART:20260601T090000Z\r\nDTEND:20260601T100000Z\r\nSUMMARY:Board meeting\r\nEND:VEVENT\r\n" +
	"BEGIN:VEVENT\r\nUID:5@tarnwick.example\r\nDTSTAMP:20260101T000000Z\r\nDTSTART;VALUE=DATE:20260701\r\nSTATUS:CANCELLED\r\nSUMMARY:Fair\r\nEND:VEVENT\r\n" +
	"BEGIN:VEVENT\r\nUID:6@tarnwick.example\r\nDTSTAMP:20260101T000000Z\r\nDTSTART;VALUE=DATE:20260901\r\nDURATION:P1W\r\nSUMMARY:Dry dock\r\nEND:VEVENT\r\n" +
	"END:VCALENDAR\r\n"

func TestReadingAnICalendarFile(t *testing.T) {
	entries, notes, err := calendar.ReadICS([]byte(exported))
	require.NoError(t, err)
	assert.Equal(t, []string{`"Board meeting" is not a whole day and was left out`, "1 cancelled events were left out"},
		notes)
	labels := []string{}
	for _, e := range entries {
		labels = append(labels, e.Label)
	}
	assert.Equal(t,
		[]string{
			"Christmas Day, with a name that is so long that the line is folded", "Regatta week", "Slipway",
			"Slipway, a day later", "Dry dock",
		}, labels)
	c := compile(t, "Harbour", calendar.Definition{
		Week: []string{"mon", "tue", "wed", "thu", "fri", "sat", "sun"}, Closed: entries,
	})
	for date, open := range map[string]bool{
		"2024-12-25": true, "2025-12-25": false, "2030-12-25": false, "2026-08-09": true, "2026-08-10": false,
		"2026-08-14": false, "2026-08-15": true,
		"2026-01-06": false, "2026-02-03": false, "2026-03-03": true, "2026-04-07": true, "2026-04-08": false,
		"2026-05-05": false, "2026-06-01": true, "2026-07-01": true,
		"2026-09-07": false, "2026-09-08": true,
	} {
		assert.Equal(t, open, isOpen(c, date), date)
	}
}

func TestFilesThatAreNoCalendars(t *testing.T) {
	for text, want := range map[string]string{
		"":       "this is no iCalendar file",
		"<html>": "this is no iCalendar file",
		"BEGIN:VCALENDAR\r\nBEGIN:VEVENT\r\nSUMMARY:x\r\nEND:VEVENT\r\nEND:VCALENDAR\r\n":                                                                 "has no DTSTART",
		"BEGIN:VCALENDAR\r\nBEGIN:VEVENT\r\nUID:1\r\nDTSTART;VALUE=DATE:20260101\r\nRRULE:FREQ=SOMETIMES\r\nSUMMARY:x\r\nEND:VEVENT\r\nEND:VCALENDAR\r\n": `the event "x"`,
		"BEGIN:VCALENDAR\r\n" +
			strings.Repeat("x", 5<<20): "larger than 4 MB",
	} {
		_, _, err := calendar.ReadICS([]byte(text))
		assert.ErrorContains(t, err, want)
	}
}

func FuzzReadICS(f *testing.F) {
	f.Add([]byte(exported))
	f.Add([]byte("BEGIN:VCALENDAR\r\nBEGIN:VEVENT\r\nDTSTART:2\r\nEND:VEVENT\r\nEND:VCALENDAR\r\n"))
	f.Fuzz(func(t *testing.T, text []byte) {
		entries, _, err := calendar.ReadICS(text)
		if err != nil {
			return
		}
		if c, err := calendar.Compile("x", calendar.Definition{Closed: entries}); err == nil {
			c.Open(2026, 12)
			c.Why(20000)
		}
	})
}

// A full holiday calendar, and the worst rule that asks it.
func BenchmarkWorstRule(b *testing.B) {
	d := holidays
	for i := range 40 {
		y, m, date := civil.Date(serial("2026-01-03") + int64(i*9))
		d.Closed = append(d.Closed, calendar.Entry{
			Date: time.Date(y, time.Month(m), date, 0, 0, 0, 0, time.UTC).Format(time.DateOnly), Rule: "every year",
		})
	}
	c := compile(b, "Harbour", d)
	for _, text := range []string{
		"on the last open day of every year at 18:00",
		"on the 200th open day of every year at 18:00 before closed days",
		"on day 29 of february if mon at 00:00 skip closed days",
	} {
		r, err := rule.Options{Zone: time.UTC, Calendar: c}.Parse(text)
		require.NoError(b, err)
		b.Run(text, func(b *testing.B) {
			b.ReportAllocs()
			at := day("2026-11-23")
			for i := range b.N {
				r.Next(at.AddDate(i%40, 0, 0)) // another month each time, so that nothing is kept
			}
		})
	}
}
