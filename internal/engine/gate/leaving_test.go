package gate_test

import (
	"sync/atomic"
	"testing"
	"time"

	"ironbell/internal/core/job"
	"ironbell/internal/engine"
	"ironbell/internal/engine/crash"
	"ironbell/internal/engine/enginetest"
	"ironbell/internal/service"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestASecondPersonsWordHolds(t *testing.T) {
	o := enginetest.Open(t)
	e := o.Engine(nil)
	o.Only()
	o.Save(e, "Board", job.Definition{
		SecondOwner: "joren",
		Tasks: []job.Task{
			enginetest.Strained("file", "file"),
			enginetest.Mailed("a@tarnwick.example", enginetest.Stranger),
		},
	})
	o.Run(e)
	run := o.Ring(e, "Board", service.Ask{})
	id := o.Asked(run.ID)
	assert.Contains(t, o.Text(`SELECT reason FROM runs WHERE id = $1`, run.ID), "waits for a second person's yes")

	// Whoever had a hand in it may not say yes: the owner, who also rang; the second
	// owner; who gave the job away; and whoever saved it.
	may := func(p job.Person, want string) {
		t.Helper()
		_, err := e.Deliveries.Allow(o.Ctx, p, id, service.Consent{Yes: true})
		assert.ErrorContains(t, err, want)
	}
	may(o.Mara, "may not say yes here")
	may(o.Joren, "is the job's second owner")
	j, err := o.Store.Job(o.Ctx, "Board")
	require.NoError(t, err)
	_, err = e.Jobs.Save(o.Ctx, o.Mara, "Board", "sefa", true, job.Definition{Zone: j.Zone, Tasks: j.Tasks})
	require.NoError(t, err)
	may(o.Mara, "may not say yes here, since this person")
	may(o.Sefa, "may not say yes here")
	ivo := o.Person("ivo", "Ivo Brandt", job.RoleAdministrator)
	_, err = e.Deliveries.Allow(o.Ctx, ivo, id, service.Consent{})
	require.NoError(t, err)
	run = o.Ended(run.ID)
	assert.Equal(t, job.RunPartly, run.State)
	assert.Equal(t, "1 of 2 not delivered; declined by a second person: "+enginetest.Stranger, run.Reason)
	assert.Equal(t, 1, o.Number(`SELECT count(*) FROM deliveries WHERE state = 'declined'`))
	assert.Zero(t, o.Number(`SELECT count(*) FROM alerts WHERE kind = 'consent wanted' AND state <> 'closed'`))

	// A no is not undone by going on, by resending all, or by resending one: each asks again.
	_, err = e.Runs.Again(o.Ctx, o.Sefa, run.ID, service.More{})
	assert.ErrorContains(t, err, "nothing in it failed or was held")
	for _, again := range []func() error{
		func() error { _, err := e.Runs.ResendFailed(o.Ctx, o.Sefa, run.ID); return err },
		func() error { _, err := e.Deliveries.Settle(o.Ctx, o.Sefa, id, service.VerdictResend); return err },
	} {
		require.NoError(t, again())
		id = o.Asked(run.ID)
		_, err = e.Deliveries.Allow(o.Ctx, ivo, id, service.Consent{})
		require.NoError(t, err)
		o.Ended(run.ID)
	}
	assert.Empty(t, o.Received(enginetest.Stranger))

	// A yes is for these bytes: sending them again needs none, another run does.
	_, err = e.Runs.ResendFailed(o.Ctx, o.Sefa, run.ID)
	require.NoError(t, err)
	_, err = e.Deliveries.Allow(o.Ctx, ivo, o.Asked(run.ID), service.Consent{Yes: true})
	require.NoError(t, err)
	assert.Equal(t, job.RunDone, o.Ended(run.ID).State)
	assert.Len(t, o.Received(enginetest.Stranger), 1)
	second, err := e.Runs.Ring(o.Ctx, o.Sefa, "Board", service.Ask{})
	require.NoError(t, err)
	id = o.Asked(second[0].ID)

	// With a date it is for all that goes there until then, or until the job is saved.
	_, err = e.Deliveries.Allow(o.Ctx, ivo, id, service.Consent{Yes: true, Until: time.Now().AddDate(2, 0, 0)})
	assert.ErrorContains(t, err, "within a year")
	_, err = e.Deliveries.Allow(o.Ctx, ivo, id, service.Consent{Yes: true, Until: time.Now().AddDate(0, 1, 0)})
	require.NoError(t, err)
	o.Ended(second[0].ID)
	third, err := e.Runs.Ring(o.Ctx, o.Sefa, "Board", service.Ask{})
	require.NoError(t, err)
	assert.Equal(t, job.RunDone, o.Ended(third[0].ID).State)
	_, err = e.Jobs.Save(o.Ctx, o.Sefa, "Board", "sefa", true, job.Definition{Zone: j.Zone, Tasks: j.Tasks})
	require.NoError(t, err)
	fourth, err := e.Runs.Ring(o.Ctx, o.Sefa, "Board", service.Ask{})
	require.NoError(t, err)
	o.Asked(fourth[0].ID)
	assert.Len(t, o.Received(enginetest.Stranger), 3)
}

// Nobody is left waiting: those who may say yes are told, by one mail for many, and at
// the end of the second open day it fails.
func TestAQuestionIsToldAndEnds(t *testing.T) {
	o := enginetest.Open(t)
	friday := enginetest.ClockAt(enginetest.London(11, 27, 10, 0))
	e := o.Engine(friday)
	o.Only()
	o.Person("joren", "Joren Tak", job.RoleAdministrator)
	o.Save(e, "Board",
		job.Definition{Tasks: []job.Task{
			enginetest.Strained("file", "file"),
			enginetest.Mailed(enginetest.Stranger, "two@else.test", "three@else.test"),
		}})
	o.Run(e)
	run := o.Ring(e, "Board", service.Ask{})
	o.Asked(run.ID)
	o.Until("the administrator is told", func() bool { return len(o.Received("sefa@tarnwick.example")) == 1 })
	assert.Equal(t, []string{"Your yes is wanted: Board"}, o.Received("sefa@tarnwick.example"))
	assert.Empty(t, o.Received("mara@tarnwick.example"), "the owner may not say yes")
	o.Until("both are named as told", func() bool {
		told := o.Text(`SELECT told FROM alerts WHERE kind = 'consent wanted'`)
		return told == "told sefa@tarnwick.example, joren@tarnwick.example" ||
			told == "told joren@tarnwick.example, sefa@tarnwick.example"
	})
	assert.Equal(t, "2026-12-01 23:59:59",
		o.Text(`SELECT to_char(max(yes_until) AT TIME ZONE 'Europe/London', 'YYYY-MM-DD HH24:MI:SS') FROM deliveries`),
		"Tuesday: Saturday and Sunday are closed")
	o.Exec(`UPDATE deliveries SET yes_until = now() - interval '1 second' WHERE kept_back = 'yes'`)
	run = o.Ended(run.ID)
	assert.Equal(t, job.RunFailed, run.State)
	assert.Equal(t, 1,
		o.Number(`SELECT count(*) FROM alerts WHERE kind = 'delivery failed' AND state = 'open' AND happened ILIKE '%nobody said yes in time%'`))
	assert.Equal(t, 1, o.Number(`SELECT count(*) FROM alerts WHERE kind = 'consent wanted' AND state = 'closed'`))
}

// The gate is asked when something is handed over, whatever was true before.
func TestTheGateIsAskedAtTheLastMoment(t *testing.T) {
	for name, point := range map[string]string{
		"once it was claimed": crash.Send, "after the message was composed": crash.Task,
	} {
		t.Run(name, func(t *testing.T) {
			o := enginetest.Open(t)
			var done atomic.Bool
			e := o.Engine(nil, func(p *engine.Options) {
				p.At = func(at string) {
					if at == point && done.CompareAndSwap(false, true) {
						o.Exec(`INSERT INTO settings (key, value) VALUES ('mail', '{"sending": "none"}') ON CONFLICT (key) DO UPDATE SET value = excluded.value`)
						o.Exec(`UPDATE gate_state SET no = no + 1`)
					}
				}
			})
			o.Save(e, "Board",
				job.Definition{Tasks: []job.Task{
					enginetest.Strained("file", "file"),
					enginetest.Mailed("a@tarnwick.example"),
				}})
			run := o.Ring(e, "Board", service.Ask{})
			o.Run(e)
			o.Until("it is kept back",
				func() bool { return o.Number(`SELECT count(*) FROM deliveries WHERE kept_back = 'silent'`) == 1 })
			assert.Empty(t, o.Received("a@tarnwick.example"))
			// All mail to one address: what waited goes there now, and says for whom it was.
			require.NoError(t,
				e.Settings.SaveMail(o.Ctx, o.Sefa, job.MailSettings{
					Sending: job.SendOne, OnlyTo: "desk@tarnwick.example",
				}))
			_, err := e.Deliveries.ReleaseSilent(o.Ctx, o.Sefa, true)
			require.NoError(t, err)
			assert.Equal(t, job.RunDone, o.Ended(run.ID).State)
			assert.Len(t, o.Received("desk@tarnwick.example"), 1)
			assert.Equal(t, "a@tarnwick.example", o.Text(`SELECT meant_for FROM deliveries`))
		})
	}
}

// A rehearsal leaves by the same gate.
func TestARehearsalGoesThroughTheGate(t *testing.T) {
	o := enginetest.Open(t)
	e := o.Engine(nil)
	o.Save(e, "Board",
		job.Definition{Tasks: []job.Task{enginetest.Strained("file", "file"), enginetest.Mailed("a@tarnwick.example")}})
	o.Exec(`UPDATE people SET mail = 'mara@else.test' WHERE login = 'mara'`)
	o.Mara.Mail = "mara@else.test"
	o.Only()
	o.Run(e)
	run := o.Ring(e, "Board", service.Ask{Rehearse: true})
	id := o.Asked(run.ID)
	_, err := e.Deliveries.Allow(o.Ctx, o.Mara, id, service.Consent{Yes: true})
	assert.Error(t, err, "not by the one who rehearses")
	require.NoError(t, o.Store.PutSetting(o.Ctx, "mail", job.MailSettings{Sending: job.SendNone}))
	run = o.Ring(e, "Board", service.Ask{Rehearse: true})
	o.Until("it is kept back", func() bool {
		return o.Number(`SELECT count(*) FROM deliveries WHERE run_id = $1 AND kept_back = 'silent'`, run.ID) == 1
	})
	assert.Empty(t, o.Received("mara@else.test"))
}

// Who may change where mail goes is bound as well.
func TestNobodyWidensTheGateAlone(t *testing.T) {
	o := enginetest.Open(t)
	e := o.Engine(nil)
	require.NoError(t, e.Settings.SaveMail(o.Ctx, o.Sefa, job.MailSettings{Domains: []string{"tarnwick.example"}}))
	domains := func() []string {
		s, err := o.Store.MailSettings(o.Ctx)
		require.NoError(t, err)
		return s.Domains
	}
	wide := job.MailSettings{Domains: []string{"tarnwick.example", "else.test"}}
	require.NoError(t, e.Settings.SaveMail(o.Ctx, o.Sefa, wide), "there is one administrator only")
	assert.Len(t, domains(), 2)
	require.NoError(t, e.Settings.SaveMail(o.Ctx, o.Sefa, job.MailSettings{Domains: []string{"tarnwick.example"}}))
	ivo := o.Person("ivo", "Ivo Brandt", job.RoleAdministrator)
	for _, wider := range []job.MailSettings{wide, {}} {
		require.NoError(t, e.Settings.SaveMail(o.Ctx, o.Sefa, wider))
		require.NoError(t, e.Settings.SaveMail(o.Ctx, o.Sefa, wider))
		assert.Equal(t, []string{"tarnwick.example"}, domains(), "it waits for a second one")
	}
	assert.Equal(t, 1, o.Number(`SELECT count(*) FROM alerts WHERE kind = 'consent wanted' AND state = 'open'`))
	require.NoError(t, e.Settings.SaveMail(o.Ctx, ivo, wide))
	assert.Equal(t, []string{"tarnwick.example"}, domains(), "another list is another wish")
	require.NoError(t, e.Settings.SaveMail(o.Ctx, o.Sefa, wide))
	assert.Len(t, domains(), 2, "two want the same")

	// One's own address outside the house waits for an administrator.
	own := "mara@private.test"
	p, err := e.People.SaveWishes(o.Ctx, o.Mara, "mara", job.OwnSettings{Mail: &own})
	require.NoError(t, err)
	assert.Equal(t, "mara@tarnwick.example", p.Mail)
	assert.Equal(t, own, p.Wishes.MailWanted)
	p, err = e.People.SaveWishes(o.Ctx, o.Sefa, "mara", job.OwnSettings{Mail: &own})
	require.NoError(t, err)
	assert.Equal(t, own, p.Mail)
	assert.Empty(t, p.Wishes.MailWanted)
	_, err = e.People.SaveWishes(o.Ctx, o.Sefa, "sefa", job.OwnSettings{Mail: &own})
	require.NoError(t, err)
	assert.Equal(t, "sefa@tarnwick.example", o.Text(`SELECT mail FROM people WHERE login = 'sefa'`),
		"an administrator asks another one")
	assert.Equal(t, 1, o.Number(`SELECT count(*) FROM alerts WHERE cause = 'mail:sefa' AND state = 'open'`))
	assert.Equal(t, 1, o.Number(`SELECT count(*) FROM alerts WHERE cause = 'mail:mara' AND state = 'closed'`))
}
