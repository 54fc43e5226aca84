package store

import (
	"context"
	"database/sql"
	"errors"
	"time"

	"ironbell/internal/core/fault"
	"ironbell/internal/core/job"

	"github.com/jmoiron/sqlx"
)

// StoreLabel is the label under which the store of artifacts rests: nothing works
// without it.
const StoreLabel = "service"

// RestOf is a source, or the store of artifacts, that rests.
type RestOf struct {
	Label   string     `db:"label"`
	Since   time.Time  `db:"since"`
	Answer  string     `db:"answer"`
	Advice  string     `db:"advice"`
	Class   string     `db:"class"`
	ProbeAt *time.Time `db:"probe_at"` // nil for one that waits for its record to change
	Probes  int        `db:"probes"`
}

// RestLabel lets what carries a label rest from now on; probe is when it is looked at
// first. It tells whether it rested already.
func (t *Tx) RestLabel(ctx context.Context, label string, f *fault.Fault, probe time.Duration) (rested bool, err error) {
	res, err := t.ext.ExecContext(ctx, `INSERT INTO rests (label, answer, advice, class, probe_at) VALUES ($1, $2, $3, $4, bell_now() + make_interval(secs => $5)) ON CONFLICT DO NOTHING`,
		label, bounded(f.Error()), f.Advice, f.Class, probe.Seconds())
	if err != nil {
		return false, wrap(err, "let the source rest")
	}
	n, err := res.RowsAffected()
	return n == 0, wrap(err, "let the source rest")
}

// Rests lists what rests beside destinations.
func (q q) Rests(ctx context.Context) ([]RestOf, error) {
	all := []RestOf{}
	err := sqlx.SelectContext(ctx, q.ext, &all, `SELECT label, since, answer, advice, class, probe_at, probes FROM rests ORDER BY label LIMIT 1000`)
	return all, wrap(err, "list what rests")
}

// TakeLook gives something that rests and is to be looked at now, and puts the next
// look off, so that one node at a time looks. ok is false when there is none.
func (q q) TakeLook(ctx context.Context) (r RestOf, ok bool, err error) {
	err = sqlx.GetContext(ctx, q.ext, &r, `UPDATE rests SET probes = probes + 1, probe_at = bell_now() + interval '1 minute'
		WHERE label = (SELECT label FROM rests WHERE probe_at <= bell_now() ORDER BY probe_at LIMIT 1 FOR UPDATE SKIP LOCKED) RETURNING label, since, answer, advice, class, probe_at, probes`)
	if errors.Is(err, sql.ErrNoRows) {
		return r, false, nil
	}
	return r, err == nil, wrap(err, "find what to look at")
}

// LookAgain notes what a look found, and when the next one is; none when next is zero.
func (t *Tx) LookAgain(ctx context.Context, label string, f *fault.Fault, next time.Duration) error {
	_, err := t.ext.ExecContext(ctx, `UPDATE rests SET answer = $2, advice = $3, class = $4, probe_at = CASE WHEN $5::float8 > 0 THEN bell_now() + make_interval(secs => $5::float8) END WHERE label = $1`,
		label, bounded(f.Error()), f.Advice, f.Class, next.Seconds())
	return wrap(err, "note what the look found")
}

// LookSoon lets what rests be looked at now: its record was changed.
func (t *Tx) LookSoon(ctx context.Context, label string) error {
	_, err := t.ext.ExecContext(ctx, `UPDATE rests SET probe_at = bell_now(), probes = 0 WHERE label = $1`, label)
	return wrap(err, "look at the source")
}

// EndRest ends a rest and tells whether there was one.
func (t *Tx) EndRest(ctx context.Context, label string) (bool, error) {
	res, err := t.ext.ExecContext(ctx, `DELETE FROM rests WHERE label = $1`, label)
	if err != nil {
		return false, wrap(err, "end the rest")
	}
	n, err := res.RowsAffected()
	if err != nil || n == 0 {
		return false, wrap(err, "end the rest")
	}
	return true, t.Tell(ctx, Notice{Kind: job.NoticeParts})
}

// KeptPart is a part that waits for what rests.
type KeptPart struct {
	RunID      job.RunID `db:"run_id"`
	Part       int       `db:"part"`
	JobID      int64     `db:"job_id"`
	Job        string    `db:"job_name"`
	JobVersion int       `db:"job_version"`
	MadeAt     time.Time `db:"made_at"`
	Name       string    `db:"name"`
	Rehearsal  bool      `db:"rehearsal"`
}

// KeptParts locks parts that wait and carry a label, oldest first, at most limit.
func (t *Tx) KeptParts(ctx context.Context, label string, limit int) ([]KeptPart, error) {
	var out []KeptPart
	err := sqlx.SelectContext(ctx, t.ext, &out, `SELECT p.run_id, p.part, p.job_id, r.job_name, r.job_version, p.name, r.rehearsal, coalesce(r.versions_at, r.created_at) AS made_at FROM parts p JOIN runs r ON r.id = p.run_id
		WHERE p.state = 'waiting' AND NOT p.held AND p.labels @> ARRAY[$1::text] ORDER BY p.run_id, p.part LIMIT $2 FOR UPDATE OF p SKIP LOCKED`, label, limit)
	return out, wrap(err, "find what waits for it")
}

// FailPart ends a locked part that waits.
func (t *Tx) FailPart(ctx context.Context, p KeptPart, reason string) error {
	_, err := t.ext.ExecContext(ctx, `UPDATE parts SET state = 'failed', reason = $3, ended_at = bell_clock() WHERE run_id = $1 AND part = $2 AND state = 'waiting'`, p.RunID, p.Part, bounded(reason))
	return wrap(err, "end the part")
}

// WaitingOn tells how many parts wait that carry a label, of which jobs, by name, at
// most ten, and whose they are.
func (q q) WaitingOn(ctx context.Context, label string) (n int, jobs []string, err error) {
	var rows []struct {
		Job string `db:"name"`
		N   int    `db:"n"`
	}
	err = sqlx.SelectContext(ctx, q.ext, &rows, `SELECT j.name, count(*) AS n FROM parts p JOIN jobs j ON j.id = p.job_id WHERE p.state = 'waiting' AND NOT p.held AND p.labels @> ARRAY[$1::text] GROUP BY j.name ORDER BY 2 DESC, 1`, label)
	for _, r := range rows {
		if n += r.N; len(jobs) < 10 {
			jobs = append(jobs, r.Job)
		}
	}
	return n, jobs, wrap(err, "see what waits for it")
}

// OwnersOf are the owners of the jobs that are on and carry a label, at most 50.
func (q q) OwnersOf(ctx context.Context, label string) ([]job.Person, error) {
	people := []job.Person{}
	err := sqlx.SelectContext(ctx, q.ext, &people, `SELECT `+personColumns+` FROM people p WHERE p.id IN (SELECT owner_id FROM jobs WHERE is_on AND labels @> ARRAY[$1::text]) ORDER BY p.id LIMIT 50`, label)
	return people, wrap(err, "find whose jobs need it")
}
