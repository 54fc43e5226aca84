package engine_test

import (
	"context"
	"errors"
	"io"
	"net/http"
	"net/http/httptest"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"ironbell/internal/core/fault"
	"ironbell/internal/core/job"
	"ironbell/internal/deliver"
	"ironbell/internal/engine"
	"ironbell/internal/outgoing"
	"ironbell/internal/service"
	"ironbell/internal/store"
	"ironbell/internal/task"
)

// soon sets how alerts go on.
func (o *office) soon(change func(*job.AlertSettings)) {
	o.t.Helper()
	s := job.AlertSettings{Destination: "company mail", Second: job.Duration(100 * time.Millisecond), Administrators: job.Duration(100 * time.Millisecond), CallAfter: job.Duration(100 * time.Millisecond), Repeat: job.Duration(time.Hour)}
	if change != nil {
		change(&s)
	}
	require.NoError(o.t, o.store.PutSetting(o.ctx, store.AlertSetting, s))
}

// sleeps lets a person be in quiet hours now.
func (o *office) sleeps(login string) {
	now := time.Now().UTC()
	o.exec(`UPDATE people SET zone = 'Etc/UTC', wishes = wishes || jsonb_build_object('quiet_from', $2::text, 'quiet_to', $3::text) WHERE login = $1`, login, now.Add(-time.Hour).Format("15:04"), now.Add(2*time.Hour).Format("15:04"))
}

// pager is a place that calls go to, and keeps them.
func (o *office) pager() (options func(*engine.Options), calls func() []string) {
	o.t.Helper()
	var mu sync.Mutex
	var ids, bodies []string
	server := httptest.NewServer(http.HandlerFunc(func(_ http.ResponseWriter, r *http.Request) {
		text, _ := io.ReadAll(r.Body)
		mu.Lock()
		defer mu.Unlock()
		ids, bodies = append(ids, r.Header.Get("Idempotency-Key")), append(bodies, string(text))
	}))
	o.t.Cleanup(server.Close)
	o.place("pager", "http", deliver.HTTPSettings{URL: server.URL})
	return func(p *engine.Options) {
			p.Guard = outgoing.New([]string{strings.TrimPrefix(server.URL, "http://")})
			p.URL = "http://bell.tarnwick.example"
		}, func() []string {
			mu.Lock()
			defer mu.Unlock()
			out := make([]string, len(ids))
			for i := range ids {
				out[i] = ids[i] + " " + bodies[i]
			}
			return out
		}
}

// One person's quiet hours hold up nobody else, and they are told at their end.
func TestQuietHoursOfOneHoldUpNobodyElse(t *testing.T) {
	o := open(t)
	with, calls := o.pager()
	o.soon(func(s *job.AlertSettings) { s.Call = "pager" })
	o.sleeps("joren")
	e := o.engine(nil, with)
	o.save(e, "Board", job.Definition{SecondOwner: "joren", Tasks: []job.Task{strained("look", "lasting")}})
	o.ring(e, "Board", service.Ask{})
	o.run(e)
	o.until("owner and administrators are told", func() bool {
		return len(o.received("mara@tarnwick.example")) == 1 && len(o.received("sefa@tarnwick.example")) == 1
	})
	assert.Empty(t, o.received("joren@tarnwick.example"))
	assert.Equal(t, 1, o.number(`SELECT count(*) FROM deliveries WHERE address = 'joren@tarnwick.example' AND state = 'waiting' AND ready_at > now() + interval '1 hour'`))
	o.until("the call waits", func() bool {
		return o.number(`SELECT count(*) FROM alerts WHERE told LIKE 'the call waits for the end of quiet hours%' AND tell_at > now() + interval '1 hour'`) == 1
	})
	assert.Empty(t, calls())
	// Taken on meanwhile, the mail to who sleeps is not needed any more.
	id := int64(o.number(`SELECT id FROM alerts`))
	_, err := e.Alerts.Acknowledge(o.ctx, o.mara, id, false)
	require.NoError(t, err)
	o.exec(`UPDATE deliveries SET ready_at = now() WHERE address = 'joren@tarnwick.example'`)
	o.exec(`SELECT pg_notify('ironbell', 'deliveries ')`)
	o.until("it ends", func() bool {
		return o.number(`SELECT count(*) FROM deliveries WHERE address = 'joren@tarnwick.example' AND state = 'failed' AND answer LIKE 'not needed any more%'`) == 1
	})
	assert.Empty(t, o.received("joren@tarnwick.example"))

	// What is urgent wakes everybody, and each call is one of its own.
	o.save(e, "Urgent", job.Definition{Urgent: true, SecondOwner: "joren", Tasks: []job.Task{strained("look", "lasting")}})
	o.ring(e, "Urgent", service.Ask{})
	o.until("it calls", func() bool { return len(calls()) == 1 })
	o.until("who sleeps is told, too", func() bool { return len(o.received("joren@tarnwick.example")) == 1 })
	o.exec(`UPDATE alerts SET tell_at = now(), step = 3 WHERE job_name = 'Urgent'`)
	o.exec(`SELECT pg_notify('ironbell', 'alerts ')`)
	o.until("it calls again", func() bool { return len(calls()) == 2 })
	first, second := strings.Fields(calls()[0])[0], strings.Fields(calls()[1])[0]
	assert.NotEqual(t, first, second)
	assert.Contains(t, calls()[0], `"link":"http://bell.tarnwick.example/alerts/`)
}

// An alert closes when each of its runs was put right, by whatever puts it right.
func TestAnAlertClosesWhenAllItsRunsAreMended(t *testing.T) {
	o := open(t)
	e := o.engine(nil)
	broken := true
	o.strain.mean("sometimes", func(context.Context, task.Work) (task.Result, error) {
		if broken {
			return task.Result{}, fault.New(fault.Task, "strain", "it fails for good", "")
		}
		return task.Result{}, nil
	})
	o.save(e, "Board", job.Definition{Tasks: []job.Task{strained("look", "sometimes")}})
	o.run(e)
	first, second, third := o.ended(o.ring(e, "Board", service.Ask{}).ID), o.ended(o.ring(e, "Board", service.Ask{}).ID), o.ended(o.ring(e, "Board", service.Ask{}).ID)
	open := func() int { return o.number(`SELECT count(*) FROM alerts WHERE state <> 'closed'`) }
	assert.Equal(t, 1, open(), "one cause, one alert")
	broken = false
	_, err := e.Runs.Again(o.ctx, o.mara, third.ID, service.More{})
	require.NoError(t, err)
	o.ended(third.ID)
	o.ended(o.ring(e, "Board", service.Ask{}).ID)
	assert.Equal(t, 1, open(), "the newest was mended, and the next succeeded; two were not")
	again, err := e.Runs.Again(o.ctx, o.mara, second.ID, service.More{Whole: true})
	require.NoError(t, err)
	o.ended(again.ID)
	assert.Equal(t, 1, open())
	again, err = e.Runs.Again(o.ctx, o.mara, first.ID, service.More{Whole: true})
	require.NoError(t, err)
	o.ended(again.ID)
	assert.Zero(t, open(), "one that is made again with success puts the first right")

	// A run that was cancelled is late no more.
	held := make(chan bool)
	o.strain.mean("hold", func(ctx context.Context, _ task.Work) (task.Result, error) {
		select {
		case <-held:
		case <-ctx.Done():
		}
		return task.Result{}, ctx.Err()
	})
	o.save(e, "Late", job.Definition{Tasks: []job.Task{strained("look", "hold")}, Deadline: job.Deadline{Within: job.Duration(time.Minute)}})
	run := o.ring(e, "Late", service.Ask{})
	o.exec(`UPDATE runs SET warn_at = now(), deadline = now() - interval '1 second' WHERE id = $1`, run.ID)
	require.NoError(t, e.Upkeep.Warn(o.ctx))
	o.until("it is late", func() bool { return open() == 1 }) // perhaps the node warns just now
	_, err = e.Runs.Cancel(o.ctx, o.mara, run.ID)
	require.NoError(t, err)
	assert.Zero(t, open())

	// Of two tasks that fail side by side both are named.
	o.strain.mean("other", func(context.Context, task.Work) (task.Result, error) {
		return task.Result{}, fault.New(fault.Task, "strain", "the other fails, too", "")
	})
	o.save(e, "Two", job.Definition{Tasks: []job.Task{strained("one", "lasting"), {Name: "two", Kind: job.KindFetch, Fetch: &job.FetchTask{URL: "other"}, After: []string{}}}})
	o.ended(o.ring(e, "Two", service.Ask{}).ID)
	happened := o.text(`SELECT happened FROM alerts WHERE job_name = 'Two'`)
	assert.Contains(t, happened, "it fails for good")
	assert.Contains(t, happened, "the other fails, too")
}

// A dead source is one alert for all jobs that need it; their runs wait, and go on.
func TestADeadSourceIsOneAlert(t *testing.T) {
	o := open(t)
	e := o.engine(nil)
	o.source("tarnwick")
	o.report(e, "Ports", job.ReportDefinition{Sections: section("SELECT 1 AS one")})
	for _, name := range []string{"A", "B", "C"} {
		o.save(e, name, job.Definition{Tasks: []job.Task{reported("report", "Ports")}})
	}
	settings := o.text(`SELECT settings::text FROM sources`)
	o.exec(`UPDATE sources SET settings = jsonb_set(settings, '{port}', '1'), updated_at = now() + interval '1 second'`)
	o.run(e)
	var runs []job.RunID
	for _, name := range []string{"A", "B", "C"} {
		runs = append(runs, o.ring(e, name, service.Ask{}).ID)
	}
	o.until("it rests", func() bool { return o.number(`SELECT count(*) FROM rests`) == 1 })
	o.until("all wait", func() bool { return o.number(`SELECT count(*) FROM parts WHERE state = 'waiting'`) == 3 })
	assert.Equal(t, 1, o.number(`SELECT count(*) FROM alerts`))
	assert.Contains(t, o.text(`SELECT happened FROM alerts`), `The source "tarnwick" does not work.`)
	// One waited as long as its job says.
	o.exec(`UPDATE runs SET created_at = now() - interval '25 hours' WHERE id = $1`, runs[0])
	assert.Equal(t, job.RunFailed, o.ended(runs[0]).State)
	o.exec(`UPDATE sources SET settings = $1, updated_at = now() + interval '2 seconds'`, settings)
	o.exec(`UPDATE rests SET probe_at = now()`)
	for _, id := range runs[1:] {
		assert.Equal(t, job.RunDone, o.ended(id).State)
	}
	assert.Equal(t, 1, o.number(`SELECT count(*) FROM alerts WHERE cause = 'rest:source:tarnwick' AND state = 'closed'`))

	// A refused password is tried once more, and then only after its record changes.
	o.exec(`UPDATE sources SET secret = '', updated_at = now() + interval '3 seconds'`)
	run := o.ring(e, "B", service.Ask{})
	o.until("it is left alone", func() bool { return o.number(`SELECT count(*) FROM rests WHERE probe_at IS NULL`) == 1 })
	assert.Equal(t, 2, o.number(`SELECT probes FROM rests`))
	_, err := e.Runs.Cancel(o.ctx, o.mara, run.ID)
	require.NoError(t, err)
}

// A full disk of the artifacts is one alert, and the mail about it needs no disk.
func TestAFullDiskIsOneAlert(t *testing.T) {
	o := open(t)
	e := o.engine(nil)
	full := true
	o.strain.mean("write", func(context.Context, task.Work) (task.Result, error) {
		if full {
			return task.Result{}, fault.Wrap(errors.New("no space left on device"), fault.Passing, fault.Store, "write to the store of artifacts", "Make room.")
		}
		return task.Result{}, nil
	})
	for _, name := range []string{"A", "B"} {
		o.save(e, name, job.Definition{Tasks: []job.Task{strained("file", "write")}, Retry: job.Retry{Times: 50, Wait: job.Duration(100 * time.Millisecond)}})
	}
	o.run(e)
	o.until("it works", func() bool { return o.number(`SELECT count(*) FROM nodes`) == 1 })
	require.NoError(t, e.Files.Close()) // nothing can be written or read any more
	runs := []job.RunID{o.ring(e, "A", service.Ask{}).ID, o.ring(e, "B", service.Ask{}).ID}
	o.until("the administrator is told", func() bool { return len(o.received("sefa@tarnwick.example")) == 1 })
	assert.Equal(t, []string{"Down: Store of artifacts"}, o.received("sefa@tarnwick.example"))
	assert.Equal(t, 1, o.number(`SELECT count(*) FROM alerts`))
	o.until("both wait for it", func() bool {
		return o.number(`SELECT count(*) FROM parts WHERE state = 'waiting' AND labels @> ARRAY['service']`) == 2
	})
	full = false
	require.NoError(t, e.Rests.EndRest(o.ctx, "service", "test"))
	for _, id := range runs {
		assert.Equal(t, job.RunDone, o.ended(id).State)
	}
}

// Owners who want it hear of success, once; who is away is stood in for, but never in
// what they alone may say.
func TestOfSuccessAndStandIns(t *testing.T) {
	o := open(t)
	e := o.engine(nil)
	o.save(e, "Told", job.Definition{AlertOn: []string{"success"}, Tasks: []job.Task{strained("look", "ok")}})
	o.save(e, "Silent", job.Definition{Tasks: []job.Task{strained("look", "ok")}})
	o.run(e)
	run := o.ended(o.ring(e, "Told", service.Ask{}).ID)
	o.ended(o.ring(e, "Silent", service.Ask{}).ID)
	o.until("she is told", func() bool { return len(o.received("mara@tarnwick.example")) == 1 })
	assert.Equal(t, []string{"Done: Told"}, o.received("mara@tarnwick.example"))
	assert.Equal(t, 1, o.number(`SELECT count(*) FROM run_notes WHERE told_at IS NOT NULL AND run_id = $1`, run.ID))
	assert.Zero(t, o.number(`SELECT count(*) FROM alerts`))

	from, until := time.Now().Add(-time.Hour), time.Now().Add(time.Hour)
	o.mara.Wishes = job.Wishes{PausedFrom: &from, PausedUntil: &until, StandIn: "joren", TellSuccess: true}
	require.NoError(t, o.store.PutWishes(o.ctx, o.mara, nil))
	o.exec(`SELECT pg_notify('ironbell', 'jobs ')`)
	o.save(e, "Fails", job.Definition{Tasks: []job.Task{strained("look", "lasting")}})
	o.ended(o.ring(e, "Fails", service.Ask{}).ID)
	o.until("who stands in is told", func() bool { return len(o.received("joren@tarnwick.example")) == 1 })
	assert.Equal(t, []string{"Failed: Fails"}, o.received("joren@tarnwick.example"))
	assert.Len(t, o.received("mara@tarnwick.example"), 1)
	o.ended(o.ring(e, "Silent", service.Ask{}).ID)
	o.until("and of success", func() bool { return len(o.received("joren@tarnwick.example")) == 2 })
	later := time.Now().Add(30 * time.Minute)
	assert.False(t, job.Wishes{PausedFrom: &later, PausedUntil: &until}.Away(time.Now()), "not before it begins")
}

// One person to whom no mail can be made, and one alert that cannot be told, hold up
// nobody else.
func TestWhatCannotBeToldHoldsUpNobodyElse(t *testing.T) {
	o := open(t)
	o.soon(func(*job.AlertSettings) {})
	bad := o.person("abel", "Abel Mour", job.RoleAdministrator)
	o.exec(`UPDATE people SET mail = 'no address at all' WHERE id = $1`, bad.ID)
	e := o.engine(nil)
	for _, name := range []string{"First", "Poison", "Last"} {
		o.save(e, name, job.Definition{Tasks: []job.Task{strained("look", "lasting")}})
	}
	o.exec(`CREATE FUNCTION refuse() RETURNS trigger LANGUAGE plpgsql AS 'BEGIN RAISE EXCEPTION ''this cannot be written''; END'`)
	o.exec(`CREATE TRIGGER refuse BEFORE INSERT ON messages FOR EACH ROW WHEN (NEW.subject LIKE '%Poison%') EXECUTE FUNCTION refuse()`)
	for _, name := range []string{"First", "Poison", "Last"} {
		o.ring(e, name, service.Ask{})
	}
	o.run(e)
	o.until("the owner and the administrators are told of the others", func() bool {
		return len(o.received("mara@tarnwick.example")) == 2 && len(o.received("sefa@tarnwick.example")) == 2
	})
	o.until("what cannot be told says so, and is tried again", func() bool {
		return o.number(`SELECT count(*) FROM alerts WHERE unreached AND told LIKE 'cannot be told: %this cannot be written%' AND tell_at > now()`) == 1
	})
	o.exec(`DROP TRIGGER refuse ON messages`)
	o.until("it is told then", func() bool { return len(o.received("mara@tarnwick.example")) == 3 })
	o.until("and that is noted", func() bool { return o.number(`SELECT count(*) FROM alerts WHERE unreached`) == 0 })
}
