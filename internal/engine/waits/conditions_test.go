package waits_test

import (
	"fmt"
	"math/rand/v2"
	"testing"
	"time"

	"ironbell/internal/core/job"
	"ironbell/internal/core/zone"
	"ironbell/internal/engine/enginetest"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// came is something that happened, as the plainest reading of a wait has it.
type came struct {
	condition int
	at        time.Time
}

// expected is what a trigger that needs all its conditions makes of what happens, told without a database: what
// came of each day, or what came at all, and which of it still counts.
type expected struct {
	wait  job.Wait
	place *time.Location
	open  map[string][]came
}

// takes tells whether something that happens makes a run.
func (x *expected) takes(c came, of time.Time) bool {
	bunch := ""
	if x.wait.Match == job.MatchDay {
		bunch = of.In(x.place).Format(time.DateOnly)
	}
	x.open[bunch] = append(x.open[bunch], c)
	there := map[int]bool{}
	for _, o := range x.open[bunch] {
		if x.wait.Match == job.MatchDay || c.at.Sub(o.at) <= time.Duration(x.wait.Within) {
			there[o.condition] = true
		}
	}
	if len(there) < len(x.wait.For) {
		return false
	}
	delete(x.open, bunch)
	return true
}

// Whatever the order in which things happen, how often each does, how late it is told and which nights lie between:
// a run is made when the last that is needed is there, and each thing counts for one run. Clocks change in the
// night, forward or back.
func TestConditionsInAnyOrder(t *testing.T) {
	o := enginetest.Open(t)
	london, err := zone.Load("Europe/London")
	require.NoError(t, err)
	seed := uint64(time.Now().UnixNano())
	r := rand.New(rand.NewPCG(seed, 1))
	clock := enginetest.ClockAt(enginetest.Noon)
	e := o.Engine(clock)
	jobs := make([]job.Job, 0, 4)
	model := map[int64]*expected{}
	for n, w := range []job.Wait{
		{Match: job.MatchDay},
		{Match: job.MatchWindow, Within: job.Duration(90 * time.Minute)},
		{Match: job.MatchWindow, Within: job.Duration(25 * time.Hour)},
		{Match: job.MatchDay},
	} {
		for c := range 2 + n%3 {
			w.For = append(w.For, job.Condition{Event: fmt.Sprintf("example.tarnwick.%d", c)})
		}
		d := job.Definition{Zone: "Europe/London", Overlap: job.OverlapTogether, Triggers: []job.Trigger{{Wait: &w}}}
		j := o.Save(e, fmt.Sprintf("Waits %d", n), d)
		jobs = append(jobs, j)
		model[j.ID] = &expected{wait: w, place: london, open: map[string][]came{}}
	}
	ids, made := []job.Event{}, 0
	for _, night := range []time.Time{
		time.Date(2027, 3, 27, 18, 0, 0, 0, time.UTC), time.Date(2027, 10, 30, 18, 0, 0, 0, time.UTC),
		time.Date(2028, 2, 28, 18, 0, 0, 0, time.UTC),
	} {
		clock.Set(night)
		for n := range 60 {
			clock.Turn(time.Duration(r.IntN(50)) * time.Minute)
			now := clock.Now()
			ev := job.Event{
				ID: fmt.Sprintf("%d-%d", night.Unix(), n), Source: "/gauges", Type: fmt.Sprintf("example.tarnwick.%d", r.IntN(4)),
				Time: now.Add(-time.Duration(r.IntN(4*60)) * time.Minute).Truncate(time.Second),
			}
			again := len(ids) > 0 && r.IntN(8) == 0
			if again { // the same once more, which counts for nothing
				ev = ids[r.IntN(len(ids))]
			}
			ids = append(ids, ev)
			want := map[int64]bool{}
			for _, j := range jobs {
				x := model[j.ID]
				for c, one := range x.wait.For {
					if !again && one.Event == ev.Type && x.takes(came{c, now}, ev.Time) {
						want[j.ID] = true
					}
				}
			}
			got := map[int64]bool{}
			for _, id := range o.Raise(e, ev) {
				got[int64(o.Number(`SELECT job_id FROM runs WHERE id = $1`, int64(id)))] = true
			}
			require.Equal(t, want, got, "seed %d, event %d of %s: %s at %s, told at %s", seed, n, night, ev.Type, ev.Time, now)
			made += len(got)
		}
	}
	assert.Greater(t, made, 40, "seed %d: too little happened to tell anything", seed)
}
