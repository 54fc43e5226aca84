package test

import (
	"bytes"
	"context"
	"net/http"
	"strings"
	"testing"
	"time"

	"ironbell/internal/api/wire"
	"ironbell/internal/core/job"
	"ironbell/test/world"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func waitFor(need job.Need, conditions ...job.Condition) []job.Trigger {
	return []job.Trigger{{Wait: &job.Wait{Need: need, For: conditions}}}
}

func TestJobsWaitForJobs(t *testing.T) {
	t.Parallel()
	w := world.Open(t)
	ctx := context.Background()
	w.Report("Ports", "SELECT code FROM ports")
	w.Report("None", "SELECT code FROM ports WHERE false")
	for _, name := range []string{"Fuel", "Loads"} {
		w.Job(name, world.Tasks(world.ReportOf("Ports")))
	}
	monday := world.Tasks(world.ReportOf("Ports"), world.MailTo("aldous@tarnwick.example"))
	monday.Triggers = waitFor(job.NeedAll, job.Condition{Job: "Fuel"}, job.Condition{Job: "Loads"})
	w.Job("Monday page", monday)
	blank := world.Tasks(world.ReportOf("Ports"))
	blank.Triggers = waitFor(job.NeedAny, job.Condition{
		Job: "Empty", Ends: []job.RunState{job.RunBlank, job.RunFailed},
	})
	w.Job("Empty", world.Tasks(world.ReportOf("None")))
	w.Job("Empty watch", blank)
	page, err := w.C.Job(ctx, "Monday page")
	require.NoError(t, err)
	assert.Equal(t, "when Fuel is done and Loads is done, for the same day", page.Triggers[0].Reading)

	past := func(name, date string) job.Run {
		runs, err := w.C.Past(ctx, name, wire.PastRequest{From: date})
		require.NoError(t, err)
		require.Len(t, runs, 1)
		done, err := w.C.Follow(ctx, runs[0].ID, func(wire.RunPage) error { return nil })
		require.NoError(t, err)
		require.Equal(t, job.RunDone, done.State, done.Reason)
		return done.Run
	}
	// Other days do not belong together.
	past("Fuel", "2026-11-02")
	past("Loads", "2026-11-03")
	assert.Empty(t, w.RunsOf("Monday page"))
	loads := past("Loads", "2026-11-02")
	runs := w.UntilEnded("Monday page", 1)
	assert.Equal(t, job.RunDone, runs[0].State)
	assert.Contains(t, runs[0].Why, "Fuel is done (run ")
	assert.Contains(t, runs[0].Why, "Loads is done (run "+loads.ID.String()+")")
	assert.Equal(t, "2026-11-02", runs[0].Nominal.In(time.UTC).Format(time.DateOnly),
		"it has the date of those it waited for")
	w.Until("it is mailed", func() bool { return len(w.Inbox("aldous@tarnwick.example")) == 1 })
	assert.Equal(t, "Monday page 2026-11-02", w.Inbox("aldous@tarnwick.example")[0].Subject)
	past("Fuel", "2026-11-03")
	w.UntilEnded("Monday page", 2)
	past("Fuel", "2026-11-03")
	assert.Len(t, w.RunsOf("Monday page"), 2, "each set starts one run")

	require.Equal(t, job.RunBlank, w.Ring("Empty").State)
	assert.Equal(t, job.RunDone, w.UntilEnded("Empty watch", 1)[0].State)
	// A rehearsal starts nothing.
	_, err = w.C.SavePerson(ctx, "sefa", wire.PersonRequest{
		Name: "Sefa Orlin", Mail: "sefa.orlin@tarnwick.example", Role: "administrator", Zone: "Europe/London",
	})
	require.NoError(t, err)
	run, err := w.C.Rehearse(ctx, "Empty", nil)
	require.NoError(t, err)
	_, err = w.C.Follow(ctx, run.ID, func(wire.RunPage) error { return nil })
	require.NoError(t, err)
	assert.Len(t, w.RunsOf("Empty watch"), 1)
}

func TestCirclesAcrossJobsAreRefused(t *testing.T) {
	t.Parallel()
	w := world.Open(t)
	ctx := context.Background()
	w.Report("Ports", "SELECT code FROM ports")
	a := world.Tasks(world.ReportOf("Ports"))
	w.Job("A", a)
	b := world.Tasks(world.ReportOf("Ports"), job.Task{Name: "tell", Kind: job.KindEmit, Emit: &job.EmitTask{Type: "example.b"}})
	b.Triggers = waitFor("", job.Condition{Job: "A"})
	w.Job("B", b)
	a.Triggers = waitFor("", job.Condition{Event: "example.b"})
	_, err := w.C.SaveJob(ctx, "A", wire.JobRequest{Owner: "mara", On: true, Definition: a})
	assert.ErrorContains(t, err, "the job would start itself: A > B (by its outcome) > A (by event example.b)")
	page, err := w.C.Job(ctx, "A")
	require.NoError(t, err)
	assert.Empty(t, page.Triggers, "nothing of it was saved")
	a.Triggers = waitFor("", job.Condition{Job: "A"})
	_, err = w.C.SaveJob(ctx, "A", wire.JobRequest{Owner: "mara", Definition: a})
	assert.ErrorContains(t, err, "the job would wait for itself")
	for want, c := range map[string]job.Condition{
		"there is no job \"Z\"; save it first":                     {Job: "Z"},
		"name one of an event, a job, files, a query or a start":   {},
		"outcomes belong to a job":                                 {Event: "x", Ends: []job.RunState{job.RunDone}},
		"source and subject belong to an event":                    {Job: "B", Subject: "x"},
		"name one of an event, a job, files, a query or a start\n": {Job: "B", Event: "x"},
		"there is no parameter \"depth\"":                          {Event: "take"},
	} {
		bad := world.Tasks(world.ReportOf("Ports"))
		bad.Triggers = waitFor("", c)
		if c.Event == "take" {
			bad.Triggers[0].Wait.Take = job.Values{"depth": "{event.data.depth}"}
		}
		_, err := w.C.SaveJob(ctx, "Bad", wire.JobRequest{Owner: "mara", Definition: bad})
		assert.ErrorContains(t, err, strings.TrimSpace(want))
	}
	loop := world.Tasks(job.Task{Name: "x", Kind: job.KindReport, After: []string{"y"}, Report: world.ReportOf("Ports").Report},
		job.Task{Name: "y", Kind: job.KindReport, After: []string{"x"}, Report: world.ReportOf("Ports").Report})
	_, err = w.C.SaveJob(ctx, "Loop", wire.JobRequest{Owner: "mara", Definition: loop})
	assert.ErrorContains(t, err, "the tasks go round in a circle: x > y > x")
}

func TestEventsStartJobsAndGiveThemValues(t *testing.T) {
	t.Parallel()
	w := world.Open(t)
	w.Report("Port", "SELECT code FROM ports WHERE name = :port", job.Parameter{
		Name: "port", Type: job.TypeText, Required: true,
	})
	d := world.Tasks(world.ReportOf("Port"), job.Task{
		Name: "mail", Kind: job.KindDeliver,
		Deliver: &job.DeliverTask{
			Destination: "company mail", To: []string{"a@tarnwick.example"}, Subject: "Sheet of {value.port}",
		},
	})
	d.Triggers = waitFor("", job.Condition{Event: "example.tarnwick.tide", Subject: "high"})
	d.Triggers[0].Wait.Take = job.Values{"port": "{event.data.port}"}
	w.Job("Tide", d)
	send := func(body string) (int, string) {
		req, err := http.NewRequest(http.MethodPost, "http://"+w.Listen+"/api/events", strings.NewReader(body))
		require.NoError(t, err)
		req.Header.Set("Content-Type", "application/cloudevents+json; charset=utf-8")
		req.Header.Set("Authorization", "Bearer "+w.Token)
		res, err := http.DefaultClient.Do(req)
		require.NoError(t, err)
		defer func() { _ = res.Body.Close() }()
		var b bytes.Buffer
		_, _ = b.ReadFrom(res.Body)
		return res.StatusCode, b.String()
	}
	status, text := send(`{"specversion":"1.0","id":"1","source":"/gauges/7","type":"example.tarnwick.tide","subject":"high","time":"2026-11-20T04:30:00Z","datacontenttype":"application/json","data":{"port":"Pennold","cm":212}}`)
	require.Equal(t, http.StatusAccepted, status, text)
	runs := w.RunsOf("Tide")
	require.Len(t, runs, 1, "it is started before the event is answered")
	assert.Contains(t, text, runs[0].ID.String())
	assert.Equal(t, "Event example.tarnwick.tide of /gauges/7 about high.", runs[0].Why)
	assert.Equal(t, job.Values{"port": "Pennold"}, runs[0].Given)
	assert.Equal(t, "2026-11-20", runs[0].Nominal.Format(time.DateOnly))
	w.Until("it is mailed", func() bool { return len(w.Inbox("a@tarnwick.example")) == 1 })
	assert.Equal(t, "Sheet of Pennold", w.Inbox("a@tarnwick.example")[0].Subject)
	status, text = send(`{"specversion":"1.0","id":"1","source":"/gauges/7","type":"example.tarnwick.tide","subject":"high"}`)
	assert.Equal(t, http.StatusAccepted, status)
	assert.Contains(t, text, `"fresh":false`)
	status, _ = send(`{"specversion":"1.0","id":"2","source":"/gauges/7","type":"example.tarnwick.tide","subject":"low"}`)
	assert.Equal(t, http.StatusAccepted, status)
	assert.Len(t, w.RunsOf("Tide"), 1, "what was reported before, or is about something else, starts nothing")
	for body, want := range map[string]string{
		`[]`: "it is no JSON object",
		`{"specversion":"0.3","id":"1","source":"s","type":"t"}`:                       "is not read here; send 1.0",
		`{"specversion":"1.0","source":"s","type":"t"}`:                                "id: the attribute is missing",
		`{"specversion":"1.0","id":7,"source":"s","type":"t"}`:                         "it is no text",
		`{"specversion":"1.0","id":"7","source":"s","type":"t","time":"noon"}`:         "is no time",
		`{"specversion":"1.0","id":"7","source":"s","type":"t","data_base64":"A"}`:     "it is no text in base64",
		`{"specversion":"1.0","id":"7","source":"s","type":"t","data":{"a":"\u0000"}}`: "it holds a zero character",
		`{"specversion":"1.0","id":"a\nb","source":"s","type":"t"}`:                    "control characters",
	} {
		status, text := send(body)
		assert.Equal(t, http.StatusUnprocessableEntity, status, body)
		assert.Contains(t, text, want, body)
	}
	status, _ = send(`{"specversion":"1.0","id":"9","source":"s","type":"t","data":"` + strings.Repeat("x", 300<<10) +
		`"}`)
	assert.Equal(t, http.StatusRequestEntityTooLarge, status)
	out, _, code := w.Ironbell("event", "-source", "/gauges/7", "-subject", "high", "-data", "port=Fennmouth",
		"example.tarnwick.tide")
	assert.Zero(t, code)
	assert.Contains(t, out, "The event is recorded. It started: ")
	w.Until("the second is mailed", func() bool { return len(w.Inbox("a@tarnwick.example")) == 2 })
	out, _, _ = w.Ironbell("events")
	assert.Contains(t, out, `{"cm":212,"port":"Pennold"}`)
}

func TestARingWaitsForWhatElseMustHappen(t *testing.T) {
	t.Parallel()
	w := world.Open(t)
	ctx := context.Background()
	conn := world.Connect(t, w.Db)
	w.Report("Ports", "SELECT code FROM ports")
	d := world.Tasks(world.ReportOf("Ports"), world.MailTo("a@tarnwick.example"))
	d.Triggers = []job.Trigger{{
		Timing: job.Timing{Rule: "every day at 00:00"},
		Wait:   &job.Wait{For: []job.Condition{{Event: "ledger.closed"}}, Within: job.Duration(time.Hour)},
	}}
	w.Job("Lock", d)
	_, err := conn.Exec(ctx, `UPDATE triggers SET next_due = date_trunc('minute', bell_now()), next_nominal = bell_now()`)
	require.NoError(t, err)
	_, err = conn.Exec(ctx, `SELECT pg_notify('ironbell', 'jobs ')`)
	require.NoError(t, err)
	w.Until("it rang", func() bool { return len(w.RunsOf("Lock")) == 1 })
	run := w.RunsOf("Lock")[0]
	assert.Equal(t, job.RunWaiting, run.State)
	assert.Equal(t, "waits for event ledger.closed", run.Reason)
	page, err := w.C.Run(ctx, run.ID)
	require.NoError(t, err)
	assert.Equal(t, []string{"event ledger.closed"}, page.Missing)
	out, _, _ := w.Ironbell("why", "Lock")
	assert.Contains(t, out, ": waiting, waits for event ledger.closed.")
	h, err := w.C.Report(ctx, map[string]any{
		"specversion": "1.0", "id": "1", "source": "/ledger", "type": "ledger.closed",
	})
	require.NoError(t, err)
	assert.Equal(t, []job.RunID{run.ID}, h.Started)
	w.Until("it runs", func() bool { return w.RunsOf("Lock")[0].State == job.RunDone })

	// One of another day waits in vain.
	_, err = conn.Exec(ctx,
		`UPDATE triggers SET next_due = date_trunc('minute', bell_now()) - interval '2 minutes', next_nominal = bell_now() - interval '1 day'`)
	require.NoError(t, err)
	_, err = conn.Exec(ctx, `SELECT pg_notify('ironbell', 'jobs ')`)
	require.NoError(t, err)
	w.Until("it rang again", func() bool { return len(w.RunsOf("Lock")) == 2 })
	_, err = conn.Exec(ctx, `UPDATE parts SET ready_at = bell_now() WHERE held`)
	require.NoError(t, err)
	w.Until("it gives up", func() bool { return w.RunsOf("Lock")[0].State == job.RunPassedOver })
	page, err = w.C.Run(ctx, w.RunsOf("Lock")[0].ID)
	require.NoError(t, err)
	assert.Equal(t, "it waited in vain for event ledger.closed", page.Reason)
	require.Len(t, page.Alerts, 1)
	assert.Equal(t, job.AlertMissed, page.Alerts[0].Kind)
}
