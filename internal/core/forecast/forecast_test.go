package forecast_test

import (
	"fmt"
	"testing"
	"time"

	"ironbell/internal/core/calendar"
	"ironbell/internal/core/forecast"
	"ironbell/internal/core/rule"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

var monday = time.Date(2026, 11, 23, 0, 0, 0, 0, time.UTC)

func entry(t testing.TB, o rule.Options, text string, usual time.Duration) forecast.Entry {
	t.Helper()
	if o.Zone == nil {
		o.Zone = time.UTC
	}
	r, err := o.Parse(text)
	require.NoError(t, err, text)
	return forecast.Entry{Rule: r, Usual: usual}
}

func harbour(t testing.TB) *calendar.Calendar {
	t.Helper()
	c, err := calendar.Compile("Harbour",
		calendar.Definition{Closed: []calendar.Entry{
			{Label: "slipway", Rule: "on the first tuesday of every month"},
			{Label: "Christmas Day", Rule: "on 25 dec"},
		}})
	require.NoError(t, err)
	return c
}

// A forecast is the repeated next of all its triggers, in order.
func TestForecastEqualsRepeatedNext(t *testing.T) {
	texts := []string{
		"every day at 06:00", "15 6 * * 1-5", "every 90 minutes", "on weekdays at 09:00 skip closed days",
		"on day 1 of every month at 05:00 before closed days",
		"every 2 hours between 06:00 and 22:00 within 08:00 to 12:00", "once on 2026-12-01 at 14:00",
		"on the last open day of every month at 18:00", "0 */3 * * *",
	}
	c := harbour(t)
	rapid.Check(t, func(rt *rapid.T) {
		var entries []forecast.Entry
		for _, text := range rapid.SliceOfN(rapid.SampledFrom(texts), 1, 12).Draw(rt, "rules") {
			entries = append(entries, entry(t, rule.Options{Calendar: c}, text, time.Minute))
		}
		from := monday.Add(time.Duration(rapid.IntRange(0, 3*366*24*60).Draw(rt, "minutes")) * time.Minute)
		to := from.AddDate(0, 0, rapid.IntRange(1, 21).Draw(rt, "days"))
		want := map[string]int{}
		for i, e := range entries {
			for at := from; ; {
				next, ok := e.Rule.Next(at)
				if !ok || next.After(to) {
					break
				}
				want[fmt.Sprintf("%d at %s", i, next)]++
				at = next
			}
		}
		got, before := 0, from
		for r := range forecast.Rings(entries, from, to) {
			if r.Due.Before(before) || !r.Due.After(from) || r.Due.After(to) {
				rt.Fatalf("%s comes after %s", r.Due, before)
			}
			before = r.Due
			if r.Passed {
				continue
			}
			got++
			if want[fmt.Sprintf("%d at %s", r.Entry, r.Due)] != 1 {
				rt.Fatalf("%q does not ring at %s", entries[r.Entry].Rule, r.Due)
			}
		}
		if got != len(want) {
			rt.Fatalf("%d rings, expected %d", got, len(want))
		}
	})
}

func TestMovedAndPassedOver(t *testing.T) {
	c := harbour(t)
	entries := []forecast.Entry{
		entry(t, rule.Options{Calendar: c}, "every day at 06:00 skip closed days", 0),
		entry(t, rule.Options{Calendar: c}, "on tue at 07:00 after closed days", 0),
	}
	// Monday 30 November to Wednesday
	s := forecast.Look(entries, forecast.Room{AtOnce: 4}, monday.AddDate(0, 0, 7), monday.AddDate(0, 0, 10), 100)
	var lines []string
	for _, r := range s.Rings {
		line := r.Due.Format("Mon 2 15:04")
		if r.Passed {
			line += " passed over:"
		}
		lines = append(lines, line+" "+entries[r.Entry].Rule.Reason(r.Ring))
	}
	assert.Equal(t, []string{
		"Mon 30 06:00 ", "Tue 1 06:00 passed over: 1 December is closed in calendar Harbour (slipway)", "Wed 2 06:00 ",
		"Wed 2 07:00 1 December is closed in calendar Harbour (slipway); moved to Wed 2 December",
	}, lines)
	assert.Equal(t, []int{3, 1, 1}, []int{s.Total, s.Moved, s.Passed})
}

func TestLoadAndClashes(t *testing.T) {
	s := forecast.Look([]forecast.Entry{
		entry(t, rule.Options{}, "every day at 06:00", 10*time.Minute),
		entry(t, rule.Options{}, "every day at 06:00", 30*time.Minute),
		entry(t, rule.Options{}, "every day at 06:05", time.Hour),
		entry(t, rule.Options{}, "every day at 06:20 and 08:00", time.Minute),
	}, forecast.Room{AtOnce: 2}, monday, monday.AddDate(0, 0, 1), 3)
	require.Len(t, s.Rings, 3, "no more than were asked for")
	assert.Equal(t, 5, s.Total)
	at := func(clock string) time.Time {
		d, err := time.Parse("15:04", clock)
		require.NoError(t, err)
		return monday.Add(time.Duration(d.Hour())*time.Hour + time.Duration(d.Minute())*time.Minute)
	}
	require.Len(t, s.Hours, 2)
	assert.True(t, s.Hours[0].At.Equal(at("06:00")))
	assert.Equal(t, []int{4, 2, 3}, []int{s.Hours[0].Rings, s.Hours[0].Most, s.Hours[0].Working})
	assert.True(t, s.Hours[0].Busiest.Equal(at("06:00")))
	require.Len(t, s.Minutes, 1)
	assert.Equal(t, 2, s.Minutes[0].Rings)
	require.Len(t, s.Clashes, 2,
		"from 06:05 until the first has ended, and when the fourth begins before the second has")
	assert.True(t, s.Clashes[0].From.Equal(at("06:05")) && s.Clashes[0].To.Equal(at("06:10")), s.Clashes[0])
	assert.Equal(t, []int{0, 1, 2}, s.Clashes[0].Entries)
	assert.True(t, s.Clashes[1].From.Equal(at("06:20")) && s.Clashes[1].To.Equal(at("06:21")), s.Clashes[1])
	assert.Equal(t, 3, s.Clashes[1].Most)
}

func TestNothingToCome(t *testing.T) {
	s := forecast.Look(nil, forecast.Room{AtOnce: 4}, monday, monday.AddDate(0, 0, 7), 10)
	assert.Equal(t,
		forecast.Summary{
			Rings: []forecast.Ring{}, Hours: []forecast.Load{}, Minutes: []forecast.Minute{},
			Clashes: []forecast.Clash{},
		}, s)
}

// 100,000 jobs that ring once a day, over 7 days, with calendars.
func BenchmarkLook(b *testing.B) {
	c := harbour(b)
	entries := make([]forecast.Entry, 100_000)
	for i := range entries {
		how := []rule.Closed{rule.Skip, rule.Before, rule.After}[i%3]
		entries[i] = entry(b, rule.Options{Calendar: c, Closed: how},
			fmt.Sprintf("every day at %02d:%02d:%02d", i/3600%24, i/60%60, i%60), time.Duration(i%90)*time.Second)
	}
	b.ReportAllocs()
	b.ResetTimer()
	for range b.N {
		s := forecast.Look(entries, forecast.Room{AtOnce: 80}, monday, monday.AddDate(0, 0, 7), 1000)
		b.ReportMetric(float64(s.Total+s.Passed), "rings")
	}
}
