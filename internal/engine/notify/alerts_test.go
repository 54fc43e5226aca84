package notify_test

import (
	"strings"
	"testing"
	"time"

	"ironbell/internal/core/job"
	"ironbell/internal/engine/enginetest"
	"ironbell/internal/service"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// One person's quiet hours hold up nobody else, and they are told at their end.
func TestQuietHoursOfOneHoldUpNobodyElse(t *testing.T) {
	o := enginetest.Open(t)
	with, calls := o.Pager()
	o.Soon(func(s *job.AlertSettings) { s.Call = "pager" })
	o.Sleeps("joren")
	e := o.Engine(nil, with)
	o.Save(e, "Board", job.Definition{SecondOwner: "joren", Tasks: []job.Task{enginetest.Strained("look", "lasting")}})
	o.Ring(e, "Board", service.Ask{})
	o.Run(e)
	o.Until("owner and administrators are told", func() bool {
		return len(o.Received("mara@tarnwick.example")) == 1 && len(o.Received("sefa@tarnwick.example")) == 1
	})
	assert.Empty(t, o.Received("joren@tarnwick.example"))
	assert.Equal(t, 1,
		o.Number(`SELECT count(*) FROM deliveries WHERE address = 'joren@tarnwick.example' AND state = 'waiting' AND ready_at > now() + interval '1 hour'`))
	o.Until("the call waits", func() bool {
		return o.Number(`SELECT count(*) FROM alerts WHERE told LIKE 'the call waits for the end of quiet hours%' AND tell_at > now() + interval '1 hour'`) == 1
	})
	assert.Empty(t, calls())
	// Taken on meanwhile, the mail to who sleeps is not needed any more.
	id := int64(o.Number(`SELECT id FROM alerts`))
	_, err := e.Alerts.Acknowledge(o.Ctx, o.Mara, id, false)
	require.NoError(t, err)
	o.Exec(`UPDATE deliveries SET ready_at = now() WHERE address = 'joren@tarnwick.example'`)
	o.Exec(`SELECT pg_notify('ironbell', 'deliveries ')`)
	o.Until("it ends", func() bool {
		return o.Number(`SELECT count(*) FROM deliveries WHERE address = 'joren@tarnwick.example' AND state = 'failed' AND answer LIKE 'not needed any more%'`) == 1
	})
	assert.Empty(t, o.Received("joren@tarnwick.example"))

	// What is urgent wakes everybody, and each call is one of its own.
	o.Save(e, "Urgent", job.Definition{
		Urgent: true, SecondOwner: "joren", Tasks: []job.Task{enginetest.Strained("look", "lasting")},
	})
	o.Ring(e, "Urgent", service.Ask{})
	o.Until("it calls", func() bool { return len(calls()) == 1 })
	o.Until("who sleeps is told, too", func() bool { return len(o.Received("joren@tarnwick.example")) == 1 })
	o.Exec(`UPDATE alerts SET tell_at = now(), step = 3 WHERE job_name = 'Urgent'`)
	o.Exec(`SELECT pg_notify('ironbell', 'alerts ')`)
	o.Until("it calls again", func() bool { return len(calls()) == 2 })
	first, second := strings.Fields(calls()[0])[0], strings.Fields(calls()[1])[0]
	assert.NotEqual(t, first, second)
	assert.Contains(t, calls()[0], `"link":"http://bell.tarnwick.example/alerts/`)
}

// Owners who want it hear of success, once; who is away is stood in for, but never in
// what they alone may say.
func TestOfSuccessAndStandIns(t *testing.T) {
	o := enginetest.Open(t)
	e := o.Engine(nil)
	o.Save(e, "Told", job.Definition{
		AlertOn: []string{"success"}, Tasks: []job.Task{enginetest.Strained("look", "ok")},
	})
	o.Save(e, "Silent", job.Definition{Tasks: []job.Task{enginetest.Strained("look", "ok")}})
	o.Run(e)
	run := o.Ended(o.Ring(e, "Told", service.Ask{}).ID)
	o.Ended(o.Ring(e, "Silent", service.Ask{}).ID)
	o.Until("she is told", func() bool { return len(o.Received("mara@tarnwick.example")) == 1 })
	assert.Equal(t, []string{"Done: Told"}, o.Received("mara@tarnwick.example"))
	assert.Equal(t, 1, o.Number(`SELECT count(*) FROM run_notes WHERE told_at IS NOT NULL AND run_id = $1`, run.ID))
	assert.Zero(t, o.Number(`SELECT count(*) FROM alerts`))

	from, until := time.Now().Add(-time.Hour), time.Now().Add(time.Hour)
	o.Mara.Wishes = job.Wishes{PausedFrom: &from, PausedUntil: &until, StandIn: "joren", TellSuccess: true}
	require.NoError(t, o.Store.PutWishes(o.Ctx, o.Mara, nil))
	o.Exec(`SELECT pg_notify('ironbell', 'jobs ')`)
	o.Save(e, "Fails", job.Definition{Tasks: []job.Task{enginetest.Strained("look", "lasting")}})
	o.Ended(o.Ring(e, "Fails", service.Ask{}).ID)
	o.Until("who stands in is told", func() bool { return len(o.Received("joren@tarnwick.example")) == 1 })
	assert.Equal(t, []string{"Failed: Fails"}, o.Received("joren@tarnwick.example"))
	assert.Len(t, o.Received("mara@tarnwick.example"), 1)
	o.Ended(o.Ring(e, "Silent", service.Ask{}).ID)
	o.Until("and of success", func() bool { return len(o.Received("joren@tarnwick.example")) == 2 })
	later := time.Now().Add(30 * time.Minute)
	assert.False(t, job.Wishes{PausedFrom: &later, PausedUntil: &until}.Away(time.Now()), "not before it begins")
}

// One person to whom no mail can be made, and one alert that cannot be told, hold up
// nobody else.
func TestWhatCannotBeToldHoldsUpNobodyElse(t *testing.T) {
	o := enginetest.Open(t)
	o.Soon(func(*job.AlertSettings) {})
	bad := o.Person("abel", "Abel Mour", job.RoleAdministrator)
	o.Exec(`UPDATE people SET mail = 'no address at all' WHERE id = $1`, bad.ID)
	e := o.Engine(nil)
	for _, name := range []string{"First", "Poison", "Last"} {
		o.Save(e, name, job.Definition{Tasks: []job.Task{enginetest.Strained("look", "lasting")}})
	}
	o.Exec(`CREATE FUNCTION refuse() RETURNS trigger LANGUAGE plpgsql AS 'BEGIN RAISE EXCEPTION ''this cannot be written''; END'`)
	o.Exec(`CREATE TRIGGER refuse BEFORE INSERT ON messages FOR EACH ROW WHEN (NEW.subject LIKE '%Poison%') EXECUTE FUNCTION refuse()`)
	for _, name := range []string{"First", "Poison", "Last"} {
		o.Ring(e, name, service.Ask{})
	}
	o.Run(e)
	o.Until("the owner and the administrators are told of the others", func() bool {
		return len(o.Received("mara@tarnwick.example")) == 2 && len(o.Received("sefa@tarnwick.example")) == 2
	})
	o.Until("what cannot be told says so, and is tried again", func() bool {
		return o.Number(`SELECT count(*) FROM alerts WHERE unreached AND told LIKE 'cannot be told: %this cannot be written%' AND tell_at > now()`) == 1
	})
	o.Exec(`DROP TRIGGER refuse ON messages`)
	o.Until("it is told then", func() bool { return len(o.Received("mara@tarnwick.example")) == 3 })
	o.Until("and that is noted", func() bool { return o.Number(`SELECT count(*) FROM alerts WHERE unreached`) == 0 })
}
