package sender_test

import (
	"context"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"ironbell/internal/core/job"
	"ironbell/internal/engine/enginetest"
	"ironbell/internal/service"
	"ironbell/internal/task"
	"ironbell/standin/gate"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// Destinations whose retries all lie ahead take no turn from one that is ready.
func TestManyDestinationsWithRetriesAheadHoldUpNobody(t *testing.T) {
	o := enginetest.Open(t)
	e := o.Engine(nil)
	o.Save(e, "Board",
		job.Definition{Tasks: []job.Task{enginetest.Strained("file", "file"), enginetest.Mailed("a@tarnwick.example")}})
	o.Exec(`INSERT INTO destinations (name, protocol, settings) SELECT 'folder ' || n, 'folder', '{"folder": "/nowhere"}' FROM generate_series(1, 160) n`)
	o.Exec(`INSERT INTO messages (id, part, task, message_id, subject, destination_id, key, size, sha256) SELECT month_id('message_count'), 1, '', 'x', 'x', id, 'x', 1, '' FROM destinations WHERE name LIKE 'folder %'`)
	o.Exec(`INSERT INTO deliveries (id, message_id, destination_id, address, state, retry_times, retry_wait, if_unknown, ready_at) SELECT month_id('delivery_count'), id, destination_id, 'x', 'waiting', 1, 1, 'ask', now() + interval '1 hour' FROM messages`)
	for range 10 {
		run := o.Ring(e, "Board", service.Ask{})
		_ = run
	}
	stop := o.Run(e)
	o.Until("all are sent", func() bool { return len(o.Received("a@tarnwick.example")) == 10 })
	stop()
	claimed, err := o.Store.ClaimDeliveries(o.Ctx, "x", time.Minute, 50, 16, nil)
	require.NoError(t, err)
	assert.Empty(t, claimed)
}

// Parts of one run that write one name never overwrite each other.
func TestPartsNeverOverwriteEachOther(t *testing.T) {
	o := enginetest.Open(t)
	e := o.Engine(nil)
	o.Source("tarnwick")
	o.Report(e, "Sheet", job.ReportDefinition{
		Parameters: []job.Parameter{{Name: "port", Type: job.TypeText, Default: ""}},
		Sections:   enginetest.Section("SELECT :port AS port"),
	})
	overwrite := func(d *job.DeliverTask) { d.IfExists = job.ExistsOverwrite }
	d := job.Definition{
		Split: job.Split{Each: "port", Values: []string{"Pennold", "Ellerhaven", "Fennmouth"}},
		Tasks: []job.Task{enginetest.Reported("sheet", "Sheet"), enginetest.Placed("port folders", overwrite)},
	}
	o.Save(e, "Sheets", d)
	ahead, err := e.Jobs.AheadOf(o.Ctx, o.Mara, "Sheets")
	require.NoError(t, err)
	require.Len(t, ahead.Tasks, 2)
	assert.Contains(t, strings.Join(ahead.Tasks[1].Notes, " "),
		"3 parts would write Sheet "+time.Now().Format("2006-01-02")+".csv; each gets its part's name appended")
	o.Run(e)
	run := o.Ended(o.Ring(e, "Sheets", service.Ask{}).ID)
	assert.Equal(t, job.RunDone, run.State)
	files := func() []string {
		all, err := filepath.Glob(filepath.Join(o.Folder, "*"))
		require.NoError(t, err)
		for i := range all {
			all[i] = filepath.Base(all[i])
		}
		return all
	}
	day := time.Now().Format("2006-01-02")
	assert.Equal(t,
		[]string{
			"Sheet " + day + " (Ellerhaven).csv", "Sheet " + day + " (Fennmouth).csv",
			"Sheet " + day + " (Pennold).csv",
		}, files())

	// Only those that share a name get another one.
	d.Split = job.Split{
		Each: "port",
		Query: &job.ListQuery{
			Source: "tarnwick", SQL: "VALUES ('Pennold', 'north'), ('Ellerhaven', 'north'), ('Fennmouth', 'south')",
		},
	}
	d.Split.Query.SQL = "SELECT * FROM (VALUES ('Pennold', 'north'), ('Ellerhaven', 'north'), ('Fennmouth', " +
		"'south')) v(port, shore)"
	d.Tasks[1].Deliver.Name = "{value.shore}"
	o.Save(e, "Sheets", d)
	for _, f := range files() {
		require.NoError(t, os.Remove(filepath.Join(o.Folder, f)))
	}
	o.Ended(o.Ring(e, "Sheets", service.Ask{}).ID)
	assert.Equal(t, []string{"north (Ellerhaven).csv", "north (Pennold).csv", "south.csv"}, files())

	// A clash that shows only later fails that part, and alerts.
	o.Strain.Mean("program", func(_ context.Context, w task.Work) (task.Result, error) {
		return o.Strain.File(w, "file", []byte(w.PartName))
	})
	d.Tasks = []job.Task{enginetest.Strained("file", "program"), enginetest.Placed("port folders", overwrite)}
	o.Save(e, "Sheets", d)
	run = o.Ended(o.Ring(e, "Sheets", service.Ask{}).ID)
	assert.Equal(t, job.RunPartly, run.State)
	assert.Equal(t, 2,
		o.Number(`SELECT count(*) FROM parts WHERE run_id = $1 AND state = 'failed' AND reason LIKE '%another part of this run writes%'`, run.ID))
	assert.Equal(t, 1, o.Number(`SELECT count(*) FROM alerts WHERE kind = 'run failed' AND state = 'open'`))
}

// A mail to nobody is a failure that says so, unless its job lets it pass or all have
// left the list.
func TestAMailToNobody(t *testing.T) {
	o := enginetest.Open(t)
	e := o.Engine(nil)
	require.NoError(t, o.Store.PutGroup(o.Ctx, job.Group{Name: "Crew", Members: []string{}}))
	require.NoError(t, o.Store.PutPost(o.Ctx, job.Post{Name: "Master", Holders: []string{}}))
	o.Run(e)
	run := func(name string, change func(*job.DeliverTask), to ...string) job.Run {
		mail := enginetest.Mailed(to...)
		change(mail.Deliver)
		o.Save(e, name, job.Definition{Tasks: []job.Task{enginetest.Strained("file", "file"), mail}})
		return o.Ended(o.Ring(e, name, service.Ask{}).ID)
	}
	none := func(*job.DeliverTask) {}
	got := run("Empty", none, "group:Crew")
	assert.Equal(t, job.RunFailed, got.State)
	assert.Contains(t, got.Reason, "nobody is to get it: the group Crew is empty")
	assert.Contains(t, run("Vacant", none, "post:Master").Reason, "nobody holds Master")
	got = run("Passes", func(d *job.DeliverTask) { d.IfNobody = job.NobodyPassOver }, "group:Crew")
	assert.Equal(t, job.RunDone, got.State)
	assert.Equal(t, "all tasks done; passed over: mail", got.Reason)
	until := time.Now().AddDate(0, 0, 3)
	o.Joren.Wishes.PausedUntil = &until
	require.NoError(t, o.Store.PutWishes(o.Ctx, o.Joren, nil))
	assert.Equal(t, "all tasks done; passed over: mail", run("Paused", none, "person:joren").Reason)

	// One bad address is one failed delivery.
	o.Source("tarnwick")
	got = run("Bad", func(d *job.DeliverTask) {
		d.ToQuery = &job.ListQuery{
			Source: "tarnwick", SQL: "SELECT unnest(ARRAY['not an address', 'b@tarnwick.example'])",
		}
	}, "a@tarnwick.example")
	assert.Equal(t, job.RunPartly, got.State)
	assert.Len(t, o.Received("a@tarnwick.example"), 1)
	assert.Len(t, o.Received("b@tarnwick.example"), 1)
	assert.Equal(t, []string{"not an address"}, o.Texts(`SELECT address FROM deliveries WHERE state = 'failed'`))
	assert.Equal(t, 1, o.Number(`SELECT count(*) FROM alerts WHERE kind = 'delivery failed' AND state = 'open'`))

	// A mail goes out with what it was told to carry, or not at all.
	lacks := run("Lacks", func(d *job.DeliverTask) { d.Formats = []string{"pdf"} }, "c@tarnwick.example")
	assert.Equal(t, job.RunFailed, lacks.State)
	assert.Contains(t, lacks.Reason, "it lacks a file of the format pdf, which it was told to carry")
	assert.Empty(t, o.Received("c@tarnwick.example"))
}

// A server that says "later" is tried again whatever the job says of its tasks, with
// one envelope sender over all tries.
func TestDeliveriesHavePatienceOfTheirOwn(t *testing.T) {
	o := enginetest.Open(t)
	e := o.Engine(nil)
	o.Save(e, "Board",
		job.Definition{Tasks: []job.Task{enginetest.Strained("file", "file"), enginetest.Mailed("a@tarnwick.example")}})
	require.NoError(t, o.Mail.Behave(gate.Behaviour{Mode: gate.Busy}))
	run := o.Ring(e, "Board", service.Ask{})
	o.Run(e)
	o.Until("it waits for its next try", func() bool {
		return o.Number(`SELECT count(*) FROM deliveries WHERE state = 'waiting' AND tries = 1 AND ready_at > now() + interval '1 minute'`) == 1
	})
	assert.Equal(t, 7, o.Number(`SELECT retry_times FROM deliveries`))
	require.NoError(t, o.Mail.Behave(gate.Behaviour{Mode: gate.Accept}))
	o.Exec(`UPDATE deliveries SET ready_at = now()`)
	o.Exec(`SELECT pg_notify('ironbell', 'deliveries ')`)
	assert.Equal(t, job.RunDone, o.Ended(run.ID).State)
	total := time.Duration(0)
	for n := 1; n <= job.DefaultPatience.Times; n++ {
		total += time.Duration(float64(job.DefaultPatience.Wait) * float64(int(1)<<(n-1)))
	}
	assert.InDelta(t, 4, total.Hours(), 0.1)
}
