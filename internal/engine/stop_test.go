package engine_test

import (
	"context"
	"errors"
	"fmt"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"ironbell/internal/core/job"
	"ironbell/internal/engine"
	"ironbell/internal/engine/crash"
	"ironbell/internal/engine/enginetest"
	"ironbell/internal/service"
	"ironbell/internal/store/db"
	"ironbell/internal/store/operation"
	"ironbell/internal/task"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// An answer that was lost is no reason to ring twice.
func TestTheRefusedAreToldFromTheAbsent(t *testing.T) {
	assert.False(t, db.Refused(context.DeadlineExceeded))
	assert.True(t, db.Refused(errors.New("the rule can no longer be read")))
}

// The word to stop comes at each named point. Whoever goes on finds nothing unknown,
// nothing done twice, and nothing lost.
func TestAnOrderlyStopAtEveryPoint(t *testing.T) {
	for _, point := range crash.Points {
		t.Run(point, func(t *testing.T) {
			o := enginetest.Open(t)
			var effects, over atomic.Int64
			var told sync.Once
			stopping := make(chan bool)
			o.Strain.Mean("effect", func(ctx context.Context, _ task.Work) (task.Result, error) {
				select {
				case <-stopping:
					over.Add(1) // begun after the word to stop
				default:
				}
				time.Sleep(20 * time.Millisecond)
				effects.Add(1)
				return task.Result{}, ctx.Err()
			})
			ctx, cancel := context.WithCancel(o.Ctx)
			first := o.Engine(nil, func(p *engine.Options) {
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
			d := job.Definition{
				Overlap: job.OverlapTogether,
				Tasks: []job.Task{
					enginetest.Strained("file", "file"), enginetest.Effect("one", "effect"),
					enginetest.Effect("two", "effect"), enginetest.Mailed("a@tarnwick.example"),
				},
			}
			const runs = 8
			for n := range runs {
				o.Save(first, fmt.Sprintf("Job %d", n), d)
				o.Ring(first, fmt.Sprintf("Job %d", n), service.Ask{})
			}
			if point == crash.Ring || point == crash.Rung {
				d.Triggers = enginetest.Ruled("every second between 00:00 and 23:59")
				o.Save(first, "Job 0", d)
			}
			first.Run(ctx)
			o.Exec(`UPDATE triggers SET next_due = NULL`)
			before := effects.Load()
			assert.LessOrEqual(t, over.Load(), int64(2), "what had begun may be at its first step")
			o.Run(o.Engine(nil))
			o.Until("all runs end",
				func() bool { return o.Number(`SELECT count(*) FROM runs WHERE ended_at IS NULL`) == 0 })
			all := o.Number(`SELECT count(*) FROM runs`)
			assert.Equal(t, all, o.Number(`SELECT count(*) FROM runs WHERE state = 'done'`),
				o.Texts(`SELECT state || ': ' || reason FROM runs WHERE state <> 'done'`))
			assert.Equal(t, int64(2*all), effects.Load(), "each effect once; %d before the stop had ended", before)
			assert.Len(t, o.Received("a@tarnwick.example"), all)
			assert.Zero(t, o.Number(`SELECT count(*) FROM attempts WHERE state IN ('unknown', 'running')`))
			assert.Zero(t, o.Number(`SELECT count(*) FROM deliveries WHERE state <> 'sent'`))
			assert.Zero(t, o.Number(`SELECT count(*) FROM alerts`))
		})
	}
}

// What does not come to its end in time is broken off: a file begins anew elsewhere,
// and what changed something outside is unknown, truly.
func TestWhatTakesTooLongToStopIsBrokenOff(t *testing.T) {
	o := enginetest.Open(t)
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
	o.Strain.Mean("file", patient("file"))
	o.Strain.Mean("effect", patient("effect"))
	e := o.Engine(nil, func(p *engine.Options) { p.Stop = 200 * time.Millisecond })
	o.Save(e, "File", job.Definition{Tasks: []job.Task{enginetest.Strained("file", "file")}})
	o.Save(e, "Effect", job.Definition{Tasks: []job.Task{enginetest.Effect("effect", "effect")}})
	file, change := o.Ring(e, "File", service.Ask{}), o.Ring(e, "Effect", service.Ask{})
	stop := o.Run(e)
	enginetest.Hear(t, begun)
	enginetest.Hear(t, begun)
	stop()
	assert.Equal(t, []string{"lost"}, o.Texts(`SELECT state FROM attempts WHERE run_id = $1`, file.ID))
	o.Run(o.Engine(nil))
	assert.Equal(t, job.RunDone, o.Ended(file.ID).State)
	assert.Contains(t, o.Ended(change.ID).Reason, "nobody knows how far it came")
}

// A node that is told to finish takes no more work, and says when it is empty.
func TestANodeThatFinishes(t *testing.T) {
	o := enginetest.Open(t)
	begun, goOn := make(chan bool), make(chan bool)
	o.Strain.Mean("long", func(context.Context, task.Work) (task.Result, error) {
		begun <- true
		<-goOn
		return task.Result{}, nil
	})
	e := o.Engine(nil, func(p *engine.Options) { p.Node = "quay" })
	o.Save(e, "Long", job.Definition{
		Tasks:   []job.Task{enginetest.Strained("long", "long"), enginetest.Strained("more", "ok")},
		Overlap: job.OverlapTogether,
	})
	first := o.Ring(e, "Long", service.Ask{})
	o.Run(e)
	enginetest.Hear(t, begun)
	require.NoError(t, e.Installation.Finish(o.Ctx, o.Sefa, "quay", true))
	node := func() operation.Node {
		all, err := e.Installation.Nodes(o.Ctx)
		require.NoError(t, err)
		require.Len(t, all, 1)
		return all[0]
	}
	o.Until("it knows", func() bool { return e.Node.Finishing.Load() })
	second := o.Ring(e, "Long", service.Ask{})
	assert.True(t, node().Finishing)
	goOn <- true
	assert.Equal(t, job.RunDone, o.Ended(first.ID).State, "what it has comes to its end, task by task")
	o.Until("it is empty", func() bool { return node().Parts == 0 })
	assert.Equal(t, 1, o.Number(`SELECT count(*) FROM runs WHERE id = $1 AND state = 'waiting'`, second.ID))
	require.NoError(t, e.Installation.Finish(o.Ctx, o.Sefa, "quay", false))
	enginetest.Hear(t, begun)
	goOn <- true
	o.Ended(second.ID)
	assert.ErrorContains(t, e.Installation.Finish(o.Ctx, o.Mara, "quay", true), "administrator")
	assert.ErrorContains(t, e.Installation.Finish(o.Ctx, o.Sefa, "pier", true), `no node "pier"`)
}
