package queue

import (
	"context"
	"time"

	"ironbell/internal/core/job"
	"ironbell/internal/store/db"

	"github.com/jmoiron/sqlx"
)

// LimitSetting is the setting that says how much may work at once, by label: a
// map from "service", "source:name", "destination:name" or "tag:name" to a
// number of parts; for a destination also of lines to it.
const LimitSetting = "limits"

// rooms is how much room the labels have that are limited or frozen.
type rooms map[string]int

// rooms reads which labels may take how much more. When limits are set, claims
// of all nodes wait for each other here, so that two never count the same room.
func (t *Tx) rooms(ctx context.Context) (rooms, error) {
	const read = `SELECT label, false AS counted, 0 AS room FROM rests
		UNION ALL SELECT label, false AS counted, 0 AS room FROM freezes WHERE lifted_at IS NULL
		AND from_at <= bell_now() AND (to_at IS NULL OR to_at > bell_now())
		UNION ALL SELECT l.key, true, (l.value::int - (SELECT count(*) FROM parts p WHERE p.state = 'running'
		AND p.labels @> ARRAY[l.key]))::int
		FROM settings s, jsonb_each_text(s.value) l WHERE s.key = '` + LimitSetting + `'`
	for locked := false; ; locked = true {
		var all []struct {
			Label   string `db:"label"`
			Counted bool   `db:"counted"`
			Room    int    `db:"room"`
		}
		if err := sqlx.SelectContext(ctx, t.Ext, &all, read); err != nil {
			return nil, db.Wrap(err, "read the limits")
		}
		counted, r := false, rooms{}
		for _, l := range all {
			counted = counted || l.Counted
			if had, ok := r[l.Label]; !ok || l.Room < had {
				r[l.Label] = l.Room
			}
		}
		if !counted || locked {
			return r, nil
		}
		if _, err := t.Ext.ExecContext(ctx, `SELECT pg_advisory_xact_lock(hashtext('ironbell limits'))`); err != nil {
			return nil, db.Wrap(err, "wait for other claims")
		}
	}
}

// full lists the labels without room.
func (r rooms) full() []string {
	full := []string{}
	for label, room := range r {
		if room <= 0 {
			full = append(full, label)
		}
	}
	return full
}

// take keeps the claims that find room, first come first served.
func (r rooms) take(picked []Claim) []Claim {
	if len(r) == 0 {
		return picked
	}
	kept := picked[:0]
	for _, c := range picked {
		fits := true
		for _, label := range c.Labels.V {
			if room, limited := r[label]; limited && room <= 0 {
				fits = false
			}
		}
		if !fits {
			continue
		}
		for _, label := range c.Labels.V {
			if _, limited := r[label]; limited {
				r[label]--
			}
		}
		kept = append(kept, c)
	}
	return kept
}

// Line is one part of a run in the queue.
type Line struct {
	RunID     job.RunID  `db:"run_id"`
	Part      int        `db:"part"`
	JobID     int64      `db:"job_id"`
	Job       string     `db:"job_name"`
	Rehearsal bool       `db:"rehearsal"`
	Priority  int        `db:"priority"`
	Due       time.Time  `db:"due"`
	ReadyAt   time.Time  `db:"ready_at"`
	StartedAt *time.Time `db:"started_at"`
	Node      string     `db:"node"`
	Reason    string     `db:"reason"`
}

// Queue lists the parts that work and those that wait, in the order of their
// turn, at most limit of each, and tells how many wait in all.
func (q Q) Queue(ctx context.Context, limit int) (working, waiting []Line, waits int, err error) {
	const columns = `p.run_id, p.part, p.job_id, r.job_name, r.rehearsal, p.priority, r.due, p.ready_at, p.started_at,
		p.node, p.reason FROM parts p JOIN runs r ON r.id = p.run_id`
	working, waiting = []Line{}, []Line{}
	if err = sqlx.SelectContext(ctx, q.Ext, &working, `SELECT `+columns+` WHERE p.state = 'running'
		ORDER BY p.started_at LIMIT $1`, limit); err != nil {
		return working, waiting, 0, db.Wrap(err, "list what works")
	}
	if err = sqlx.SelectContext(ctx, q.Ext, &waiting, `SELECT `+columns+` WHERE p.state = 'waiting'
		ORDER BY p.turn, p.run_id, p.part LIMIT $1`, limit); err != nil {
		return working, waiting, 0, db.Wrap(err, "list what waits")
	}
	err = sqlx.GetContext(ctx, q.Ext, &waits, `SELECT count(*) FROM parts WHERE state = 'waiting'`)
	return working, waiting, waits, db.Wrap(err, "count what waits")
}

// Labels are a job's labels, for limits and freezes.
func (q Q) Labels(ctx context.Context, jobID int64) ([]string, error) {
	var labels db.Document[[]string]
	err := sqlx.GetContext(ctx, q.Ext, &labels, `SELECT array_to_json(labels) FROM jobs WHERE id = $1`, jobID)
	return labels.V, db.Wrap(err, "read the job's labels")
}

// Relabel gives the jobs that use a report another label in place of one.
func (q Q) Relabel(ctx context.Context, report int64, from, to string) error {
	_, err := q.Ext.ExecContext(ctx, `UPDATE jobs SET labels = array_replace(labels, $2, $3)
		WHERE id IN (SELECT job_id FROM job_uses WHERE kind = 'report' AND id = $1)`, report, from, to)
	return db.Wrap(err, "label the jobs anew")
}
