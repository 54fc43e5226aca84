package settle_test

import (
	"context"
	"testing"
	"time"

	"ironbell/internal/core/fault"
	"ironbell/internal/core/job"
	"ironbell/internal/engine/enginetest"
	"ironbell/internal/service"
	"ironbell/internal/task"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// An alert closes when each of its runs was put right, by whatever puts it right.
func TestAnAlertClosesWhenAllItsRunsAreMended(t *testing.T) {
	o := enginetest.Open(t)
	e := o.Engine(nil)
	broken := true
	o.Strain.Mean("sometimes", func(context.Context, task.Work) (task.Result, error) {
		if broken {
			return task.Result{}, fault.New(fault.Task, "strain", "it fails for good", "")
		}
		return task.Result{}, nil
	})
	o.Save(e, "Board", job.Definition{Tasks: []job.Task{enginetest.Strained("look", "sometimes")}})
	o.Run(e)
	first, second, third := o.Ended(o.Ring(e, "Board", service.Ask{}).ID),
		o.Ended(o.Ring(e, "Board", service.Ask{}).ID), o.Ended(o.Ring(e, "Board", service.Ask{}).ID)
	open := func() int { return o.Number(`SELECT count(*) FROM alerts WHERE state <> 'closed'`) }
	assert.Equal(t, 1, open(), "one cause, one alert")
	broken = false
	_, err := e.Runs.Again(o.Ctx, o.Mara, third.ID, service.More{})
	require.NoError(t, err)
	o.Ended(third.ID)
	o.Ended(o.Ring(e, "Board", service.Ask{}).ID)
	assert.Equal(t, 1, open(), "the newest was mended, and the next succeeded; two were not")
	again, err := e.Runs.Again(o.Ctx, o.Mara, second.ID, service.More{Whole: true})
	require.NoError(t, err)
	o.Ended(again.ID)
	assert.Equal(t, 1, open())
	again, err = e.Runs.Again(o.Ctx, o.Mara, first.ID, service.More{Whole: true})
	require.NoError(t, err)
	o.Ended(again.ID)
	assert.Zero(t, open(), "one that is made again with success puts the first right")

	// A run that was cancelled is late no more.
	held := make(chan bool)
	o.Strain.Mean("hold", func(ctx context.Context, _ task.Work) (task.Result, error) {
		select {
		case <-held:
		case <-ctx.Done():
		}
		return task.Result{}, ctx.Err()
	})
	o.Save(e, "Late", job.Definition{
		Tasks:    []job.Task{enginetest.Strained("look", "hold")},
		Deadline: job.Deadline{Within: job.Duration(time.Minute)},
	})
	run := o.Ring(e, "Late", service.Ask{})
	o.Exec(`UPDATE runs SET warn_at = now(), deadline = now() - interval '1 second' WHERE id = $1`, run.ID)
	require.NoError(t, e.Upkeep.Warn(o.Ctx))
	o.Until("it is late", func() bool { return open() == 1 }) // perhaps the node warns just now
	_, err = e.Runs.Cancel(o.Ctx, o.Mara, run.ID)
	require.NoError(t, err)
	assert.Zero(t, open())

	// Of two tasks that fail side by side both are named.
	o.Strain.Mean("other", func(context.Context, task.Work) (task.Result, error) {
		return task.Result{}, fault.New(fault.Task, "strain", "the other fails, too", "")
	})
	o.Save(e, "Two",
		job.Definition{Tasks: []job.Task{
			enginetest.Strained("one", "lasting"),
			{Name: "two", Kind: job.KindFetch, Fetch: &job.FetchTask{URL: "other"}, After: []string{}},
		}})
	o.Ended(o.Ring(e, "Two", service.Ask{}).ID)
	happened := o.Text(`SELECT happened FROM alerts WHERE job_name = 'Two'`)
	assert.Contains(t, happened, "it fails for good")
	assert.Contains(t, happened, "the other fails, too")
}
