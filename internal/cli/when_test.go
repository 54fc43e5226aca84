package cli

import (
	"bytes"
	"errors"
	"strings"
	"testing"
	"time"

	"ironbell/internal/api/wire"
	"ironbell/internal/core/calendar"
	"ironbell/internal/core/job"
	"ironbell/internal/core/rule"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func printed(print func(IO)) string {
	var out bytes.Buffer
	print(IO{Out: &out, Err: &out})
	return out.String()
}

func TestAMarkStandsUnderTheColumn(t *testing.T) {
	for text, want := range map[string]string{
		"on mondey at 07:00": "  on mondey at 07:00\n     ^\n",
		"every day":          "  every day\n           ^\n",
		"0 25 * * *":         "  0 25 * * *\n    ^\n",
		"DTSTART:20261201T060000\nRRULE:FREQ=DALY": "  RRULE:FREQ=DALY\n             ^\n",
		"on zürich at 07:00":                       "  on zürich at 07:00\n     ^\n",
	} {
		_, err := rule.Parse(text, time.UTC)
		var wrong *rule.Error
		require.True(t, errors.As(err, &wrong), text)
		var out bytes.Buffer
		pointAt(&out, wrong)
		assert.True(t, strings.HasPrefix(out.String(), "ironbell when: column "), out.String())
		assert.True(t, strings.HasSuffix(out.String(), want), out.String())
	}
}

func TestAForecastIsReadInTenSeconds(t *testing.T) {
	at := time.Date(2026, 11, 30, 6, 15, 0, 0, time.UTC)
	usual := 90.0
	f := wire.Forecast{
		From: at.Add(-time.Hour), To: at.AddDate(0, 0, 7), Zone: "Europe/London", Total: 40, Moved: 1, Passed: 1,
		AtOnce: 4,
		Rings: []wire.Coming{
			{Job: "Quay board", At: at, Reading: "every day at 06:15", Usual: &usual},
			{
				Job: "Sailing punctuality", At: at, Reading: "on weekdays at 06:15", Passed: true,
				Reason: "30 November is closed in calendar Public holidays",
			},
			{
				Job: "Board pack", At: at.AddDate(0, 0, 1), Reading: "on day 30 of every month at 06:15",
				Reason: "30 November is closed in calendar Public holidays; moved to Tue 1 December",
			},
		},
		Minutes: []wire.Busy{{At: at, Rings: 2}},
		Clashes: []wire.Clash{{
			From: at, To: at.Add(30 * time.Second), Most: 5, Jobs: []string{"Quay board", "Board pack"},
		}},
	}
	late, came := at.Add(-time.Minute), at.Add(-2*time.Minute)
	f.Expected = []job.Expected{
		{Job: "Month-end lock", Reading: "event ledger.closed", By: at, Why: "usually there by 06:15 GMT, as on 7 of the last 8 Mondays"},
		{Job: "Tide gauges", Reading: "files *.csv", By: at, Late: &late, Why: "usually there by 06:15 GMT"},
		{Job: "Fuel burn", Reading: "files *.dat", By: at, Late: &late, Why: "usually there", Came: &came},
	}
	out := printed(func(i IO) { printForecast(i, f) })
	for _, want := range []string{
		"Usually there by then", "by 06:15 GMT, as on 7", "▲ Mon 30 Nov 06:15 GMT", "has not come; usually", "came at 06:13 GMT",
		"40 rings from Mon 30 Nov 05:15 to Mon 7 Dec 06:15, in Europe/London; 1 moved by a calendar; 1 passed over.",
		"Mon 30 Nov 06:15 GMT", "1m30s", "» Mon 30 Nov 06:15 GMT", "passed over: 30 November is closed",
		"moved to Tue 1", "38 more; -limit shows them.",
		"Busiest minutes\n  Mon 30 Nov 06:15 GMT  2 rings", "more runs at work than the 4 at once",
		"5 at once: Quay board, Board pack",
	} {
		assert.Contains(t, out, want)
	}
	assert.Equal(t, "0 rings from Mon 30 Nov 05:15 to Mon 7 Dec 06:15, in Europe/London.\n", printed(func(i IO) {
		printForecast(i, wire.Forecast{From: f.From, To: f.To, Zone: f.Zone})
	}))
}

func TestCalendarsAreShownWithWhatGoesByThem(t *testing.T) {
	page := wire.CalendarPage{UsedBy: []string{"Quay board"}, Calendar: wire.Calendar{
		Name: "Harbour", Version: 3,
		Definition: calendar.Definition{
			Week: []string{"mon", "sat"},
			Closed: []calendar.Entry{
				{Label: "Slipway", Rule: "on the first tuesday of every month"},
				{Label: "Dredging", Date: "2027-01-18", Days: 5},
			},
		},
		Closings: []calendar.Closing{{Date: "2026-12-01", Label: "Slipway"}},
	}}
	out := printed(func(i IO) { printCalendar(i, page) })
	for _, want := range []string{
		"Harbour, version 3: open mon, sat", "on the first tuesday of every month",
		"2027-01-18, 5 days", "2026-12-01  Slipway", "Jobs that go by it\n  Quay board",
	} {
		assert.Contains(t, out, want)
	}
}

func TestWhatAChangeWouldDo(t *testing.T) {
	at := time.Date(2026, 12, 1, 9, 0, 0, 0, time.UTC)
	later, usual := at.Add(3*time.Hour), 60.0
	ring := func(at time.Time) *wire.Coming {
		return &wire.Coming{Job: "Quay board", At: at, Begins: &at, Usual: &usual}
	}
	waits := &wire.Coming{Job: "Quay board", At: at, Begins: &later, Waits: "everything is frozen"}
	w := wire.WhatIf{
		To: at.AddDate(0, 0, 92), Zone: "Europe/London", Says: "1 ring goes and 1 moves.",
		Counts: wire.RingCounts{Gone: 1, Moved: 1, Later: 1, Joined: 1, Late: 1}, AtOnce: 4,
		Rings: []wire.RingChange{
			{What: "gone", Was: ring(at), Will: &wire.Coming{Job: "Quay board", At: at, Passed: true, Reason: "1 December is closed"}},
			{What: "moved", Was: ring(at), Will: ring(later), Late: true},
			{What: "later", Was: ring(at), Will: waits},
			{What: "joined", Was: ring(at), Will: &wire.Coming{Job: "Quay board", At: at, Begins: &later, Joins: true}},
			{What: "later", Was: ring(at), Will: &wire.Coming{Job: "Quay board", At: at, Waits: "everything is frozen"}},
		},
		Clashes: []wire.ClashChange{{Clash: wire.Clash{From: at, To: later, Most: 6}, What: "worse", Was: 5}},
		Before:  wire.Load{Rings: 8, Hour: &at, Most: 3, Working: 5},
		After:   wire.Load{Rings: 7, Hour: &at, Most: 3, Working: 6, Joined: 1, Waiting: 2, Stuck: 1, Late: 1},
		Notes:   []string{"There are very many rings."},
	}
	out := printed(func(i IO) { printWhatIf(i, w) })
	for _, want := range []string{
		"Until Wed 3 Mar 2027 09:00 GMT: 1 ring goes and 1 moves.\n  ! There are very many rings.",
		"passed over: 1 December is closed", "moved, late", "Tue 1 Dec 12:00 GMT",
		"begins Tue 1 Dec", "joins a run", "does not begin",
		"worse   Tue 1 Dec 09:00:00 to 12:00:00 GMT  6 at once, 5 as it is",
		"The load: 7 rings, most of them in the hour of Tue 1 Dec 09:00 (3), 1 join a run that waits, 2 wait, " +
			"1 do not begin as far as can be seen, 1 miss their deadline; at most 6 runs at work at once\n" +
			"   it was: 8 rings, most of them in the hour of Tue 1 Dec 09:00 (3); at most 5 runs at work at once\n",
	} {
		assert.Contains(t, out, want)
	}
	// Many are told by job.
	w.Counts.Joined = 400
	w.Jobs = []wire.JobRings{{Job: "Quay board", Counts: w.Counts, First: w.Rings[1]}}
	out = printed(func(i IO) { printWhatIf(i, w) })
	assert.Contains(t, out, "The first of them, as it is")
	assert.Contains(t, out, "1 gone, 1 moved, 1 later, 400")
	assert.NotContains(t, out, "passed over")
	assert.Equal(t, "Until Wed 3 Mar 2027 09:00 GMT: No ring changes.\n", printed(func(i IO) {
		printWhatIf(i, wire.WhatIf{To: w.To, Zone: w.Zone, Says: "No ring changes."})
	}))
}

func TestTheMachinesZone(t *testing.T) {
	t.Setenv("TZ", "Asia/Tokyo")
	assert.Equal(t, "Asia/Tokyo", machineZone())
	t.Setenv("TZ", "Mars/Olympus")
	assert.NotEqual(t, "Mars/Olympus", machineZone())
}
