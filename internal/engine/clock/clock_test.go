package clock_test

import (
	"context"
	"sync"
	"testing"
	"time"

	"ironbell/internal/core/job"
	"ironbell/internal/engine/enginetest"
	"ironbell/internal/service"
	"ironbell/internal/store"
	"ironbell/internal/store/operation"
	"ironbell/internal/timetable"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// a Monday

// A node decides on a ring; another one, whose clock is behind, lets the job be
// switched off and on, and saved. No pass fails, and the next ring is a new one.
func TestAClockThatIsBehindRingsNothingTwice(t *testing.T) {
	o := enginetest.Open(t)
	ahead, behind := enginetest.ClockAt(enginetest.Noon.Add(-time.Minute)),
		enginetest.ClockAt(enginetest.Noon.Add(-time.Minute))
	a, b := o.Engine(ahead), o.Engine(behind)
	d := job.Definition{Triggers: enginetest.Ruled("every hour"), Overlap: job.OverlapTogether}
	j := o.Save(a, "Quay board", d)
	other := o.Save(a, "Other", d)
	ahead.Set(enginetest.Noon.Add(10 * time.Millisecond))
	behind.Set(enginetest.Noon.Add(-300 * time.Millisecond))
	o.Pass(a)
	for _, change := range []func() error{
		func() error { _, err := b.Jobs.Switch(o.Ctx, o.Mara, j.Name, false); return err },
		func() error { _, err := b.Jobs.Switch(o.Ctx, o.Mara, j.Name, true); return err },
		func() error { _, err := o.TrySave(b, j.Name, j.Definition); return err },
		func() error { // another trigger in its place
			d.Triggers = enginetest.Ruled("at 12:00", "at 13:00")
			_, err := o.TrySave(b, j.Name, job.Definition{
				Zone: j.Zone, Tasks: j.Tasks, Triggers: d.Triggers, Overlap: d.Overlap,
			})
			return err
		},
	} {
		require.NoError(t, change())
		behind.Set(enginetest.Noon.Add(20 * time.Millisecond))
		o.Pass(b)
		o.Pass(a)
		behind.Set(enginetest.Noon.Add(-300 * time.Millisecond))
	}
	assert.Equal(t, []string{"23 12:00 run: on time"}, o.Rings(j))
	assert.Equal(t, []string{"23 12:00 run: on time"}, o.Rings(other))
	behind.Set(enginetest.Noon.Add(time.Hour))
	o.Pass(b)
	assert.Equal(t, []string{"23 12:00 run: on time", "23 13:00 run: on time"}, o.Rings(j))
}

// What is due and not decided on yet is decided when its job is saved or switched.
func TestWhatIsDueWhenItsJobChangesIsDecidedFirst(t *testing.T) {
	o := enginetest.Open(t)
	clock := enginetest.ClockAt(enginetest.Noon.Add(-time.Minute))
	e := o.Engine(clock)
	saved := o.Save(e, "Saved", job.Definition{Triggers: enginetest.Ruled("every hour")})
	off := o.Save(e, "Off", job.Definition{Triggers: enginetest.Ruled("every hour")})
	gone := o.Save(e, "Gone", job.Definition{Triggers: enginetest.Ruled("every hour")})
	clock.Set(enginetest.Noon.Add(4 * time.Millisecond))
	o.Save(e, "Saved", saved.Definition)
	_, err := e.Jobs.Switch(o.Ctx, o.Mara, "Off", false)
	require.NoError(t, err)
	o.Save(e, "Gone", job.Definition{Triggers: enginetest.Ruled("at 09:00")})
	o.Pass(e)
	assert.Equal(t, []string{"23 12:00 run: on time"}, o.Rings(saved))
	assert.Equal(t,
		[]string{"23 12:00 passed over: the job was switched off at 12:00:00 GMT by Mara Quill, before this " +
			"was decided on"}, o.Rings(off))
	assert.Equal(t, []string{"23 12:00 run: on time"}, o.Rings(gone))
	clock.Set(enginetest.Noon.Add(time.Hour))
	o.Pass(e)
	assert.Len(t, o.Rings(saved), 2, "a job that was saved unchanged rings on")
}

// Jobs are saved all the time while the minute passes: every due time of every job
// has one decision.
func TestSavesAtTheMinuteLoseNothing(t *testing.T) {
	o := enginetest.Open(t)
	clock := enginetest.ClockAt(enginetest.Noon.Add(-2 * time.Second))
	a, b := o.Engine(clock), o.Engine(clock)
	var jobs []job.Job
	for _, name := range []string{"A", "B", "C", "D", "E", "F"} {
		jobs = append(jobs,
			o.Save(a, name, job.Definition{
				Overlap:  job.OverlapTogether,
				Triggers: enginetest.Ruled("every second between 11:59 and 12:01", "at 12:00"),
			}))
	}
	ctx, stop := context.WithCancel(o.Ctx)
	var all sync.WaitGroup
	work := func(f func() error) {
		all.Go(func() {
			for ctx.Err() == nil {
				if err := f(); err != nil && ctx.Err() == nil {
					assert.NoError(t, err)
					return
				}
			}
		})
	}
	for _, e := range []*enginetest.Site{a, b} {
		work(func() error { _, err := e.Clock.Ring(ctx); return err })
	}
	for _, j := range jobs {
		work(func() error { _, err := a.Jobs.Save(ctx, o.Mara, j.Name, "mara", true, j.Definition); return err })
	}
	for range 40 {
		clock.Turn(100 * time.Millisecond)
		time.Sleep(20 * time.Millisecond)
	}
	stop()
	all.Wait()
	// What was broken off may hold its locks for a moment.
	o.Until("all that is due is decided on", func() bool {
		o.Pass(a)
		return o.Number(`SELECT count(*) FROM triggers WHERE next_due <= $1`, clock.Now()) == 0
	})
	for _, j := range jobs {
		assert.Equal(t, 4,
			o.Number(`SELECT count(DISTINCT due) FROM rings WHERE job_id = $1 AND due BETWEEN $2 AND $3`, j.ID,
				enginetest.Noon.Add(-2*time.Second).Add(time.Second),
				enginetest.Noon.Add(2*time.Second).Add(time.Second)), "%s: %v", j.Name,
			o.Texts(`SELECT to_char(due AT TIME ZONE 'UTC', 'HH24:MI:SS.MS') || ' ' || trigger_id || ' ' || decision FROM rings WHERE job_id = $1 ORDER BY due`, j.ID))
		assert.Zero(t,
			o.Number(`SELECT count(*) FROM (SELECT due FROM runs WHERE job_id = $1 GROUP BY due, given HAVING count(*) > 1) twice`, j.ID), j.Name)
	}
}

// One trigger that cannot be written is set apart with an alert, and harms no other.
func TestOneBadTriggerHoldsUpNoOther(t *testing.T) {
	o := enginetest.Open(t)
	clock := enginetest.ClockAt(time.Now().Add(-time.Minute))
	e := o.Engine(clock)
	rule := enginetest.Ruled(time.Now().UTC().Format("at 15:04:05"))
	utc := job.Definition{Zone: "Etc/UTC", Triggers: rule}
	bad := o.Save(e, "Bad", utc)
	unread := o.Save(e, "Unread", utc)
	good := o.Save(e, "Good", utc)
	o.Exec(`UPDATE triggers SET zone = 'Europe/Gone' WHERE job_id = $1`, unread.ID)
	o.Exec(`CREATE FUNCTION refuse() RETURNS trigger LANGUAGE plpgsql AS $$ BEGIN IF NEW.job_id = ` +
		o.Text(`SELECT max(id)::text FROM jobs WHERE name = 'Bad'`) +
		` THEN RAISE EXCEPTION 'no'; END IF; RETURN NEW; END $$`)
	o.Exec(`CREATE TRIGGER refuse BEFORE INSERT ON rings FOR EACH ROW EXECUTE FUNCTION refuse()`)
	clock.Set(time.Now())
	o.Pass(e)
	assert.Len(t, o.Rings(good), 1)
	assert.Empty(t, o.Rings(bad))
	assert.Equal(t, 2, o.Number(`SELECT count(*) FROM alerts WHERE kind = 'set apart' AND state = 'open'`))
	assert.Contains(t, o.Text(`SELECT happened FROM alerts WHERE job_name = 'Unread'`), "can no longer be read")
	assert.Equal(t, 2, o.Number(`SELECT count(*) FROM triggers WHERE apart_due IS NOT NULL AND next_due IS NULL`),
		"their due times wait")
	// Mended, they are rung, and the alerts close.
	o.Exec(`DROP TRIGGER refuse ON rings`)
	o.Exec(`UPDATE triggers SET apart_until = now(), zone = 'Etc/UTC' WHERE apart_until IS NOT NULL`)
	o.Pass(e)
	assert.Len(t, o.Rings(bad), 1)
	assert.Len(t, o.Rings(unread), 1)
	assert.Zero(t, o.Number(`SELECT count(*) FROM alerts WHERE state <> 'closed'`))
}

// Triggers of one job that are due together with equal values make one run: over a
// batch that is cut between them, over two nodes, after an outage that takes several
// passes, and for past dates.
func TestOneRunForTriggersThatAreDueTogether(t *testing.T) {
	for _, overlap := range []job.Overlap{job.OverlapWait, job.OverlapTogether} {
		t.Run(string(overlap), func(t *testing.T) {
			o := enginetest.Open(t)
			clock := enginetest.ClockAt(enginetest.Noon.Add(-time.Minute))
			a, b := o.Engine(clock), o.Engine(clock)
			d := job.Definition{
				Overlap: overlap, AfterOutage: job.OutageEach,
				Triggers: enginetest.Ruled("every 1 minutes between 00:00 and 23:59", "every hour", "at 12:00",
					"every weekday at 12:00"),
			}
			j := o.Save(a, "Quay board", d)
			clock.Set(enginetest.Noon.Add(time.Second))
			// One row at a time, and two nodes between each other.
			require.NoError(t, o.Store.Do(o.Ctx, func(tx *store.Tx) error {
				job, err := tx.NextJob(o.Ctx, clock.Now())
				require.NoError(t, err)
				require.Equal(t, j.ID, job)
				n, err := b.Clock.Pass(o.Ctx, 1)
				assert.Zero(t, n, "the job is with another node")
				return err
			}))
			var nodes sync.WaitGroup
			for _, e := range []*enginetest.Site{a, b} {
				nodes.Go(func() {
					for range 3 {
						_, err := e.Clock.Pass(o.Ctx, 1)
						assert.NoError(t, err)
					}
				})
			}
			nodes.Wait()
			assert.Equal(t, 1, o.Number(`SELECT count(*) FROM runs WHERE job_id = $1`, j.ID))
			assert.Equal(t, 4,
				o.Number(`SELECT count(*) FROM rings WHERE job_id = $1 AND due = $2`, j.ID, enginetest.Noon))
			// Ten hours away: the minutely trigger takes two passes.
			clock.Set(enginetest.Noon.Add(10*time.Hour + time.Second))
			o.Pass(b)
			assert.Equal(t, 601, o.Number(`SELECT count(*) FROM runs WHERE job_id = $1`, j.ID))
			assert.Zero(t,
				o.Number(`SELECT count(*) FROM (SELECT due FROM runs WHERE job_id = $1 GROUP BY due HAVING count(*) > 1) twice`, j.ID))

			past, err := a.Runs.Ring(o.Ctx, o.Mara,
				o.Save(a, "Past",
					job.Definition{Triggers: enginetest.Ruled("at 09:00", "every weekday at 09:00")}).Name,
				service.Ask{From: "2026-11-16", To: "2026-11-17"})
			require.NoError(t, err)
			assert.Len(t, past, 2)
		})
	}
}

// New zone data comes after an outage: each missed ring is decided on, by the due
// time that is stored and then by the new data.
func TestNewZoneDataKeepsEachMissedRing(t *testing.T) {
	o := enginetest.Open(t)
	clock := enginetest.ClockAt(enginetest.Noon.Add(-time.Minute))
	e := o.Engine(clock)
	j := o.Save(e, "Hourly", job.Definition{AfterOutage: job.OutageNone, Triggers: enginetest.Ruled("every hour")})
	minutely := o.Save(e, "Minutely", job.Definition{Triggers: enginetest.Ruled("* * * * *")})
	o.Exec(`UPDATE triggers SET next_due = next_due - interval '30 minutes', next_nominal = next_nominal - interval '30 minutes', zones = '2020a' WHERE job_id = $1`, j.ID)
	o.Exec(`UPDATE triggers SET zones = '2020a' WHERE job_id = $1`, minutely.ID)
	require.NoError(t, o.Store.PutSetting(o.Ctx, timetable.ZoneSetting, "2020a"))
	clock.Set(enginetest.Noon.Add(6*time.Hour + 10*time.Minute))
	e = o.Engine(clock)
	require.NoError(t, e.Zones.Reckon(o.Ctx))
	o.Pass(e)
	got := o.Rings(j)
	require.Len(t, got, 8, "one at the stored time, and those of the new data after it")
	assert.Contains(t, got[0], "23 11:30 passed over: its due time was reckoned by the time zone data 2020a")
	assert.Contains(t, got[1], "23 12:00 passed over")
	assert.Contains(t, got[7], "23 18:00 passed over")
	assert.Equal(t, 371, o.Number(`SELECT count(*) FROM rings WHERE job_id = $1`, minutely.ID))

	// What is still to come is reckoned anew; a daily ring that moves by an hour is one.
	daily := o.Save(e, "Daily", job.Definition{Triggers: enginetest.Ruled("at 20:00")})
	o.Exec(`UPDATE triggers SET next_due = next_due + interval '1 hour', next_nominal = next_nominal + interval '1 hour', zones = '2020a' WHERE job_id = $1`, daily.ID)
	require.NoError(t, o.Store.PutSetting(o.Ctx, timetable.ZoneSetting, "2020a"))
	require.NoError(t, e.Zones.Reckon(o.Ctx))
	clock.Set(enginetest.Noon.Add(8*time.Hour + time.Second))
	o.Pass(e)
	assert.Equal(t, []string{"23 20:00 run: on time"}, o.Rings(daily))
	// While a node with newer data works, what it reckoned is left alone.
	_, err := o.Store.SeeNode(o.Ctx, operation.Node{Name: "newer", Zones: "9999z"})
	require.NoError(t, err)
	o.Exec(`UPDATE triggers SET next_due = next_due + interval '1 hour', zones = '9999z' WHERE job_id = $1`, daily.ID)
	require.NoError(t, e.Zones.Reckon(o.Ctx))
	assert.Equal(t, 1, o.Number(`SELECT count(*) FROM triggers WHERE zones = '9999z'`))
	o.Exec(`DELETE FROM nodes`)
	require.NoError(t, o.Store.PutSetting(o.Ctx, timetable.ZoneSetting, "9999z"))
	require.NoError(t, e.Zones.Reckon(o.Ctx))
	assert.Zero(t, o.Number(`SELECT count(*) FROM triggers WHERE zones = '9999z'`))
	assert.Equal(t, 1,
		o.Number(`SELECT count(*) FROM triggers WHERE job_id = $1 AND next_due = $2`, daily.ID,
			enginetest.Noon.Add(32*time.Hour)))
}
