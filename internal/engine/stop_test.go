package engine_test

import (
	"context"
	"fmt"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"ironbell/internal/core/job"
	"ironbell/internal/engine"
	"ironbell/internal/engine/crash"
	"ironbell/internal/localpg/lossy"
	"ironbell/internal/service"
	"ironbell/internal/store"
	"ironbell/internal/task"
)

// The word to stop comes at each named point. Whoever goes on finds nothing unknown,
// nothing done twice, and nothing lost.
func TestAnOrderlyStopAtEveryPoint(t *testing.T) {
	for _, point := range crash.Points {
		t.Run(point, func(t *testing.T) {
			o := open(t)
			var effects, over atomic.Int64
			var told sync.Once
			stopping := make(chan bool)
			o.strain.mean("effect", func(ctx context.Context, _ task.Work) (task.Result, error) {
				select {
				case <-stopping:
					over.Add(1) // begun after the word to stop
				default:
				}
				time.Sleep(20 * time.Millisecond)
				effects.Add(1)
				return task.Result{}, ctx.Err()
			})
			ctx, cancel := context.WithCancel(o.ctx)
			first := o.engine(nil, func(p *engine.Options) {
				p.Workers = 2
				p.At = func(at string) {
					if at == point {
						told.Do(func() {
							cancel()
							time.Sleep(10 * time.Millisecond)
							close(stopping)
						})
					}
				}
			})
			d := job.Definition{Overlap: job.OverlapTogether, Tasks: []job.Task{strained("file", "file"), effect("one", "effect"), effect("two", "effect"), mailed("a@tarnwick.example")}}
			const runs = 8
			for n := range runs {
				o.save(first, fmt.Sprintf("Job %d", n), d)
				o.ring(first, fmt.Sprintf("Job %d", n), service.Ask{})
			}
			if point == crash.Ring || point == crash.Rung {
				d.Triggers = ruled("every second between 00:00 and 23:59")
				o.save(first, "Job 0", d)
			}
			first.Run(ctx)
			o.exec(`UPDATE triggers SET next_due = NULL`)
			before := effects.Load()
			assert.LessOrEqual(t, over.Load(), int64(2), "what had begun may be at its first step")
			o.run(o.engine(nil))
			o.until("all runs end", func() bool { return o.number(`SELECT count(*) FROM runs WHERE ended_at IS NULL`) == 0 })
			all := o.number(`SELECT count(*) FROM runs`)
			assert.Equal(t, all, o.number(`SELECT count(*) FROM runs WHERE state = 'done'`), o.texts(`SELECT state || ': ' || reason FROM runs WHERE state <> 'done'`))
			assert.Equal(t, int64(2*all), effects.Load(), "each effect once; %d before the stop had ended", before)
			assert.Len(t, o.received("a@tarnwick.example"), all)
			assert.Zero(t, o.number(`SELECT count(*) FROM attempts WHERE state IN ('unknown', 'running')`))
			assert.Zero(t, o.number(`SELECT count(*) FROM deliveries WHERE state <> 'sent'`))
			assert.Zero(t, o.number(`SELECT count(*) FROM alerts`))
		})
	}
}

// What does not come to its end in time is broken off: a file begins anew elsewhere,
// and what changed something outside is unknown, truly.
func TestWhatTakesTooLongToStopIsBrokenOff(t *testing.T) {
	o := open(t)
	begun := make(chan string, 4)
	patient := func(name string) func(context.Context, task.Work) (task.Result, error) {
		return func(ctx context.Context, w task.Work) (task.Result, error) {
			if begun <- name; w.Try > 1 {
				return task.Result{}, nil
			}
			<-ctx.Done()
			return task.Result{}, ctx.Err()
		}
	}
	o.strain.mean("file", patient("file"))
	o.strain.mean("effect", patient("effect"))
	e := o.engine(nil, func(p *engine.Options) { p.Stop = 200 * time.Millisecond })
	o.save(e, "File", job.Definition{Tasks: []job.Task{strained("file", "file")}})
	o.save(e, "Effect", job.Definition{Tasks: []job.Task{effect("effect", "effect")}})
	file, change := o.ring(e, "File", service.Ask{}), o.ring(e, "Effect", service.Ask{})
	stop := o.run(e)
	hear(t, begun)
	hear(t, begun)
	stop()
	assert.Equal(t, []string{"lost"}, o.texts(`SELECT state FROM attempts WHERE run_id = $1`, file.ID))
	o.run(o.engine(nil))
	assert.Equal(t, job.RunDone, o.ended(file.ID).State)
	assert.Contains(t, o.ended(change.ID).Reason, "nobody knows how far it came")
}

// A node that is told to finish takes no more work, and says when it is empty.
func TestANodeThatFinishes(t *testing.T) {
	o := open(t)
	begun, goOn := make(chan bool), make(chan bool)
	o.strain.mean("long", func(context.Context, task.Work) (task.Result, error) {
		begun <- true
		<-goOn
		return task.Result{}, nil
	})
	e := o.engine(nil, func(p *engine.Options) { p.Node = "quay" })
	o.save(e, "Long", job.Definition{Tasks: []job.Task{strained("long", "long"), strained("more", "ok")}, Overlap: job.OverlapTogether})
	first := o.ring(e, "Long", service.Ask{})
	o.run(e)
	hear(t, begun)
	require.NoError(t, e.Installation.Finish(o.ctx, o.sefa, "quay", true))
	node := func() store.Node {
		all, err := e.Installation.Nodes(o.ctx)
		require.NoError(t, err)
		require.Len(t, all, 1)
		return all[0]
	}
	o.until("it knows", func() bool { return e.Node.Finishing.Load() })
	second := o.ring(e, "Long", service.Ask{})
	assert.True(t, node().Finishing)
	goOn <- true
	assert.Equal(t, job.RunDone, o.ended(first.ID).State, "what it has comes to its end, task by task")
	o.until("it is empty", func() bool { return node().Parts == 0 })
	assert.Equal(t, 1, o.number(`SELECT count(*) FROM runs WHERE id = $1 AND state = 'waiting'`, second.ID))
	require.NoError(t, e.Installation.Finish(o.ctx, o.sefa, "quay", false))
	hear(t, begun)
	goOn <- true
	o.ended(second.ID)
	assert.ErrorContains(t, e.Installation.Finish(o.ctx, o.mara, "quay", true), "administrator")
	assert.ErrorContains(t, e.Installation.Finish(o.ctx, o.sefa, "pier", true), `no node "pier"`)
}

// The answer to a claim is lost: the node gives back what it may have, of which nothing
// began, and nobody waits for its lease.
func TestALostAnswerToAClaim(t *testing.T) {
	o := open(t)
	line, dsn, err := lossy.Open(o.dsn)
	require.NoError(t, err)
	t.Cleanup(line.Close)
	s, err := store.Open(o.ctx, dsn, store.Options{Conns: 5})
	require.NoError(t, err)
	t.Cleanup(s.Close)
	var effects atomic.Int64
	o.strain.mean("effect", func(context.Context, task.Work) (task.Result, error) {
		effects.Add(1)
		return task.Result{}, nil
	})
	d := job.Definition{Tasks: []job.Task{effect("one", "effect")}}
	setUp := o.engine(nil)
	o.save(setUp, "Change", d)
	run := o.ring(setUp, "Change", service.Ask{})
	line.LoseAfter("INSERT INTO attempts")
	o.run(o.engineOn(s, nil, func(p *engine.Options) { p.Lease = time.Hour }))
	assert.Equal(t, job.RunDone, o.ended(run.ID).State)
	assert.Equal(t, 1, line.Lost())
	assert.Equal(t, int64(1), effects.Load())
	assert.Equal(t, []string{"lost", "done"}, o.texts(`SELECT state FROM attempts WHERE run_id = $1 ORDER BY try`, run.ID))
}

// A claim that was not written for good is called as the one that another node made of the
// same part: that one's work goes on.
func TestAClaimInDoubtTakesNothingFromAnother(t *testing.T) {
	o := open(t)
	e := o.engine(nil, func(p *engine.Options) { p.Node = "quay" })
	o.save(e, "Change", job.Definition{Tasks: []job.Task{effect("one", "ok")}})
	run := o.ring(e, "Change", service.Ask{})
	e.Worker.Doubt(o.ctx, []store.Claim{{RunID: run.ID, Part: 1, LeaseNo: 1}})
	assert.Equal(t, "waiting", o.text(`SELECT state FROM parts WHERE run_id = $1`, run.ID), "it was not claimed at all")
	claims, _, err := o.store.ClaimParts(o.ctx, "pier", time.Hour, 10, e.Worker.FirstTasks)
	require.NoError(t, err)
	require.Len(t, claims, 1)
	stands := func() string {
		return o.text(`SELECT p.state || ' at ' || p.node || ', ' || a.state FROM parts p JOIN attempts a USING (run_id) WHERE run_id = $1`, run.ID)
	}
	e.Worker.Doubt(o.ctx, claims)
	assert.Equal(t, "running at pier, running", stands())
	o.exec(`UPDATE parts SET node = 'quay', entry_no = 1 WHERE run_id = $1`, run.ID)
	e.Worker.Doubt(o.ctx, claims)
	assert.Equal(t, "running at quay, running", stands(), "something was written under it")
	o.exec(`UPDATE parts SET entry_no = 0 WHERE run_id = $1`, run.ID)
	e.Worker.Doubt(o.ctx, claims)
	assert.Equal(t, "waiting at quay, lost", stands())

	// Its commit is still on the way: it is waited for.
	late := o.ring(e, "Change", service.Ask{})
	o.exec(`UPDATE parts SET state = 'done' WHERE run_id = $1`, run.ID)
	tx, err := o.db.BeginTxx(o.ctx, nil)
	require.NoError(t, err)
	_, err = tx.ExecContext(o.ctx, `UPDATE parts SET state = 'running', node = 'quay', lease_no = 1, lease_until = now() + interval '1 hour' WHERE run_id = $1`, late.ID)
	require.NoError(t, err)
	done := make(chan bool)
	go func() {
		defer close(done)
		e.Worker.Doubt(o.ctx, []store.Claim{{RunID: late.ID, Part: 1, LeaseNo: 1}})
	}()
	o.until("it waits", func() bool { return o.number(`SELECT count(*) FROM pg_locks WHERE NOT granted`) > 0 })
	require.NoError(t, tx.Commit())
	<-done
	assert.Equal(t, "waiting", o.text(`SELECT state FROM parts WHERE run_id = $1`, late.ID))
}

// The answers to commits are lost: whatever was written is known again, and stands once.
func TestLostAnswersToCommits(t *testing.T) {
	o := open(t)
	line, dsn, err := lossy.Open(o.dsn)
	require.NoError(t, err)
	t.Cleanup(line.Close)
	s, err := store.Open(o.ctx, dsn, store.Options{Conns: 10})
	require.NoError(t, err)
	t.Cleanup(s.Close)
	var effects atomic.Int64
	o.strain.mean("effect", func(context.Context, task.Work) (task.Result, error) {
		effects.Add(1)
		return task.Result{}, nil
	})
	e := o.engineOn(s, nil, func(p *engine.Options) { p.Workers, p.Lease = 4, 20*time.Second }) // beyond all that is lost
	const runs = 30
	d := job.Definition{Overlap: job.OverlapTogether, Tasks: []job.Task{strained("file", "file"), effect("one", "effect"), mailed("a@tarnwick.example"), effect("two", "effect", "mail")}}
	for n := range runs {
		o.save(o.engine(nil), fmt.Sprintf("Job %d", n), d)
		o.ring(o.engine(nil), fmt.Sprintf("Job %d", n), service.Ask{})
	}
	o.run(e)
	for range 25 {
		for _, table := range []string{"attempts", "messages", "parts"} {
			line.LoseAfter(table)
			time.Sleep(15 * time.Millisecond)
		}
	}
	o.until("all runs end", func() bool { return o.number(`SELECT count(*) FROM runs WHERE ended_at IS NULL`) == 0 })
	assert.Positive(t, line.Lost())
	t.Logf("%d answers were lost", line.Lost())
	assert.Empty(t, o.texts(`SELECT state || ': ' || reason FROM runs WHERE state <> 'done'`), "none was given up")
	assert.Equal(t, runs, o.number(`SELECT count(*) FROM messages WHERE run_id IS NOT NULL`), "one message for each run")
	assert.Equal(t, runs, o.number(`SELECT count(*) FROM deliveries WHERE run_id IS NOT NULL`))
	assert.Equal(t, runs, o.number(`SELECT count(*) FROM artifacts`))
	assert.Zero(t,
		o.number(`SELECT count(*) FROM (SELECT 1 FROM attempts WHERE state = 'done' GROUP BY run_id, part, task HAVING count(*) > 1) twice`))
	assert.Equal(t, int64(2*runs), effects.Load())
}
