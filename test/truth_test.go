package test

import (
	"context"
	"fmt"
	"strings"
	"testing"
	"time"

	"ironbell/client"
	"ironbell/internal/api/wire"
	"ironbell/internal/core/job"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// reasonOf is what a run waits for, as its page, its job's page, the list of runs and the
// queue say it, which agree.
func (w *world) reasonOf(id job.RunID) string {
	w.t.Helper()
	ctx := context.Background()
	page, err := w.c.Run(ctx, id)
	require.NoError(w.t, err)
	list, err := w.c.Runs(ctx, client.RunFilter{Job: page.Job, Limit: 100})
	require.NoError(w.t, err)
	for _, r := range list {
		if r.ID == id {
			assert.Equal(w.t, page.Reason, r.Reason, "the list of runs")
		}
	}
	j, err := w.c.Job(ctx, page.Job)
	require.NoError(w.t, err)
	if j.Last != nil && j.Last.ID == id {
		assert.Equal(w.t, page.Reason, j.Last.Reason, "the job's page")
	}
	if page.State == job.RunWaiting {
		q, err := w.c.Queue(ctx)
		require.NoError(w.t, err)
		for _, l := range q.Waiting {
			if l.RunID == id {
				assert.Equal(w.t, page.Reason, l.Reason, "the queue")
			}
		}
	}
	return page.Reason
}

func TestWhatIsSaidOfWaitingIsTrueNow(t *testing.T) {
	w := open(t)
	ctx := context.Background()
	w.report("Slow", "SELECT pg_sleep(60), 1 AS n")
	w.report("Ports", "SELECT code FROM ports")
	first := tasks(reportOf("Slow"))
	first.Tags = []string{"board"}
	w.job("First", first)
	second := tasks(reportOf("Ports"), mailTo("a@tarnwick.example"))
	second.Tags = []string{"board"}
	w.job("Second", second)
	require.NoError(t, w.c.SaveLimits(ctx, map[string]int{"tag:board": 1}))
	works, err := w.c.Ring(ctx, "First", nil)
	require.NoError(t, err)
	w.until("the first works", func() bool {
		page, err := w.c.Run(ctx, works.ID)
		require.NoError(t, err)
		return page.State == job.RunRunning
	})
	behind, err := w.c.Ring(ctx, "First", nil)
	require.NoError(t, err)
	assert.Equal(t, fmt.Sprintf("for its turn: run %s of this job still works", works.ID), w.reasonOf(behind.ID))
	waits, err := w.c.Ring(ctx, "Second", nil)
	require.NoError(t, err)
	assert.Equal(t, "for its turn: as many as may work on tag board at once do", w.reasonOf(waits.ID))

	// A freeze that comes later holds it, too, and then no longer.
	f, err := w.c.Freeze(ctx, wire.FreezeRequest{Label: "tag:board", Reason: "the board meets"})
	require.NoError(t, err)
	assert.Equal(t, "held back: tag board is frozen, by Sefa Orlin: the board meets", w.reasonOf(waits.ID))
	why, err := w.c.Why(ctx, "Second", "")
	require.NoError(t, err)
	assert.Contains(t, why.Reasons[1].Sentence, "tag board is frozen")
	_, err = w.c.Lift(ctx, f.ID)
	require.NoError(t, err)
	assert.Equal(t, "for its turn: as many as may work on tag board at once do", w.reasonOf(waits.ID))
	frozen, err := w.c.Freeze(ctx, wire.FreezeRequest{Label: "tag:board"})
	require.NoError(t, err)
	later, err := w.c.Ring(ctx, "Second", nil)
	require.NoError(t, err)
	assert.Contains(t, w.reasonOf(later.ID), "is frozen")
	_, err = w.c.Lift(ctx, frozen.ID)
	require.NoError(t, err)
	assert.NotContains(t, w.reasonOf(later.ID), "is frozen", "nothing is frozen any more")

	// What is frozen on its way out says so.
	w.behave("mail", "busy", 0)
	require.NoError(t, w.c.SaveLimits(ctx, map[string]int{}))
	w.until("it delivers", func() bool {
		page, err := w.c.Run(ctx, waits.ID)
		require.NoError(t, err)
		return page.State == job.RunDelivering
	})
	_, err = w.c.Freeze(ctx, wire.FreezeRequest{Label: "destination:company mail"})
	require.NoError(t, err)
	w.until("what was on its way has come back, and is held", func() bool {
		page, err := w.c.Run(ctx, waits.ID)
		require.NoError(t, err)
		return strings.Contains(page.Reason, "destination company mail is frozen")
	})
	assert.Contains(t, w.reasonOf(waits.ID), "destination company mail is frozen")
	w.behave("mail", "accept", 0)
}

func TestRingsIntoAComingFreezeAreToldAsWhatTheyWillBe(t *testing.T) {
	w := open(t)
	ctx := context.Background()
	w.report("Ports", "SELECT code FROM ports")
	d := tasks(reportOf("Ports"))
	d.Triggers = []job.Trigger{{Timing: job.Timing{Rule: "30 6 * * *"}}}
	_, err := w.c.SaveJob(ctx, "Board", wire.JobRequest{Owner: "mara", On: true, Definition: d})
	require.NoError(t, err)
	page, err := w.c.Job(ctx, "Board")
	require.NoError(t, err)
	require.Greater(t, len(page.Upcoming), 2)
	second := page.Upcoming[1]
	from, to := second.Add(-time.Hour), second.Add(time.Hour)
	f, err := w.c.Freeze(ctx, wire.FreezeRequest{
		Label: "service", From: &from, To: &to, Rings: "pass over", Reason: "the quay is closed",
	})
	require.NoError(t, err)
	after, err := w.c.Job(ctx, "Board")
	require.NoError(t, err)
	assert.Equal(t, []time.Time{page.Upcoming[0], page.Upcoming[2]}, after.Upcoming[:2])
	why, err := w.c.Why(ctx, "Board", "")
	require.NoError(t, err)
	assert.Contains(t, why.Reasons[2].Sentence, "It will not ring")
	assert.Contains(t, why.Reasons[2].Sentence, "the quay is closed")
	ahead, err := w.c.Forecast(ctx, client.ForecastFilter{From: from, To: to})
	require.NoError(t, err)
	require.Len(t, ahead.Rings, 1)
	assert.True(t, ahead.Rings[0].Passed)
	assert.Contains(t, ahead.Rings[0].Reason, "the quay is closed")
	_, err = w.c.Lift(ctx, f.ID)
	require.NoError(t, err)
	_, err = w.c.Freeze(ctx, wire.FreezeRequest{Label: "service", From: &from, To: &to})
	require.NoError(t, err)
	why, err = w.c.Why(ctx, "Board", "")
	require.NoError(t, err)
	assert.Contains(t, why.Reasons[2].Sentence, "and wait: everything is frozen")
}

func TestALargeRunCountsAllAndShowsWhatWentWrongFirst(t *testing.T) {
	w := open(t)
	w.report("Ports", "SELECT code FROM ports")
	const readers = 1200
	to := []string{"desk@contractor.test"} // the oldest delivery of all
	for n := range readers - 1 {
		to = append(to, fmt.Sprintf("reader%04d@tarnwick.example", n))
	}
	w.job("Board", definition("Ports", "company mail", []string{"csv"}, to...))
	put(t, w.out.Inbox+"/api/servers/mail", `{"mode":"refuse","only":"desk@contractor.test"}`)
	page := w.ring("Board")
	assert.Equal(t, job.RunPartly, page.State)
	assert.Equal(t, map[job.DeliveryState]int{job.DeliverySent: readers - 1, job.DeliveryFailed: 1},
		page.DeliveryCounts)
	require.Len(t, page.Deliveries, 1000)
	assert.Equal(t, "desk@contractor.test", page.Deliveries[0].Address)
	out, _, _ := w.ironbell("run", page.ID.String())
	assert.Contains(t, out, fmt.Sprintf("1000 of %d are shown, those that went wrong first", readers))
}

func TestAnAlertHasAPageAndALongLogIsReadOn(t *testing.T) {
	w := open(t)
	ctx := context.Background()
	w.report("Broken", "SELECT 1/(SELECT count(*) FROM ports WHERE code = 'none')")
	w.job("Board", definition("Broken", "company mail", []string{"csv"}, "a@tarnwick.example"))
	run := w.ring("Board")
	require.Len(t, run.Alerts, 1)
	w.until("the owner is told", func() bool { return len(w.inbox("mara@tarnwick.example")) == 1 })
	page := fmt.Sprintf("http://%s/alerts/%d", w.listen, run.Alerts[0].ID)
	assert.Contains(t, w.inbox("mara@tarnwick.example")[0].Plain, page, "the mail leads there")
	p := console(t, w)
	p.do(chromedp.Navigate(page))
	p.sees("Board: run failed")
	p.sees("division by zero")
	p.do(chromedp.Click(chromedp.Search(fmt.Sprintf("//main//a[normalize-space()=%q]", "Open run "+run.ID.String()))))
	p.sees("Why it rang.")

	conn := connect(t, w.db)
	_, err := conn.Exec(ctx,
		`INSERT INTO run_log (run_id, state, text) SELECT $1, '', 'line ' || i || '.' FROM generate_series(1, 6000) i`,
		run.ID)
	require.NoError(t, err)
	p.do(chromedp.Navigate("http://" + w.listen + "/runs/" + run.ID.String()))
	p.sees("line 3900.")
	p.click("Read on")
	p.sees("line 6000.")
	out, _, _ := w.ironbell("run", "-log", run.ID.String())
	assert.Contains(t, out, "line 6000.")
}
