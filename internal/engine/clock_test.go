package engine

import (
	"log/slog"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"ironbell/internal/core/job"
	"ironbell/internal/store"
)

func trigger(id, jobID int64, rule string, due time.Time, given job.Values) store.DueTrigger {
	t := store.DueTrigger{ID: id, JobID: jobID, Job: "Board", JobVersion: 1, Rule: rule, Zone: "Europe/London", AfterOutage: job.OutageOnce, Overlap: job.OverlapWait, NextDue: due}
	t.Given.V = given
	return t
}

func plans(now time.Time, due ...store.DueTrigger) store.RingPlan {
	e := New(&store.Store{}, nil, nil, nil, Options{Log: slog.New(slog.DiscardHandler)})
	p := e.plan(due, now)
	ids := make([]job.RunID, len(p.Runs))
	for i := range ids {
		ids[i] = job.RunID(1000 + i)
	}
	number(&p, ids)
	return p
}

var due = time.Date(2026, 11, 23, 7, 0, 0, 0, time.UTC)

func TestTriggersOfOneJobThatAreDueTogetherMakeOneRun(t *testing.T) {
	p := plans(due.Add(time.Second),
		trigger(1, 9, "0 * * * *", due, nil), trigger(2, 9, "0 7 * * *", due, job.Values{}), trigger(3, 9, "0 7 * * 1", due, job.Values{"day": "today"}), trigger(4, 8, "0 7 * * *", due, nil))
	require.Len(t, p.Runs, 3, "equal values make one run; other values, and other jobs, their own")
	require.Len(t, p.Rings, 4)
	assert.Equal(t, []job.RingDecision{"run", "joined", "run", "run"}, []job.RingDecision{p.Rings[0].Decision, p.Rings[1].Decision, p.Rings[2].Decision, p.Rings[3].Decision})
	assert.Equal(t, *p.Rings[0].RunID, *p.Rings[1].RunID)
	assert.Equal(t, due.Add(time.Hour), p.Next[1].UTC())
	assert.Equal(t, due.AddDate(0, 0, 1), p.Next[2].UTC())
	assert.Equal(t, due.AddDate(0, 0, 7), p.Next[3].UTC())
	assert.Contains(t, p.Runs[0].Why, "Rang by its rule: every hour at :00 (Europe/London). On time.")
}

func TestAfterAnOutageEveryDueTimeIsDecidedAndTheNewestRuns(t *testing.T) {
	p := plans(due.Add(3*time.Hour+30*time.Minute), trigger(1, 9, "0 * * * *", due, nil))
	require.Len(t, p.Rings, 4)
	for i, r := range p.Rings {
		assert.Equal(t, due.Add(time.Duration(i)*time.Hour), r.Due.UTC())
	}
	require.Len(t, p.Runs, 1)
	assert.Equal(t, due.Add(3*time.Hour), p.Runs[0].Nominal.UTC())
	assert.Equal(t, due.Add(4*time.Hour), p.Next[1].UTC())
	// A long one is worked off in bounded passes, and none of them takes its last for the newest.
	long := plans(due.AddDate(0, 0, 30), trigger(1, 9, "* * * * *", due, nil))
	assert.Len(t, long.Rings, ringsAtOnce)
	assert.Empty(t, long.Runs)
	assert.Equal(t, due.Add(ringsAtOnce*time.Minute), long.Next[1].UTC())
}

func TestLaterRingsJoinWhatWaitsAndGiveItTheirDate(t *testing.T) {
	waiting := trigger(1, 9, "*/2 * * * *", due, nil)
	waiting.Working, waiting.Waiting = true, 77
	p := plans(due.Add(time.Second), waiting)
	assert.Empty(t, p.Runs)
	assert.Equal(t, job.RunID(77), *p.Rings[0].RunID)
	assert.Equal(t, due, p.Moved[77].UTC())
	// Two within the grace: the second joins the first, which takes the newer date.
	p = plans(due.Add(2*time.Minute), trigger(1, 9, "*/2 * * * *", due, nil))
	require.Len(t, p.Runs, 1)
	assert.Equal(t, due.Add(2*time.Minute), p.Runs[0].Nominal.UTC())
	assert.Equal(t, *p.Rings[0].RunID, *p.Rings[1].RunID)
}

func TestARuleThatCanNoLongerBeReadHarmsNoOther(t *testing.T) {
	broken := trigger(1, 9, "0 7 * * *", due, nil)
	broken.Zone = "Europe/Gone"
	p := plans(due, broken, trigger(2, 8, "0 7 * * *", due, nil))
	assert.Len(t, p.Runs, 1)
	next, there := p.Next[1]
	assert.True(t, there)
	assert.Nil(t, next)
}

func TestWatchersThatFallBehindAreToldThatTheyMissedSomething(t *testing.T) {
	e := New(&store.Store{}, nil, nil, nil, Options{Log: slog.New(slog.DiscardHandler)})
	notices, stop := e.Watch()
	for range 100 {
		e.live.tell(job.Notice{Kind: "run"})
	}
	kinds := map[string]int{}
	for len(notices) > 0 {
		kinds[(<-notices).Kind]++
	}
	assert.Positive(t, kinds[Everything])
	stop()
	e.live.tell(job.Notice{Kind: "run"})
	assert.Empty(t, notices)
}
