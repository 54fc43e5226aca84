package test

import (
	"context"
	"net/http"
	"strings"
	"testing"

	"ironbell/client"
	"ironbell/internal/api/wire"
	"ironbell/internal/core/job"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// until the state that is seen from outside has a status and says something.
func (w *world) seen(status int, says string) (text string) {
	w.t.Helper()
	w.until("from outside is seen: "+says, func() bool {
		is, said := w.state()
		text = said
		return is == status && strings.Contains(said, says)
	})
	return text
}

// What stands still says so to those who watch from outside, and gives no sign of life;
// that the process lives, and can serve, is another question.
func TestWhatStandsStillGivesNoSignOfLife(t *testing.T) {
	w := open(t)
	ctx := context.Background()
	w.report("Ports", "SELECT code FROM ports")
	d := tasks(reportOf("Ports"))
	d.Triggers = []job.Trigger{{Timing: job.Timing{Rule: "0 6 1 1 *"}}, {Timing: job.Timing{Rule: "0 7 1 1 *"}}}
	w.job("Ports", d)
	require.NoError(t, w.c.SaveHeartbeat(ctx, "http://"+w.out.Receiver+"/alive", job.Duration(1e9)))
	beats := func() string { return string(w.get(w.out.Inbox + "/api/beats")) }
	alive := func(why string) {
		before := beats()
		w.until(why, func() bool { return beats() != before })
	}
	// silent waits for as long as several signs would take, and sees none.
	silent := func(end func()) {
		same, last := 0, ""
		w.until("the signs of life stop", func() bool {
			if is := beats(); is != last {
				same, last = 0, is
			}
			same++
			return same == 60
		})
		end()
	}
	alive("it gives signs of life")

	f, err := w.c.Freeze(ctx, wire.FreezeRequest{Label: "service", Reason: "the pier moves"})
	require.NoError(t, err)
	text := w.seen(http.StatusOK, "Everything is frozen.")
	assert.NotContains(t, text, "Sefa", "no names outside")
	assert.NotContains(t, text, "pier")
	state, err := w.c.State(ctx)
	require.NoError(t, err)
	assert.True(t, state.Silent)
	assert.Contains(t, state.Lines[0].Text, "Sefa Orlin")
	assert.Contains(t, string(w.get("http://"+w.listen+"/metrics")), "ironbell_standing_still 1\n")
	for _, path := range []string{"/health", "/ready"} {
		status, _, _ := call(t, http.DefaultClient, http.MethodGet, "http://"+w.listen+path, "", "")
		assert.Equal(t, http.StatusOK, status, path)
	}
	silent(func() {
		_, err = w.c.Lift(ctx, f.ID)
		require.NoError(t, err)
	})
	alive("the freeze was lifted")

	// A due time that nobody can decide on: somebody else holds what stands for its job.
	j, err := w.c.Job(ctx, "Ports")
	require.NoError(t, err)
	holder := connect(t, w.db)
	tx, err := holder.Begin(ctx)
	require.NoError(t, err)
	_, err = tx.Exec(ctx, `SELECT 1 FROM triggers WHERE job_id = $1 AND position = 0 FOR UPDATE`, j.ID)
	require.NoError(t, err)
	_, err = connect(t, w.db).Exec(ctx,
		`UPDATE triggers SET next_due = now() - interval '10 minutes' WHERE job_id = $1 AND position = 1`, j.ID)
	require.NoError(t, err)
	w.job("Quay board", d) // the clock hears that times have changed
	w.seen(http.StatusServiceUnavailable, "nothing rings")
	silent(func() { require.NoError(t, tx.Rollback(ctx)) })
	alive("the clock goes on")
	w.seen(http.StatusOK, "node lives")
}

func TestANodeFinishesAndSaysWhenItIsEmpty(t *testing.T) {
	w := open(t)
	ctx := context.Background()
	w.report("Ports", "SELECT code FROM ports")
	w.job("Ports", tasks(reportOf("Ports")))
	nodes, err := w.c.Nodes(ctx)
	require.NoError(t, err)
	require.Len(t, nodes, 1)
	name := nodes[0].Name
	out, _, status := w.ironbell("nodes")
	assert.Zero(t, status)
	assert.Contains(t, out, name)

	out, errs, status := w.ironbell("nodes", "-finish", name, "-wait", "1m")
	assert.Zero(t, status, errs)
	assert.Contains(t, out, "takes no more work")
	assert.Contains(t, out, name+" is empty.")
	waits, err := w.c.Ring(ctx, "Ports", nil)
	require.NoError(t, err)
	w.seen(http.StatusServiceUnavailable, "nothing begins")
	out, _, _ = w.ironbell("nodes", "-work", name)
	assert.Contains(t, out, "takes work again")
	w.until("what waited is done", func() bool {
		page, err := w.c.Run(ctx, waits.ID)
		require.NoError(t, err)
		return page.State == job.RunDone
	})
	w.seen(http.StatusOK, "1 node lives.")

	for _, wrong := range [][]string{{"-finish", "pier"}, {"-wait", "1m"}, {"-finish", name, "-work", name}, {"quay"}} {
		_, errs, status = w.ironbell(append([]string{"nodes"}, wrong...)...)
		assert.NotZero(t, status, wrong)
		assert.NotEmpty(t, errs, wrong)
	}
}

func TestHowLongThingsAreKeptIsSaid(t *testing.T) {
	w := open(t)
	ctx := context.Background()
	is, err := w.c.Keeping(ctx)
	require.NoError(t, err)
	assert.Positive(t, is.Alerts)
	is.Alerts = 45
	require.NoError(t, w.c.SaveKeeping(ctx, is))
	now, err := w.c.Keeping(ctx)
	require.NoError(t, err)
	assert.Equal(t, is, now)
	is.Audit = -1
	var refused *client.Problem
	require.ErrorAs(t, w.c.SaveKeeping(ctx, is), &refused)
	assert.Equal(t, http.StatusUnprocessableEntity, refused.Status)
}
