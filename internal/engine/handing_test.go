package engine_test

import (
	"context"
	"fmt"
	"net"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"ironbell/internal/core/job"
	"ironbell/internal/deliver"
	"ironbell/internal/engine"
	"ironbell/internal/engine/probe"
	"ironbell/internal/outgoing"
	"ironbell/internal/service"
	"ironbell/internal/task"
	"ironbell/standin/gate"
	"ironbell/standin/web"
)

// placed is a task that brings files to a place.
func placed(destination string, change ...func(*job.DeliverTask)) job.Task {
	d := &job.DeliverTask{Destination: destination}
	for _, c := range change {
		c(d)
	}
	return job.Task{Name: "place", Kind: job.KindDeliver, Deliver: d}
}

// Destinations whose retries all lie ahead take no turn from one that is ready.
func TestManyDestinationsWithRetriesAheadHoldUpNobody(t *testing.T) {
	o := open(t)
	e := o.engine(nil)
	o.save(e, "Board", job.Definition{Tasks: []job.Task{strained("file", "file"), mailed("a@tarnwick.example")}})
	o.exec(`INSERT INTO destinations (name, protocol, settings) SELECT 'folder ' || n, 'folder', '{"folder": "/nowhere"}' FROM generate_series(1, 160) n`)
	o.exec(`INSERT INTO messages (id, part, task, message_id, subject, destination_id, key, size, sha256) SELECT month_id('message_count'), 1, '', 'x', 'x', id, 'x', 1, '' FROM destinations WHERE name LIKE 'folder %'`)
	o.exec(`INSERT INTO deliveries (id, message_id, destination_id, address, state, retry_times, retry_wait, if_unknown, ready_at) SELECT month_id('delivery_count'), id, destination_id, 'x', 'waiting', 1, 1, 'ask', now() + interval '1 hour' FROM messages`)
	for range 10 {
		run := o.ring(e, "Board", service.Ask{})
		_ = run
	}
	stop := o.run(e)
	o.until("all are sent", func() bool { return len(o.received("a@tarnwick.example")) == 10 })
	stop()
	claimed, err := o.store.ClaimDeliveries(o.ctx, "x", time.Minute, 50, 16, nil)
	require.NoError(t, err)
	assert.Empty(t, claimed)
}

// printer starts a printer, with an engine whose job Sheet prints on it.
func (o *office) printer() (*web.Printer, *site) {
	o.t.Helper()
	printer, err := web.StartPrinter("printer", "127.0.0.1:0")
	require.NoError(o.t, err)
	o.t.Cleanup(printer.Close)
	o.place("printer", "ipp", deliver.PrinterSettings{URL: "ipp://" + printer.Address() + "/ipp/print"})
	e := o.engine(nil, func(p *engine.Options) { p.Guard = outgoing.New([]string{printer.Address()}) })
	o.save(e, "Sheet", job.Definition{Tasks: []job.Task{strained("file", "file"), placed("printer")}})
	return printer, e
}

// A destination that is fine whenever it is looked at and refuses what is handed over
// is told of at the third rest in a row, and its pauses grow.
func TestADestinationThatPassesItsProbeAndRefuses(t *testing.T) {
	o := open(t)
	printer, e := o.printer()
	require.NoError(t, printer.Behave(gate.Behaviour{Mode: gate.Busy}))
	run := o.ring(e, "Sheet", service.Ask{})
	o.run(e)
	o.until("it is told of", func() bool { return o.number(`SELECT count(*) FROM alerts WHERE cause LIKE 'refuses:%'`) == 1 })
	assert.Equal(t, 3, o.number(`SELECT rests_in_row FROM destinations WHERE name = 'printer'`))
	assert.Contains(t, o.text(`SELECT happened FROM alerts WHERE cause LIKE 'refuses:%'`), "answers when it is looked at, and refuses what is handed over: 3 times in a row")
	assert.GreaterOrEqual(t, o.number(`SELECT (extract(epoch FROM probe_at - rests_since) * 10)::int FROM destinations WHERE name = 'printer'`), 8, "0.1 s, 0.3 s, 0.9 s")
	require.NoError(t, printer.Behave(gate.Behaviour{Mode: gate.Accept}))
	assert.Equal(t, job.RunDone, o.ended(run.ID).State)
	o.until("the alert closes", func() bool { return o.number(`SELECT count(*) FROM alerts WHERE state <> 'closed'`) == 0 })
	assert.Zero(t, o.number(`SELECT rests_in_row FROM destinations WHERE name = 'printer'`))

	// A queue that takes no jobs, and says so, does not pass its probe.
	require.NoError(t, printer.Behave(gate.Behaviour{Mode: gate.Closed}))
	_, d, err := e.Destinations.ByName(o.ctx, "printer")
	require.NoError(t, err)
	assert.ErrorContains(t, deliver.Probe(o.ctx, d), "the printer takes no jobs")
}

// What a printer took is not sent yet: it is asked until the printer is done.
func TestAPrinterIsAskedUntilItIsDone(t *testing.T) {
	o := open(t)
	printer, e := o.printer()
	o.run(e)
	require.NoError(t, printer.Behave(gate.Behaviour{Mode: gate.Hold}))
	held, late := o.ring(e, "Sheet", service.Ask{}), o.ring(e, "Sheet", service.Ask{})
	o.until("both are taken", func() bool {
		return o.number(`SELECT count(*) FROM deliveries WHERE state = 'taken' AND answer LIKE '%waiting in the printer''s queue%'`) == 2
	})
	assert.Equal(t, 2, o.number(`SELECT count(*) FROM runs WHERE state = 'delivering'`))
	assert.Zero(t, o.number(`SELECT count(*) FROM deliveries WHERE lease_until IS NOT NULL`))
	o.exec(`UPDATE deliveries SET give_up_at = now() - interval '1 second', ask_at = now() WHERE run_id = $1`, late.ID)
	assert.Contains(t, o.ended(late.ID).Reason, "unknown")
	assert.Equal(t, 1, o.number(`SELECT count(*) FROM alerts WHERE kind = 'delivery unknown' AND state = 'open'`))
	require.NoError(t, printer.Behave(gate.Behaviour{Mode: gate.Accept}))
	o.exec(`UPDATE deliveries SET ask_at = now() WHERE state = 'taken'`)
	assert.Equal(t, job.RunDone, o.ended(held.ID).State)

	require.NoError(t, printer.Behave(gate.Behaviour{Mode: gate.Abort}))
	aborted := o.ended(o.ring(e, "Sheet", service.Ask{}).ID)
	assert.Equal(t, job.RunFailed, aborted.State)
	assert.Contains(t, o.text(`SELECT answer FROM deliveries WHERE run_id = $1`, aborted.ID), "the printer aborted the job (document-format-error)")
}

// Parts of one run that write one name never overwrite each other.
func TestPartsNeverOverwriteEachOther(t *testing.T) {
	o := open(t)
	e := o.engine(nil)
	o.source("tarnwick")
	o.report(e, "Sheet", job.ReportDefinition{Parameters: []job.Parameter{{Name: "port", Type: job.TypeText, Default: ""}}, Sections: section("SELECT :port AS port")})
	overwrite := func(d *job.DeliverTask) { d.IfExists = job.ExistsOverwrite }
	d := job.Definition{Split: job.Split{Each: "port", Values: []string{"Pennold", "Ellerhaven", "Fennmouth"}}, Tasks: []job.Task{reported("sheet", "Sheet"), placed("port folders", overwrite)}}
	o.save(e, "Sheets", d)
	ahead, err := e.Jobs.AheadOf(o.ctx, o.mara, "Sheets")
	require.NoError(t, err)
	require.Len(t, ahead.Tasks, 2)
	assert.Contains(t, strings.Join(ahead.Tasks[1].Notes, " "), "3 parts would write Sheet "+time.Now().Format("2006-01-02")+".csv; each gets its part's name appended")
	o.run(e)
	run := o.ended(o.ring(e, "Sheets", service.Ask{}).ID)
	assert.Equal(t, job.RunDone, run.State)
	files := func() []string {
		all, err := filepath.Glob(filepath.Join(o.folder, "*"))
		require.NoError(t, err)
		for i := range all {
			all[i] = filepath.Base(all[i])
		}
		return all
	}
	day := time.Now().Format("2006-01-02")
	assert.Equal(t, []string{"Sheet " + day + " (Ellerhaven).csv", "Sheet " + day + " (Fennmouth).csv", "Sheet " + day + " (Pennold).csv"}, files())

	// Only those that share a name get another one.
	d.Split = job.Split{Each: "port", Query: &job.ListQuery{Source: "tarnwick", SQL: "VALUES ('Pennold', 'north'), ('Ellerhaven', 'north'), ('Fennmouth', 'south')"}}
	d.Split.Query.SQL = "SELECT * FROM (VALUES ('Pennold', 'north'), ('Ellerhaven', 'north'), ('Fennmouth', 'south')) v(port, shore)"
	d.Tasks[1].Deliver.Name = "{value.shore}"
	o.save(e, "Sheets", d)
	for _, f := range files() {
		require.NoError(t, os.Remove(filepath.Join(o.folder, f)))
	}
	o.ended(o.ring(e, "Sheets", service.Ask{}).ID)
	assert.Equal(t, []string{"north (Ellerhaven).csv", "north (Pennold).csv", "south.csv"}, files())

	// A clash that shows only later fails that part, and alerts.
	o.strain.mean("program", func(_ context.Context, w task.Work) (task.Result, error) {
		return o.strain.file(w, "file", []byte(w.PartName))
	})
	d.Tasks = []job.Task{strained("file", "program"), placed("port folders", overwrite)}
	o.save(e, "Sheets", d)
	run = o.ended(o.ring(e, "Sheets", service.Ask{}).ID)
	assert.Equal(t, job.RunPartly, run.State)
	assert.Equal(t, 2, o.number(`SELECT count(*) FROM parts WHERE run_id = $1 AND state = 'failed' AND reason LIKE '%another part of this run writes%'`, run.ID))
	assert.Equal(t, 1, o.number(`SELECT count(*) FROM alerts WHERE kind = 'run failed' AND state = 'open'`))
}

// A mail to nobody is a failure that says so, unless its job lets it pass or all have
// left the list.
func TestAMailToNobody(t *testing.T) {
	o := open(t)
	e := o.engine(nil)
	require.NoError(t, o.store.PutGroup(o.ctx, job.Group{Name: "Crew", Members: []string{}}))
	require.NoError(t, o.store.PutPost(o.ctx, job.Post{Name: "Master", Holders: []string{}}))
	o.run(e)
	run := func(name string, change func(*job.DeliverTask), to ...string) job.Run {
		mail := mailed(to...)
		change(mail.Deliver)
		o.save(e, name, job.Definition{Tasks: []job.Task{strained("file", "file"), mail}})
		return o.ended(o.ring(e, name, service.Ask{}).ID)
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
	o.joren.Wishes.PausedUntil = &until
	require.NoError(t, o.store.PutWishes(o.ctx, o.joren, nil))
	assert.Equal(t, "all tasks done; passed over: mail", run("Paused", none, "person:joren").Reason)

	// One bad address is one failed delivery.
	o.source("tarnwick")
	got = run("Bad", func(d *job.DeliverTask) {
		d.ToQuery = &job.ListQuery{Source: "tarnwick", SQL: "SELECT unnest(ARRAY['not an address', 'b@tarnwick.example'])"}
	}, "a@tarnwick.example")
	assert.Equal(t, job.RunPartly, got.State)
	assert.Len(t, o.received("a@tarnwick.example"), 1)
	assert.Len(t, o.received("b@tarnwick.example"), 1)
	assert.Equal(t, []string{"not an address"}, o.texts(`SELECT address FROM deliveries WHERE state = 'failed'`))
	assert.Equal(t, 1, o.number(`SELECT count(*) FROM alerts WHERE kind = 'delivery failed' AND state = 'open'`))

	// A mail goes out with what it was told to carry, or not at all.
	lacks := run("Lacks", func(d *job.DeliverTask) { d.Formats = []string{"pdf"} }, "c@tarnwick.example")
	assert.Equal(t, job.RunFailed, lacks.State)
	assert.Contains(t, lacks.Reason, "it lacks a file of the format pdf, which it was told to carry")
	assert.Empty(t, o.received("c@tarnwick.example"))
}

// A server that says "later" is tried again whatever the job says of its tasks, with
// one envelope sender over all tries.
func TestDeliveriesHavePatienceOfTheirOwn(t *testing.T) {
	o := open(t)
	e := o.engine(nil)
	o.save(e, "Board", job.Definition{Tasks: []job.Task{strained("file", "file"), mailed("a@tarnwick.example")}})
	require.NoError(t, o.mail.Behave(gate.Behaviour{Mode: gate.Busy}))
	run := o.ring(e, "Board", service.Ask{})
	o.run(e)
	o.until("it waits for its next try", func() bool {
		return o.number(`SELECT count(*) FROM deliveries WHERE state = 'waiting' AND tries = 1 AND ready_at > now() + interval '1 minute'`) == 1
	})
	assert.Equal(t, 7, o.number(`SELECT retry_times FROM deliveries`))
	require.NoError(t, o.mail.Behave(gate.Behaviour{Mode: gate.Accept}))
	o.exec(`UPDATE deliveries SET ready_at = now()`)
	o.exec(`SELECT pg_notify('ironbell', 'deliveries ')`)
	assert.Equal(t, job.RunDone, o.ended(run.ID).State)
	total := time.Duration(0)
	for n := 1; n <= job.DefaultPatience.Times; n++ {
		total += time.Duration(float64(job.DefaultPatience.Wait) * float64(int(1)<<(n-1)))
	}
	assert.InDelta(t, 4, total.Hours(), 0.1)
}

// A mailbox for bounces that cannot be read is told to administrators.
func TestAMailboxThatCannotBeRead(t *testing.T) {
	o := open(t)
	e := o.engine(nil)
	port := freeNowhere(t)
	o.exec(fmt.Sprintf(`INSERT INTO settings (key, value) VALUES ('bounces', '{"host": "127.0.0.1", "port": %d, "user": "x", "every": "100ms"}')`, port))
	for range 3 {
		_, err := e.Upkeep.Bounces(o.ctx)
		require.NoError(t, err)
		o.exec(`UPDATE turns SET due = now() - interval '1 second'`)
	}
	assert.Equal(t, 1, o.number(`SELECT count(*) FROM alerts WHERE cause = 'mailbox' AND state = 'open'`))
}

// freeNowhere is a port at which nobody listens.
func freeNowhere(t *testing.T) int {
	t.Helper()
	l, err := (&net.ListenConfig{}).Listen(t.Context(), "tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer func() { _ = l.Close() }()
	return l.Addr().(*net.TCPAddr).Port
}

// A mailbox that hangs does not keep the sign of life back: whoever watches would think
// that all is dead.
func TestAMailboxThatHangsKeepsNoSignOfLifeBack(t *testing.T) {
	o := open(t)
	port, asked := silent(t)
	var beats atomic.Int64
	watch := httptest.NewServer(http.HandlerFunc(func(http.ResponseWriter, *http.Request) { beats.Add(1) }))
	t.Cleanup(watch.Close)
	e := o.engine(nil, func(p *engine.Options) { p.Guard = outgoing.New([]string{watch.Listener.Addr().String()}) })
	o.exec(fmt.Sprintf(`INSERT INTO settings (key, value) VALUES ('bounces', '{"host": "127.0.0.1", "port": %d, "user": "x", "security": "none", "every": "100ms"}'), ('heartbeat', '{"url": %q, "every": "100ms"}')`, port, watch.URL))
	o.run(e)
	o.until("the mailbox hangs", func() bool { return asked.Load() > 0 })
	before := beats.Load()
	o.until("signs of life go on", func() bool { return beats.Load() > before+3 })
	assert.EqualValues(t, 1, asked.Load(), "it still hangs")
}

// silent is the port of a server that takes every line and says nothing, with how many it
// has taken.
func silent(t *testing.T) (port int, taken *atomic.Int64) {
	t.Helper()
	l, err := (&net.ListenConfig{}).Listen(t.Context(), "tcp", "127.0.0.1:0")
	require.NoError(t, err)
	t.Cleanup(func() { _ = l.Close() })
	taken = &atomic.Int64{}
	go func() {
		for {
			line, err := l.Accept()
			if err != nil {
				return
			}
			defer func() { _ = line.Close() }()
			taken.Add(1)
		}
	}()
	return l.Addr().(*net.TCPAddr).Port, taken
}

// Destinations that hang when they are looked at hold up no other.
func TestADestinationThatHangsHoldsUpNoOther(t *testing.T) {
	o := open(t)
	var asked []*atomic.Int64
	for n := range probe.AsksAtOnce - 1 {
		port, taken := silent(t)
		asked = append(asked, taken)
		o.place(fmt.Sprintf("hung %d", n), "smtp", deliver.MailSettings{Host: "127.0.0.1", Port: port, From: "bell@tarnwick.example", Security: "none"})
	}
	o.exec(`UPDATE destinations SET rests_since = now() - interval '1 hour', probe_at = CASE WHEN name LIKE 'hung%' THEN now() - interval '1 hour' ELSE now() END`)
	o.run(o.engine(nil))
	o.until("the one that works is used again", func() bool { return o.number(`SELECT count(*) FROM destinations WHERE rests_since IS NULL`) > 0 })
	assert.Equal(t, probe.AsksAtOnce-1, o.number(`SELECT count(*) FROM destinations WHERE name LIKE 'hung%' AND rests_since IS NOT NULL`))
	o.until("the others were asked", func() bool {
		return !slices.ContainsFunc(asked, func(n *atomic.Int64) bool { return n.Load() == 0 })
	})
}
