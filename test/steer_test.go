package test

import (
	"context"
	"testing"
	"time"

	"ironbell/client"
	"ironbell/internal/api/wire"
	"ironbell/internal/core/job"
	"ironbell/test/world"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestPastDatesRunAsIfTheyHadRungThen(t *testing.T) {
	t.Parallel()
	w := world.Open(t)
	ctx := context.Background()
	w.Report("Day", "SELECT :day::date AS day", job.Parameter{Name: "day", Type: job.TypeDate, Default: "yesterday"})
	d := world.Tasks(world.ReportOf("Day"), job.Task{
		Name: "mail", Kind: job.KindDeliver,
		Deliver: &job.DeliverTask{
			Destination: "company mail", To: []string{"a@tarnwick.example"}, Subject: "{value.day}",
		},
	})
	d.Triggers = []job.Trigger{{Timing: job.Timing{Rule: "on weekdays at 06:15"}}}
	w.Job("Sheet", d)
	runs, err := w.C.Past(ctx, "Sheet", wire.PastRequest{From: "2026-10-23", To: "2026-10-26"})
	require.NoError(t, err)
	require.Len(t, runs, 2, "Friday and Monday, not the weekend")
	assert.Equal(t, "2026-10-23T05:15:00Z", runs[0].Nominal.UTC().Format(time.RFC3339), "summer time")
	assert.Equal(t, "2026-10-26T06:15:00Z", runs[1].Nominal.UTC().Format(time.RFC3339), "winter time")
	assert.Contains(t, runs[0].Why, "For Fri 23 October 2026 06:15 BST, as if it had rung then.")
	w.Until("both are mailed", func() bool { return len(w.Inbox("a@tarnwick.example")) == 2 })
	assert.Equal(t, "2026-10-25", w.Inbox("a@tarnwick.example")[0].Subject,
		"the day before the date that it stands for")
	assert.Equal(t, "2026-10-22", w.Inbox("a@tarnwick.example")[1].Subject)
	runs, err = w.C.Past(ctx, "Sheet", wire.PastRequest{From: "2026-10-24"})
	require.NoError(t, err)
	assert.Len(t, runs, 1, "one date runs, also when nothing rang on it")
	for want, r := range map[string]wire.PastRequest{
		`"2026-13-01" is no date`:       {From: "2026-13-01"},
		"is no date from 2026-10-24 on": {From: "2026-10-24", To: "2026-10-01"},
		"rang at no time from":          {From: "2026-10-24", To: "2026-10-25"},
		"more than 400 runs":            {From: "2020-01-01", To: "2026-01-01"},
		"more than ten years":           {From: "1990-01-01", To: "2026-01-01"},
	} {
		_, err := w.C.Past(ctx, "Sheet", r)
		assert.ErrorContains(t, err, want)
	}
	out, _, status := w.Ironbell("ring", "-for", "2026-10-27", "Sheet")
	assert.Zero(t, status)
	assert.Regexp(t, "for Tue 27 Oct (2026 )?06:15 GMT", out, "the year stands where it is another than this one")
}

func TestFreezesHoldBackOrPassOver(t *testing.T) {
	t.Parallel()
	w := world.Open(t)
	ctx := context.Background()
	conn := world.Connect(t, w.Db)
	w.Report("Ports", "SELECT code FROM ports")
	d := world.Tasks(world.ReportOf("Ports"), world.MailTo("a@tarnwick.example"))
	d.Tags = []string{"nightly"}
	d.Triggers = []job.Trigger{{Timing: job.Timing{Rule: "every day at 00:00"}}}
	w.Job("Board", d)
	rang := func() {
		_, err := conn.Exec(ctx, `UPDATE triggers SET next_due = bell_now()`)
		require.NoError(t, err)
		_, err = conn.Exec(ctx, `SELECT pg_notify('ironbell', 'jobs ')`)
		require.NoError(t, err)
	}
	f, err := w.C.Freeze(ctx, wire.FreezeRequest{Label: "tag:nightly", Reason: "the ledger moves"})
	require.NoError(t, err)
	rang()
	w.Until("it rang", func() bool { return len(w.RunsOf("Board")) == 1 })
	assert.Equal(t, "held back: tag nightly is frozen, by Sefa Orlin: the ledger moves", w.RunsOf("Board")[0].Reason)
	q, err := w.C.Queue(ctx)
	require.NoError(t, err)
	require.Len(t, q.Waiting, 1)
	assert.Len(t, q.Freezes, 1)
	out, _, _ := w.Ironbell("queue")
	assert.Contains(t, out, "held back: tag nightly is frozen")
	assert.Contains(t, out, "until it is lifted: ironbell lift")
	_, err = w.C.Lift(ctx, f.ID)
	require.NoError(t, err)
	w.Until("it goes on when the freeze is lifted", func() bool { return w.RunsOf("Board")[0].State == job.RunDone })

	_, err = w.C.Freeze(ctx, wire.FreezeRequest{Label: "service", Rings: "pass over"})
	require.NoError(t, err)
	rang()
	w.Until("the ring is passed over", func() bool {
		page, err := w.C.Job(ctx, "Board")
		require.NoError(t, err)
		return len(page.Rings) == 2 && page.Rings[0].Decision == job.RingPassedOver
	})
	why, err := w.C.Why(ctx, "Board", "")
	require.NoError(t, err)
	assert.Equal(t, "It is switched on and held back: everything is frozen, by Sefa Orlin.", why.Reasons[0].Sentence)
	for want, r := range map[string]wire.FreezeRequest{
		`there is no destination "pigeons"`: {Label: "destination:pigeons"},
		"names nothing":                     {Label: "everything"},
		"is nothing that can be named here": {Label: "person:mara"},
		"it would have ended already":       {Label: "service", To: ptr(w.Now().Add(-time.Hour))},
	} {
		_, err := w.C.Freeze(ctx, r)
		assert.ErrorContains(t, err, want)
	}
	mara := client.New("http://"+w.Listen, "")
	token, err := mara.MakeToken(ctx, "mara", world.Password, "test")
	require.NoError(t, err)
	_, err = client.New("http://"+w.Listen, token.Token).Freeze(ctx, wire.FreezeRequest{Label: "service"})
	assert.ErrorContains(t, err, "it takes an administrator")
}

func ptr[T any](v T) *T { return &v }

func TestAFrozenDestinationHoldsItsMailAndLetsAlertsThrough(t *testing.T) {
	t.Parallel()
	w := world.Open(t)
	ctx := context.Background()
	w.Report("Ports", "SELECT code FROM ports")
	d := world.Tasks(world.ReportOf("Ports"), world.MailTo("a@tarnwick.example"))
	d.Patience = job.Retry{Times: 100, Wait: job.Duration(time.Second)}
	w.Job("Board", d)
	w.Behave("mail", "busy", 0)
	run, err := w.C.Ring(ctx, "Board", nil)
	require.NoError(t, err)
	w.Until("a try was refused", func() bool {
		page, err := w.C.Run(ctx, run.ID)
		require.NoError(t, err)
		return len(page.Deliveries) == 1 && page.Deliveries[0].Tries > 0
	})
	f, err := w.C.Freeze(ctx, wire.FreezeRequest{Label: "destination:company mail"})
	require.NoError(t, err)
	w.Until("no try is under way that began before", func() bool {
		page, err := w.C.Run(ctx, run.ID)
		require.NoError(t, err)
		return page.Deliveries[0].State == job.DeliveryWaiting
	})
	w.Behave("mail", "accept", 0)
	w.Report("Broken", "SELECT 1/0")
	_, err = w.C.SaveJob(ctx, "Broken", wire.JobRequest{Owner: "mara", On: true, Definition: world.Tasks(world.ReportOf("Broken"))})
	require.NoError(t, err)
	w.Ring("Broken")
	w.Until("the alert comes through", func() bool { return len(w.Inbox("mara@tarnwick.example")) > 0 })
	assert.Empty(t, w.Inbox("a@tarnwick.example"), "its mail waits")
	_, err = w.C.Lift(ctx, f.ID)
	require.NoError(t, err)
	w.Until("its mail goes out", func() bool { return len(w.Inbox("a@tarnwick.example")) == 1 })
}

func TestCancelStopsWhatWorks(t *testing.T) {
	t.Parallel()
	w := world.Open(t)
	ctx := context.Background()
	w.Report("Slow", "SELECT pg_sleep(30), 1 AS n")
	w.Report("Ports", "SELECT code FROM ports")
	w.Job("Board", world.Tasks(world.ReportOf("Slow"), world.MailTo("a@tarnwick.example")))
	run, err := w.C.Ring(ctx, "Board", nil)
	require.NoError(t, err)
	w.Until("it works", func() bool { r, err := w.C.Run(ctx, run.ID); return err == nil && len(r.Attempts) == 1 })
	began := time.Now()
	cancelled, err := w.C.Cancel(ctx, run.ID)
	require.NoError(t, err)
	assert.Equal(t, job.RunCancelled, cancelled.State)
	assert.Equal(t, "cancelled by Sefa Orlin", cancelled.Reason)
	// The worker is free again long before the query would have ended.
	w.Job("Next", world.Tasks(world.ReportOf("Ports")))
	for range 4 {
		require.Equal(t, job.RunDone, w.Ring("Next").State)
	}
	assert.Less(t, time.Since(began), 25*time.Second)
	page, err := w.C.Run(ctx, run.ID)
	require.NoError(t, err)
	assert.Equal(t, job.AttemptLost, page.Attempts[0].State)
	assert.Equal(t, job.RunCancelled, page.State, "what the worker wrote afterwards was refused")
	_, err = w.C.Cancel(ctx, run.ID)
	assert.ErrorContains(t, err, "has ended already")
}

func TestGoingOnSendsAgainOnlyWhatFailed(t *testing.T) {
	t.Parallel()
	w := world.Open(t)
	ctx := context.Background()
	w.Report("Ports", "SELECT code FROM ports")
	d := world.Tasks(world.ReportOf("Ports"), world.MailTo("a@tarnwick.example"))
	d.Tasks[1].Deliver.To = []string{"a@tarnwick.example", "b@tarnwick.example"}
	w.Job("Board", d)
	world.Put(t, w.Out.Inbox+"/api/servers/mail", `{"mode":"refuse","only":"b@tarnwick.example"}`)
	page := w.Ring("Board")
	require.Equal(t, job.RunPartly, page.State)
	w.Behave("mail", "accept", 0)
	_, err := w.C.Again(ctx, page.ID, wire.AgainRequest{})
	require.NoError(t, err)
	page, err = w.C.Follow(ctx, page.ID, func(wire.RunPage) error { return nil })
	require.NoError(t, err)
	assert.Equal(t, job.RunDone, page.State, page.Reason)
	assert.Len(t, w.Inbox("a@tarnwick.example"), 1, "who has it gets no second copy")
	assert.Len(t, w.Inbox("b@tarnwick.example"), 1)
	assert.Len(t, page.Attempts, 2, "nothing is made anew")
}

func TestACancelledDeliveryGoesOnWhenItIsAskedFor(t *testing.T) {
	t.Parallel()
	w := world.Open(t)
	ctx := context.Background()
	w.Report("Ports", "SELECT code FROM ports")
	d := world.Tasks(world.ReportOf("Ports"), world.MailTo("a@tarnwick.example"))
	d.Patience = job.Retry{Times: 5, Wait: job.Duration(time.Hour)} // it stays at its first try
	w.Job("Board", d)
	w.Behave("mail", "busy", 0)
	run, err := w.C.Ring(ctx, "Board", nil)
	require.NoError(t, err)
	w.Until("its mail waits for a retry", func() bool {
		page, err := w.C.Run(ctx, run.ID)
		require.NoError(t, err)
		return page.State == job.RunDelivering && page.Deliveries[0].State == job.DeliveryWaiting &&
			page.Deliveries[0].Tries == 1
	})
	_, err = w.C.Cancel(ctx, run.ID)
	require.NoError(t, err)
	w.Behave("mail", "accept", 0)
	_, err = w.C.Again(ctx, run.ID, wire.AgainRequest{})
	require.NoError(t, err)
	page, err := w.C.Follow(ctx, run.ID, func(wire.RunPage) error { return nil })
	require.NoError(t, err)
	assert.Equal(t, job.RunDone, page.State, page.Reason)
	assert.Len(t, w.Inbox("a@tarnwick.example"), 1)
}

func TestLimitsBoundWhatWorksAtOnce(t *testing.T) {
	t.Parallel()
	w := world.Open(t)
	ctx := context.Background()
	w.Report("Slow", "SELECT pg_sleep(0.7), 1 AS n")
	var ids []job.RunID
	require.NoError(t, w.C.SaveLimits(ctx, map[string]int{"tag:heavy": 2}))
	for _, name := range []string{"A", "B", "C", "D"} {
		d := world.Tasks(world.ReportOf("Slow"))
		d.Tags = []string{"heavy"}
		w.Job(name, d)
		run, err := w.C.Ring(ctx, name, nil)
		require.NoError(t, err)
		ids = append(ids, run.ID)
	}
	type span struct{ from, to time.Time }
	var spans []span
	for _, id := range ids {
		page, err := w.C.Follow(ctx, id, func(wire.RunPage) error { return nil })
		require.NoError(t, err)
		require.Equal(t, job.RunDone, page.State)
		spans = append(spans, span{*page.StartedAt, *page.EndedAt})
	}
	for _, s := range spans {
		beside := 0
		for _, o := range spans {
			if !o.from.After(s.from) && o.to.After(s.from) {
				beside++
			}
		}
		assert.LessOrEqual(t, beside, 2)
	}
	out, _, _ := w.Ironbell("limits")
	assert.Contains(t, out, "tag:heavy: 2 at once")
	_, errs, status := w.Ironbell("limits", "tag:heavy=0")
	assert.Equal(t, 1, status)
	assert.Contains(t, errs, "0 is no limit")
	out, _, _ = w.Ironbell("limits", "tag:heavy=none")
	assert.Contains(t, out, "No limits are set")
}

func TestTheOwnerHearsOfLatenessBeforeTheDeadline(t *testing.T) {
	t.Parallel()
	w := world.Open(t)
	w.Report("Slow", "SELECT pg_sleep(6), 1 AS n")
	d := world.Tasks(world.ReportOf("Slow"))
	d.Deadline = job.Deadline{Within: job.Duration(2 * time.Second)}
	d.Triggers = []job.Trigger{{Timing: job.Timing{Rule: "every day at 00:00"}}}
	w.Job("Board", d)
	conn := world.Connect(t, w.Db)
	_, err := conn.Exec(context.Background(), `UPDATE triggers SET next_due = bell_now()`)
	require.NoError(t, err)
	_, err = conn.Exec(context.Background(), `SELECT pg_notify('ironbell', 'jobs ')`)
	require.NoError(t, err)
	w.Until("the owner is told", func() bool { return len(w.Inbox("mara@tarnwick.example")) == 1 })
	assert.Contains(t, w.Inbox("mara@tarnwick.example")[0].Plain, "is late: it should have arrived by")
	w.Until("it ends", func() bool { return w.RunsOf("Board")[0].State == job.RunDone })
	alerts, err := w.C.Alerts(context.Background(), "open", "closed")
	require.NoError(t, err)
	require.Len(t, alerts, 1)
	assert.Equal(t, job.AlertLate, alerts[0].Kind)
	assert.Equal(t, job.AlertClosed, alerts[0].State, "it has arrived, though late")
}

func TestARunThatTakesTooLongIsEnded(t *testing.T) {
	t.Parallel()
	w := world.Open(t)
	w.Report("Slow", "SELECT pg_sleep(20), 1 AS n")
	d := world.Tasks(world.ReportOf("Slow"))
	d.RunLimit = job.Duration(time.Second)
	w.Job("Board", d)
	page := w.Ring("Board")
	assert.Equal(t, job.RunFailed, page.State)
	assert.Contains(t, page.Reason, "the run took longer than its limit of 1s")
}

func TestWhy(t *testing.T) {
	t.Parallel()
	w := world.Open(t)
	ctx := context.Background()
	w.Report("Ports", "SELECT code FROM ports")
	d := world.Tasks(world.ReportOf("Ports"))
	d.Triggers = []job.Trigger{{Timing: job.Timing{Rule: "on weekdays at 06:15"}}}
	w.Job("Board", d)
	first := func(at string) string {
		why, err := w.C.Why(ctx, "Board", at)
		require.NoError(t, err)
		require.NotEmpty(t, why.Reasons)
		return why.Reasons[0].Sentence
	}
	assert.Equal(t, "It is switched on.", first(""))
	assert.Contains(t, first("2026-11-02"), "Not rung: the job was first saved on ")
	place, err := time.LoadLocation("Europe/London")
	require.NoError(t, err)
	now := w.Now().In(place)
	monday := time.Date(now.Year(), now.Month(), now.Day()+15-int(now.Weekday()), 6, 15, 0, 0, place)
	sunday, later := monday.AddDate(0, 0, -1), monday.Add(45*time.Minute)
	assert.Equal(t, "It will ring at "+monday.Format("Mon 2 January 2006 15:04 MST")+", by its rule: on weekdays at 06:15.",
		first(monday.Format(time.DateOnly)))
	assert.Contains(t, first(sunday.Format(time.DateOnly)), "Not rung: its rules name no time on "+
		sunday.Format("Mon 2 January 2006")+". It rings on weekdays at 06:15 (Europe/London).")
	assert.Contains(t, first(later.Format("2006-01-02 15:04")), "Not rung: its rules name no time at "+
		later.Format("Mon 2 January 2006 15:04 MST")+".")
	_, err = w.C.Switch(ctx, "Board", false)
	require.NoError(t, err)
	assert.Contains(t, first(""), "It is switched off and rings not: Sefa Orlin switched it off on ")
	assert.Contains(t, first(monday.Format(time.DateOnly)), "Not rung: the job was switched off then: Sefa Orlin switched it off on ")
	page := w.Ring("Board")
	assert.Contains(t, first(w.Now().In(place).Format(time.DateOnly)), "Rung by Sefa Orlin. Run "+page.ID.String())
	_, err = w.C.Why(ctx, "Board", "christmas")
	assert.ErrorContains(t, err, "is no time; write it as 2026-12-25")
}
