package worker_test

import (
	"testing"
	"time"

	"ironbell/internal/core/job"
	"ironbell/internal/engine"
	"ironbell/internal/engine/enginetest"
	"ironbell/internal/service"
	"ironbell/internal/store/queue"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// The answer to a claim is lost: the node gives back what it may have, of which nothing
// began, and nobody waits for its lease.
func TestALostAnswerToAClaim(t *testing.T) {
	o := enginetest.Open(t)
	line, s := o.Lossy()
	effects := o.Strain.Effects()
	d := job.Definition{Tasks: []job.Task{enginetest.Effect("one", "effect")}}
	setUp := o.Engine(nil)
	o.Save(setUp, "Change", d)
	run := o.Ring(setUp, "Change", service.Ask{})
	line.LoseAfter("INSERT INTO attempts")
	o.Run(o.EngineOn(s, nil, func(p *engine.Options) { p.Lease = time.Hour }))
	assert.Equal(t, job.RunDone, o.Ended(run.ID).State)
	assert.Equal(t, 1, line.Lost())
	assert.Equal(t, int64(1), effects.Load())
	assert.Equal(t, []string{"lost", "done"},
		o.Texts(`SELECT state FROM attempts WHERE run_id = $1 ORDER BY try`, run.ID))
}

// A claim that was not written for good is called as the one that another node made of the
// same part: that one's work goes on.
func TestAClaimInDoubtTakesNothingFromAnother(t *testing.T) {
	o := enginetest.Open(t)
	e := o.Engine(nil, func(p *engine.Options) { p.Node = "quay" })
	o.Save(e, "Change", job.Definition{Tasks: []job.Task{enginetest.Effect("one", "ok")}})
	run := o.Ring(e, "Change", service.Ask{})
	e.Worker.Doubt(o.Ctx, []queue.Claim{{RunID: run.ID, Part: 1, LeaseNo: 1}})
	assert.Equal(t, "waiting", o.Text(`SELECT state FROM parts WHERE run_id = $1`, run.ID), "it was not claimed at all")
	claims, _, err := o.Store.ClaimParts(o.Ctx, "pier", time.Hour, 10, e.Worker.FirstTasks)
	require.NoError(t, err)
	require.Len(t, claims, 1)
	stands := func() string {
		return o.Text(`SELECT p.state || ' at ' || p.node || ', ' || a.state FROM parts p JOIN attempts a USING (run_id) WHERE run_id = $1`, run.ID)
	}
	e.Worker.Doubt(o.Ctx, claims)
	assert.Equal(t, "running at pier, running", stands())
	o.Exec(`UPDATE parts SET node = 'quay', entry_no = 1 WHERE run_id = $1`, run.ID)
	e.Worker.Doubt(o.Ctx, claims)
	assert.Equal(t, "running at quay, running", stands(), "something was written under it")
	o.Exec(`UPDATE parts SET entry_no = 0 WHERE run_id = $1`, run.ID)
	e.Worker.Doubt(o.Ctx, claims)
	assert.Equal(t, "waiting at quay, lost", stands())

	// Its commit is still on the way: it is waited for.
	late := o.Ring(e, "Change", service.Ask{})
	o.Exec(`UPDATE parts SET state = 'done' WHERE run_id = $1`, run.ID)
	tx, err := o.DB.BeginTxx(o.Ctx, nil)
	require.NoError(t, err)
	_, err = tx.ExecContext(o.Ctx,
		`UPDATE parts SET state = 'running', node = 'quay', lease_no = 1, lease_until = now() + interval '1 hour' WHERE run_id = $1`, late.ID)
	require.NoError(t, err)
	done := make(chan bool)
	go func() {
		defer close(done)
		e.Worker.Doubt(o.Ctx, []queue.Claim{{RunID: late.ID, Part: 1, LeaseNo: 1}})
	}()
	o.Until("it waits", func() bool { return o.Number(`SELECT count(*) FROM pg_locks WHERE NOT granted`) > 0 })
	require.NoError(t, tx.Commit())
	<-done
	assert.Equal(t, "waiting", o.Text(`SELECT state FROM parts WHERE run_id = $1`, late.ID))
}
