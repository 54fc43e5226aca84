package test

import (
	"context"
	"encoding/json"
	"fmt"
	"slices"
	"strings"
	"testing"
	"time"

	"ironbell/internal/core/job"
	"ironbell/test/world"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestFilesGoEverywhere(t *testing.T) {
	t.Parallel()
	w := world.Open(t)
	ctx := context.Background()
	names := w.FilePlaces()
	w.Report("Departures", "SELECT 'Tarnwick Quay' AS port, 12 AS sailings")
	for protocol, name := range names {
		answer, err := w.C.TestDestination(ctx, name)
		require.NoError(t, err)
		require.True(t, answer.OK, "%s: %s %s", protocol, answer.Said, answer.Advice)
		require.NotEmpty(t, answer.Steps)
	}
	page, err := w.C.Destination(ctx, "authority sftp")
	require.NoError(t, err)
	assert.Contains(t, page.Pin, "SHA256:", "the host key of the first test is pinned")

	d := world.Definition("Departures", "", nil, "")
	d.Tasks = d.Tasks[:1]
	d.Tasks[0].Report.Outputs = []job.Output{
		{Format: "csv", Name: "departures", Folder: "{date:%Y}/{value.port}"},
		{Format: "pdf", Name: "sheet"},
	}
	d.Values = job.Values{}
	d.Split = job.Split{Each: "port", Values: []string{"Grey Skerry", "../CON"}}
	for protocol, name := range names {
		task := job.Task{
			Name: protocol, Kind: job.KindDeliver, After: []string{"report"},
			Deliver: &job.DeliverTask{Destination: name, Formats: []string{"csv"}},
		}
		if protocol == "ipp" {
			task.Deliver.Formats = []string{"pdf"}
		}
		d.Tasks = append(d.Tasks, task)
	}
	w.Job("Departures everywhere", d)
	run := w.Ring("Departures everywhere")
	require.Equal(t, job.RunDone, run.State, run.Reason)
	assert.Equal(t, 2, run.PartCount)
	require.Len(t, run.Deliveries, 14)
	year := run.Nominal.In(time.Local).Format("2006")
	for protocol := range names {
		if protocol == "ipp" {
			continue
		}
		for _, port := range []string{"Grey Skerry", "-CON"} {
			path := year + "/" + port + "/departures.csv"
			if port == "-CON" {
				path = year + "/-CON/departures.csv"
			}
			text, ok := w.Fetched(protocol, path)
			assert.True(t, ok, "%s %s", protocol, path)
			assert.Contains(t, text, "Tarnwick Quay,12", protocol)
		}
	}
	for _, dl := range run.Deliveries {
		assert.Equal(t, job.DeliverySent, dl.State)
		assert.NotEmpty(t, dl.Answer, dl.Destination)
		assert.Positive(t, dl.Size)
	}
	var printed []struct{ Name, Format string }
	require.NoError(t, json.Unmarshal(w.Get(w.Out.Inbox+"/api/printed"), &printed))
	assert.Len(t, printed, 2)

	again := w.Ring("Departures everywhere")
	require.Equal(t, job.RunDone, again.State, again.Reason)
	for _, dl := range again.Deliveries {
		if dl.Destination == "archive" {
			assert.Contains(t, dl.WentTo, "departures (2).csv",
				"nothing is written over, and the record says where it went")
		}
	}
	out, _, status := w.Ironbell("deliveries", "-destination", "archive")
	assert.Zero(t, status)
	assert.Contains(t, out, "departures (2).csv")
	out, _, _ = w.Ironbell("destinations", "authority sftp")
	assert.Contains(t, out, "Departures everywhere")
}

// A file whose store was lost in the middle is looked for there, not asked for of a recipient.
func TestAFileThatIsUnknownIsLookedForInItsStore(t *testing.T) {
	t.Parallel()
	w := world.Open(t)
	ctx := context.Background()
	name := w.FilePlaces()["s3"]
	w.Report("Departures", "SELECT 'Tarnwick Quay' AS port, 12 AS sailings")
	d := world.Definition("Departures", "", nil, "")
	d.Tasks = d.Tasks[:1]
	d.Tasks[0].Report.Outputs = []job.Output{{Format: "csv", Name: "departures"}}
	d.Tasks = append(d.Tasks, job.Task{
		Name: "store", Kind: job.KindDeliver, After: []string{"report"}, Deliver: &job.DeliverTask{Destination: name},
	})
	w.Job("Departures", d)
	w.Behave("objects", "drop", 0)
	run := w.Ring("Departures")
	require.Len(t, run.Deliveries, 1)
	require.Equal(t, job.DeliveryUnknown, run.Deliveries[0].State, run.Deliveries[0].Answer)
	want := fmt.Sprintf("Look whether %s is there and whole, with %d bytes, then settle the delivery",
		run.Deliveries[0].Address, run.Deliveries[0].Size)
	assert.Contains(t, run.Deliveries[0].Advice, want)
	alerts, err := w.C.Alerts(ctx, "open")
	require.NoError(t, err)
	require.Len(t, alerts, 1)
	assert.Contains(t, alerts[0].Advice, want)
}

func TestADestinationWorksAsFarAsItsLastTestSays(t *testing.T) {
	t.Parallel()
	w := world.Open(t)
	ctx := context.Background()
	name := w.FilePlaces()["webdav"]
	said := func() string {
		out, errs, status := w.Ironbell("destinations", name)
		require.Zero(t, status, errs)
		return strings.Split(out, "\n")[1]
	}
	assert.Contains(t, said(), "not tested yet")
	_, err := w.C.TestDestination(ctx, name)
	require.NoError(t, err)
	assert.Contains(t, said(), "works, tested ")
	w.Behave("webdav", "expired", 0)
	_, _, status := w.Ironbell("destinations", "-test", name)
	assert.NotZero(t, status)
	assert.Regexp(t, `test failed .* (GMT|BST): .*401`, said())
	p, err := w.C.Destination(ctx, name)
	require.NoError(t, err)
	require.NotNil(t, p.Tested)
	assert.False(t, p.Tested.OK)
	assert.Nil(t, p.Rests, "a test rests nothing and tells nobody: who tests sees it")
	w.Place(name, "webdav", w.Out.Password, map[string]any{"url": "http://" + w.Out.WebDAV + "/", "user": w.Out.User})
	assert.Contains(t, said(), "not tested yet", "what was changed has yet to be tested")
}

func TestAMailServerThatIsDownIsOneAlertAndAllArrivesOnce(t *testing.T) {
	t.Parallel()
	w := world.Open(t)
	ctx := context.Background()
	const readers = 500
	w.MailStorm("Storm", readers)
	require.NoError(t,
		w.C.SaveAlertSettings(ctx, job.AlertSettings{Destination: "company mail", Standby: "harbour authority mail"}))
	w.Behave("mail", "away", 0)
	run, err := w.C.Ring(ctx, "Storm", nil)
	require.NoError(t, err)
	var down job.Alert
	w.Until("the destination's alert", func() bool {
		alerts, err := w.C.Alerts(ctx, "open")
		require.NoError(t, err)
		for _, a := range alerts {
			if a.Kind == job.AlertDown &&
				strings.HasPrefix(a.ForWhom, fmt.Sprintf("%d deliveries wait: Storm", readers)) {
				down = a
			}
		}
		return down.ID != 0
	})
	alerts, err := w.C.Alerts(ctx, "open")
	require.NoError(t, err)
	require.Len(t, alerts, 1, "one cause, one alert")
	w.Until("the owner is told over the other mail server",
		func() bool { return len(w.Inbox("mara@tarnwick.example")) > 0 })
	mail := w.Inbox("mara@tarnwick.example")
	assert.Equal(t, "Down: Destination company mail", mail[0].Subject)
	for _, part := range []string{
		"connection refused", "500 deliveries wait: Storm",
		"ironbell destinations -test 'company mail'", "/acknowledge/",
	} {
		assert.Contains(t, mail[0].Plain, part)
	}
	page, err := w.C.Run(ctx, run.ID)
	require.NoError(t, err)
	assert.Equal(t, job.RunDelivering, page.State, "what waits is not given up")
	list, err := w.C.Record(ctx, world.ClientWhich(run.ID, "rest"))
	require.NoError(t, err)
	for _, d := range list {
		assert.LessOrEqual(t, d.Tries, 1, "nobody waited for five hundred time-outs")
	}
	place, err := w.C.Destination(ctx, "company mail")
	require.NoError(t, err)
	require.NotNil(t, place.Rests)
	assert.Equal(t, readers, place.Waiting)
	w.Kill() // in the middle of the rest
	w.Start()
	w.Behave("mail", "accept", 0)
	w.Until("all have it", func() bool {
		page, err := w.C.Run(ctx, run.ID)
		require.NoError(t, err)
		return page.State == job.RunDone
	})
	got := map[string]int{}
	var all []world.Letter
	require.NoError(t, json.Unmarshal(w.Get(w.Out.Inbox+"/api/messages"), &all))
	for _, l := range all {
		if strings.HasPrefix(l.To[0], "reader") {
			got[l.To[0]]++
		}
	}
	assert.Len(t, got, readers)
	for to, n := range got {
		assert.Equal(t, 1, n, to)
	}
	w.Until("the alert is closed", func() bool {
		open, err := w.C.Alerts(ctx, "open", "acknowledged")
		require.NoError(t, err)
		return len(open) == 0
	})
}

func TestWhatWaitedTooLongIsGivenUpAndTold(t *testing.T) {
	t.Parallel() // it waits most of its time
	w := world.Open(t)
	ctx := context.Background()
	w.MailStorm("Storm", 3)
	d := world.Definition("Departures", "company mail", []string{"html-mail"}, "oren@tarnwick.example",
		"eleni@tarnwick.example")
	d.GiveUpAfter = job.Duration(2 * time.Second)
	w.Job("Tides", d)
	require.NoError(t,
		w.C.SaveAlertSettings(ctx, job.AlertSettings{Destination: "company mail", Standby: "harbour authority mail"}))
	w.Behave("mail", "away", 0)
	storm, err := w.C.Ring(ctx, "Storm", nil)
	require.NoError(t, err)
	run := w.Ring("Tides")
	assert.Equal(t, job.RunFailed, run.State)
	require.Len(t, run.Deliveries, 2)
	for _, dl := range run.Deliveries {
		assert.Equal(t, job.DeliveryFailed, dl.State)
		assert.Contains(t, dl.Answer,
			`the time to wait for the destination ran out: connect to mail server "company mail"`)
		assert.Contains(t, dl.Answer, "connection refused")
	}
	var told job.Alert
	w.Until("the owner is told", func() bool {
		alerts, err := w.C.Alerts(ctx, "open")
		require.NoError(t, err)
		for _, a := range alerts {
			if a.Kind == job.AlertDeliveryFailed {
				told = a
			}
		}
		return told.ID != 0 && len(w.Inbox("mara@tarnwick.example")) > 0
	})
	assert.Equal(t, "Tides", told.Job)
	assert.Contains(t, told.Happened,
		"could not be delivered to 2 of 2. The time to wait for the destination ran out: connect to mail server")
	assert.Equal(t, "Nothing more by itself.", told.Next)
	assert.Contains(t, told.Advice, "Then send what failed again: ironbell resend "+run.ID.String())
	assert.Equal(t, 1, strings.Count(told.Happened, "company mail"))
	w.Until("what was given up waits no more", func() bool {
		alerts, err := w.C.Alerts(ctx, "open")
		require.NoError(t, err)
		return slices.ContainsFunc(alerts,
			func(a job.Alert) bool { return a.Kind == job.AlertDown && a.ForWhom == "3 deliveries wait: Storm" })
	})
	page, err := w.C.Run(ctx, storm.ID)
	require.NoError(t, err)
	assert.Equal(t, job.RunDelivering, page.State, "others wait as long as their own job says")

	// Once it works, what was given up stays so until somebody sends it.
	w.Behave("mail", "accept", 0)
	w.Until("what waited goes out", func() bool { return len(w.Inbox("reader002@tarnwick.example")) > 0 })
	assert.Empty(t, w.Inbox("oren@tarnwick.example"))
	out, errs, status := w.Ironbell("resend", run.ID.String())
	require.Zero(t, status, errs)
	assert.Contains(t, out, "2")
	w.Until("it arrives", func() bool {
		return len(w.Inbox("oren@tarnwick.example")) == 1 && len(w.Inbox("eleni@tarnwick.example")) == 1
	})
}

func TestAPasswordThatExpiresInMidBatchRestsTheServer(t *testing.T) {
	t.Parallel()
	w := world.Open(t)
	ctx := context.Background()
	w.MailStorm("Storm", 60)
	w.BehaveTo("mail", "slow", "", 100)
	run, err := w.C.Ring(ctx, "Storm", nil)
	require.NoError(t, err)
	w.Until("some have it", func() bool { return len(w.Inbox("reader005@tarnwick.example")) > 0 })
	w.Behave("mail", "expired", 0)
	w.Until("the server rests", func() bool {
		p, err := w.C.Destination(ctx, "company mail")
		require.NoError(t, err)
		return p.Rests != nil && strings.Contains(p.Rests.Answer, "535")
	})
	answer, err := w.C.TestDestination(ctx, "company mail")
	require.NoError(t, err)
	assert.False(t, answer.OK)
	assert.Contains(t, answer.Said, "535 5.7.8")
	assert.Contains(t, answer.Advice, "Check user and password")
	alerts, err := w.C.Alerts(ctx, "open")
	require.NoError(t, err)
	require.Len(t, alerts, 1)
	assert.Equal(t, job.AlertDown, alerts[0].Kind, "a lasting fault is told at once")
	w.Behave("mail", "accept", 0)
	answer, err = w.C.TestDestination(ctx, "company mail")
	require.NoError(t, err)
	assert.True(t, answer.OK, answer.Said)
	w.Until("the rest arrives", func() bool {
		page, err := w.C.Run(ctx, run.ID)
		require.NoError(t, err)
		return page.State == job.RunDone
	})
	var all []world.Letter
	require.NoError(t, json.Unmarshal(w.Get(w.Out.Inbox+"/api/messages"), &all))
	got := map[string]int{}
	for _, l := range all {
		got[l.To[0]]++
	}
	for i := range 60 {
		assert.Equal(t, 1, got[fmt.Sprintf("reader%03d@tarnwick.example", i)])
	}
}
