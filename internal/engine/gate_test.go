package engine_test

import (
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"ironbell/internal/core/job"
	"ironbell/internal/engine"
	"ironbell/internal/engine/crash"
	"ironbell/internal/service"
)

const stranger = "desk@else.test"

// only lets mail go to the company's own domain.
func (o *office) only() {
	o.t.Helper()
	require.NoError(o.t, o.store.PutSetting(o.ctx, "mail", job.MailSettings{Domains: []string{"tarnwick.example"}}))
}

// asked waits until a delivery of a run waits for a yes, and gives it.
func (o *office) asked(id job.RunID) int64 {
	o.t.Helper()
	o.until("a yes is asked for", func() bool {
		return o.number(`SELECT count(*) FROM deliveries WHERE run_id = $1 AND state = 'waiting' AND kept_back = 'yes'`, id) > 0
	})
	return int64(o.number(`SELECT min(id) FROM deliveries WHERE run_id = $1 AND kept_back = 'yes'`, id))
}

func TestASecondPersonsWordHolds(t *testing.T) {
	o := open(t)
	e := o.engine(nil)
	o.only()
	o.save(e, "Board", job.Definition{SecondOwner: "joren", Tasks: []job.Task{strained("file", "file"), mailed("a@tarnwick.example", stranger)}})
	o.run(e)
	run := o.ring(e, "Board", service.Ask{})
	id := o.asked(run.ID)
	assert.Contains(t, o.text(`SELECT reason FROM runs WHERE id = $1`, run.ID), "waits for a second person's yes")

	// Whoever had a hand in it may not say yes: the owner, who also rang; the second
	// owner; who gave the job away; and whoever saved it.
	may := func(p job.Person, want string) {
		t.Helper()
		_, err := e.Deliveries.Allow(o.ctx, p, id, service.Consent{Yes: true})
		assert.ErrorContains(t, err, want)
	}
	may(o.mara, "may not say yes here")
	may(o.joren, "is the job's second owner")
	j, err := o.store.Job(o.ctx, "Board")
	require.NoError(t, err)
	_, err = e.Jobs.Save(o.ctx, o.mara, "Board", "sefa", true, job.Definition{Zone: j.Zone, Tasks: j.Tasks})
	require.NoError(t, err)
	may(o.mara, "may not say yes here, since this person")
	may(o.sefa, "may not say yes here")
	ivo := o.person("ivo", "Ivo Brandt", job.RoleAdministrator)
	_, err = e.Deliveries.Allow(o.ctx, ivo, id, service.Consent{})
	require.NoError(t, err)
	run = o.ended(run.ID)
	assert.Equal(t, job.RunPartly, run.State)
	assert.Equal(t, "1 of 2 not delivered; declined by a second person: "+stranger, run.Reason)
	assert.Equal(t, 1, o.number(`SELECT count(*) FROM deliveries WHERE state = 'declined'`))
	assert.Zero(t, o.number(`SELECT count(*) FROM alerts WHERE kind = 'consent wanted' AND state <> 'closed'`))

	// A no is not undone by going on, by resending all, or by resending one: each asks again.
	_, err = e.Runs.Again(o.ctx, o.sefa, run.ID, service.More{})
	assert.ErrorContains(t, err, "nothing in it failed or was held")
	for _, again := range []func() error{
		func() error { _, err := e.Runs.ResendFailed(o.ctx, o.sefa, run.ID); return err },
		func() error { _, err := e.Deliveries.Settle(o.ctx, o.sefa, id, service.VerdictResend); return err },
	} {
		require.NoError(t, again())
		id = o.asked(run.ID)
		_, err = e.Deliveries.Allow(o.ctx, ivo, id, service.Consent{})
		require.NoError(t, err)
		o.ended(run.ID)
	}
	assert.Empty(t, o.received(stranger))

	// A yes is for these bytes: sending them again needs none, another run does.
	_, err = e.Runs.ResendFailed(o.ctx, o.sefa, run.ID)
	require.NoError(t, err)
	_, err = e.Deliveries.Allow(o.ctx, ivo, o.asked(run.ID), service.Consent{Yes: true})
	require.NoError(t, err)
	assert.Equal(t, job.RunDone, o.ended(run.ID).State)
	assert.Len(t, o.received(stranger), 1)
	second, err := e.Runs.Ring(o.ctx, o.sefa, "Board", service.Ask{})
	require.NoError(t, err)
	id = o.asked(second[0].ID)

	// With a date it is for all that goes there until then, or until the job is saved.
	_, err = e.Deliveries.Allow(o.ctx, ivo, id, service.Consent{Yes: true, Until: time.Now().AddDate(2, 0, 0)})
	assert.ErrorContains(t, err, "within a year")
	_, err = e.Deliveries.Allow(o.ctx, ivo, id, service.Consent{Yes: true, Until: time.Now().AddDate(0, 1, 0)})
	require.NoError(t, err)
	o.ended(second[0].ID)
	third, err := e.Runs.Ring(o.ctx, o.sefa, "Board", service.Ask{})
	require.NoError(t, err)
	assert.Equal(t, job.RunDone, o.ended(third[0].ID).State)
	_, err = e.Jobs.Save(o.ctx, o.sefa, "Board", "sefa", true, job.Definition{Zone: j.Zone, Tasks: j.Tasks})
	require.NoError(t, err)
	fourth, err := e.Runs.Ring(o.ctx, o.sefa, "Board", service.Ask{})
	require.NoError(t, err)
	o.asked(fourth[0].ID)
	assert.Len(t, o.received(stranger), 3)
}

// Nobody is left waiting: those who may say yes are told, by one mail for many, and at
// the end of the second open day it fails.
func TestAQuestionIsToldAndEnds(t *testing.T) {
	o := open(t)
	friday := clockAt(london(11, 27, 10, 0))
	e := o.engine(friday)
	o.only()
	o.person("joren", "Joren Tak", job.RoleAdministrator)
	o.save(e, "Board", job.Definition{Tasks: []job.Task{strained("file", "file"), mailed(stranger, "two@else.test", "three@else.test")}})
	o.run(e)
	run := o.ring(e, "Board", service.Ask{})
	o.asked(run.ID)
	o.until("the administrator is told", func() bool { return len(o.received("sefa@tarnwick.example")) == 1 })
	assert.Equal(t, []string{"Your yes is wanted: Board"}, o.received("sefa@tarnwick.example"))
	assert.Empty(t, o.received("mara@tarnwick.example"), "the owner may not say yes")
	o.until("both are named as told", func() bool {
		told := o.text(`SELECT told FROM alerts WHERE kind = 'consent wanted'`)
		return told == "told sefa@tarnwick.example, joren@tarnwick.example" || told == "told joren@tarnwick.example, sefa@tarnwick.example"
	})
	assert.Equal(t, "2026-12-01 23:59:59", o.text(`SELECT to_char(max(yes_until) AT TIME ZONE 'Europe/London', 'YYYY-MM-DD HH24:MI:SS') FROM deliveries`), "Tuesday: Saturday and Sunday are closed")
	o.exec(`UPDATE deliveries SET yes_until = now() - interval '1 second' WHERE kept_back = 'yes'`)
	run = o.ended(run.ID)
	assert.Equal(t, job.RunFailed, run.State)
	assert.Equal(t, 1, o.number(`SELECT count(*) FROM alerts WHERE kind = 'delivery failed' AND state = 'open' AND happened ILIKE '%nobody said yes in time%'`))
	assert.Equal(t, 1, o.number(`SELECT count(*) FROM alerts WHERE kind = 'consent wanted' AND state = 'closed'`))
}

// The gate is asked when something is handed over, whatever was true before.
func TestTheGateIsAskedAtTheLastMoment(t *testing.T) {
	for name, point := range map[string]string{"once it was claimed": crash.Send, "after the message was composed": crash.Task} {
		t.Run(name, func(t *testing.T) {
			o := open(t)
			var done atomic.Bool
			e := o.engine(nil, func(p *engine.Options) {
				p.At = func(at string) {
					if at == point && done.CompareAndSwap(false, true) {
						o.exec(`INSERT INTO settings (key, value) VALUES ('mail', '{"sending": "none"}') ON CONFLICT (key) DO UPDATE SET value = excluded.value`)
						o.exec(`UPDATE gate_state SET no = no + 1`)
					}
				}
			})
			o.save(e, "Board", job.Definition{Tasks: []job.Task{strained("file", "file"), mailed("a@tarnwick.example")}})
			run := o.ring(e, "Board", service.Ask{})
			o.run(e)
			o.until("it is kept back", func() bool { return o.number(`SELECT count(*) FROM deliveries WHERE kept_back = 'silent'`) == 1 })
			assert.Empty(t, o.received("a@tarnwick.example"))
			// All mail to one address: what waited goes there now, and says for whom it was.
			require.NoError(t, e.Settings.SaveMail(o.ctx, o.sefa, job.MailSettings{Sending: job.SendOne, OnlyTo: "desk@tarnwick.example"}))
			_, err := e.Deliveries.ReleaseSilent(o.ctx, o.sefa, true)
			require.NoError(t, err)
			assert.Equal(t, job.RunDone, o.ended(run.ID).State)
			assert.Len(t, o.received("desk@tarnwick.example"), 1)
			assert.Equal(t, "a@tarnwick.example", o.text(`SELECT meant_for FROM deliveries`))
		})
	}
}

// A rehearsal leaves the house by the same gate.
func TestARehearsalGoesThroughTheGate(t *testing.T) {
	o := open(t)
	e := o.engine(nil)
	o.save(e, "Board", job.Definition{Tasks: []job.Task{strained("file", "file"), mailed("a@tarnwick.example")}})
	o.exec(`UPDATE people SET mail = 'mara@else.test' WHERE login = 'mara'`)
	o.mara.Mail = "mara@else.test"
	o.only()
	o.run(e)
	run := o.ring(e, "Board", service.Ask{Rehearse: true})
	id := o.asked(run.ID)
	_, err := e.Deliveries.Allow(o.ctx, o.mara, id, service.Consent{Yes: true})
	assert.Error(t, err, "not by the one who rehearses")
	require.NoError(t, o.store.PutSetting(o.ctx, "mail", job.MailSettings{Sending: job.SendNone}))
	run = o.ring(e, "Board", service.Ask{Rehearse: true})
	o.until("it is kept back", func() bool {
		return o.number(`SELECT count(*) FROM deliveries WHERE run_id = $1 AND kept_back = 'silent'`, run.ID) == 1
	})
	assert.Empty(t, o.received("mara@else.test"))
}

// Who may change where mail goes is bound as well.
func TestNobodyWidensTheGateAlone(t *testing.T) {
	o := open(t)
	e := o.engine(nil)
	require.NoError(t, e.Settings.SaveMail(o.ctx, o.sefa, job.MailSettings{Domains: []string{"tarnwick.example"}}))
	domains := func() []string {
		s, err := o.store.MailSettings(o.ctx)
		require.NoError(t, err)
		return s.Domains
	}
	wide := job.MailSettings{Domains: []string{"tarnwick.example", "else.test"}}
	require.NoError(t, e.Settings.SaveMail(o.ctx, o.sefa, wide), "there is one administrator only")
	assert.Len(t, domains(), 2)
	require.NoError(t, e.Settings.SaveMail(o.ctx, o.sefa, job.MailSettings{Domains: []string{"tarnwick.example"}}))
	ivo := o.person("ivo", "Ivo Brandt", job.RoleAdministrator)
	for _, wider := range []job.MailSettings{wide, {}} {
		require.NoError(t, e.Settings.SaveMail(o.ctx, o.sefa, wider))
		require.NoError(t, e.Settings.SaveMail(o.ctx, o.sefa, wider))
		assert.Equal(t, []string{"tarnwick.example"}, domains(), "it waits for a second one")
	}
	assert.Equal(t, 1, o.number(`SELECT count(*) FROM alerts WHERE kind = 'consent wanted' AND state = 'open'`))
	require.NoError(t, e.Settings.SaveMail(o.ctx, ivo, wide))
	assert.Equal(t, []string{"tarnwick.example"}, domains(), "another list is another wish")
	require.NoError(t, e.Settings.SaveMail(o.ctx, o.sefa, wide))
	assert.Len(t, domains(), 2, "two want the same")

	// One's own address outside the house waits for an administrator.
	own := "mara@private.test"
	p, err := e.People.SaveWishes(o.ctx, o.mara, "mara", job.OwnSettings{Mail: &own})
	require.NoError(t, err)
	assert.Equal(t, "mara@tarnwick.example", p.Mail)
	assert.Equal(t, own, p.Wishes.MailWanted)
	p, err = e.People.SaveWishes(o.ctx, o.sefa, "mara", job.OwnSettings{Mail: &own})
	require.NoError(t, err)
	assert.Equal(t, own, p.Mail)
	assert.Empty(t, p.Wishes.MailWanted)
	_, err = e.People.SaveWishes(o.ctx, o.sefa, "sefa", job.OwnSettings{Mail: &own})
	require.NoError(t, err)
	assert.Equal(t, "sefa@tarnwick.example", o.text(`SELECT mail FROM people WHERE login = 'sefa'`), "an administrator asks another one")
	assert.Equal(t, 1, o.number(`SELECT count(*) FROM alerts WHERE cause = 'mail:sefa' AND state = 'open'`))
	assert.Equal(t, 1, o.number(`SELECT count(*) FROM alerts WHERE cause = 'mail:mara' AND state = 'closed'`))
}
