package test

import (
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"ironbell/client"
	"ironbell/demo"
	"ironbell/internal/api/wire"
	"ironbell/internal/core/calendar"
	"ironbell/internal/core/job"
	"ironbell/internal/core/zone"
	"ironbell/test/browser"
	"ironbell/test/world"

	ics "github.com/arran4/golang-ical"
	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// whenSays runs ironbell when, which needs no service.
func whenSays(t *testing.T, args ...string) (out, errs string, status int) {
	t.Helper()
	cmd := exec.Command(world.Build(t)+"/ironbell", append([]string{"when"}, args...)...)
	var o, e strings.Builder
	cmd.Env, cmd.Stdout, cmd.Stderr = []string{"IRONBELL_URL=http://127.0.0.1:1", "TZ=America/New_York"}, &o, &e
	err := cmd.Run()
	if cmd.ProcessState == nil {
		require.NoError(t, err)
	}
	return o.String(), e.String(), cmd.ProcessState.ExitCode()
}

func TestWhenWithoutAService(t *testing.T) {
	t.Parallel()
	fires := func(args ...string) []string {
		t.Helper()
		out, errs, status := whenSays(t,
			append([]string{"-json", "-from", "2026-11-23T12:00:00Z", "-count", "2"}, args...)...)
		require.Zero(t, status, errs)
		var said map[string]json.RawMessage
		require.NoError(t, json.Unmarshal([]byte(out), &said))
		require.Len(t, said, 4, "reading, notation, warnings and fires, and nothing else")
		var list, warnings []string
		var reading, notation string
		for name, to := range map[string]any{
			"fires": &list, "warnings": &warnings, "reading": &reading, "notation": &notation,
		} {
			require.NoError(t, json.Unmarshal(said[name], to), name)
		}
		return append([]string{notation, reading}, list...)
	}
	assert.Equal(t, []string{"words", "on weekdays at 06:15", "2026-11-24T06:15:00Z", "2026-11-25T06:15:00Z"},
		fires("-zone", "Europe/London", "--", "on weekdays at 06:15"))
	assert.Equal(t, []string{"cron", "every 15 minutes", "2026-11-23T07:15:00-05:00", "2026-11-23T07:30:00-05:00"},
		fires("--", "*/15 * * * *"), "the machine's zone; strictly after")
	assert.Equal(t,
		[]string{
			"icalendar", "every day at 09:00 in zone Asia/Tokyo from 2026-12-01 ending after 1 rings",
			"2026-12-01T09:00:00+09:00",
		},
		fires("-zone", "Europe/London", "--", "DTSTART;TZID=Asia/Tokyo:20261201T090000\nRRULE:FREQ=DAILY;COUNT=1"),
		"a DTSTART keeps its zone")

	file := filepath.Join(t.TempDir(), "holidays.ics")
	text, err := os.ReadFile(world.Path("demo/holidays.ics"))
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(file, text, 0o600))
	assert.Equal(t, []string{"2026-12-24T06:00:00Z", "2027-01-25T06:00:00Z"},
		fires("-zone", "Europe/London", "-calendar", file, "-from", "2026-12-01T00:00:00Z", "--",
			"on day 25 of every month at 06:00 before closed days")[2:])

	out, _, status := whenSays(t, "-zone", "Europe/London", "-from", "2026-11-23T12:00:00Z", "--", "30 1 31 * *")
	assert.Zero(t, status)
	for _, want := range []string{
		"On day 31 of every month at 01:30",
		"Written as cron in Europe/London. It rings 7 times a year.", "! Day 31 is passed over in February",
		"Thu 31 Dec 2026  01:30 GMT  +00:00",
	} {
		assert.Contains(t, out, want)
	}
	for _, c := range [][]string{
		{
			"column 4: found \"mondey\"", "did you mean \"monday\"?", "\n  on mondey at 07:00\n     ^\n", "--",
			"on mondey at 07:00",
		},
		{"column 1: this never rings: none of its months has a day 30", "--", "0 0 30 2 *"},
		{
			"column 36: found \"DALY\"", "\n  RRULE:FREQ=DALY\n             ^", "--",
			"DTSTART:20261201T060000\nRRULE:FREQ=DALY",
		},
		{"-from \"yesterday\" is no time of RFC 3339", "-from", "yesterday", "--", "every hour"},
		{"there is no time zone \"Mars\"", "-zone", "Mars", "--", "every hour"},
		{"it takes a rule"},
	} {
		begin := 0
		for begin < len(c) && !strings.HasPrefix(c[begin], "--") && c[begin] != "-from" && c[begin] != "-zone" {
			begin++
		}
		out, errs, status := whenSays(t, c[begin:]...)
		assert.Equal(t, 2, status, errs)
		assert.Empty(t, out)
		for _, want := range c[:begin] {
			assert.Contains(t, errs, want)
		}
	}
}

func TestCalendarsMoveRings(t *testing.T) {
	t.Parallel()
	w := world.Open(t)
	ctx := context.Background()
	w.Report("Ports", "SELECT code FROM ports")
	place, err := zone.Load(demo.Zone)
	require.NoError(t, err)
	d := world.Definition("Ports", "company mail", []string{"csv"}, "a@tarnwick.example")
	if d.Zone = demo.Zone; w.Now().In(place).Hour() == 23 {
		// It is to be far from midnight, so that today's rings are still to come.
		d.Zone = "Asia/Tokyo"
		place, err = zone.Load(d.Zone)
		require.NoError(t, err)
	}
	d.Calendars = []string{"Harbour"}
	d.Triggers = []job.Trigger{
		{Timing: job.Timing{Rule: "every day at 23:59", Closed: "skip"}},
		{Timing: job.Timing{Rule: "every day at 23:58", Closed: "after"}},
	}
	_, err = w.C.SaveJob(ctx, "Quay board", wire.JobRequest{Owner: "mara", On: true, Definition: d})
	assert.ErrorContains(t, err, `there is no calendar "Harbour"`)

	allWeek := []string{"mon", "tue", "wed", "thu", "fri", "sat", "sun"}
	_, err = w.C.SaveCalendar(ctx, "Harbour", calendar.Definition{Week: []string{"funday"}}, false)
	assert.ErrorContains(t, err, `"funday" is no weekday`)
	saved, err := w.C.SaveCalendar(ctx, "Harbour", calendar.Definition{Week: allWeek}, false)
	require.NoError(t, err)
	assert.Equal(t, 1, saved.Calendar.Version)
	w.Job("Quay board", d)

	// Before the change is made its effects are told, and nothing is moved.
	now := w.Now().In(place)
	closed := calendar.Definition{
		Week: allWeek, Closed: []calendar.Entry{{Label: "storm", Date: now.Format(time.DateOnly)}},
	}
	tried, err := w.C.SaveCalendar(ctx, "Harbour", closed, true)
	require.NoError(t, err)
	assert.False(t, tried.Saved)
	said, err := w.C.WhatIf(ctx, wire.WhatIfRequest{Calendar: &wire.WhatIfCalendar{Name: "Harbour", Definition: closed}})
	require.NoError(t, err)
	assert.Equal(t, "2 rings go.", said.Says, "tomorrow's stands for the one that would move to it")
	require.Len(t, said.Rings, 2)
	assert.Equal(t, "Quay board", said.Jobs[0].Job)
	assert.Nil(t, said.Rings[0].Will)
	assert.Contains(t, said.Rings[1].Will.Reason, "is closed in calendar Harbour (storm)")
	page, err := w.C.Job(ctx, "Quay board")
	require.NoError(t, err)
	assert.Equal(t, now.Format(time.DateOnly), page.Triggers[0].NextDue.In(place).Format(time.DateOnly))

	_, err = w.C.SaveCalendar(ctx, "Harbour", closed, false)
	require.NoError(t, err)
	page, err = w.C.Job(ctx, "Quay board")
	require.NoError(t, err)
	tomorrow := now.AddDate(0, 0, 1).Format(time.DateOnly)
	assert.Equal(t, tomorrow, page.Triggers[0].NextDue.In(place).Format(time.DateOnly))
	f, err := w.C.Forecast(ctx, client.ForecastFilter{From: now, To: now.AddDate(0, 0, 2), Job: "quay"})
	require.NoError(t, err)
	require.NotEmpty(t, f.Rings)
	assert.True(t, f.Rings[0].Passed)
	assert.Contains(t, f.Rings[0].Reason, "is closed in calendar Harbour (storm)")
	assert.Equal(t, 1, f.Passed)
	out, _, status := w.Ironbell("forecast", "-days", "2")
	assert.Zero(t, status)
	assert.Contains(t, out, "passed over: ")
	out, _, _ = w.Ironbell("calendar", "Harbour")
	assert.Contains(t, out, "storm")
	assert.Contains(t, out, "Jobs that go by it\n  Quay board")
	out, _, status = w.Ironbell("calendar", "-read", world.Path("demo/holidays.ics"), "-try", "Harbour")
	assert.Zero(t, status)
	assert.Contains(t, out, "not saved, only tried")

	// What was decided about the closed day stands in the history: the clock is
	// made to come to it.
	db := world.Connect(t, w.Db)
	_, err = db.Exec(ctx,
		`UPDATE triggers SET next_due = bell_now() - interval '1 second', next_nominal = bell_now() + interval '1 hour' WHERE position = 1`)
	require.NoError(t, err)
	_, err = db.Exec(ctx, `SELECT pg_notify('ironbell', 'jobs 1')`)
	require.NoError(t, err)
	w.Until("a ring that lies in the past rings at once", func() bool {
		runs, err := w.C.Runs(ctx, client.RunFilter{Job: "Quay board", States: []string{"done"}})
		require.NoError(t, err)
		return len(runs) == 1 && strings.Contains(runs[0].Why, "so it rings at once") &&
			runs[0].Nominal.After(runs[0].Due)
	})

	err = w.C.RemoveCalendar(ctx, "Harbour")
	assert.ErrorContains(t, err, `job "Quay board" goes by it`)
	d.Calendars = nil
	w.Job("Quay board", d)
	require.NoError(t, w.C.RemoveCalendar(ctx, "Harbour"))
	mara := client.New("http://"+w.Listen, w.TokenOf("mara"))
	_, err = mara.SaveCalendar(ctx, "Harbour", calendar.Definition{}, false)
	assert.ErrorContains(t, err, "it takes an administrator")
}

func TestTimingsOfTriggers(t *testing.T) {
	t.Parallel()
	w := world.Open(t)
	ctx := context.Background()
	w.Report("Ports", "SELECT code FROM ports")
	d := world.Definition("Ports", "company mail", []string{"csv"}, "a@tarnwick.example")
	save := func(timings ...job.Timing) error {
		d.Triggers = nil
		for _, timing := range timings {
			d.Triggers = append(d.Triggers, job.Trigger{Timing: timing})
		}
		_, err := w.C.SaveJob(ctx, "Quay board", wire.JobRequest{Owner: "mara", On: true, Definition: d})
		return err
	}
	for want, timing := range map[string]job.Timing{
		"an administrator has set 1m as the least": {Rule: "every 20 seconds"},
		`column 4: found \"mondey\"`:               {Rule: "on mondey at 06:00"},
		"triggers[0].start":                        {Rule: "every hour", Start: "tomorrow"},
		"triggers[0].hours[0]":                     {Rule: "every hour", Hours: []string{"office"}},
		"it ends before it begins":                 {Rule: "every hour", Start: "2026-12-01", End: "2026-11-01"},
		"this never rings":                         {Rule: "every day at 06:00", Hours: []string{"07:00-08:00"}},
		"needs a start":                            {Rule: "every 2 weeks on mon at 06:00"},
		"never rings again":                        {Rule: "once on 2020-01-01 at 06:00"},
	} {
		assert.ErrorContains(t, save(timing), strings.ReplaceAll(want, `\"`, `"`))
	}
	require.NoError(t, save(
		job.Timing{Rule: "every 2 weeks on mon at 06:00", Start: "2026-01-05", End: "2099-12-31", Closed: "before"},
		job.Timing{Rule: "0 */2 * * *", Hours: []string{"06:00-22:00"}},
		job.Timing{Rule: "DTSTART;TZID=Asia/Tokyo:20261201T090000\nRRULE:FREQ=MONTHLY;BYDAY=-1FR"},
		job.Timing{Rule: "every day at 06:00", Start: "2099-01-01", Count: 3},
	))
	page, err := w.C.Job(ctx, "Quay board")
	require.NoError(t, err)
	readings := []string{}
	for _, trigger := range page.Triggers {
		readings = append(readings, trigger.Reading)
		assert.NotNil(t, trigger.NextDue, trigger.Reading)
	}
	assert.Equal(t, []string{
		"every 2 weeks on Monday at 06:00 from 2026-01-05 until 2099-12-31 before closed days",
		"every passing hour in hours 0 to 22 by 2 at :00 within 06:00 to 22:00",
		"on the last Friday of every month at 09:00 in zone Asia/Tokyo from 2026-12-01",
		"every day at 06:00 from 2099-01-01 ending after 3 rings",
	}, readings)

	// The administrator may lower the floor; then a job may ring every second.
	_, err = w.C.SaveWhenSettings(ctx, job.WhenSettings{Floor: job.Duration(time.Second), WeekStart: "sunday"})
	require.NoError(t, err)
	_, err = client.New("http://"+w.Listen, w.TokenOf("mara")).SaveWhenSettings(ctx, job.WhenSettings{})
	assert.ErrorContains(t, err, "administrator")
	require.NoError(t, save(job.Timing{Rule: "every 2 seconds", Hours: []string{"00:00-23:59"}}))
	w.Until("it rings every other second", func() bool {
		page, err := w.C.Job(ctx, "Quay board")
		require.NoError(t, err)
		return len(page.Rings) >= 3 && page.Rings[0].Due.Sub(page.Rings[1].Due) == 2*time.Second
	})
	_, err = w.C.Switch(ctx, "Quay board", false)
	require.NoError(t, err)

	at := time.Date(2026, 11, 25, 9, 0, 0, 0, time.UTC) // a Wednesday
	m, err := w.C.Moment(ctx, "start of week", at, "Europe/London")
	require.NoError(t, err)
	assert.Equal(t, "Sun 22", m.From.Format("Mon 2"), "weeks begin on Sunday by the setting")
	m, err = w.C.Moment(ctx, "last 8 weeks", at, "Europe/London")
	require.NoError(t, err)
	assert.Equal(t, "27 Sep to 21 Nov", m.From.Format("2 Jan")+" to "+m.To.Format("2 Jan"))
	assert.Contains(t, m.Explain, "start of week: Sun 22 November 2026")
	_, err = w.C.Moment(ctx, "last 8 moons", at, "Europe/London")
	assert.ErrorContains(t, err, "is no")
}

// Due times that were reckoned by other zone data are reckoned again at the next
// start, and what moved is written down.
func TestNewZoneData(t *testing.T) {
	t.Parallel()
	w := world.Open(t)
	ctx := context.Background()
	w.Report("Ports", "SELECT code FROM ports")
	d := world.Definition("Ports", "company mail", []string{"csv"}, "a@tarnwick.example")
	d.Triggers = []job.Trigger{{Timing: job.Timing{Rule: "on the first monday of january at 06:15"}}}
	w.Job("Quay board", d)
	before, err := w.C.Job(ctx, "Quay board")
	require.NoError(t, err)
	db := world.Connect(t, w.Db)
	// By the older data it would have rung an hour later.
	for _, statement := range []string{
		`UPDATE triggers SET next_due = next_due + interval '1 hour', next_nominal = next_nominal - interval '1 hour'`,
		`UPDATE settings SET value = '"older"' WHERE key = 'zones'`,
	} {
		tag, err := db.Exec(ctx, statement)
		require.NoError(t, err)
		require.EqualValues(t, 1, tag.RowsAffected())
	}
	w.Kill()
	w.Start()
	var due time.Time
	w.Until("the due time is right again", func() bool {
		require.NoError(t, db.QueryRow(ctx, `SELECT next_due FROM triggers`).Scan(&due))
		return due.Equal(*before.Triggers[0].NextDue)
	})
	var after string
	w.Until("what moved is listed, once all of it is reckoned anew", func() bool {
		err := db.QueryRow(ctx, `SELECT after::text FROM audit WHERE subject = 'zones' ORDER BY id DESC LIMIT 1`).Scan(&after)
		return err == nil
	})
	assert.Contains(t, after, "Quay board: ")
	assert.Contains(t, after, "07:15 GMT becomes ")
}

// A job's forecast is what the rule's own answer says, through API and client.
func TestTheForecastAndItsFeed(t *testing.T) {
	t.Parallel()
	w := world.Open(t)
	ctx := context.Background()
	w.Report("Ports", "SELECT code FROM ports")
	d := world.Definition("Ports", "company mail", []string{"csv"}, "a@tarnwick.example")
	d.Triggers = []job.Trigger{{Timing: job.Timing{Rule: "on weekdays at 06:15 and 18:15"}}}
	w.Job("Quay board", d)
	d.Triggers = []job.Trigger{{Timing: job.Timing{Rule: "every 10 minutes"}}}
	w.Job("Crew rest watch", d)
	from := w.Now().Truncate(time.Second)
	said, err := w.C.When(ctx, wire.WhenRequest{
		Timing: job.Timing{Rule: "on weekdays at 06:15 and 18:15"}, Zone: demo.Zone, From: &from, Rings: 30,
	})
	require.NoError(t, err)
	assert.Equal(t,
		[]string{"on weekdays at 06:15 and 18:15", "words", "2 times a day on 5 days a week", "15 6,18 * * 1-5"},
		[]string{said.Reading, said.Notation, said.Often, said.Cron})
	assert.Len(t, said.Fires, 30)
	f, err := w.C.Forecast(ctx, client.ForecastFilter{From: from, To: from.AddDate(0, 0, 14), Job: "quay"})
	require.NoError(t, err)
	require.Len(t, f.Rings, f.Total)
	for i, r := range f.Rings {
		assert.True(t, r.At.Equal(said.Fires[i].At))
	}
	wrong, err := w.C.When(ctx, wire.WhenRequest{Timing: job.Timing{Rule: "on mondey at 07:00"}})
	require.NoError(t, err)
	require.NotNil(t, wrong.Wrong)
	assert.Equal(t, []any{"rule", 4, "monday"}, []any{wrong.Wrong.Field, wrong.Wrong.Column, wrong.Wrong.Meant})
	_, err = w.C.Forecast(ctx, client.ForecastFilter{From: from, To: from.AddDate(1, 0, 0)})
	assert.ErrorContains(t, err, "at most 92 days")

	feed, err := w.C.MakeFeed(ctx)
	require.NoError(t, err)
	file, err := ics.ParseCalendar(strings.NewReader(string(w.Get(feed.Address))))
	require.NoError(t, err)
	count := map[string]int{}
	for _, e := range file.Events() {
		count[e.GetProperty(ics.ComponentPropertySummary).Value]++
		assert.Contains(t, e.GetProperty(ics.ComponentPropertyUrl).Value, "/jobs/")
	}
	assert.Greater(t, count["Quay board"], 35)
	assert.InDelta(t, 31, count["Crew rest watch"], 1, "what rings all day is one event a day")
	again, err := w.C.MakeFeed(ctx)
	require.NoError(t, err)
	for address, want := range map[string]int{
		feed.Address: 404, again.Address: 200, strings.Split(again.Address, "?")[0]: 404,
	} {
		res, err := http.Get(address)
		require.NoError(t, err)
		_, _ = io.Copy(io.Discard, res.Body)
		_ = res.Body.Close()
		assert.Equal(t, want, res.StatusCode)
	}
	require.NoError(t, w.C.EndFeed(ctx))
	res, err := http.Get(again.Address)
	require.NoError(t, err)
	_ = res.Body.Close()
	assert.Equal(t, 404, res.StatusCode, "an ended link shows nothing")
}

// Every due time on a closed day has one decision with its reason, whenever the
// service is killed.
func TestClosedDaysAreDecidedOnOnce(t *testing.T) {
	t.Parallel()
	w := world.Open(t)
	ctx := context.Background()
	w.Report("Ports", "SELECT code FROM ports")
	_, err := w.C.SaveWhenSettings(ctx, job.WhenSettings{Floor: job.Duration(time.Second)})
	require.NoError(t, err)
	london, err := zone.Load(demo.Zone)
	require.NoError(t, err)
	today := w.Now().In(london)
	_, err = w.C.SaveCalendar(ctx, "Harbour", calendar.Definition{
		Week:   []string{"mon", "tue", "wed", "thu", "fri", "sat", "sun"},
		Closed: []calendar.Entry{{Label: "storm", Date: today.Format(time.DateOnly), Days: 2}},
	}, false)
	require.NoError(t, err)
	d := world.Definition("Ports", "company mail", []string{"csv"}, "a@tarnwick.example")
	d.Calendars = []string{"Harbour"}
	d.AfterOutage = job.OutageEach
	d.Triggers = []job.Trigger{{Timing: job.Timing{Rule: "every second skip closed days"}}}
	w.Job("Quay board", d)
	db := world.Connect(t, w.Db)
	count := func() (n int) {
		t.Helper()
		require.NoError(t, db.QueryRow(ctx, `SELECT count(*) FROM rings`).Scan(&n))
		return n
	}
	for range 3 {
		before := count()
		w.Until("closed days are decided on", func() bool { return count() >= before+2 })
		w.Kill()
		w.Start()
	}
	before := count()
	w.Until("what was missed is decided on, too", func() bool { return count() >= before+2 })
	_, err = w.C.Switch(ctx, "Quay board", false)
	require.NoError(t, err)
	var n, others int
	var seconds float64
	require.NoError(t, db.QueryRow(ctx, `SELECT count(*), extract(epoch FROM max(due) - min(due))::float8,
		count(*) FILTER (WHERE decision <> 'passed over' OR reason NOT LIKE '%closed in calendar Harbour (storm)' OR nominal <> due) FROM rings`).Scan(&n, &seconds, &others))
	assert.Equal(t, int(seconds)+1, n, "every second from the first to the last has its decision")
	assert.Zero(t, others)
	runs, err := w.C.Runs(ctx, client.RunFilter{Job: "Quay board"})
	require.NoError(t, err)
	assert.Empty(t, runs)
	page, err := w.C.Job(ctx, "Quay board")
	require.NoError(t, err)
	assert.Contains(t, page.Rings[0].Reason, "is closed in calendar Harbour (storm)",
		"the job's page says why it did not ring")
}

// Bad input about time is refused with a sentence, and never costs more than its
// length.
func TestBadInputAboutTime(t *testing.T) {
	t.Parallel()
	w := world.Open(t)
	base := "http://" + w.Listen
	big := strings.Repeat("x", 2001)
	many := `{"closed":[` + strings.Repeat(`{"date":"2026-12-25"},`, 5000) + `{"date":"2026-12-25"}]}`
	for _, c := range []struct {
		method, path, body string
		status             int
		want               string
	}{
		{"POST", "/api/when", `{"rule":"` + big + `"}`, 422, "expected length <= 2000"},
		{"POST", "/api/when", `{"rule":""}`, 200, "expected a rule, such as every day at 06:00"},
		{"POST", "/api/when", `{"rule":"every hour","rings":501}`, 422, "expected number <= 500"},
		{"POST", "/api/when", `{"rule":"every hour","from":"yesterday"}`, 422, "date-time"},
		{"POST", "/api/when", `{"rule":"every hour","shape":"round"}`, 422, "unexpected property"},
		{"POST", "/api/when", `{"rule":"every hour","zone":"Mars"}`, 200, `"field":"zone"`},
		{"POST", "/api/when", `{"rule":"every hour","calendars":["None"]}`, 200, `there is no calendar \"None\"`},
		{"POST", "/api/when", `{"rule":"every hour","closed":"perhaps"}`, 422, "expected value to be one of"},
		{"POST", "/api/when", `{"rule":"every second"}`, 200, "A job cannot be saved with it"},
		{"POST", "/api/when", `{"rule":"every hour","count":3}`, 200, "a count of rings needs a start"},
		{
			"POST", "/api/when", `{"rule":"every hour","start":"2026-12-01","count":3,"from":"2026-12-31T00:00:00Z"}`,
			200,
			"It rings no more: it ended on Tue 1 December 2026 02:00 GMT.",
		},
		{"GET", "/api/moment", "", 422, "required"},
		{"GET", "/api/moment?text=now&zone=Mars", "", 422, `there is no time zone`},
		{"GET", "/api/moment?text=now&calendar=None", "", 422, `there is no calendar`},
		{"GET", "/api/forecast?from=2026-12-02T00:00:00Z&to=2026-12-01T00:00:00Z", "", 422, "ends after it begins"},
		{"GET", "/api/forecast?limit=5001", "", 422, "expected number <= 5000"},
		{"GET", "/api/forecast?zone=Mars", "", 422, "there is no time zone"},
		{"PUT", "/api/calendars/Harbour", many, 422, "expected array length <= 5000"},
		{
			"PUT", "/api/calendars/Harbour", `{"closed":[{"date":"2026-02-30"}]}`, 422,
			`closed[0]: \"2026-02-30\" is no date`,
		},
		{"PUT", "/api/calendars/Harbour", `{"closed":[{"rule":"every day"}],"week":["sun"]}`, 422, "no day is open"},
		{"PUT", "/api/calendars/123", `{}`, 422, "digits only"},
		{"GET", "/api/calendars/None", "", 404, `there is no calendar`},
		{"DELETE", "/api/calendars/None", "", 404, `there is no calendar`},
		{"POST", "/api/icalendar", `{"text":"<html>"}`, 422, "this is no iCalendar file"},
		{"PUT", "/api/settings/when", `{"floor":"soon"}`, 422, "is no length of time"},
		{"PUT", "/api/settings/when", `{"floor":"10ms"}`, 422, "one second at least"},
		{"PUT", "/api/settings/when", `{"week_start":"someday"}`, 422, "expected value to be one of"},
	} {
		status, _, answer := world.Call(t, http.DefaultClient, c.method, base+c.path, w.Token, c.body)
		assert.Equal(t, c.status, status, "%s %s: %s", c.method, c.path, answer)
		assert.Contains(t, answer, c.want, "%s %s", c.method, c.path)
	}
}

func TestRulesInTheConsole(t *testing.T) {
	t.Parallel()
	w := world.Open(t)
	ctx := context.Background()
	w.Report("Ports", "SELECT code FROM ports")
	_, err := w.C.SaveCalendar(ctx, "Public holidays",
		calendar.Definition{Closed: []calendar.Entry{{Label: "Christmas", Rule: "on 25 dec"}}}, false)
	require.NoError(t, err)
	d := world.Definition("Ports", "company mail", []string{"csv"}, "a@tarnwick.example")
	d.Triggers = []job.Trigger{{Timing: job.Timing{Rule: "15 6 * * 1-5"}, Values: nil}}
	w.Job("Quay board", d)
	p := w.Console()
	rule := chromedp.CSS("main textarea")
	write := func(text string) {
		quoted, err := json.Marshal(text)
		require.NoError(t, err)
		_, err = browser.Get(p.Tab, world.Patience,
			chromedp.Evaluate[bool](fmt.Sprintf(`(() => { const t = document.querySelector('[data-path$=".rule"] textarea') ?? document.querySelector('main textarea'); t.value = %s; t.dispatchEvent(new Event('input', {bubbles: true})); return true })()`, quoted)))
		require.NoError(t, err)
	}
	p.Do(chromedp.Navigate("http://"+w.Listen+"/when"), chromedp.WaitVisible(rule))
	p.Sees("On weekdays at 06:15 in London")
	write("on mondey at 07:00")
	p.Sees(`Column 4: found "mondey"`)
	p.Click("Write “monday”")
	p.Sees("On Monday at 07:00 in London")
	write("* 6 * * *")
	p.Sees("The minute is a star")
	p.Click("Month end")
	p.Sees("On the last open day of every month at 18:00")
	p.Sees("No calendar is named")

	// The job's own timing: change it, and it rings by the new one at once.
	p.Do(chromedp.Navigate("http://" + w.Listen + "/jobs/Quay%20board"))
	p.Sees("On weekdays at 06:15")
	p.Do(chromedp.Click(chromedp.Search("//main//section//a[normalize-space()='Change']")))
	p.Sees("Nothing. It can be saved")
	p.Click("Public holidays")
	write("on day 25 of every month at 06:00 before closed days")
	p.Sees("On day 25 of every month at 06:00 before closed days in London")
	p.Press("//aside", "Save, rings on")
	w.Until("the change is saved", func() bool {
		page, err := w.C.Job(ctx, "Quay board")
		require.NoError(t, err)
		return page.Version == 2 && page.Triggers[0].Rule == "on day 25 of every month at 06:00 before closed days" &&
			len(page.Calendars) == 1
	})
	p.Sees("Open days by Public holidays")

	p.Do(chromedp.Navigate("http://" + w.Listen + "/forecast?from=2026-12-21"))
	p.Sees("Forecast")
	p.Do(chromedp.Navigate("http://" + w.Listen + "/forecast"))
	p.Sees("rings in seven days, in London")
	p.Click("Make my link")
	p.Sees("It is shown only now")
	link, err := browser.Get(p.Tab, world.Patience,
		chromedp.Evaluate[string](`document.querySelector('input[aria-label="Your link to the forecast"]').value`))
	require.NoError(t, err)
	assert.Contains(t, string(w.Get(link)), "BEGIN:VCALENDAR")

	// A reader of calendars sees what goes by them; only an administrator changes them.
	p.Do(chromedp.Navigate("http://" + w.Listen + "/calendars"))
	p.Sees("Christmas")
	p.Do(chromedp.Navigate("http://" + w.Listen + "/calendars/Public%20holidays"))
	p.Sees("Jobs that go by it Quay board")
	assert.NotContains(t, p.Text(), "Save")
	_, err = browser.Get(p.Tab, world.Patience,
		chromedp.Evaluate[bool](`fetch('/api/session', {method: 'DELETE'}).then(() => true)`,
			chromedp.EvalAwaitPromise))
	require.NoError(t, err)
	p.Do(browser.SignIn("http://"+w.Listen, "sefa", world.Password),
		chromedp.Navigate("http://"+w.Listen+"/calendars/Public%20holidays"))
	p.Sees("What would change")
	file, err := filepath.Abs(world.Path("demo/holidays.ics"))
	require.NoError(t, err)
	p.Do(chromedp.SetUploadFiles(chromedp.CSS("input[type=file]"), []string{file}))
	p.Sees("4 whole-day events were read, 4 of them new.")
	p.Sees("1 closed day of this calendar is not in the file, and stays: Christmas.")
	p.Sees("Founders' Day, when the first boat crossed from Tarnwick Quay to Grey Skerry")
	p.Click("fri")
	p.Click("What would change")
	p.Sees("As it would be")
	p.Sees("Quay board")
	p.Sees("of its rings change")
	p.Click("Save")
	p.Sees("Saved. The rings of the jobs that go by it were reckoned anew")
}
