package rule_test

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"ironbell/internal/core/rule"
	"ironbell/internal/core/zone"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

func parse(t testing.TB, text, z string) rule.Rule {
	t.Helper()
	r, err := rule.Parse(text, zoneNamed(t, z))
	require.NoError(t, err)
	return r
}

func next(t testing.TB, r rule.Rule, from string, n int) []string {
	t.Helper()
	at, err := time.Parse(time.RFC3339, from)
	require.NoError(t, err)
	var out []string
	for range n {
		var ok bool
		if at, ok = r.Next(at); !ok {
			return append(out, "never")
		}
		out = append(out, at.Format("Mon 2006-01-02 15:04 -0700"))
	}
	return out
}

func TestNextOfCron(t *testing.T) {
	for _, c := range []struct {
		text, zone, from string
		want             []string
	}{
		{
			"15 6 * * 1-5", "Europe/London", "2026-11-20T06:15:00Z",
			[]string{"Mon 2026-11-23 06:15 +0000", "Tue 2026-11-24 06:15 +0000"},
		},
		{
			"*/2 * * * *", "Europe/London", "2026-11-23T08:00:30Z",
			[]string{"Mon 2026-11-23 08:02 +0000", "Mon 2026-11-23 08:04 +0000"},
		},
		{
			"0 2 1,15 * *", "UTC", "2026-11-23T00:00:00Z",
			[]string{"Tue 2026-12-01 02:00 +0000", "Tue 2026-12-15 02:00 +0000"},
		},
		{
			"0 0 29 2 *", "UTC", "2026-01-01T00:00:00Z",
			[]string{"Tue 2028-02-29 00:00 +0000", "Sun 2032-02-29 00:00 +0000"},
		},
		{"0 0 29 2 */7", "UTC", "2026-01-01T00:00:00Z", []string{"Sun 2032-02-29 00:00 +0000"}},
		{"30 9 * * 7", "UTC", "2026-11-23T00:00:00Z", []string{"Sun 2026-11-29 09:30 +0000"}},
		{
			"0 12 13 * fri", "UTC", "2026-11-01T00:00:00Z",
			[]string{"Fri 2026-11-06 12:00 +0000", "Fri 2026-11-13 12:00 +0000", "Fri 2026-11-20 12:00 +0000"},
		},
		{
			"0 12 */2 * mon", "UTC", "2026-11-01T00:00:00Z",
			[]string{"Mon 2026-11-09 12:00 +0000", "Mon 2026-11-23 12:00 +0000"},
		},
		{
			"0 0 1 jan,JUL *", "UTC", "2026-01-01T00:00:00Z",
			[]string{"Wed 2026-07-01 00:00 +0000", "Fri 2027-01-01 00:00 +0000"},
		},
		// Clocks go forward at 01:00 on 29 March 2026: 01:30 does not exist and rings at 02:30.
		{
			"30 1 * * *", "Europe/London", "2026-03-28T12:00:00Z",
			[]string{"Sun 2026-03-29 02:30 +0100", "Mon 2026-03-30 01:30 +0100"},
		},
		// The skipped 01:30 and the real 02:30 are one instant and ring once.
		{
			"30 1,2 * * *", "Europe/London", "2026-03-29T00:45:00Z",
			[]string{"Sun 2026-03-29 02:30 +0100", "Mon 2026-03-30 01:30 +0100"},
		},
		{
			"15,45 1,2 * * *", "Europe/London", "2026-03-29T00:45:00Z",
			[]string{"Sun 2026-03-29 02:15 +0100", "Sun 2026-03-29 02:45 +0100"},
		},
		// Clocks go back at 02:00 on 25 October 2026: 01:30 comes twice and rings at the first.
		{
			"30 1 * * *", "Europe/London", "2026-10-24T12:00:00Z",
			[]string{"Sun 2026-10-25 01:30 +0100", "Mon 2026-10-26 01:30 +0000"},
		},
		// A star in the hours means each passing minute, also in the repeated hour.
		{
			"30 * * * *", "Europe/London", "2026-10-25T00:00:00Z",
			[]string{"Sun 2026-10-25 01:30 +0100", "Sun 2026-10-25 01:30 +0000", "Sun 2026-10-25 02:30 +0000"},
		},
		{
			"30 * * * *", "Europe/London", "2026-03-29T00:00:00Z",
			[]string{"Sun 2026-03-29 00:30 +0000", "Sun 2026-03-29 02:30 +0100"},
		},
		// Half an hour of change.
		{
			"15 2 * * *", "Australia/Lord_Howe", "2026-10-03T00:00:00Z",
			[]string{"Sun 2026-10-04 02:45 +1100", "Mon 2026-10-05 02:15 +1100"},
		},
		// A whole day that never was: what was due on it rings a day later, beside that day's own.
		{"0 8 30 12 *", "Pacific/Apia", "2011-12-29T00:00:00Z", []string{"Sat 2011-12-31 08:00 +1400"}},
	} {
		t.Run(c.text+" "+c.zone, func(t *testing.T) {
			assert.Equal(t, c.want, next(t, parse(t, c.text, c.zone), c.from, len(c.want)))
		})
	}
}

func TestCronThatCannotBeRead(t *testing.T) {
	for text, want := range map[string]string{
		"5 4 * *": "column 8: a cron text has five fields (minute hour day month weekday); the " +
			"weekday is missing",
		"5 4 * * * *": "column 11: found \"*\", expected the end: a cron text has five fields (minute hour " +
			"day month weekday)",
		"60 * * * *":  "column 1: found \"60\", expected a minute from 0 to 59",
		"0 25 * * *":  "column 3: found \"25\", expected an hour from 0 to 23",
		"0 0 * * mo":  "column 9: found \"mo\", expected a weekday from 0 to 7 or a name such as mon",
		"*/0 * * * *": "column 3: found \"0\", expected a step from 1 to 59",
		"5/10 * * * *": "column 1: found \"5/10\", expected a star or a range before the step, such as " +
			"*/5 or 10-40/5",
		"30-10 * * * *":       "column 1: found \"30-10\", expected a range that runs upwards",
		"1,,2 * * * *":        "column 3: expected a minute from 0 to 59",
		"0 0 30 2 *":          "column 1: this never rings: none of its months has a day 30",
		"0 0 31 2,4,6 *":      "column 1: this never rings: none of its months has a day 31",
		"-1 * * * *":          "column 1: expected a minute from 0 to 59",
		"99999999999 * * * *": "column 1: found \"99999999999\", expected a minute from 0 to 59",
	} {
		_, err := rule.Parse(text, time.UTC)
		var e *rule.Error
		if assert.ErrorAs(t, err, &e, text) {
			assert.Equal(t, want, e.Error(), text)
		}
	}
}

func TestZoneMustBeNamed(t *testing.T) {
	for _, name := range []string{"", "Local", "local", "Mars/Olympus"} {
		_, err := zone.Load(name)
		assert.ErrorContains(t, err, "Europe/London", name)
	}
}

func TestReading(t *testing.T) {
	for text, want := range map[string]string{
		"15 6 * * 1-5":      "on weekdays at 06:15",
		"*/2 * * * *":       "every 2 minutes",
		"* * * * *":         "every minute",
		"5 * * * *":         "every passing hour at :05",
		"1-59/5 * * * *":    "every passing hour at minutes 1 to 56 by 5",
		"0 2 1,15 * *":      "on day 1 and 15 of every month at 02:00",
		"0 8,17 * * 0,6":    "on weekends at 08:00 and 17:00",
		"0 12 13 * 5":       "on day 13 of every month or on Friday at 12:00",
		"0 12 13 * */5":     "on day 13 of every month if Friday and Sunday at 12:00",
		"0 4 5 1,4,7,10 *":  "on day 5 of January, April, July and October at 04:00",
		"0 6-22/2 * * *":    "every 2 hours between 06:00 and 22:00",
		"30 9-17 * * 1-5":   "on weekdays every hour between 09:30 and 17:30",
		"0 0,6,12,18 * * *": "every 6 hours",
		"0 1,2,4,8 * * *":   "every day at 01:00, 02:00, 04:00 and 08:00",
		"*/15 6-21 * * *":   "every 15 minutes between 06:00 and 21:45",
		"*/7 6-21 * * *":    "every day in hours 6 to 21 at minutes 0 to 56 by 7",
		"0 0 * 6-8 *":       "every day in June to August at 00:00",
		"0 0 */2 * 1":       "on day 1 to 31 by 2 of every month if Monday at 00:00",
	} {
		assert.Equal(t, want, parse(t, text, "UTC").Reading(), text)
	}
}

// oracle walks the instants minute by minute. It asks of a wall time, given as
// fields in UTC, whether the rule names it.
type oracle struct {
	matches func(w time.Time) bool
	passing bool
	zone    *time.Location
}

// cronOracle reads cron texts in a way of its own: fields as sets of words.
func cronOracle(text string, z *time.Location) oracle {
	var fields [5]map[int]bool
	words := strings.Fields(text)
	low, high := []int{0, 0, 1, 1, 0}, []int{59, 23, 31, 12, 6}
	for i, w := range words {
		fields[i] = map[int]bool{}
		for _, item := range strings.Split(w, ",") {
			from, to, step := low[i], high[i], 1
			body, stepText, has := strings.Cut(item, "/")
			if has {
				fmt.Sscan(stepText, &step)
			}
			if body != "*" {
				if _, err := fmt.Sscanf(body, "%d-%d", &from, &to); err != nil {
					fmt.Sscan(body, &from)
					to = from
				}
			}
			for n := from; n <= to; n += step {
				key := n
				if i == 4 {
					key = n % 7
				}
				fields[i][key] = true
			}
		}
	}
	either := words[2][0] != '*' && words[4][0] != '*'
	return oracle{zone: z, passing: words[1][0] == '*', matches: func(w time.Time) bool {
		date, week := fields[2][w.Day()], fields[4][int(w.Weekday())]
		day := date && week
		if either {
			day = date || week
		}
		return day && fields[0][w.Minute()] && fields[1][w.Hour()] && fields[3][int(w.Month())]
	}}
}

// first walks from an instant to the first ring, for so long at most.
func (o oracle) first(at time.Time, limit time.Duration) (time.Time, bool) {
	walk := at.Truncate(time.Minute)
	for range limit / time.Minute {
		walk = walk.Add(time.Minute)
		if o.rings(walk) {
			return walk, true
		}
	}
	return walk, false
}

// rings tells whether an instant is a ring, from the offsets around it.
func (o oracle) rings(at time.Time) bool {
	wall := func(offset int) time.Time { return at.UTC().Add(time.Duration(offset) * time.Second) }
	span := zone.Of(o.zone).At(at.Unix())
	now, before, since := int(span.Offset), int(span.Before), at.Unix()-span.Start
	if o.passing || span.Start < 0 {
		return o.matches(wall(now))
	}
	if before > now && since < int64(before-now) {
		return false // this wall time was there before the clocks went back
	}
	if before < now && since < int64(now-before) && o.matches(wall(before)) {
		return true // skipped: it rings at the old offset
	}
	return o.matches(wall(now))
}

// cronText draws a cron text of numbers, ranges, lists and steps.
func cronText(t *rapid.T) string {
	low, high := []int{0, 0, 1, 1, 0}, []int{59, 23, 31, 12, 7}
	words := make([]string, 5)
	for i := range words {
		item := rapid.Custom(func(t *rapid.T) string {
			a := rapid.IntRange(low[i], high[i]).Draw(t, "a")
			c := rapid.IntRange(a, high[i]).Draw(t, "b")
			step := rapid.IntRange(1, 9).Draw(t, "step")
			if i > 1 {
				step = rapid.IntRange(1, 3).Draw(t, "step")
			}
			switch rapid.IntRange(0, 4).Draw(t, "form") {
			case 0:
				return "*"
			case 1:
				return fmt.Sprintf("*/%d", step)
			case 2:
				return fmt.Sprint(a)
			case 3:
				return fmt.Sprintf("%d-%d", a, c)
			default:
				return fmt.Sprintf("%d-%d/%d", a, c, step)
			}
		})
		words[i] = strings.Join(rapid.SliceOfN(item, 1, 3).Draw(t, "items"), ",")
	}
	// Wide months and days, so that rings come within the days that are walked.
	words[3] = "*"
	if rapid.Bool().Draw(t, "every day") {
		words[2], words[4] = "*", "*"
	}
	return strings.Join(words, " ")
}

var seamZones = []string{
	"Europe/London", "America/New_York", "Australia/Lord_Howe", "Asia/Kolkata", "Pacific/Apia",
	"America/Sao_Paulo", "Africa/Casablanca", "UTC",
}

// The engine finds what a walk over the minutes finds, above all around changes
// of clocks.
func TestNextAgreesWithAWalkOverTheMinutes(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		z, err := zone.Load(rapid.SampledFrom(seamZones).Draw(t, "zone"))
		if err != nil {
			t.Fatal(err)
		}
		text := cronText(t)
		r, err := rule.Parse(text, z)
		if err != nil {
			t.Skip("never rings")
		}
		at := drawInstant(t, z)
		want, found := cronOracle(text, z).first(at, 48*time.Hour)
		agree(t, r, at, want, found)
	})
}

// agree compares what the engine finds with what a walk found, or how far it
// came in vain.
func agree(t *rapid.T, r rule.Rule, at, want time.Time, found bool) {
	got, ok := r.Next(at)
	switch {
	case !found && ok && !got.After(want):
		t.Fatalf("%q from %s: found %s, and the walk found none until %s", r, at, got, want)
	case found && (!ok || !got.Equal(want)):
		t.Fatalf("%q from %s: found %s, the walk found %s", r, at, got, want.In(r.Location()))
	}
}

func BenchmarkNext(b *testing.B) {
	z := zoneNamed(b, "Europe/London")
	at := time.Date(2026, 11, 23, 8, 0, 0, 0, z)
	b.Run("floor: one zone conversion", func(b *testing.B) {
		b.ReportAllocs()
		for i := range b.N {
			t := time.Date(2026, 11, 23, 8, i%60, 0, 0, z)
			_, _, _ = t.Date()
			_, _, _ = t.Clock()
		}
	})
	for _, text := range benched {
		r := parse(b, text, "Europe/London")
		b.Run(text, func(b *testing.B) {
			b.ReportAllocs()
			for range b.N {
				r.Next(at)
			}
		})
	}
}

// benched are the sentences that people write most, ten cron texts and two of
// the worst rules.
var benched = []string{
	"every day at 06:00", "on mon, wed, fri at 07:30", "on weekdays at 08:00 and 17:00",
	"on day 1 and 15 of every month at 02:00",
	"on the last day of every month at 23:30", "on the first monday of every month at 18:15",
	"on the last friday of every month at 16:00",
	"on open day 3 of every month at 09:00", "on the last open day of every quarter at 18:00",
	"in jan, apr, jul, oct on day 5 at 04:00",
	"every 2 days at 00:00 from 2026-08-25", "every 2 weeks on mon at 09:00 from 2026-01-05",
	"on open days between 06:00 and 22:00, every 15 minutes", "every hour at :05", "once on 2026-12-01 at 14:00",
	"every day at 06:00 until 2027-03-31", "every day at 06:00 from 2026-11-20 ending after 12 rings",
	"on fri at 06:00 skip closed days", "on day 25 of every month at 06:00 before closed days",
	"on day 25 of every month at 06:00 after closed days",
	"*/2 * * * *", "15 6 * * 1-5", "0 2 1,15 * *", "5 * * * *", "*/15 6-21 * * *", "0 0 1 1 *", "30 5 * * *",
	"0 12 13 * 5", "0 6-22/2 * * *", "0 0 * * 0",
	"0 0 29 2 */7", "on day 29 of february if mon at 00:00", "on the last open day of every year at 12:00",
}
