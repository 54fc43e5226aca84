package rests_test

import (
	"context"
	"errors"
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

// A dead source is one alert for all jobs that need it; their runs wait, and go on.
func TestADeadSourceIsOneAlert(t *testing.T) {
	o := enginetest.Open(t)
	e := o.Engine(nil)
	o.Source("tarnwick")
	o.Report(e, "Ports", job.ReportDefinition{Sections: enginetest.Section("SELECT 1 AS one")})
	for _, name := range []string{"A", "B", "C"} {
		o.Save(e, name, job.Definition{Tasks: []job.Task{enginetest.Reported("report", "Ports")}})
	}
	settings := o.Text(`SELECT settings::text FROM sources`)
	o.Exec(`UPDATE sources SET settings = jsonb_set(settings, '{port}', '1'), updated_at = now() + interval '1 second'`)
	o.Run(e)
	var runs []job.RunID
	for _, name := range []string{"A", "B", "C"} {
		runs = append(runs, o.Ring(e, name, service.Ask{}).ID)
	}
	o.Until("it rests", func() bool { return o.Number(`SELECT count(*) FROM rests`) == 1 })
	o.Until("all wait", func() bool { return o.Number(`SELECT count(*) FROM parts WHERE state = 'waiting'`) == 3 })
	assert.Equal(t, 1, o.Number(`SELECT count(*) FROM alerts`))
	assert.Contains(t, o.Text(`SELECT happened FROM alerts`), `The source "tarnwick" does not work.`)
	// One waited as long as its job says.
	o.Exec(`UPDATE runs SET created_at = now() - interval '25 hours' WHERE id = $1`, runs[0])
	assert.Equal(t, job.RunFailed, o.Ended(runs[0]).State)
	o.Exec(`UPDATE sources SET settings = $1, updated_at = now() + interval '2 seconds'`, settings)
	o.Exec(`UPDATE rests SET probe_at = now()`)
	for _, id := range runs[1:] {
		assert.Equal(t, job.RunDone, o.Ended(id).State)
	}
	assert.Equal(t, 1,
		o.Number(`SELECT count(*) FROM alerts WHERE cause = 'rest:source:tarnwick' AND state = 'closed'`))

	// A refused password is tried once more, and then only after its record changes.
	o.Exec(`UPDATE sources SET secret = '', updated_at = now() + interval '3 seconds'`)
	run := o.Ring(e, "B", service.Ask{})
	o.Until("it is left alone",
		func() bool { return o.Number(`SELECT count(*) FROM rests WHERE probe_at IS NULL`) == 1 })
	assert.Equal(t, 2, o.Number(`SELECT probes FROM rests`))
	_, err := e.Runs.Cancel(o.Ctx, o.Mara, run.ID)
	require.NoError(t, err)
}

// A full disk of the artifacts is one alert, and the mail about it needs no disk.
func TestAFullDiskIsOneAlert(t *testing.T) {
	o := enginetest.Open(t)
	e := o.Engine(nil)
	full := true
	o.Strain.Mean("write", func(context.Context, task.Work) (task.Result, error) {
		if full {
			return task.Result{},
				fault.Wrap(errors.New("no space left on device"), fault.Passing, fault.Store,
					"write to the store of artifacts", "Make room.")
		}
		return task.Result{}, nil
	})
	for _, name := range []string{"A", "B"} {
		o.Save(e, name, job.Definition{
			Tasks: []job.Task{enginetest.Strained("file", "write")},
			Retry: job.Retry{Times: 50, Wait: job.Duration(100 * time.Millisecond)},
		})
	}
	o.Run(e)
	o.Until("it works", func() bool { return o.Number(`SELECT count(*) FROM nodes`) == 1 })
	require.NoError(t, e.Files.Close()) // nothing can be written or read any more
	runs := []job.RunID{o.Ring(e, "A", service.Ask{}).ID, o.Ring(e, "B", service.Ask{}).ID}
	o.Until("the administrator is told", func() bool { return len(o.Received("sefa@tarnwick.example")) == 1 })
	assert.Equal(t, []string{"Down: Store of artifacts"}, o.Received("sefa@tarnwick.example"))
	assert.Equal(t, 1, o.Number(`SELECT count(*) FROM alerts`))
	o.Until("both wait for it", func() bool {
		return o.Number(`SELECT count(*) FROM parts WHERE state = 'waiting' AND labels @> ARRAY['service']`) == 2
	})
	full = false
	require.NoError(t, e.Rests.EndRest(o.Ctx, "service", "test"))
	for _, id := range runs {
		assert.Equal(t, job.RunDone, o.Ended(id).State)
	}
}
