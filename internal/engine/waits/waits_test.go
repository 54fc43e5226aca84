package waits_test

import (
	"testing"
	"time"

	"ironbell/internal/core/job"
	"ironbell/internal/engine/enginetest"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func waiting(rule string, w job.Wait) []job.Trigger {
	if w.For == nil {
		w.For = []job.Condition{{Event: "example.tarnwick.closed"}}
	}
	return []job.Trigger{{Timing: job.Timing{Rule: rule}, Wait: &w}}
}

// One event counts for all rings of its day, whether it came before or after.
func TestOneEventLetsAllRingsOfItsDayGo(t *testing.T) {
	o := enginetest.Open(t)
	clock := enginetest.ClockAt(enginetest.London(11, 23, 5, 0))
	e := o.Engine(clock)
	d := job.Definition{Overlap: job.OverlapPassOver, Triggers: waiting("at 06:00, 09:00, 12:00 and 15:00", job.Wait{})}
	j := o.Save(e, "Stocks", d)
	once := o.Save(e, "Once", job.Definition{Triggers: waiting("at 06:00, 09:00 and 12:00", job.Wait{Once: true})})
	window := o.Save(e, "Window",
		job.Definition{Triggers: waiting("at 06:00, 09:00 and 12:00", job.Wait{
			Match: job.MatchWindow, Within: job.Duration(119 * time.Minute),
		})})
	for _, hour := range []int{6, 9} {
		clock.Set(enginetest.London(11, 23, hour, 0).Add(time.Second))
		o.Pass(e)
	}
	free := func(j job.Job) int {
		return o.Number(`SELECT count(*) FROM parts WHERE job_id = $1 AND NOT held AND state = 'waiting'`, j.ID)
	}
	assert.Equal(t, []string{"23 06:00 run: on time", "23 09:00 run: on time"}, o.Rings(j),
		"what waits is not the last run that works")
	assert.Zero(t, free(j)+free(once)+free(window))
	missing, err := e.Runs.Missing(o.Ctx,
		job.Run{ID: job.RunID(o.Number(`SELECT min(id) FROM runs WHERE job_id = $1`, j.ID))})
	require.NoError(t, err)
	assert.Len(t, missing, 1)
	clock.Set(enginetest.London(11, 23, 10, 0))
	assert.Len(t, o.Event(e, "1", clock.Now()), 3)
	assert.Equal(t, 2, free(j), "both rings before it")
	assert.Equal(t, 1, free(once), "the oldest")
	assert.Equal(t, 1, free(window), "the one within two hours of it")
	o.Exec(`UPDATE parts SET state = 'done' WHERE job_id = $1 AND NOT held`, j.ID)
	for _, hour := range []int{12, 15} {
		clock.Set(enginetest.London(11, 23, hour, 0).Add(time.Second))
		o.Pass(e)
		o.Exec(`UPDATE parts SET state = 'done' WHERE job_id = $1 AND NOT held`, j.ID)
	}
	assert.Equal(t, 4, o.Number(`SELECT count(*) FROM parts WHERE job_id = $1 AND NOT held`, j.ID),
		"and those after it")
	assert.Equal(t, 1, free(once))
	assert.Equal(t, 1, free(window), "12:00 lies two hours after it")
	clock.Set(enginetest.London(11, 24, 6, 0).Add(time.Second))
	o.Pass(e)
	assert.Equal(t, 1, o.Number(`SELECT count(*) FROM parts WHERE job_id = $1 AND held`, j.ID),
		"tomorrow is another day")

	// Switched off, what waits ends with that reason, and nobody is told that it waited in vain.
	_, err = e.Jobs.Switch(o.Ctx, o.Mara, "Stocks", false)
	require.NoError(t, err)
	assert.Contains(t, o.Text(`SELECT reason FROM runs WHERE job_id = $1 ORDER BY id DESC LIMIT 1`, j.ID),
		"the job was switched off at 06:00:01 GMT by Mara Quill while the run waited")
	assert.Zero(t, o.Number(`SELECT count(*) FROM parts WHERE job_id = $1 AND held AND state = 'waiting'`, j.ID))
	assert.Zero(t,
		o.Number(`SELECT count(*) FROM held_runs r JOIN triggers t ON t.id = r.trigger_id WHERE t.job_id = $1`, j.ID))
	clock.Turn(time.Hour)
	assert.Len(t, o.Event(e, "2", enginetest.London(11, 24, 6, 30)), 2, "the other two go by it")
	o.Exec(`UPDATE parts SET ready_at = now() - interval '1 hour' WHERE held`)
	require.NoError(t, e.Waits.GiveUp(o.Ctx))
	assert.Zero(t, o.Number(`SELECT count(*) FROM alerts WHERE job_id = $1`, j.ID))
}
