package moment_test

import (
	"testing"
	"time"

	"ironbell/internal/core/civil"
	"ironbell/internal/core/moment"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestMoments(t *testing.T) {
	london, err := time.LoadLocation("Europe/London")
	require.NoError(t, err)
	nominal := time.Date(2026, 3, 31, 6, 15, 0, 0, london) // a Tuesday, summer time
	for text, want := range map[string]string{
		"now":                             "2026-03-31T06:15:00+01:00",
		"today":                           "2026-03-31T00:00:00+01:00",
		"yesterday":                       "2026-03-30T00:00:00+01:00",
		"tomorrow":                        "2026-04-01T00:00:00+01:00",
		"today - 3 days":                  "2026-03-28T00:00:00Z",
		"now - 6 hours":                   "2026-03-31T00:15:00+01:00",
		"start of month":                  "2026-03-01T00:00:00Z",
		"start of last month":             "2026-02-01T00:00:00Z",
		"end of last month":               "2026-02-28T00:00:00Z",
		"end of next month":               "2026-04-30T00:00:00+01:00",
		"start of month - 1 month":        "2026-02-01T00:00:00Z",
		"today - 1 month":                 "2026-02-28T00:00:00Z", // the day that February lacks becomes its last
		"today + 1 year":                  "2027-03-31T00:00:00+01:00",
		"start of week":                   "2026-03-30T00:00:00+01:00",
		"end of this week":                "2026-04-05T00:00:00+01:00",
		"start of week - 8 weeks":         "2026-02-02T00:00:00Z",
		"Start of Quarter":                "2026-01-01T00:00:00Z",
		"end of last quarter":             "2025-12-31T00:00:00Z",
		"start of year + 1 month - 1 day": "2026-01-31T00:00:00Z",
		"this hour":                       "2026-03-31T06:00:00+01:00",
		"past hour":                       "2026-03-31T06:00:00+01:00",
		"last hour":                       "2026-03-31T05:00:00+01:00",
		"end of hour":                     "2026-03-31T07:00:00+01:00",
		"midnight":                        "2026-03-31T00:00:00+01:00",
		"this monday":                     "2026-03-30T00:00:00+01:00",
		"last tuesday":                    "2026-03-24T00:00:00Z",
		"next tue":                        "2026-04-07T00:00:00+01:00",
		"last friday":                     "2026-03-27T00:00:00Z",
		"next fri - 1 week":               "2026-03-27T00:00:00Z",
		"today - 3 open days":             "2026-03-26T00:00:00Z",
		"today + 4 open days":             "2026-04-06T00:00:00+01:00",
		"open day before today":           "2026-03-30T00:00:00+01:00",
		"open day before start of month":  "2026-02-27T00:00:00Z",
		"open day after end of month":     "2026-04-01T00:00:00+01:00",
		"start of last 8 weeks":           "2026-02-02T00:00:00Z",
		"end of last 8 weeks":             "2026-03-29T00:00:00Z",
	} {
		m, err := moment.Parse(text)
		if assert.NoError(t, err, text) {
			assert.Equal(t, want, m.At(nominal, moment.DefaultFrame).Format(time.RFC3339), text)
			assert.Equal(t, text, m.String())
		}
	}
}

func TestNoMoments(t *testing.T) {
	for text, want := range map[string]string{
		"":                       "write an anchor",
		"noon":                   `begins with "noon"`,
		"start month":            `after "start" comes of`,
		"start of":               `after "start" comes of`,
		"open day today":         `after "open" comes day before or day after`,
		"today - 3 open weeks":   `only days are open or closed`,
		"today -":                `after the anchor come steps`,
		"last":                   `begins with "last"`,
		"start of fortnight":     `"fortnight" is no period`,
		"start of last":          "the period is missing",
		"today - three days":     `"three" is no number`,
		"today - 3 moons":        `"moons" is no unit`,
		"today 3 days":           "after the anchor come steps",
		"today - 999999999 days": "is no number from 0 to 100000",
	} {
		_, err := moment.Parse(text)
		assert.ErrorContains(t, err, want, text)
	}
}

// frozen is closed from 23 to 29 March 2026, and else open every day.
type frozen struct{}

func (frozen) Open(y, m int) civil.Mask {
	days := civil.Month(y, m)
	if y == 2026 && m == 3 {
		days = days.Before(23) | days.From(30)
	}
	return days
}

func TestFrames(t *testing.T) {
	nominal := time.Date(2026, 3, 31, 6, 15, 0, 0, time.UTC)
	sunday := moment.Frame{WeekStart: time.Sunday, Calendar: frozen{}}
	for text, want := range map[string]string{
		"start of week":         "2026-03-29",
		"end of week":           "2026-04-04",
		"this sunday":           "2026-03-29",
		"this monday":           "2026-03-30",
		"today - 2 open days":   "2026-03-22",
		"open day before today": "2026-03-30",
	} {
		m, err := moment.Parse(text)
		require.NoError(t, err, text)
		assert.Equal(t, want, m.At(nominal, sunday).Format(time.DateOnly), text)
	}
}

func TestRanges(t *testing.T) {
	london, err := time.LoadLocation("Europe/London")
	require.NoError(t, err)
	nominal := time.Date(2026, 3, 31, 14, 5, 0, 0, london)
	for text, want := range map[string]string{
		"midnight to the past hour":        "2026-03-31 00:00 to 2026-03-31 14:00",
		"midnight to now":                  "2026-03-31 00:00 to 2026-03-31 14:05",
		"last 8 weeks":                     "2026-02-02 00:00 to 2026-03-29 00:00",
		"the last 3 days":                  "2026-03-28 00:00 to 2026-03-30 00:00",
		"last 6 hours":                     "2026-03-31 08:05 to 2026-03-31 14:05",
		"last 2 months":                    "2026-01-01 00:00 to 2026-02-28 00:00",
		"last 5 open days":                 "2026-03-24 00:00 to 2026-03-30 00:00",
		"last month":                       "2026-02-01 00:00 to 2026-02-28 00:00",
		"this quarter":                     "2026-01-01 00:00 to 2026-03-31 00:00",
		"last hour":                        "2026-03-31 13:00 to 2026-03-31 14:00",
		"start of year to end of month":    "2026-01-01 00:00 to 2026-03-31 00:00",
		"last monday to yesterday":         "2026-03-30 00:00 to 2026-03-30 00:00",
		"today - 1 month to today + 1 day": "2026-02-28 00:00 to 2026-04-01 00:00",
	} {
		r, err := moment.ParseRange(text)
		if assert.NoError(t, err, text) {
			from, to := r.At(nominal, moment.DefaultFrame)
			assert.Equal(t, want, from.Format("2006-01-02 15:04")+" to "+to.Format("2006-01-02 15:04"), text)
			assert.Equal(t, text, r.String())
		}
	}
	for text, want := range map[string]string{
		"today":                 "after \"today\" comes to and where it ends",
		"last 3 moons":          "is no",
		"today to":              "write an anchor",
		"today to now sometime": `"sometime" stands behind its end`,
		"":                      "write an anchor",
	} {
		_, err := moment.ParseRange(text)
		assert.ErrorContains(t, err, want, text)
	}
}

func TestExplained(t *testing.T) {
	nominal := time.Date(2026, 3, 31, 6, 15, 0, 0, time.UTC)
	m, err := moment.Parse("start of month - 1 month + 2 open days")
	require.NoError(t, err)
	assert.Equal(t,
		"Tue 31 March 2026 06:15 UTC; start of month: Sun 1 March 2026; back 1 month: Sun 1 February 2026; forward 2 "+
			"open days: Tue 3 February 2026", m.Explain(nominal, moment.DefaultFrame))
	r, err := moment.ParseRange("open day before today to next friday")
	require.NoError(t, err)
	assert.Equal(t,
		"From Tue 31 March 2026 06:15 UTC; open day before today: Mon 30 March 2026. To Tue 31 March 2026 06:15 UTC; "+
			"next Friday: Fri 3 April 2026", r.Explain(nominal, moment.DefaultFrame))
}

// In Santiago and Havana clocks are set forward at midnight: that day has none, and begins at one.
func TestADayWithoutAMidnightIsStillThatDay(t *testing.T) {
	for _, c := range []struct {
		zone string
		day  time.Time // of the change, at noon
	}{
		{"America/Santiago", time.Date(2026, 9, 6, 12, 0, 0, 0, time.UTC)},
		{"America/Havana", time.Date(2026, 3, 8, 12, 0, 0, 0, time.UTC)},
		{"Asia/Beirut", time.Date(2026, 3, 29, 12, 0, 0, 0, time.UTC)},
	} {
		place, err := time.LoadLocation(c.zone)
		require.NoError(t, err)
		for shift := -3; shift <= 3; shift++ {
			noon := time.Date(c.day.Year(), c.day.Month(), c.day.Day()+shift, 12, 0, 0, 0, place)
			for text, days := range map[string]int{
				"today": 0, "yesterday": -1, "tomorrow": 1, "today - 3 days": -3, "tomorrow - 1 day": 0,
				"today + 1 week - 1 week": 0, "today + 1 year - 1 year": 0,
			} {
				m, err := moment.Parse(text)
				require.NoError(t, err)
				got := m.At(noon, moment.Frame{})
				want := noon.AddDate(0, 0, days).Format(time.DateOnly)
				assert.Equal(t, want, got.Format(time.DateOnly), "%s on %s in %s", text, noon.Format(time.DateOnly), c.zone)
				assert.NotEqual(t, want, got.Add(-time.Second).Format(time.DateOnly), "its first instant")
			}
		}
	}
}
