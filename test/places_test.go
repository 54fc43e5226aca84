package test

import (
	"context"
	"encoding/json"
	"fmt"
	"net"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"testing"
	"time"

	"ironbell/internal/api/wire"
	"ironbell/internal/core/job"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// place saves a destination.
func (w *world) place(name, protocol, password string, settings map[string]any) {
	w.t.Helper()
	_, err := w.c.SaveDestination(context.Background(), name, wire.PlaceRequest{
		Protocol: protocol, Password: &password, Settings: settings,
	})
	require.NoError(w.t, err)
}

func (w *world) hostPort(address string) (string, int) {
	w.t.Helper()
	host, text, err := net.SplitHostPort(address)
	require.NoError(w.t, err)
	port, err := strconv.Atoi(text)
	require.NoError(w.t, err)
	return host, port
}

// filePlaces saves one destination of each protocol for files, by its protocol.
func (w *world) filePlaces() map[string]string {
	w.t.Helper()
	folder := filepath.Join(w.dir, "folders", "archive")
	require.NoError(w.t, os.MkdirAll(folder, 0o700))
	w.place("archive", "folder", "", map[string]any{"folder": folder})
	host, port := w.hostPort(w.out.SFTP)
	w.place("authority sftp", "sftp", w.out.Password, map[string]any{"host": host, "port": port, "user": w.out.User})
	host, port = w.hostPort(w.out.FTP)
	w.place("authority ftp", "ftp", w.out.Password, map[string]any{
		"host": host, "port": port, "user": w.out.User, "ca": w.out.CA,
	})
	w.place("quay files", "webdav", w.out.Password, map[string]any{
		"url": "http://" + w.out.WebDAV + "/", "user": w.out.User,
	})
	w.place("board store", "s3", w.out.Password, map[string]any{
		"url": "http://" + w.out.Objects, "bucket": "reports", "prefix": "board", "user": w.out.User,
	})
	w.place("ledger office", "http", "a key", map[string]any{
		"url": "http://" + w.out.Receiver + "/in", "method": "PUT",
	})
	w.place("quay printer", "ipp", "", map[string]any{"url": "ipp://" + w.out.Printer + "/ipp/print"})
	return map[string]string{
		"folder": "archive", "sftp": "authority sftp", "ftp": "authority ftp", "webdav": "quay files",
		"s3": "board store", "http": "ledger office", "ipp": "quay printer",
	}
}

// fetched is the content of a file as the other side has it.
func (w *world) fetched(protocol, path string) (string, bool) {
	w.t.Helper()
	switch protocol {
	case "folder":
		text, err := os.ReadFile(filepath.Join(w.dir, "folders", "archive", path))
		return string(text), err == nil
	case "s3":
		return string(w.get(w.out.Inbox + "/api/objects/board/" + strings.ReplaceAll(path, " ", "%20"))), true
	case "http":
		var all []struct{ Path, Body string }
		require.NoError(w.t, json.Unmarshal(w.get(w.out.Inbox+"/api/received"), &all))
		for _, r := range all {
			if r.Path == "/in/"+path {
				return r.Body, true
			}
		}
		return "", false
	}
	text, err := os.ReadFile(filepath.Join(w.out.Folder, protocol, path))
	return string(text), err == nil
}

func TestFilesGoEverywhere(t *testing.T) {
	w := open(t)
	ctx := context.Background()
	names := w.filePlaces()
	w.report("Departures", "SELECT 'Tarnwick Quay' AS port, 12 AS sailings")
	for protocol, name := range names {
		answer, err := w.c.TestDestination(ctx, name)
		require.NoError(t, err)
		require.True(t, answer.OK, "%s: %s %s", protocol, answer.Said, answer.Advice)
		require.NotEmpty(t, answer.Steps)
	}
	page, err := w.c.Destination(ctx, "authority sftp")
	require.NoError(t, err)
	assert.Contains(t, page.Pin, "SHA256:", "the host key of the first test is pinned")

	d := definition("Departures", "", nil, "")
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
	w.job("Departures everywhere", d)
	run := w.ring("Departures everywhere")
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
			text, ok := w.fetched(protocol, path)
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
	require.NoError(t, json.Unmarshal(w.get(w.out.Inbox+"/api/printed"), &printed))
	assert.Len(t, printed, 2)

	again := w.ring("Departures everywhere")
	require.Equal(t, job.RunDone, again.State, again.Reason)
	for _, dl := range again.Deliveries {
		if dl.Destination == "archive" {
			assert.Contains(t, dl.WentTo, "departures (2).csv",
				"nothing is written over, and the record says where it went")
		}
	}
	out, _, status := w.ironbell("deliveries", "-destination", "archive")
	assert.Zero(t, status)
	assert.Contains(t, out, "departures (2).csv")
	out, _, _ = w.ironbell("destinations", "authority sftp")
	assert.Contains(t, out, "Departures everywhere")
}

// A file whose store was lost in the middle is looked for there, not asked for of a recipient.
func TestAFileThatIsUnknownIsLookedForInItsStore(t *testing.T) {
	w := open(t)
	ctx := context.Background()
	name := w.filePlaces()["s3"]
	w.report("Departures", "SELECT 'Tarnwick Quay' AS port, 12 AS sailings")
	d := definition("Departures", "", nil, "")
	d.Tasks = d.Tasks[:1]
	d.Tasks[0].Report.Outputs = []job.Output{{Format: "csv", Name: "departures"}}
	d.Tasks = append(d.Tasks, job.Task{
		Name: "store", Kind: job.KindDeliver, After: []string{"report"}, Deliver: &job.DeliverTask{Destination: name},
	})
	w.job("Departures", d)
	w.behave("objects", "drop", 0)
	run := w.ring("Departures")
	require.Len(t, run.Deliveries, 1)
	require.Equal(t, job.DeliveryUnknown, run.Deliveries[0].State, run.Deliveries[0].Answer)
	want := fmt.Sprintf("Look whether %s is there and whole, with %d bytes, then settle the delivery",
		run.Deliveries[0].Address, run.Deliveries[0].Size)
	assert.Contains(t, run.Deliveries[0].Advice, want)
	alerts, err := w.c.Alerts(ctx, "open")
	require.NoError(t, err)
	require.Len(t, alerts, 1)
	assert.Contains(t, alerts[0].Advice, want)
}

func TestADestinationWorksAsFarAsItsLastTestSays(t *testing.T) {
	w := open(t)
	ctx := context.Background()
	name := w.filePlaces()["webdav"]
	said := func() string {
		out, errs, status := w.ironbell("destinations", name)
		require.Zero(t, status, errs)
		return strings.Split(out, "\n")[1]
	}
	assert.Contains(t, said(), "not tested yet")
	_, err := w.c.TestDestination(ctx, name)
	require.NoError(t, err)
	assert.Contains(t, said(), "works, tested ")
	w.behave("webdav", "expired", 0)
	_, _, status := w.ironbell("destinations", "-test", name)
	assert.NotZero(t, status)
	assert.Regexp(t, `test failed .* UTC: .*401`, said())
	p, err := w.c.Destination(ctx, name)
	require.NoError(t, err)
	require.NotNil(t, p.Tested)
	assert.False(t, p.Tested.OK)
	assert.Nil(t, p.Rests, "a test rests nothing and tells nobody: who tests sees it")
	w.place(name, "webdav", w.out.Password, map[string]any{"url": "http://" + w.out.WebDAV + "/", "user": w.out.User})
	assert.Contains(t, said(), "not tested yet", "what was changed has yet to be tested")
}

// mailStorm makes a job that mails to n addresses.
func (w *world) mailStorm(name string, n int) {
	w.t.Helper()
	w.report("Departures", "SELECT 'Tarnwick Quay' AS port, 12 AS sailings")
	to := make([]string, n)
	for i := range to {
		to[i] = fmt.Sprintf("reader%03d@tarnwick.example", i)
	}
	w.job(name, definition("Departures", "company mail", []string{"html-mail"}, to...))
}

func TestAMailServerThatIsDownIsOneAlertAndAllArrivesOnce(t *testing.T) {
	w := open(t)
	ctx := context.Background()
	const readers = 500
	w.mailStorm("Storm", readers)
	require.NoError(t,
		w.c.SaveAlertSettings(ctx, job.AlertSettings{Destination: "company mail", Standby: "harbour authority mail"}))
	w.behave("mail", "away", 0)
	run, err := w.c.Ring(ctx, "Storm", nil)
	require.NoError(t, err)
	var down job.Alert
	w.until("the destination's alert", func() bool {
		alerts, err := w.c.Alerts(ctx, "open")
		require.NoError(t, err)
		for _, a := range alerts {
			if a.Kind == job.AlertDown &&
				strings.HasPrefix(a.ForWhom, fmt.Sprintf("%d deliveries wait: Storm", readers)) {
				down = a
			}
		}
		return down.ID != 0
	})
	alerts, err := w.c.Alerts(ctx, "open")
	require.NoError(t, err)
	require.Len(t, alerts, 1, "one cause, one alert")
	w.until("the owner is told over the other mail server",
		func() bool { return len(w.inbox("mara@tarnwick.example")) > 0 })
	mail := w.inbox("mara@tarnwick.example")
	assert.Equal(t, "Down: Destination company mail", mail[0].Subject)
	for _, part := range []string{
		"connection refused", "500 deliveries wait: Storm",
		"ironbell destinations -test 'company mail'", "/acknowledge/",
	} {
		assert.Contains(t, mail[0].Plain, part)
	}
	page, err := w.c.Run(ctx, run.ID)
	require.NoError(t, err)
	assert.Equal(t, job.RunDelivering, page.State, "what waits is not given up")
	list, err := w.c.Record(ctx, clientWhich(run.ID, "rest"))
	require.NoError(t, err)
	for _, d := range list {
		assert.LessOrEqual(t, d.Tries, 1, "nobody waited for five hundred time-outs")
	}
	place, err := w.c.Destination(ctx, "company mail")
	require.NoError(t, err)
	require.NotNil(t, place.Rests)
	assert.Equal(t, readers, place.Waiting)
	w.kill() // in the middle of the rest
	w.start()
	w.behave("mail", "accept", 0)
	w.until("all have it", func() bool {
		page, err := w.c.Run(ctx, run.ID)
		require.NoError(t, err)
		return page.State == job.RunDone
	})
	got := map[string]int{}
	var all []letter
	require.NoError(t, json.Unmarshal(w.get(w.out.Inbox+"/api/messages"), &all))
	for _, l := range all {
		if strings.HasPrefix(l.To[0], "reader") {
			got[l.To[0]]++
		}
	}
	assert.Len(t, got, readers)
	for to, n := range got {
		assert.Equal(t, 1, n, to)
	}
	w.until("the alert is closed", func() bool {
		open, err := w.c.Alerts(ctx, "open", "acknowledged")
		require.NoError(t, err)
		return len(open) == 0
	})
}

func TestWhatWaitedTooLongIsGivenUpAndTold(t *testing.T) {
	w := open(t)
	ctx := context.Background()
	w.mailStorm("Storm", 3)
	d := definition("Departures", "company mail", []string{"html-mail"}, "oren@tarnwick.example",
		"eleni@tarnwick.example")
	d.GiveUpAfter = job.Duration(2 * time.Second)
	w.job("Tides", d)
	require.NoError(t,
		w.c.SaveAlertSettings(ctx, job.AlertSettings{Destination: "company mail", Standby: "harbour authority mail"}))
	w.behave("mail", "away", 0)
	storm, err := w.c.Ring(ctx, "Storm", nil)
	require.NoError(t, err)
	run := w.ring("Tides")
	assert.Equal(t, job.RunFailed, run.State)
	require.Len(t, run.Deliveries, 2)
	for _, dl := range run.Deliveries {
		assert.Equal(t, job.DeliveryFailed, dl.State)
		assert.Contains(t, dl.Answer,
			`the time to wait for the destination ran out: connect to mail server "company mail"`)
		assert.Contains(t, dl.Answer, "connection refused")
	}
	var told job.Alert
	w.until("the owner is told", func() bool {
		alerts, err := w.c.Alerts(ctx, "open")
		require.NoError(t, err)
		for _, a := range alerts {
			if a.Kind == job.AlertDeliveryFailed {
				told = a
			}
		}
		return told.ID != 0 && len(w.inbox("mara@tarnwick.example")) > 0
	})
	assert.Equal(t, "Tides", told.Job)
	assert.Contains(t, told.Happened,
		"could not be delivered to 2 of 2. The time to wait for the destination ran out: connect to mail server")
	assert.Equal(t, "Nothing more by itself.", told.Next)
	assert.Contains(t, told.Advice, "Then send what failed again: ironbell resend "+run.ID.String())
	assert.Equal(t, 1, strings.Count(told.Happened, "company mail"))
	w.until("what was given up waits no more", func() bool {
		alerts, err := w.c.Alerts(ctx, "open")
		require.NoError(t, err)
		return slices.ContainsFunc(alerts,
			func(a job.Alert) bool { return a.Kind == job.AlertDown && a.ForWhom == "3 deliveries wait: Storm" })
	})
	page, err := w.c.Run(ctx, storm.ID)
	require.NoError(t, err)
	assert.Equal(t, job.RunDelivering, page.State, "others wait as long as their own job says")

	// Once it works, what was given up stays so until somebody sends it.
	w.behave("mail", "accept", 0)
	w.until("what waited goes out", func() bool { return len(w.inbox("reader002@tarnwick.example")) > 0 })
	assert.Empty(t, w.inbox("oren@tarnwick.example"))
	out, errs, status := w.ironbell("resend", run.ID.String())
	require.Zero(t, status, errs)
	assert.Contains(t, out, "2")
	w.until("it arrives", func() bool {
		return len(w.inbox("oren@tarnwick.example")) == 1 && len(w.inbox("eleni@tarnwick.example")) == 1
	})
}

func TestAPasswordThatExpiresInMidBatchRestsTheServer(t *testing.T) {
	w := open(t)
	ctx := context.Background()
	w.mailStorm("Storm", 60)
	w.behaveTo("mail", "slow", "", 100)
	run, err := w.c.Ring(ctx, "Storm", nil)
	require.NoError(t, err)
	w.until("some have it", func() bool { return len(w.inbox("reader005@tarnwick.example")) > 0 })
	w.behave("mail", "expired", 0)
	w.until("the server rests", func() bool {
		p, err := w.c.Destination(ctx, "company mail")
		require.NoError(t, err)
		return p.Rests != nil && strings.Contains(p.Rests.Answer, "535")
	})
	answer, err := w.c.TestDestination(ctx, "company mail")
	require.NoError(t, err)
	assert.False(t, answer.OK)
	assert.Contains(t, answer.Said, "535 5.7.8")
	assert.Contains(t, answer.Advice, "Check user and password")
	alerts, err := w.c.Alerts(ctx, "open")
	require.NoError(t, err)
	require.Len(t, alerts, 1)
	assert.Equal(t, job.AlertDown, alerts[0].Kind, "a lasting fault is told at once")
	w.behave("mail", "accept", 0)
	answer, err = w.c.TestDestination(ctx, "company mail")
	require.NoError(t, err)
	assert.True(t, answer.OK, answer.Said)
	w.until("the rest arrives", func() bool {
		page, err := w.c.Run(ctx, run.ID)
		require.NoError(t, err)
		return page.State == job.RunDone
	})
	var all []letter
	require.NoError(t, json.Unmarshal(w.get(w.out.Inbox+"/api/messages"), &all))
	got := map[string]int{}
	for _, l := range all {
		got[l.To[0]]++
	}
	for i := range 60 {
		assert.Equal(t, 1, got[fmt.Sprintf("reader%03d@tarnwick.example", i)])
	}
}
