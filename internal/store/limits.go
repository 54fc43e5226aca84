package store

import (
	"context"
	"time"

	"ironbell/internal/core/job"

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
		UNION ALL SELECT label, false AS counted, 0 AS room FROM freezes WHERE lifted_at IS NULL AND from_at <= bell_now() AND (to_at IS NULL OR to_at > bell_now())
		UNION ALL SELECT l.key, true, (l.value::int - (SELECT count(*) FROM parts p WHERE p.state = 'running' AND p.labels @> ARRAY[l.key]))::int
		FROM settings s, jsonb_each_text(s.value) l WHERE s.key = '` + LimitSetting + `'`
	for locked := false; ; locked = true {
		var all []struct {
			Label   string `db:"label"`
			Counted bool   `db:"counted"`
			Room    int    `db:"room"`
		}
		if err := sqlx.SelectContext(ctx, t.ext, &all, read); err != nil {
			return nil, wrap(err, "read the limits")
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
		if _, err := t.ext.ExecContext(ctx, `SELECT pg_advisory_xact_lock(hashtext('ironbell limits'))`); err != nil {
			return nil, wrap(err, "wait for other claims")
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

// Freeze is a time in which what carries a label does not begin.
type Freeze struct {
	ID        int64      `json:"id" db:"id"`
	Label     string     `json:"label" db:"label" doc:"service for all, or source:name, destination:name, tag:name"`
	From      time.Time  `json:"from" db:"from_at"`
	To        *time.Time `json:"to,omitempty" db:"to_at" doc:"until it is lifted when left out"`
	Rings     string     `json:"rings" db:"rings" enum:"wait,pass over" doc:"what becomes of rings meanwhile"`
	Reason    string     `json:"reason,omitempty" db:"reason"`
	By        string     `json:"by" db:"by_name"`
	CreatedAt time.Time  `json:"created_at" db:"created_at"`
	LiftedAt  *time.Time `json:"lifted_at,omitempty" db:"lifted_at"`
	LiftedBy  string     `json:"lifted_by,omitempty" db:"lifted_by"`
}

const freezeColumns = `id, label, from_at, to_at, rings, reason, by_name, created_at, lifted_at, lifted_by FROM freezes`

// Freezes lists the freezes that hold or are to come; with past, also those
// that have ended, newest first, at most 500.
func (q q) Freezes(ctx context.Context, past bool) ([]Freeze, error) {
	all := []Freeze{}
	err := sqlx.SelectContext(ctx, q.ext, &all, `SELECT `+freezeColumns+` WHERE $1 OR lifted_at IS NULL AND (to_at IS NULL OR to_at > bell_now()) ORDER BY from_at DESC, id DESC LIMIT 500`, past)
	return all, wrap(err, "list the freezes")
}

// FreezeOver lists the freezes that overlap a time, for the clock's decisions.
func (q q) FreezeOver(ctx context.Context, from, to time.Time) ([]Freeze, error) {
	var all []Freeze
	err := sqlx.SelectContext(ctx, q.ext, &all, `SELECT `+freezeColumns+` WHERE from_at <= $2 AND coalesce(lifted_at, to_at, 'infinity') > $1 AND (to_at IS NULL OR to_at > $1) ORDER BY id LIMIT 500`, from, to)
	return all, wrap(err, "find what is frozen")
}

// AddFreeze writes a freeze.
func (q q) AddFreeze(ctx context.Context, f Freeze) (Freeze, error) {
	err := sqlx.GetContext(ctx, q.ext, &f, `INSERT INTO freezes (label, from_at, to_at, rings, reason, by_name) VALUES ($1, $2, $3, $4, $5, $6)
		RETURNING id, label, from_at, to_at, rings, reason, by_name, created_at, lifted_at, lifted_by`, f.Label, f.From, f.To, f.Rings, f.Reason, f.By)
	if err != nil {
		return f, wrap(err, "write the freeze")
	}
	if err := q.moveGate(ctx); err != nil {
		return f, err
	}
	return f, q.Tell(ctx, Notice{Kind: job.NoticeParts})
}

// LiftFreeze ends a freeze now.
func (q q) LiftFreeze(ctx context.Context, id int64, by string) (Freeze, error) {
	var f Freeze
	err := sqlx.GetContext(ctx, q.ext, &f, `UPDATE freezes SET lifted_at = coalesce(lifted_at, bell_now()), lifted_by = CASE WHEN lifted_at IS NULL THEN $2 ELSE lifted_by END WHERE id = $1
		RETURNING id, label, from_at, to_at, rings, reason, by_name, created_at, lifted_at, lifted_by`, id, by)
	if err != nil {
		return f, found(err, "freeze", "")
	}
	if err := q.moveGate(ctx); err != nil {
		return f, err
	}
	for _, kind := range []job.NoticeKind{job.NoticeParts, job.NoticeDeliveries} {
		if err := q.Tell(ctx, Notice{Kind: kind}); err != nil {
			return f, err
		}
	}
	return f, nil
}

// QueueLine is one part of a run in the queue.
type QueueLine struct {
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
func (q q) Queue(ctx context.Context, limit int) (working, waiting []QueueLine, waits int, err error) {
	const columns = `p.run_id, p.part, p.job_id, r.job_name, r.rehearsal, p.priority, r.due, p.ready_at, p.started_at, p.node, p.reason FROM parts p JOIN runs r ON r.id = p.run_id`
	working, waiting = []QueueLine{}, []QueueLine{}
	if err = sqlx.SelectContext(ctx, q.ext, &working, `SELECT `+columns+` WHERE p.state = 'running' ORDER BY p.started_at LIMIT $1`, limit); err != nil {
		return working, waiting, 0, wrap(err, "list what works")
	}
	if err = sqlx.SelectContext(ctx, q.ext, &waiting, `SELECT `+columns+` WHERE p.state = 'waiting' ORDER BY p.turn, p.run_id, p.part LIMIT $1`, limit); err != nil {
		return working, waiting, 0, wrap(err, "list what waits")
	}
	err = sqlx.GetContext(ctx, q.ext, &waits, `SELECT count(*) FROM parts WHERE state = 'waiting'`)
	return working, waiting, waits, wrap(err, "count what waits")
}

// Labels are a job's labels, for limits and freezes.
func (q q) Labels(ctx context.Context, jobID int64) ([]string, error) {
	var labels document[[]string]
	err := sqlx.GetContext(ctx, q.ext, &labels, `SELECT array_to_json(labels) FROM jobs WHERE id = $1`, jobID)
	return labels.V, wrap(err, "read the job's labels")
}

// Relabel gives the jobs that use a report another label in place of one.
func (q q) Relabel(ctx context.Context, report int64, from, to string) error {
	_, err := q.ext.ExecContext(ctx, `UPDATE jobs SET labels = array_replace(labels, $2, $3) WHERE id IN (SELECT job_id FROM job_uses WHERE kind = 'report' AND id = $1)`, report, from, to)
	return wrap(err, "label the jobs anew")
}
