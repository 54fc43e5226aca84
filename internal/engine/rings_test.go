package engine_test

import (
	"context"
	"errors"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"ironbell/internal/core/job"
	"ironbell/internal/service"
	"ironbell/internal/store"
	"ironbell/internal/timetable"
)

var noon = london(11, 23, 12, 0) // a Monday

// A node decides on a ring; another one, whose clock is behind, lets the job be
// switched off and on, and saved. No pass fails, and the next ring is a new one.
func TestAClockThatIsBehindRingsNothingTwice(t *testing.T) {
	o := open(t)
	ahead, behind := clockAt(noon.Add(-time.Minute)), clockAt(noon.Add(-time.Minute))
	a, b := o.engine(ahead), o.engine(behind)
	d := job.Definition{Triggers: ruled("every hour"), Overlap: job.OverlapTogether}
	j := o.save(a, "Quay board", d)
	other := o.save(a, "Other", d)
	ahead.set(noon.Add(10 * time.Millisecond))
	behind.set(noon.Add(-300 * time.Millisecond))
	o.pass(a)
	for _, change := range []func() error{
		func() error { _, err := b.Jobs.Switch(o.ctx, o.mara, j.Name, false); return err },
		func() error { _, err := b.Jobs.Switch(o.ctx, o.mara, j.Name, true); return err },
		func() error { _, err := o.trySave(b, j.Name, j.Definition); return err },
		func() error { // another trigger in its place
			d.Triggers = ruled("at 12:00", "at 13:00")
			_, err := o.trySave(b, j.Name, job.Definition{Zone: j.Zone, Tasks: j.Tasks, Triggers: d.Triggers, Overlap: d.Overlap})
			return err
		},
	} {
		require.NoError(t, change())
		behind.set(noon.Add(20 * time.Millisecond))
		o.pass(b)
		o.pass(a)
		behind.set(noon.Add(-300 * time.Millisecond))
	}
	assert.Equal(t, []string{"23 12:00 run: on time"}, o.rings(j))
	assert.Equal(t, []string{"23 12:00 run: on time"}, o.rings(other))
	behind.set(noon.Add(time.Hour))
	o.pass(b)
	assert.Equal(t, []string{"23 12:00 run: on time", "23 13:00 run: on time"}, o.rings(j))
}

// What is due and not decided on yet is decided when its job is saved or switched.
func TestWhatIsDueWhenItsJobChangesIsDecidedFirst(t *testing.T) {
	o := open(t)
	clock := clockAt(noon.Add(-time.Minute))
	e := o.engine(clock)
	saved := o.save(e, "Saved", job.Definition{Triggers: ruled("every hour")})
	off := o.save(e, "Off", job.Definition{Triggers: ruled("every hour")})
	gone := o.save(e, "Gone", job.Definition{Triggers: ruled("every hour")})
	clock.set(noon.Add(4 * time.Millisecond))
	o.save(e, "Saved", saved.Definition)
	_, err := e.Jobs.Switch(o.ctx, o.mara, "Off", false)
	require.NoError(t, err)
	o.save(e, "Gone", job.Definition{Triggers: ruled("at 09:00")})
	o.pass(e)
	assert.Equal(t, []string{"23 12:00 run: on time"}, o.rings(saved))
	assert.Equal(t, []string{"23 12:00 passed over: the job was switched off at 12:00:00 GMT by Mara Quill, before this was decided on"}, o.rings(off))
	assert.Equal(t, []string{"23 12:00 run: on time"}, o.rings(gone))
	clock.set(noon.Add(time.Hour))
	o.pass(e)
	assert.Len(t, o.rings(saved), 2, "a job that was saved unchanged rings on")
}

// Jobs are saved all the time while the minute passes: every due time of every job
// has one decision.
func TestSavesAtTheMinuteLoseNothing(t *testing.T) {
	o := open(t)
	clock := clockAt(noon.Add(-2 * time.Second))
	a, b := o.engine(clock), o.engine(clock)
	var jobs []job.Job
	for _, name := range []string{"A", "B", "C", "D", "E", "F"} {
		jobs = append(jobs, o.save(a, name, job.Definition{Overlap: job.OverlapTogether, Triggers: ruled("every second between 11:59 and 12:01", "at 12:00")}))
	}
	ctx, stop := context.WithCancel(o.ctx)
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
	for _, e := range []*site{a, b} {
		work(func() error { _, err := e.Clock.Ring(ctx); return err })
	}
	for _, j := range jobs {
		work(func() error { _, err := a.Jobs.Save(ctx, o.mara, j.Name, "mara", true, j.Definition); return err })
	}
	for range 40 {
		clock.turn(100 * time.Millisecond)
		time.Sleep(20 * time.Millisecond)
	}
	stop()
	all.Wait()
	// What was broken off may hold its locks for a moment.
	o.until("all that is due is decided on", func() bool {
		o.pass(a)
		return o.number(`SELECT count(*) FROM triggers WHERE next_due <= $1`, clock.now()) == 0
	})
	for _, j := range jobs {
		assert.Equal(t, 4, o.number(`SELECT count(DISTINCT due) FROM rings WHERE job_id = $1 AND due BETWEEN $2 AND $3`, j.ID, noon.Add(-2*time.Second).Add(time.Second), noon.Add(2*time.Second).Add(time.Second)), "%s: %v", j.Name, o.texts(`SELECT to_char(due AT TIME ZONE 'UTC', 'HH24:MI:SS.MS') || ' ' || trigger_id || ' ' || decision FROM rings WHERE job_id = $1 ORDER BY due`, j.ID))
		assert.Zero(t, o.number(`SELECT count(*) FROM (SELECT due FROM runs WHERE job_id = $1 GROUP BY due, given HAVING count(*) > 1) twice`, j.ID), j.Name)
	}
}

// One trigger that cannot be written is set apart with an alert, and harms no other.
func TestOneBadTriggerHoldsUpNoOther(t *testing.T) {
	o := open(t)
	clock := clockAt(time.Now().Add(-time.Minute))
	e := o.engine(clock)
	rule := ruled(time.Now().UTC().Format("at 15:04:05"))
	utc := job.Definition{Zone: "Etc/UTC", Triggers: rule}
	bad := o.save(e, "Bad", utc)
	unread := o.save(e, "Unread", utc)
	good := o.save(e, "Good", utc)
	o.exec(`UPDATE triggers SET zone = 'Europe/Gone' WHERE job_id = $1`, unread.ID)
	o.exec(`CREATE FUNCTION refuse() RETURNS trigger LANGUAGE plpgsql AS $$ BEGIN IF NEW.job_id = ` + o.text(`SELECT max(id)::text FROM jobs WHERE name = 'Bad'`) + ` THEN RAISE EXCEPTION 'no'; END IF; RETURN NEW; END $$`)
	o.exec(`CREATE TRIGGER refuse BEFORE INSERT ON rings FOR EACH ROW EXECUTE FUNCTION refuse()`)
	clock.set(time.Now())
	o.pass(e)
	assert.Len(t, o.rings(good), 1)
	assert.Empty(t, o.rings(bad))
	assert.Equal(t, 2, o.number(`SELECT count(*) FROM alerts WHERE kind = 'set apart' AND state = 'open'`))
	assert.Contains(t, o.text(`SELECT happened FROM alerts WHERE job_name = 'Unread'`), "can no longer be read")
	assert.Equal(t, 2, o.number(`SELECT count(*) FROM triggers WHERE apart_due IS NOT NULL AND next_due IS NULL`), "their due times wait")
	// Mended, they are rung, and the alerts close.
	o.exec(`DROP TRIGGER refuse ON rings`)
	o.exec(`UPDATE triggers SET apart_until = now(), zone = 'Etc/UTC' WHERE apart_until IS NOT NULL`)
	o.pass(e)
	assert.Len(t, o.rings(bad), 1)
	assert.Len(t, o.rings(unread), 1)
	assert.Zero(t, o.number(`SELECT count(*) FROM alerts WHERE state <> 'closed'`))
}

// Triggers of one job that are due together with equal values make one run: over a
// batch that is cut between them, over two nodes, after an outage that takes several
// passes, and for past dates.
func TestOneRunForTriggersThatAreDueTogether(t *testing.T) {
	for _, overlap := range []job.Overlap{job.OverlapWait, job.OverlapTogether} {
		t.Run(string(overlap), func(t *testing.T) {
			o := open(t)
			clock := clockAt(noon.Add(-time.Minute))
			a, b := o.engine(clock), o.engine(clock)
			d := job.Definition{Overlap: overlap, AfterOutage: job.OutageEach, Triggers: ruled("every 1 minutes between 00:00 and 23:59", "every hour", "at 12:00", "every weekday at 12:00")}
			j := o.save(a, "Quay board", d)
			clock.set(noon.Add(time.Second))
			// One row at a time, and two nodes between each other.
			require.NoError(t, o.store.Do(o.ctx, func(tx *store.Tx) error {
				job, err := tx.NextJob(o.ctx, clock.now())
				require.NoError(t, err)
				require.Equal(t, j.ID, job)
				n, err := b.Clock.Pass(o.ctx, 1)
				assert.Zero(t, n, "the job is with another node")
				return err
			}))
			var nodes sync.WaitGroup
			for _, e := range []*site{a, b} {
				nodes.Go(func() {
					for range 3 {
						_, err := e.Clock.Pass(o.ctx, 1)
						assert.NoError(t, err)
					}
				})
			}
			nodes.Wait()
			assert.Equal(t, 1, o.number(`SELECT count(*) FROM runs WHERE job_id = $1`, j.ID))
			assert.Equal(t, 4, o.number(`SELECT count(*) FROM rings WHERE job_id = $1 AND due = $2`, j.ID, noon))
			// Ten hours away: the minutely trigger takes two passes.
			clock.set(noon.Add(10*time.Hour + time.Second))
			o.pass(b)
			assert.Equal(t, 601, o.number(`SELECT count(*) FROM runs WHERE job_id = $1`, j.ID))
			assert.Zero(t, o.number(`SELECT count(*) FROM (SELECT due FROM runs WHERE job_id = $1 GROUP BY due HAVING count(*) > 1) twice`, j.ID))

			past, err := a.Runs.Ring(o.ctx, o.mara, o.save(a, "Past", job.Definition{Triggers: ruled("at 09:00", "every weekday at 09:00")}).Name, service.Ask{From: "2026-11-16", To: "2026-11-17"})
			require.NoError(t, err)
			assert.Len(t, past, 2)
		})
	}
}

// New zone data comes after an outage: each missed ring is decided on, by the due
// time that is stored and then by the new data.
func TestNewZoneDataKeepsEachMissedRing(t *testing.T) {
	o := open(t)
	clock := clockAt(noon.Add(-time.Minute))
	e := o.engine(clock)
	j := o.save(e, "Hourly", job.Definition{AfterOutage: job.OutageNone, Triggers: ruled("every hour")})
	minutely := o.save(e, "Minutely", job.Definition{Triggers: ruled("* * * * *")})
	o.exec(`UPDATE triggers SET next_due = next_due - interval '30 minutes', next_nominal = next_nominal - interval '30 minutes', zones = '2020a' WHERE job_id = $1`, j.ID)
	o.exec(`UPDATE triggers SET zones = '2020a' WHERE job_id = $1`, minutely.ID)
	require.NoError(t, o.store.PutSetting(o.ctx, timetable.ZoneSetting, "2020a"))
	clock.set(noon.Add(6*time.Hour + 10*time.Minute))
	e = o.engine(clock)
	require.NoError(t, e.Zones.Reckon(o.ctx))
	o.pass(e)
	got := o.rings(j)
	require.Len(t, got, 8, "one at the stored time, and those of the new data after it")
	assert.Contains(t, got[0], "23 11:30 passed over: its due time was reckoned by the time zone data 2020a")
	assert.Contains(t, got[1], "23 12:00 passed over")
	assert.Contains(t, got[7], "23 18:00 passed over")
	assert.Equal(t, 371, o.number(`SELECT count(*) FROM rings WHERE job_id = $1`, minutely.ID))

	// What is still to come is reckoned anew; a daily ring that moves by an hour is one.
	daily := o.save(e, "Daily", job.Definition{Triggers: ruled("at 20:00")})
	o.exec(`UPDATE triggers SET next_due = next_due + interval '1 hour', next_nominal = next_nominal + interval '1 hour', zones = '2020a' WHERE job_id = $1`, daily.ID)
	require.NoError(t, o.store.PutSetting(o.ctx, timetable.ZoneSetting, "2020a"))
	require.NoError(t, e.Zones.Reckon(o.ctx))
	clock.set(noon.Add(8*time.Hour + time.Second))
	o.pass(e)
	assert.Equal(t, []string{"23 20:00 run: on time"}, o.rings(daily))
	// While a node with newer data works, what it reckoned is left alone.
	_, err := o.store.SeeNode(o.ctx, store.Node{Name: "newer", Zones: "9999z"})
	require.NoError(t, err)
	o.exec(`UPDATE triggers SET next_due = next_due + interval '1 hour', zones = '9999z' WHERE job_id = $1`, daily.ID)
	require.NoError(t, e.Zones.Reckon(o.ctx))
	assert.Equal(t, 1, o.number(`SELECT count(*) FROM triggers WHERE zones = '9999z'`))
	o.exec(`DELETE FROM nodes`)
	require.NoError(t, o.store.PutSetting(o.ctx, timetable.ZoneSetting, "9999z"))
	require.NoError(t, e.Zones.Reckon(o.ctx))
	assert.Zero(t, o.number(`SELECT count(*) FROM triggers WHERE zones = '9999z'`))
	assert.Equal(t, 1, o.number(`SELECT count(*) FROM triggers WHERE job_id = $1 AND next_due = $2`, daily.ID, noon.Add(32*time.Hour)))
}

// An answer that was lost is no reason to ring twice.
func TestTheRefusedAreToldFromTheAbsent(t *testing.T) {
	assert.False(t, store.Refused(context.DeadlineExceeded))
	assert.True(t, store.Refused(errors.New("the rule can no longer be read")))
}

func (o *office) event(e *site, id string, at time.Time) []job.RunID {
	o.t.Helper()
	started, _, err := e.Events.Report(o.ctx, o.mara, job.Event{ID: id, Source: "/ledger", Type: "example.tarnwick.closed", Time: at})
	require.NoError(o.t, err)
	return started
}

func waits(rule string, w job.Wait) []job.Trigger {
	if w.For == nil {
		w.For = []job.Condition{{Event: "example.tarnwick.closed"}}
	}
	return []job.Trigger{{Timing: job.Timing{Rule: rule}, Wait: &w}}
}

// One event counts for all rings of its day, whether it came before or after.
func TestOneEventLetsAllRingsOfItsDayGo(t *testing.T) {
	o := open(t)
	clock := clockAt(london(11, 23, 5, 0))
	e := o.engine(clock)
	d := job.Definition{Overlap: job.OverlapPassOver, Triggers: waits("at 06:00, 09:00, 12:00 and 15:00", job.Wait{})}
	j := o.save(e, "Stocks", d)
	once := o.save(e, "Once", job.Definition{Triggers: waits("at 06:00, 09:00 and 12:00", job.Wait{Once: true})})
	window := o.save(e, "Window", job.Definition{Triggers: waits("at 06:00, 09:00 and 12:00", job.Wait{Match: job.MatchWindow, Within: job.Duration(119 * time.Minute)})})
	for _, hour := range []int{6, 9} {
		clock.set(london(11, 23, hour, 0).Add(time.Second))
		o.pass(e)
	}
	free := func(j job.Job) int {
		return o.number(`SELECT count(*) FROM parts WHERE job_id = $1 AND NOT held AND state = 'waiting'`, j.ID)
	}
	assert.Equal(t, []string{"23 06:00 run: on time", "23 09:00 run: on time"}, o.rings(j), "what waits is not the last run that works")
	assert.Zero(t, free(j)+free(once)+free(window))
	missing, err := e.Runs.Missing(o.ctx, job.Run{ID: job.RunID(o.number(`SELECT min(id) FROM runs WHERE job_id = $1`, j.ID))})
	require.NoError(t, err)
	assert.Len(t, missing, 1)
	clock.set(london(11, 23, 10, 0))
	assert.Len(t, o.event(e, "1", clock.now()), 3)
	assert.Equal(t, 2, free(j), "both rings before it")
	assert.Equal(t, 1, free(once), "the oldest")
	assert.Equal(t, 1, free(window), "the one within two hours of it")
	o.exec(`UPDATE parts SET state = 'done' WHERE job_id = $1 AND NOT held`, j.ID)
	for _, hour := range []int{12, 15} {
		clock.set(london(11, 23, hour, 0).Add(time.Second))
		o.pass(e)
		o.exec(`UPDATE parts SET state = 'done' WHERE job_id = $1 AND NOT held`, j.ID)
	}
	assert.Equal(t, 4, o.number(`SELECT count(*) FROM parts WHERE job_id = $1 AND NOT held`, j.ID), "and those after it")
	assert.Equal(t, 1, free(once))
	assert.Equal(t, 1, free(window), "12:00 lies two hours after it")
	clock.set(london(11, 24, 6, 0).Add(time.Second))
	o.pass(e)
	assert.Equal(t, 1, o.number(`SELECT count(*) FROM parts WHERE job_id = $1 AND held`, j.ID), "tomorrow is another day")

	// Switched off, what waits ends with that reason, and nobody is told that it waited in vain.
	_, err = e.Jobs.Switch(o.ctx, o.mara, "Stocks", false)
	require.NoError(t, err)
	assert.Contains(t, o.text(`SELECT reason FROM runs WHERE job_id = $1 ORDER BY id DESC LIMIT 1`, j.ID), "the job was switched off at 06:00:01 GMT by Mara Quill while the run waited")
	assert.Zero(t, o.number(`SELECT count(*) FROM parts WHERE job_id = $1 AND held AND state = 'waiting'`, j.ID))
	assert.Zero(t, o.number(`SELECT count(*) FROM held_runs r JOIN triggers t ON t.id = r.trigger_id WHERE t.job_id = $1`, j.ID))
	clock.turn(time.Hour)
	assert.Len(t, o.event(e, "2", london(11, 24, 6, 30)), 2, "the other two go by it")
	o.exec(`UPDATE parts SET ready_at = now() - interval '1 hour' WHERE held`)
	require.NoError(t, e.Waits.GiveUp(o.ctx))
	assert.Zero(t, o.number(`SELECT count(*) FROM alerts WHERE job_id = $1`, j.ID))
}
