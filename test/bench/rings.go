package main

import (
	"context"
	"fmt"
	"strconv"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"
)

// rings compares one pass of the clock with the bare SQL of its transaction.
func (b *bench) rings(ctx context.Context) error {
	due := b.due
	e, err := b.engine()
	if err != nil {
		return err
	}
	const rounds = 7
	var ours, bare []time.Duration
	for round := range rounds + 1 {
		if err := b.makeDue(ctx, due, round*2); err != nil {
			return err
		}
		began := time.Now()
		n, err := e.Clock.Ring(ctx)
		if err != nil {
			return err
		}
		if n != due {
			return fmt.Errorf("rang %d of %d", n, due)
		}
		our := time.Since(began)
		if err := b.makeDue(ctx, due, round*2+1); err != nil {
			return err
		}
		began = time.Now()
		if err := b.bareRings(ctx, due); err != nil {
			return err
		}
		if round > 0 { // the first one warms up
			ours, bare = append(ours, our), append(bare, time.Since(began))
		}
	}
	our, floor := middle(ours), middle(bare)
	b.took(fmt.Sprintf("%d rings into runs, against the bare SQL", due), 1000*our.Seconds(), 1000*floor.Seconds(), "ms", "1.5 or less")
	fmt.Printf("rings into runs: %d due of %d: %s against %s of bare SQL, %.2f times (wanted 1.5)\n", due, b.jobs,
		our.Round(time.Millisecond/10), floor.Round(time.Millisecond/10), float64(our)/float64(floor))
	return nil
}

// makeDue makes some triggers due, others at each round.
func (b *bench) makeDue(ctx context.Context, due, round int) error {
	if _, err := b.pool.Exec(ctx,
		`TRUNCATE rings; DELETE FROM parts WHERE state = 'waiting'; DELETE FROM runs WHERE state = 'waiting'`); err != nil {
		return err
	}
	from := 1 + round*due%max(b.jobs-due, 1)
	_, err := b.pool.Exec(ctx,
		`UPDATE triggers SET next_due = date_trunc('minute', now()), next_nominal = date_trunc('minute', now()) WHERE id BETWEEN $1 AND $2`, from, from+due-1)
	return err
}

// bareRings is the same transaction without any deciding: find and lock what is
// due, write rings, runs, parts and log lines, move the triggers on.
func (b *bench) bareRings(ctx context.Context, due int) error {
	return pgx.BeginFunc(ctx, b.pool, func(tx pgx.Tx) error {
		rows, err := tx.Query(ctx,
			`SELECT t.id, t.job_id, j.name, j.version, t.timing, t.zone, t.given, t.after_outage, t.overlap, t.priority, t.next_due, t.next_nominal
			FROM triggers t JOIN jobs j ON j.id = t.job_id WHERE t.next_due <= now() ORDER BY t.next_due, t.id LIMIT $1 FOR UPDATE OF t SKIP LOCKED`, due)
		if err != nil {
			return err
		}
		var triggers, jobs []int64
		var names []string
		for rows.Next() {
			values, err := rows.Values()
			if err != nil {
				return err
			}
			triggers, jobs, names = append(triggers, values[0].(int64)), append(jobs, values[1].(int64)), append(names, values[2].(string)) //nolint:forcetypeassert // the columns are ours
		}
		if err := rows.Err(); err != nil {
			return err
		}
		if len(triggers) != due {
			return fmt.Errorf("found %d of %d", len(triggers), due)
		}
		ids := make([]int64, due)
		if err := tx.QueryRow(ctx, `SELECT array_agg(month_id('run_count')) FROM generate_series(1, $1)`,
			due).Scan(&ids); err != nil {
			return err
		}
		const why = "Rang by its rule: every day at 06:15 (Europe/London). On time."
		for _, statement := range []string{
			`INSERT INTO runs (id, job_id, job_name, job_version, trigger_id, why, nominal, due, zone, state, reason)
				SELECT id, job_id, name, 1, trigger_id, $5, now(), now(), 'Europe/London', 'waiting', 'for its turn' FROM unnest($1::bigint[], $2::bigint[], $3::bigint[], $4::text[]) AS u(id, trigger_id, job_id, name)`,
			`INSERT INTO parts (run_id, part, job_id, state, priority, gated) SELECT id, 1, job_id, 'waiting', 0, true FROM unnest($1::bigint[], $2::bigint[], $3::bigint[], $4::text[]) AS u(id, trigger_id, job_id, name) WHERE $5 <> ''`,
			`INSERT INTO run_log (run_id, state, text) SELECT id, 'waiting', $5 FROM unnest($1::bigint[], $2::bigint[], $3::bigint[], $4::text[]) AS u(id, trigger_id, job_id, name)`,
			`INSERT INTO rings (trigger_id, due, nominal, job_id, decision, reason, run_id)
				SELECT trigger_id, date_trunc('minute', now()), now(), job_id, 'run', 'on time', id FROM unnest($1::bigint[], $2::bigint[], $3::bigint[], $4::text[]) AS u(id, trigger_id, job_id, name) WHERE $5 <> ''`,
			`UPDATE triggers t SET next_due = t.next_due + interval '1 day', next_nominal = t.next_nominal + interval '1 day' FROM unnest($1::bigint[], $2::bigint[], $3::bigint[], $4::text[]) AS u(id, trigger_id, job_id, name) WHERE t.id = u.trigger_id AND $5 <> ''`,
		} {
			if _, err := tx.Exec(ctx, statement, ids, triggers, jobs, names, why); err != nil {
				return fmt.Errorf("%s: %w", strings.Fields(statement)[2]+strconv.Itoa(len(ids)), err)
			}
		}
		return nil
	})
}
