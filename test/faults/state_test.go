package faults

import (
	"context"
	"net/http"
	"testing"

	"ironbell/client"
	"ironbell/internal/api/wire"
	"ironbell/internal/core/job"
	"ironbell/test/world"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// What stands still says so to those who watch from outside, and gives no sign of life;
// that the process lives, and can serve, is another question.
func TestWhatStandsStillGivesNoSignOfLife(t *testing.T) {
	w := world.Open(t)
	ctx := context.Background()
	w.Report("Ports", "SELECT code FROM ports")
	d := world.Tasks(world.ReportOf("Ports"))
	d.Triggers = []job.Trigger{{Timing: job.Timing{Rule: "0 6 1 1 *"}}, {Timing: job.Timing{Rule: "0 7 1 1 *"}}}
	w.Job("Ports", d)
	require.NoError(t, w.C.SaveHeartbeat(ctx, "http://"+w.Out.Receiver+"/alive", job.Duration(1e9)))
	beats := func() string { return string(w.Get(w.Out.Inbox + "/api/beats")) }
	alive := func(why string) {
		before := beats()
		w.Until(why, func() bool { return beats() != before })
	}
	// silent waits for as long as several signs would take, and sees none.
	silent := func(end func()) {
		same, last := 0, ""
		w.Until("the signs of life stop", func() bool {
			if is := beats(); is != last {
				same, last = 0, is
			}
			same++
			return same == 60
		})
		end()
	}
	alive("it gives signs of life")

	f, err := w.C.Freeze(ctx, wire.FreezeRequest{Label: "service", Reason: "the pier moves"})
	require.NoError(t, err)
	text := w.Seen(http.StatusOK, "Everything is frozen.")
	assert.NotContains(t, text, "Sefa", "no names outside")
	assert.NotContains(t, text, "pier")
	state, err := w.C.State(ctx)
	require.NoError(t, err)
	assert.True(t, state.Silent)
	assert.Contains(t, state.Lines[0].Text, "Sefa Orlin")
	assert.Contains(t, string(w.Get("http://"+w.Listen+"/metrics")), "ironbell_standing_still 1\n")
	for _, path := range []string{"/health", "/ready"} {
		status, _, _ := world.Call(t, http.DefaultClient, http.MethodGet, "http://"+w.Listen+path, "", "")
		assert.Equal(t, http.StatusOK, status, path)
	}
	silent(func() {
		_, err = w.C.Lift(ctx, f.ID)
		require.NoError(t, err)
	})
	alive("the freeze was lifted")

	// A due time that nobody can decide on: somebody else holds what stands for its job.
	j, err := w.C.Job(ctx, "Ports")
	require.NoError(t, err)
	holder := world.Connect(t, w.Db)
	tx, err := holder.Begin(ctx)
	require.NoError(t, err)
	_, err = tx.Exec(ctx, `SELECT 1 FROM triggers WHERE job_id = $1 AND position = 0 FOR UPDATE`, j.ID)
	require.NoError(t, err)
	_, err = world.Connect(t, w.Db).Exec(ctx,
		`UPDATE triggers SET next_due = bell_now() - interval '10 minutes' WHERE job_id = $1 AND position = 1`, j.ID)
	require.NoError(t, err)
	w.Job("Quay board", d) // the clock hears that times have changed
	w.Seen(http.StatusServiceUnavailable, "nothing rings")
	silent(func() { require.NoError(t, tx.Rollback(ctx)) })
	alive("the clock goes on")
	w.Seen(http.StatusOK, "node lives")
}

func TestANodeFinishesAndSaysWhenItIsEmpty(t *testing.T) {
	w := world.Open(t)
	ctx := context.Background()
	w.Report("Ports", "SELECT code FROM ports")
	w.Job("Ports", world.Tasks(world.ReportOf("Ports")))
	nodes, err := w.C.Nodes(ctx)
	require.NoError(t, err)
	require.Len(t, nodes, 1)
	name := nodes[0].Name
	out, _, status := w.Ironbell("nodes")
	assert.Zero(t, status)
	assert.Contains(t, out, name)

	out, errs, status := w.Ironbell("nodes", "-finish", name, "-wait", "1m")
	assert.Zero(t, status, errs)
	assert.Contains(t, out, "takes no more work")
	assert.Contains(t, out, name+" is empty.")
	waits, err := w.C.Ring(ctx, "Ports", nil)
	require.NoError(t, err)
	w.Seen(http.StatusServiceUnavailable, "nothing begins")
	out, _, _ = w.Ironbell("nodes", "-work", name)
	assert.Contains(t, out, "takes work again")
	w.Until("what waited is done", func() bool {
		page, err := w.C.Run(ctx, waits.ID)
		require.NoError(t, err)
		return page.State == job.RunDone
	})
	w.Seen(http.StatusOK, "1 node lives.")

	for _, wrong := range [][]string{{"-finish", "pier"}, {"-wait", "1m"}, {"-finish", name, "-work", name}, {"quay"}} {
		_, errs, status = w.Ironbell(append([]string{"nodes"}, wrong...)...)
		assert.NotZero(t, status, wrong)
		assert.NotEmpty(t, errs, wrong)
	}
}

func TestHowLongThingsAreKeptIsSaid(t *testing.T) {
	w := world.Open(t)
	ctx := context.Background()
	is, err := w.C.Keeping(ctx)
	require.NoError(t, err)
	assert.Positive(t, is.Alerts)
	is.Alerts = 45
	require.NoError(t, w.C.SaveKeeping(ctx, is))
	now, err := w.C.Keeping(ctx)
	require.NoError(t, err)
	assert.Equal(t, is, now)
	is.Audit = -1
	var refused *client.Problem
	require.ErrorAs(t, w.C.SaveKeeping(ctx, is), &refused)
	assert.Equal(t, http.StatusUnprocessableEntity, refused.Status)
}
