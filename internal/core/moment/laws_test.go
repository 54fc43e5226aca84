package moment_test

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"ironbell/internal/core/moment"
	"ironbell/internal/core/zone"

	"pgregory.net/rapid"
)

func drawNominal(t *rapid.T) time.Time {
	z, err := zone.Load(rapid.SampledFrom([]string{
		"Europe/London", "America/New_York", "Asia/Kolkata",
		"Australia/Lord_Howe", "UTC",
	}).Draw(t, "zone"))
	if err != nil {
		t.Fatal(err)
	}
	return time.Unix(rapid.Int64Range(946684800, 2208988800).Draw(t, "at"), 0).In(z)
}

func reckon(t *rapid.T, text string, nominal time.Time, f moment.Frame) time.Time {
	m, err := moment.Parse(text)
	if err != nil {
		t.Fatal(err)
	}
	return m.At(nominal, f)
}

// The start of a period is not after the nominal date, its end not before it,
// and the next period begins the day after this one ends.
func TestPeriodsHoldTheirDate(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		nominal := drawNominal(t)
		f := moment.Frame{WeekStart: time.Weekday(rapid.IntRange(0, 6).Draw(t, "week start"))}
		period := rapid.SampledFrom([]string{"day", "week", "month", "quarter", "year"}).Draw(t, "period")
		start, end := reckon(t, "start of "+period, nominal, f), reckon(t, "end of "+period, nominal, f)
		today := reckon(t, "today", nominal, f)
		if start.After(today) || end.Before(today) {
			t.Fatalf("%s of %s: %s to %s", period, nominal, start, end)
		}
		if next := reckon(t, "start of next "+period, nominal, f); !next.Equal(end.AddDate(0, 0, 1)) {
			t.Fatalf("the next %s begins on %s, this one ends on %s", period, next, end)
		}
		if last := reckon(t, "end of last "+period, nominal, f); !last.AddDate(0, 0, 1).Equal(start) {
			t.Fatalf("the last %s ends on %s, this one begins on %s", period, last, start)
		}
		if period == "week" && start.Weekday() != f.WeekStart {
			t.Fatalf("the week begins on %s", start.Weekday())
		}
	})
}

// A step forward and the same step back comes home, but for months that lack a
// day; open days that are stepped to are open.
func TestStepsComeHome(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		nominal := drawNominal(t)
		n := rapid.IntRange(0, 400).Draw(t, "n")
		unit := rapid.SampledFrom([]string{"days", "weeks", "hours", "minutes"}).Draw(t, "unit")
		anchor := "today"
		if unit == "hours" || unit == "minutes" {
			anchor = "now"
		}
		there := reckon(t, fmt.Sprintf("%s + %d %s - %d %s", anchor, n, unit, n, unit), nominal, moment.DefaultFrame)
		if home := reckon(t, anchor, nominal, moment.DefaultFrame); !there.Equal(home) {
			t.Fatalf("%d %s there and back from %s is %s", n, unit, home, there)
		}
		open := reckon(t, fmt.Sprintf("today - %d open days", max(n, 1)), nominal, moment.DefaultFrame)
		if open.Weekday() == time.Saturday || open.Weekday() == time.Sunday {
			t.Fatalf("%s is no open day", open)
		}
		between := 0
		for d := open.AddDate(0, 0,
			1); !d.After(reckon(t, "today", nominal, moment.DefaultFrame)); d = d.AddDate(0, 0, 1) {
			if d.Weekday() != time.Saturday && d.Weekday() != time.Sunday && !sameDay(d, nominal) {
				between++
			}
		}
		if between != max(n, 1)-1 {
			t.Fatalf("%d open days lie between %s and %s, expected %d", between, open, nominal, max(n, 1)-1)
		}
	})
}

func sameDay(a, b time.Time) bool {
	return a.Format(time.DateOnly) == b.In(a.Location()).Format(time.DateOnly)
}

// Whatever is written is read or refused with a sentence, and what is read can be
// explained.
func FuzzParse(f *testing.F) {
	for _, seed := range []string{
		"today - 3 days", "start of last 8 weeks", "open day before open day after today",
		"midnight to past hour", "last 5 open days", "next fri + 1 quarter", "end of", "- - -",
	} {
		f.Add(seed)
	}
	nominal := time.Date(2026, 11, 23, 14, 5, 0, 0, time.UTC)
	f.Fuzz(func(t *testing.T, text string) {
		if m, err := moment.Parse(text); err == nil {
			if said := m.Explain(nominal, moment.DefaultFrame); !strings.Contains(said, "23 November 2026") {
				t.Fatalf("%q is explained as %q", text, said)
			}
		}
		if r, err := moment.ParseRange(text); err == nil {
			r.At(nominal, moment.DefaultFrame)
			r.Explain(nominal, moment.DefaultFrame)
		}
	})
}
