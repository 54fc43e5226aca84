package watcher_test

import (
	"fmt"
	"testing"
	"time"

	"ironbell/internal/core/job"
	"ironbell/internal/engine/enginetest"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// What comes together makes one run when nothing more came, or when it has been gathered long enough.
func TestWhatComesTogetherIsGathered(t *testing.T) {
	o := open(t)
	clock := enginetest.ClockAt(enginetest.London(11, 23, 9, 0))
	e := o.Engine(clock)
	w := files("in/*.csv", func(f *job.FileWatch) { f.Unchanged = 1 }) // by the office's clock, which is not the folder's
	w.Gather, w.GatherMost = job.Duration(2*time.Minute), job.Duration(5*time.Minute)
	j := o.waits(e, "Tides", w, path)
	o.put("in/old.txt", "")
	o.look(e)
	come := func(n int) {
		o.put(fmt.Sprintf("in/%d.csv", n), "1")
		o.look(e)
		clock.Turn(time.Microsecond)
		o.look(e)
	}
	come(1)
	clock.Turn(time.Minute)
	come(2)
	clock.Turn(119 * time.Second)
	o.look(e)
	assert.Empty(t, o.runs(j, "file"))
	clock.Turn(2 * time.Second)
	o.look(e)
	assert.Equal(t, []string{"in/2.csv"}, o.runs(j, "file"), "one run, with values of the last")
	assert.Contains(t, o.Text(`SELECT why FROM runs WHERE job_id = $1`, j.ID),
		"2 happenings, gathered since 09:00 GMT; the last: File in/2.csv arrived at gauges.")
	for n := 3; n < 8; n++ { // it never stops
		come(n)
		clock.Turn(time.Minute)
		o.look(e)
	}
	assert.Len(t, o.runs(j, "file"), 2, "after five minutes it is enough")
}

// Outside of its permitted hours what happens waits, or is passed over, and a job that was started is left
// alone for a while.
func TestWhatHappensWaitsForPermittedHours(t *testing.T) {
	o := open(t)
	clock := enginetest.ClockAt(enginetest.London(11, 23, 21, 0))
	e := o.Engine(clock)
	save := func(name string, w job.Wait, hours ...string) job.Job {
		w.For = []job.Condition{{Event: "example.tarnwick.closed"}}
		return o.Save(e, name, job.Definition{
			Triggers: []job.Trigger{{Timing: job.Timing{Hours: hours}, Wait: &w}}, Overlap: job.OverlapTogether,
		})
	}
	waits := save("Waits", job.Wait{}, "06:00-20:00")
	over := save("Over", job.Wait{Outside: job.OutsidePassOver}, "06:00-20:00")
	night := save("Night", job.Wait{}, "20:00-04:00")
	quiet := save("Quiet", job.Wait{Quiet: job.Duration(30 * time.Minute)})
	count := func(j job.Job) int { return o.Number(`SELECT count(*) FROM runs WHERE job_id = $1`, j.ID) }
	o.Event(e, "1", clock.Now())
	clock.Turn(10 * time.Minute)
	o.Event(e, "2", clock.Now())
	assert.Equal(t, []int{2, 0, 2, 1}, []int{count(waits), count(over), count(night), count(quiet)})
	assert.Equal(t, 2, o.Number(`SELECT count(*) FROM parts WHERE job_id = $1 AND ready_at = '2026-11-24 06:00:00+00'`, waits.ID),
		"each has its run, which waits for the morning")
	assert.Contains(t, o.Text(`SELECT why FROM runs WHERE job_id = $1 LIMIT 1`, waits.ID),
		"It begins at Tue 24 November 06:00 GMT, when its permitted hours do.")
	note := o.Text(`SELECT note FROM events ORDER BY id DESC LIMIT 1`)
	assert.Contains(t, note, "Over passes it over: it starts between 06:00-20:00 only")
	assert.Contains(t, note, "Quiet was started at 21:00 GMT, and starts by nothing else until 21:30 GMT")
	clock.Set(enginetest.London(11, 24, 6, 0).Add(time.Second))
	o.Event(e, "3", clock.Now())
	assert.Equal(t, []int{3, 1, 3, 2}, []int{count(waits), count(over), count(night), count(quiet)})
	assert.Equal(t, 1, o.Number(`SELECT count(*) FROM parts WHERE job_id = $1 AND ready_at = '2026-11-24 20:00:00+00'`, night.ID))
}

// A job that is off is started by what happens only when it says so.
func TestAJobThatIsOffIsStartedOnlyWhenItSaysSo(t *testing.T) {
	o := open(t)
	e := o.Engine(enginetest.ClockAt(enginetest.London(11, 23, 9, 0)))
	save := func(name string, w job.Wait) job.Job {
		w.For = []job.Condition{{Event: "example.tarnwick.closed"}}
		j := o.Save(e, name, job.Definition{Triggers: []job.Trigger{{Wait: &w}, {Timing: job.Timing{Rule: "at 08:00"}}}})
		_, err := e.Jobs.Switch(o.Ctx, o.Mara, name, false)
		require.NoError(t, err)
		return j
	}
	sleeps, wakes := save("Sleeps", job.Wait{}), save("Wakes", job.Wait{WhileOff: true})
	assert.Len(t, o.Event(e, "1", enginetest.London(11, 23, 9, 0)), 1)
	assert.Equal(t, []int{0, 1}, []int{
		o.Number(`SELECT count(*) FROM runs WHERE job_id = $1`, sleeps.ID), o.Number(`SELECT count(*) FROM runs WHERE job_id = $1`, wakes.ID),
	})
	assert.Zero(t, o.Number(`SELECT count(*) FROM triggers WHERE next_due IS NOT NULL`), "its rule rings not")
}
