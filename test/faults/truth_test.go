package faults

import (
	"context"
	"fmt"
	"strings"
	"testing"
	"time"

	"ironbell/client"
	"ironbell/internal/api/wire"
	"ironbell/internal/core/job"
	"ironbell/test/world"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestWhatIsSaidOfWaitingIsTrueNow(t *testing.T) {
	t.Parallel()
	w := world.Open(t)
	ctx := context.Background()
	w.Report("Slow", "SELECT pg_sleep(60), 1 AS n")
	w.Report("Ports", "SELECT code FROM ports")
	first := world.Tasks(world.ReportOf("Slow"))
	first.Tags = []string{"board"}
	w.Job("First", first)
	second := world.Tasks(world.ReportOf("Ports"), world.MailTo("a@tarnwick.example"))
	second.Tags = []string{"board"}
	w.Job("Second", second)
	require.NoError(t, w.C.SaveLimits(ctx, map[string]int{"tag:board": 1}))
	works, err := w.C.Ring(ctx, "First", nil)
	require.NoError(t, err)
	w.Until("the first works", func() bool {
		page, err := w.C.Run(ctx, works.ID)
		require.NoError(t, err)
		return page.State == job.RunRunning
	})
	behind, err := w.C.Ring(ctx, "First", nil)
	require.NoError(t, err)
	assert.Equal(t, fmt.Sprintf("for its turn: run %s of this job still works", works.ID), w.ReasonOf(behind.ID))
	waits, err := w.C.Ring(ctx, "Second", nil)
	require.NoError(t, err)
	assert.Equal(t, "for its turn: as many as may work on tag board at once do", w.ReasonOf(waits.ID))

	// A freeze that comes later holds it, too, and then no longer.
	f, err := w.C.Freeze(ctx, wire.FreezeRequest{Label: "tag:board", Reason: "the board meets"})
	require.NoError(t, err)
	assert.Equal(t, "held back: tag board is frozen, by Sefa Orlin: the board meets", w.ReasonOf(waits.ID))
	why, err := w.C.Why(ctx, "Second", "")
	require.NoError(t, err)
	assert.Contains(t, why.Reasons[1].Sentence, "tag board is frozen")
	_, err = w.C.Lift(ctx, f.ID)
	require.NoError(t, err)
	assert.Equal(t, "for its turn: as many as may work on tag board at once do", w.ReasonOf(waits.ID))
	frozen, err := w.C.Freeze(ctx, wire.FreezeRequest{Label: "tag:board"})
	require.NoError(t, err)
	later, err := w.C.Ring(ctx, "Second", nil)
	require.NoError(t, err)
	assert.Contains(t, w.ReasonOf(later.ID), "is frozen")
	_, err = w.C.Lift(ctx, frozen.ID)
	require.NoError(t, err)
	assert.NotContains(t, w.ReasonOf(later.ID), "is frozen", "nothing is frozen any more")

	// What is frozen on its way out says so.
	w.Behave("mail", "busy", 0)
	require.NoError(t, w.C.SaveLimits(ctx, map[string]int{}))
	w.Until("it delivers", func() bool {
		page, err := w.C.Run(ctx, waits.ID)
		require.NoError(t, err)
		return page.State == job.RunDelivering
	})
	_, err = w.C.Freeze(ctx, wire.FreezeRequest{Label: "destination:company mail"})
	require.NoError(t, err)
	w.Until("what was on its way has come back, and is held", func() bool {
		page, err := w.C.Run(ctx, waits.ID)
		require.NoError(t, err)
		return strings.Contains(page.Reason, "destination company mail is frozen")
	})
	assert.Contains(t, w.ReasonOf(waits.ID), "destination company mail is frozen")
	w.Behave("mail", "accept", 0)
}

func TestRingsIntoAComingFreezeAreToldAsWhatTheyWillBe(t *testing.T) {
	w := world.Open(t)
	ctx := context.Background()
	w.Report("Ports", "SELECT code FROM ports")
	d := world.Tasks(world.ReportOf("Ports"))
	d.Triggers = []job.Trigger{{Timing: job.Timing{Rule: "30 6 * * *"}}}
	_, err := w.C.SaveJob(ctx, "Board", wire.JobRequest{Owner: "mara", On: true, Definition: d})
	require.NoError(t, err)
	page, err := w.C.Job(ctx, "Board")
	require.NoError(t, err)
	require.Greater(t, len(page.Upcoming), 2)
	second := page.Upcoming[1]
	from, to := second.Add(-time.Hour), second.Add(time.Hour)
	f, err := w.C.Freeze(ctx, wire.FreezeRequest{
		Label: "service", From: &from, To: &to, Rings: "pass over", Reason: "the quay is closed",
	})
	require.NoError(t, err)
	after, err := w.C.Job(ctx, "Board")
	require.NoError(t, err)
	assert.Equal(t, []time.Time{page.Upcoming[0], page.Upcoming[2]}, after.Upcoming[:2])
	why, err := w.C.Why(ctx, "Board", "")
	require.NoError(t, err)
	assert.Contains(t, why.Reasons[2].Sentence, "It will not ring")
	assert.Contains(t, why.Reasons[2].Sentence, "the quay is closed")
	ahead, err := w.C.Forecast(ctx, client.ForecastFilter{From: from, To: to})
	require.NoError(t, err)
	require.Len(t, ahead.Rings, 1)
	assert.True(t, ahead.Rings[0].Passed)
	assert.Contains(t, ahead.Rings[0].Reason, "the quay is closed")
	_, err = w.C.Lift(ctx, f.ID)
	require.NoError(t, err)
	_, err = w.C.Freeze(ctx, wire.FreezeRequest{Label: "service", From: &from, To: &to})
	require.NoError(t, err)
	why, err = w.C.Why(ctx, "Board", "")
	require.NoError(t, err)
	assert.Contains(t, why.Reasons[2].Sentence, "and wait: everything is frozen")
}

func TestALargeRunCountsAllAndShowsWhatWentWrongFirst(t *testing.T) {
	w := world.Open(t)
	w.Report("Ports", "SELECT code FROM ports")
	const readers = 1200
	to := []string{"desk@contractor.test"} // the oldest delivery of all
	for n := range readers - 1 {
		to = append(to, fmt.Sprintf("reader%04d@tarnwick.example", n))
	}
	w.Job("Board", world.Definition("Ports", "company mail", []string{"csv"}, to...))
	world.Put(t, w.Out.Inbox+"/api/servers/mail", `{"mode":"refuse","only":"desk@contractor.test"}`)
	page := w.Ring("Board")
	assert.Equal(t, job.RunPartly, page.State)
	assert.Equal(t, map[job.DeliveryState]int{job.DeliverySent: readers - 1, job.DeliveryFailed: 1},
		page.DeliveryCounts)
	require.Len(t, page.Deliveries, 1000)
	assert.Equal(t, "desk@contractor.test", page.Deliveries[0].Address)
	out, _, _ := w.Ironbell("run", page.ID.String())
	assert.Contains(t, out, fmt.Sprintf("1000 of %d are shown, those that went wrong first", readers))
}

func TestAnAlertHasAPageAndALongLogIsReadOn(t *testing.T) {
	t.Parallel()
	w := world.Open(t)
	ctx := context.Background()
	w.Report("Broken", "SELECT 1/(SELECT count(*) FROM ports WHERE code = 'none')")
	w.Job("Board", world.Definition("Broken", "company mail", []string{"csv"}, "a@tarnwick.example"))
	run := w.Ring("Board")
	require.Len(t, run.Alerts, 1)
	w.Until("the owner is told", func() bool { return len(w.Inbox("mara@tarnwick.example")) == 1 })
	page := fmt.Sprintf("http://%s/alerts/%d", w.Listen, run.Alerts[0].ID)
	assert.Contains(t, w.Inbox("mara@tarnwick.example")[0].Plain, page, "the mail leads there")
	p := w.Console()
	p.Do(chromedp.Navigate(page))
	p.Sees("Board: run failed")
	p.Sees("division by zero")
	p.Do(chromedp.Click(chromedp.Search(fmt.Sprintf("//main//a[normalize-space()=%q]", "Open run "+run.ID.String()))))
	p.Sees("Why it rang.")

	conn := world.Connect(t, w.Db)
	_, err := conn.Exec(ctx,
		`INSERT INTO run_log (run_id, state, text) SELECT $1, '', 'line ' || i || '.' FROM generate_series(1, 6000) i`,
		run.ID)
	require.NoError(t, err)
	p.Do(chromedp.Navigate("http://" + w.Listen + "/runs/" + run.ID.String()))
	p.Sees("line 3900.")
	p.Press("//main", "Read on")
	p.Sees("line 6000.")
	out, _, _ := w.Ironbell("run", "-log", run.ID.String())
	assert.Contains(t, out, "line 6000.")
}
