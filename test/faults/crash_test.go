package faults

import (
	"context"
	"fmt"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"ironbell/client"
	"ironbell/internal/core/job"
	"ironbell/internal/localpg/pgtest"
	"ironbell/test/world"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestKillInMidRunAndRestart(t *testing.T) {
	w := world.Open(t)
	ctx := context.Background()
	w.Report("Ports", "SELECT code FROM ports")
	w.Report("Slow", "SELECT pg_sleep(2), 1 AS one")
	d := world.Definition("Ports", "company mail", []string{"csv"}, "a@tarnwick.example")
	slow := d.Tasks[0]
	slow.Name, slow.Report = "slow", &job.ReportTask{Report: "Slow", Outputs: []job.Output{{Format: "csv"}}}
	d.Tasks = []job.Task{d.Tasks[0], slow, d.Tasks[1]}
	w.Job("Board", d)
	run, err := w.C.Ring(ctx, "Board", nil)
	require.NoError(t, err)
	w.Until("the second task works", func() bool {
		page, err := w.C.Run(ctx, run.ID)
		require.NoError(t, err)
		return len(page.Attempts) == 2
	})
	w.Kill()
	w.Start()
	w.Until("the run ends", func() bool {
		page, err := w.C.Run(ctx, run.ID)
		require.NoError(t, err)
		return page.State == job.RunDone
	})
	page, err := w.C.Run(ctx, run.ID)
	require.NoError(t, err)
	tries := map[string][]job.AttemptState{}
	for _, a := range page.Attempts {
		tries[a.Task] = append(tries[a.Task], a.State)
	}
	assert.Equal(t, map[string][]job.AttemptState{"report": {"done"}, "slow": {"lost", "done"}, "mail": {"done"}},
		tries, "it goes on at the task that was interrupted")
	assert.Len(t, w.Inbox("a@tarnwick.example"), 1, "one mail only")
	assert.Len(t, page.Artifacts, 2, "no file is recorded twice")
}

func TestKillBetweenOfferAndAnswer(t *testing.T) {
	w := world.Open(t)
	ctx := context.Background()
	w.Report("Ports", "SELECT code FROM ports")
	w.Job("Board", world.Definition("Ports", "company mail", []string{"csv"}, "a@tarnwick.example"))
	w.Behave("mail", "slow", 3000)
	run, err := w.C.Ring(ctx, "Board", nil)
	require.NoError(t, err)
	w.Until("the message is offered", func() bool {
		page, err := w.C.Run(ctx, run.ID)
		require.NoError(t, err)
		return len(page.Deliveries) == 1 && page.Deliveries[0].State == job.DeliveryOffered
	})
	w.Kill()
	w.Until("the mail server has taken it", func() bool { return len(w.Inbox("a@tarnwick.example")) == 1 })
	w.Behave("mail", "accept", 0)
	w.Start()
	var delivery job.Delivery
	w.Until("the delivery is unknown", func() bool {
		page, err := w.C.Run(ctx, run.ID)
		require.NoError(t, err)
		delivery = page.Deliveries[0]
		return delivery.State == job.DeliveryUnknown
	})
	w.Until("the owner is asked", func() bool { return len(w.Inbox("mara@tarnwick.example")) == 1 })
	assert.Contains(t, w.Inbox("mara@tarnwick.example")[0].Plain, "Ask the recipient, then settle the delivery")
	page, err := w.C.Run(ctx, run.ID)
	require.NoError(t, err)
	assert.Equal(t, job.RunPartly, page.State)
	assert.Len(t, w.Inbox("a@tarnwick.example"), 1, "what is unknown is never sent again by itself")
	_, err = w.C.Settle(ctx, delivery.ID, "sent")
	require.NoError(t, err)
	page, err = w.C.Run(ctx, run.ID)
	require.NoError(t, err)
	assert.Equal(t, job.RunDone, page.State)
	require.Len(t, page.Alerts, 1)
	assert.Equal(t, job.AlertClosed, page.Alerts[0].State)
	_, err = w.C.Settle(ctx, delivery.ID, "failed")
	assert.ErrorContains(t, err, "only one that is unknown can be settled")
}

func TestALineThatBreaksAfterTheDataIsUnknown(t *testing.T) {
	w := world.Open(t)
	w.Report("Ports", "SELECT code FROM ports")
	d := world.Definition("Ports", "company mail", []string{"csv"}, "a@tarnwick.example")
	w.Job("Board", d)
	w.Behave("mail", "drop", 0)
	page := w.Ring("Board")
	assert.Equal(t, job.RunPartly, page.State)
	assert.Equal(t, job.DeliveryUnknown, page.Deliveries[0].State)
	assert.Len(t, w.Inbox("a@tarnwick.example"), 1)
	// A job that says so sends again, as a new message, within its patience and no further: a server that never
	// answers would be filled with copies.
	world.Put(t, w.Out.Inbox+"/api/servers/mail", `{"mode":"drop","only":"b@tarnwick.example"}`)
	d.IfUnknown, d.Patience = job.UnknownResend, job.Retry{Times: 2, Wait: job.Duration(time.Second)}
	d.Tasks[1].Deliver.To = []string{"b@tarnwick.example"}
	w.Job("Board", d)
	page = w.Ring("Board")
	assert.Equal(t, job.RunPartly, page.State)
	assert.Equal(t, job.DeliveryUnknown, page.Deliveries[0].State)
	assert.Equal(t, 3, page.Deliveries[0].Tries)
	letters := w.Inbox("b@tarnwick.example")
	require.Len(t, letters, 3)
	assert.NotEqual(t, letters[0].MessageID, letters[1].MessageID, "a deliberate resend has a new id")
	alerts, err := w.C.Alerts(context.Background())
	require.NoError(t, err)
	assert.Contains(t, fmt.Sprint(alerts), "tried 3 times, the last of them failed too")
	// Sent again by a person it gets as many tries as at first, and the answer that comes settles it.
	_, err = w.C.Settle(context.Background(), page.Deliveries[0].ID, "resend")
	require.NoError(t, err)
	w.Until("it was offered again", func() bool { return len(w.Inbox("b@tarnwick.example")) > 3 })
	w.Behave("mail", "accept", 0)
	w.Until("it is done", func() bool {
		page, err := w.C.Run(context.Background(), page.ID)
		require.NoError(t, err)
		return page.State == job.RunDone
	})
}

func TestStopHandsWorkBackAtOnce(t *testing.T) {
	w := world.Open(t)
	ctx := context.Background()
	w.Report("Slow", "SELECT pg_sleep(2), 1 AS one")
	w.Job("Board", world.Definition("Slow", "company mail", []string{"csv"}, "a@tarnwick.example"))
	run, err := w.C.Ring(ctx, "Board", nil)
	require.NoError(t, err)
	w.Until("the task works", func() bool {
		page, err := w.C.Run(ctx, run.ID)
		require.NoError(t, err)
		return len(page.Attempts) == 1
	})
	w.Service.Stop(syscall.SIGTERM, 20*time.Second, syscall.SIGKILL)
	require.NoError(t, w.Service.Err(), "it ends in good order")
	w.Start()
	page, err := w.C.Run(ctx, run.ID)
	require.NoError(t, err)
	lines, err := w.C.Log(ctx, run.ID, 0)
	require.NoError(t, err)
	var said []string
	for _, l := range lines {
		said = append(said, l.Text)
	}
	assert.Contains(t, strings.Join(said, "\n"), "handed its work back", "state %s", page.State)
	w.Until("the run ends", func() bool {
		page, err := w.C.Run(ctx, run.ID)
		require.NoError(t, err)
		return page.State == job.RunDone
	})
	assert.Len(t, w.Inbox("a@tarnwick.example"), 1)
}

func TestWhatWasMissedIsMadeUpOnce(t *testing.T) {
	w := world.Open(t)
	ctx := context.Background()
	w.Report("Ports", "SELECT code FROM ports")
	d := world.Definition("Ports", "company mail", []string{"csv"}, "a@tarnwick.example")
	d.Triggers = []job.Trigger{{Timing: job.Timing{Rule: "*/10 * * * *"}}}
	w.Job("Board", d)
	w.Kill()
	// As if the service had been away for an hour: the trigger is an hour behind.
	conn := world.Connect(t, w.Db)
	_, err := conn.Exec(ctx, `UPDATE triggers SET next_due = date_trunc('hour', bell_now()) - interval '1 hour'`)
	require.NoError(t, err)
	w.Start()
	w.Until("it is made up", func() bool {
		runs, err := w.C.Runs(ctx, client.RunFilter{Job: "Board"})
		require.NoError(t, err)
		return len(runs) > 0 && runs[0].State == job.RunDone
	})
	page, err := w.C.Job(ctx, "Board")
	require.NoError(t, err)
	decided := map[job.RingDecision]int{}
	for _, r := range page.Rings {
		decided[r.Decision]++
		assert.NotEmpty(t, r.Reason)
	}
	assert.GreaterOrEqual(t, len(page.Rings), 6, "each missed due time has its decision")
	assert.Equal(t, 1, decided[job.RingRun], "and one of them, the newest, made a run")
}

func TestTheDatabaseGoesAndComesBack(t *testing.T) {
	w := world.Open(t)
	ctx := context.Background()
	w.Report("Ports", "SELECT code FROM ports")
	w.Job("Board", world.Definition("Ports", "company mail", []string{"csv"}, "a@tarnwick.example"))
	own := world.Connect(t, w.Db)
	var name string
	require.NoError(t, own.QueryRow(ctx, `SELECT current_database()`).Scan(&name))
	admin := world.Connect(t, pgtest.Address(t, "postgres"))
	allow := func(yes string) {
		_, err := admin.Exec(ctx, `ALTER DATABASE "`+name+`" WITH ALLOW_CONNECTIONS `+yes)
		require.NoError(t, err)
	}
	w.Report("Slow", "SELECT pg_sleep(2), 1 AS one")
	w.Job("Slow", world.Definition("Slow", "company mail", []string{"csv"}, "b@tarnwick.example"))
	slow, err := w.C.Ring(ctx, "Slow", nil)
	require.NoError(t, err)
	w.Until("the task works", func() bool {
		page, err := w.C.Run(ctx, slow.ID)
		require.NoError(t, err)
		return len(page.Attempts) == 1
	})
	allow("false")
	_, err = admin.Exec(ctx, `SELECT pg_terminate_backend(pid) FROM pg_stat_activity WHERE datname = $1`, name)
	require.NoError(t, err)
	base := "http://" + w.Listen
	status, _, text := world.Call(t, http.DefaultClient, http.MethodGet, base+"/ready", "", "")
	assert.Equal(t, 503, status, text)
	status, kind, text := world.Call(t, http.DefaultClient, http.MethodGet, base+"/api/jobs", w.Token, "")
	assert.Equal(t, 503, status)
	assert.Equal(t, "application/problem+json", kind)
	assert.Contains(t, text, "The database does not answer; try again in a moment.")
	status, _, _ = world.Call(t, http.DefaultClient, http.MethodGet, base+"/health", "", "")
	assert.Equal(t, 200, status, "the service itself is alive")
	w.Until("the task has ended and could not say so", func() bool {
		text, err := os.ReadFile(filepath.Join(w.Dir, "service.log"))
		require.NoError(t, err)
		return strings.Contains(string(text), "could not go on with a part") ||
			strings.Contains(string(text), "a lease was lost")
	})
	allow("true")
	w.Until("it is ready again", func() bool {
		status, _, _ := world.Call(t, http.DefaultClient, http.MethodGet, base+"/ready", "", "")
		return status == 200
	})
	assert.Equal(t, job.RunDone, w.Ring("Board").State)
	w.Until("what was at work goes on", func() bool {
		page, err := w.C.Run(ctx, slow.ID)
		require.NoError(t, err)
		return page.State == job.RunDone
	})
	assert.Len(t, w.Inbox("b@tarnwick.example"), 1)
}
