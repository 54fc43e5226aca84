package main

import (
	"context"
	"fmt"
	"slices"
	"sync"
	"sync/atomic"
	"time"

	"github.com/jackc/pgx/v5"
)

const limit = 5 * time.Minute // for one measurement

// runs compares trivial runs from due to done with a bare loop of the same
// number of workers, which inserts ring and run, claims and finishes in batches
// of ten.
func (b *bench) runs(ctx context.Context) error {
	burst := b.burst
	ctx, stop := context.WithTimeout(ctx, limit)
	defer stop()
	floor, err := b.bareRuns(ctx, burst)
	if err != nil {
		return err
	}
	e, err := b.engine()
	if err != nil {
		return err
	}
	if err := b.makeDue(ctx, burst, 0); err != nil {
		return err
	}
	if _, err := b.pool.Exec(ctx, `DELETE FROM runs WHERE why LIKE 'Rang%' AND state <> 'done'`); err != nil {
		return err
	}
	var mark int64
	if err := b.pool.QueryRow(ctx, `SELECT month_id('run_count')`).Scan(&mark); err != nil {
		return err
	}
	working, end := context.WithCancel(ctx)
	defer end()
	var done sync.WaitGroup
	began := time.Now()
	done.Go(func() { e.Run(working) })
	if err := b.rest(ctx); err != nil {
		return err
	}
	took := time.Since(began)
	end()
	done.Wait()
	var last float64
	if err := b.pool.QueryRow(ctx,
		`SELECT extract(epoch FROM max(started_at) - $2::timestamptz) FROM runs WHERE id > $1`, mark,
		began).Scan(&last); err != nil {
		return err
	}
	rate := float64(burst) / took.Seconds()
	b.made("trivial runs from due to done, against a bare loop", rate, floor, "a second", "0.30 or more")
	b.held(fmt.Sprintf("start of the last of %d runs that are due at once", burst), last, "s", "")
	fmt.Printf("trivial runs: %.0f a second against %.0f of the bare loop, %.2f of it (wanted 0.30); %d due at once: "+
		"the last one started after %.1f s, all done after %.1f s\n",
		rate, floor, rate/floor, burst, last, took.Seconds())
	return nil
}

// rest waits until nothing is due and nothing works or waits.
func (b *bench) rest(ctx context.Context) error {
	for open := true; open; time.Sleep(20 * time.Millisecond) {
		if err := b.pool.QueryRow(ctx,
			`SELECT EXISTS (SELECT 1 FROM triggers WHERE next_due <= now()) OR EXISTS (SELECT 1 FROM parts WHERE state IN ('waiting', 'running'))`).Scan(&open); err != nil {
			return fmt.Errorf("wait for rest: %w", err)
		}
	}
	return nil
}

// bareRuns is the bare loop; it gives runs a second.
func (b *bench) bareRuns(ctx context.Context, n int) (float64, error) {
	if _, err := b.pool.Exec(ctx, `DROP TABLE IF EXISTS bare_runs, bare_rings;
		CREATE TABLE bare_runs (id bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY, job_id bigint NOT NULL, due timestamptz NOT NULL, state text NOT NULL, node text, ended_at timestamptz);
		CREATE INDEX ON bare_runs (due, id) WHERE state = 'waiting';
		CREATE TABLE bare_rings (trigger_id bigint, due timestamptz, run_id bigint NOT NULL, decision text NOT NULL, PRIMARY KEY (trigger_id, due))`); err != nil {
		return 0, err
	}
	const batch = 10
	var next atomic.Int64
	var all sync.WaitGroup
	errs := make(chan error, workers)
	began := time.Now()
	for range workers {
		all.Go(func() {
			for {
				from := next.Add(batch) - batch
				if from >= int64(n) {
					return
				}
				if err := b.bareBatch(ctx, from, batch); err != nil {
					errs <- err
					return
				}
			}
		})
	}
	all.Wait()
	close(errs)
	return float64(n) / time.Since(began).Seconds(), <-errs
}

func (b *bench) bareBatch(ctx context.Context, from, batch int64) error {
	if _, err := b.pool.Exec(ctx,
		`WITH r AS (INSERT INTO bare_runs (job_id, due, state) SELECT n, now(), 'waiting' FROM generate_series($1::bigint, $2::bigint) n RETURNING id, job_id, due)
		INSERT INTO bare_rings (trigger_id, due, run_id, decision) SELECT job_id, due, id, 'run' FROM r`, from, from+batch-1); err != nil {
		return err
	}
	var ids []int64
	if err := b.pool.QueryRow(ctx,
		`WITH p AS (SELECT id FROM bare_runs WHERE state = 'waiting' ORDER BY due, id LIMIT $1 FOR UPDATE SKIP LOCKED),
		c AS (UPDATE bare_runs r SET state = 'running', node = 'bare' FROM p WHERE r.id = p.id RETURNING r.id) SELECT coalesce(array_agg(id), '{}') FROM c`, batch).Scan(&ids); err != nil {
		return err
	}
	_, err := b.pool.Exec(ctx, `UPDATE bare_runs SET state = 'done', ended_at = now() WHERE id = ANY($1)`, ids)
	return err
}

// bareOne is how long the bare loop takes for one run, in ms: the middle of many, one after another.
func (b *bench) bareOne(ctx context.Context) (float64, error) {
	if _, err := b.bareRuns(ctx, 10); err != nil { // its tables
		return 0, err
	}
	var took []time.Duration
	for n := range int64(300) {
		began := time.Now()
		if err := b.bareBatch(ctx, 100+n, 1); err != nil {
			return 0, err
		}
		took = append(took, time.Since(began))
	}
	return 1000 * middle(took).Seconds(), nil
}

// lateness compares how late runs start at 200 rings a second with how late a
// bare timer is in the same process at the same time.
func (b *bench) lateness(ctx context.Context) error {
	ctx, stop := context.WithTimeout(ctx, limit)
	defer stop()
	const perSecond = 200
	e, err := b.engine()
	if err != nil {
		return err
	}
	if _, err := b.pool.Exec(ctx,
		`TRUNCATE rings; DELETE FROM parts WHERE state = 'waiting'; DELETE FROM runs WHERE state = 'waiting'`); err != nil {
		return err
	}
	one, err := b.bareOne(ctx)
	if err != nil {
		return err
	}
	start := time.Now().Add(3 * time.Second).Truncate(time.Second)
	count := int(b.lasts/time.Second) * perSecond
	// One trigger for each ring, spread over the milliseconds.
	if _, err := b.pool.Exec(ctx,
		`UPDATE triggers SET next_due = $1::timestamptz + (id - 1) * make_interval(secs => $2), next_nominal = $1::timestamptz + (id - 1) * make_interval(secs => $2) WHERE id <= $3`,
		start, 1.0/perSecond, count); err != nil {
		return err
	}
	var mark int64
	if err := b.pool.QueryRow(ctx, `SELECT month_id('run_count')`).Scan(&mark); err != nil {
		return err
	}
	working, end := context.WithCancel(ctx)
	defer end()
	var done sync.WaitGroup
	done.Go(func() { e.Run(working) })
	timers := make([]time.Duration, 0, count)
	for n := range count {
		at := start.Add(time.Duration(n) * time.Second / perSecond)
		time.Sleep(time.Until(at))
		timers = append(timers, time.Since(at))
	}
	if err := b.rest(ctx); err != nil {
		return err
	}
	end()
	done.Wait()
	rows, err := b.pool.Query(ctx, `SELECT extract(epoch FROM started_at - due)::float8 FROM runs WHERE id > $1`, mark)
	if err != nil {
		return err
	}
	late, err := pgx.CollectRows(rows, pgx.RowTo[float64])
	if err != nil {
		return err
	}
	slices.Sort(late)
	slices.Sort(timers)
	p := func(q float64) float64 { return 1000 * late[int(q*float64(len(late)-1))] }
	timer50 := 1000 * timers[len(timers)/2].Seconds()
	timer := 1000 * timers[int(0.99*float64(len(timers)-1))].Seconds()
	b.took("start after due at 200 rings a second, p50 above a timer, against one bare transaction", p(0.5)-timer50, one, "ms", "")
	b.took("start after due at 200 rings a second, p99 above a timer's, against the same", p(0.99)-timer, one, "ms", "50 ms or less")
	fmt.Printf("lateness at %d rings a second: start after due p50 %.1f ms, p99 %.1f ms; a bare timer's p99 %.1f ms: "+
		"%.1f ms above it (wanted 50)\n", perSecond, p(0.5), p(0.99), timer, p(0.99)-timer)
	return nil
}
