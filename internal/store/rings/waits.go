package rings

import (
	"context"
	"database/sql"
	"errors"
	"time"

	"ironbell/internal/core/job"
	"ironbell/internal/store/db"
	"ironbell/internal/store/history"

	"github.com/jmoiron/sqlx"
)

// Waiter is a trigger that waits for what happened, with what a run of its job needs.
type Waiter struct {
	TriggerID  int64                     `db:"trigger_id"`
	Condition  int                       `db:"place"` // which of its conditions, from 0
	Waits      db.Document[*job.Wait]    `db:"waits"`
	JobID      int64                     `db:"job_id"`
	OwnerID    int64                     `db:"owner_id"` // of the job
	Job        string                    `db:"job_name"`
	JobVersion int                       `db:"job_version"`
	On         bool                      `db:"is_on"`
	Rule       string                    `db:"rule"`
	Zone       string                    `db:"zone"`
	Calendars  db.Document[[]string]     `db:"calendars"`
	Given      db.Document[job.Values]   `db:"given"`
	Overlap    job.Overlap               `db:"overlap"`
	Priority   int                       `db:"priority"`
	Delay      float64                   `db:"delay"`
	Deadline   db.Document[job.Deadline] `db:"deadline"`
	Labels     db.Document[[]string]     `db:"labels"`
	Timing     db.Document[job.Timing]   `db:"timing"`
	StartedAt  *time.Time                `db:"started_at"` // by what happened, the last time
}

// Asleep tells whether the job is off and does not say that what happens starts it all the same.
func (w Waiter) Asleep() bool { return !w.On && (w.Waits.V == nil || !w.Waits.V.WhileOff) }

// wakes picks the triggers that may start: of jobs that are on, and of others that say so.
const wakes = `(j.is_on OR (t.waits->>'while_off')::boolean) AND j.removed_at IS NULL`

const waiterColumns = `w.trigger_id, w.place, t.waits, t.job_id, j.owner_id, j.name AS job_name, j.version AS job_version, j.is_on,
	t.rule, t.zone, t.calendars, t.given, t.overlap, t.priority,
	t.delay, t.deadline, t.started_at, t.timing, array_to_json(j.labels) AS labels FROM trigger_waits w JOIN triggers t ON t.id = w.trigger_id
	JOIN jobs j ON j.id = t.job_id`

// maxWaiters bounds how many triggers one event or outcome may start.
const maxWaiters = 10_000

// lockWaiting locks the first trigger of each job that waits, as the clock does, and
// tells whether there is any.
func (t *Tx) lockWaiting(ctx context.Context, which string, arg any) (bool, error) {
	locked, err := t.Ext.ExecContext(ctx,
		`SELECT f.id FROM triggers f WHERE f.position = 0 AND f.job_id IN (SELECT t.job_id FROM trigger_waits w JOIN triggers t ON t.id = w.trigger_id WHERE `+which+`) ORDER BY f.job_id FOR UPDATE`, arg)
	if err != nil {
		return false, db.Wrap(err, "lock who waits")
	}
	n, err := locked.RowsAffected()
	return n > 0, db.Wrap(err, "lock who waits")
}

// WaitersForEvents locks the triggers of jobs that are on and wait for one of some types of event; of
// gives the type that each waits for.
func (t *Tx) WaitersForEvents(ctx context.Context, types []string) (all []Waiter, of []string, err error) {
	var rows []struct {
		Waiter
		Of string `db:"event_type"`
	}
	if any, err := t.lockWaiting(ctx, `w.event_type = ANY($1)`, types); err != nil || !any {
		return nil, nil, err
	}
	err = sqlx.SelectContext(ctx, t.Ext, &rows, `SELECT w.event_type, `+waiterColumns+` WHERE w.event_type = ANY($1)
		AND `+wakes+` ORDER BY w.trigger_id, w.place LIMIT $2 FOR UPDATE OF t`, types, maxWaiters)
	for _, r := range rows {
		all, of = append(all, r.Waiter), append(of, r.Of)
	}
	return all, of, db.Wrap(err, "find who waits for the events")
}

// WaitersForJobs locks the triggers of jobs that are on and wait for an outcome
// of one of some jobs; by gives the job that each waits for.
func (t *Tx) WaitersForJobs(ctx context.Context, jobs []int64) (all []Waiter, by []int64, err error) {
	var rows []struct {
		Waiter
		By int64 `db:"by"`
	}
	if any, err := t.lockWaiting(ctx, `w.job_id = ANY($1)`, jobs); err != nil || !any {
		return nil, nil, err
	}
	err = sqlx.SelectContext(ctx, t.Ext, &rows, `SELECT w.job_id AS by, `+waiterColumns+` WHERE w.job_id = ANY($1)
		AND `+wakes+` ORDER BY w.trigger_id, w.place LIMIT $2 FOR UPDATE OF t`, jobs, maxWaiters)
	for _, r := range rows {
		all, by = append(all, r.Waiter), append(by, r.By)
	}
	return all, by, db.Wrap(err, "find who waits for the jobs")
}

// Happened is one condition of a trigger that has come about.
type Happened struct {
	TriggerID int64                  `db:"trigger_id"`
	Bunch     string                 `db:"bunch"` // the business day that it belongs to; empty for a window
	Condition int                    `db:"place"` // which of the trigger's, from 0
	At        time.Time              `db:"at"`
	Nominal   time.Time              `db:"nominal"`
	What      string                 `db:"what"`
	Facts     db.Document[job.Facts] `db:"facts"` // of an event
	Played    bool                   `db:"-"`     // by a person, once more: it tells nothing of when it comes
}

// WithFacts gives the happening the facts of an event.
func (h Happened) WithFacts(facts job.Facts) Happened {
	h.Facts.V = facts
	return h
}

// PutHappened records that a condition has come about, or did so again. The
// trigger must be locked.
func (t *Tx) PutHappened(ctx context.Context, h Happened) error {
	if h.Facts.V == nil {
		h.Facts.V = job.Facts{}
	}
	_, err := t.Ext.ExecContext(ctx, `INSERT INTO happened (trigger_id, bunch, place, at, nominal, what, facts)
		VALUES ($1, $2, $3, $4, $5, $6, $7)
		ON CONFLICT (trigger_id, bunch, place) DO UPDATE SET at = excluded.at, nominal = excluded.nominal,
		what = excluded.what, run_id = NULL, facts = excluded.facts`,
		h.TriggerID, h.Bunch, h.Condition, h.At, h.Nominal, h.What, h.Facts)
	return db.Wrap(err, "record what happened")
}

// AllHappened lists what has come about of a trigger's conditions in a bunch.
func (q Q) AllHappened(ctx context.Context, trigger int64, bunch string) ([]Happened, error) {
	var all []Happened
	err := sqlx.SelectContext(ctx, q.Ext, &all, `SELECT trigger_id, bunch, place, at, nominal, what, facts FROM happened
		WHERE trigger_id = $1 AND bunch = $2 AND place >= 0 ORDER BY place`, trigger, bunch)
	return all, db.Wrap(err, "see what has happened")
}

// DropHappened forgets a bunch that is spent.
func (t *Tx) DropHappened(ctx context.Context, trigger int64, bunch string) error {
	_, err := t.Ext.ExecContext(ctx, `DELETE FROM happened WHERE trigger_id = $1 AND bunch = $2 AND place >= 0`,
		trigger, bunch)
	return db.Wrap(err, "forget what is spent")
}

// DropCondition forgets that one condition of a trigger came about in a bunch.
func (t *Tx) DropCondition(ctx context.Context, trigger int64, bunch string, condition int) error {
	_, err := t.Ext.ExecContext(ctx, `DELETE FROM happened WHERE trigger_id = $1 AND bunch = $2 AND place = $3`, trigger,
		bunch, condition)
	return db.Wrap(err, "forget what holds no more")
}

// BunchesOf lists the bunches in which something has come about of a trigger's conditions, the oldest first.
func (t *Tx) BunchesOf(ctx context.Context, trigger int64) ([]string, error) {
	var all []string
	err := sqlx.SelectContext(ctx, t.Ext, &all, `SELECT bunch FROM happened WHERE trigger_id = $1 AND place >= 0
		GROUP BY bunch ORDER BY min(at) LIMIT 100`, trigger)
	return all, db.Wrap(err, "see what came about")
}

// HeldRun is a run that a rule rang and that waits for what happens elsewhere.
type HeldRun struct {
	RunID     job.RunID `db:"run_id"`
	TriggerID int64     `db:"trigger_id"`
	Bunch     string    `db:"bunch"`
	Due       time.Time `db:"due"`
	Nominal   time.Time `db:"nominal"`
}

// maxHeld bounds how many runs of a trigger wait for one thing that happens.
const maxHeld = 5000

// HoldRun records that a run waits for what happens.
func (t *Tx) HoldRun(ctx context.Context, h HeldRun) error {
	_, err := t.Ext.ExecContext(ctx, `INSERT INTO held_runs (run_id, trigger_id, bunch, due, nominal)
		VALUES ($1, $2, $3, $4, $5)`, h.RunID, h.TriggerID, h.Bunch, h.Due, h.Nominal)
	return db.Wrap(err, "let the run wait")
}

// HeldRuns lists the runs of a trigger that wait in a bunch, the oldest first. Those
// that a node of the version before let wait are among them.
func (t *Tx) HeldRuns(ctx context.Context, trigger int64, bunch string) ([]HeldRun, error) {
	var all []HeldRun
	err := sqlx.SelectContext(ctx, t.Ext, &all, `SELECT run_id, trigger_id, bunch, due, nominal FROM held_runs
		WHERE trigger_id = $1 AND bunch = $2
		UNION ALL SELECT run_id, trigger_id, bunch, at, nominal FROM happened WHERE trigger_id = $1 AND bunch = $2
		AND place = -1 AND run_id IS NOT NULL
		ORDER BY due, run_id LIMIT $3`, trigger, bunch, maxHeld)
	return all, db.Wrap(err, "find the runs that wait")
}

// HeldOfTrigger lists the runs of a trigger that wait, the oldest first.
func (t *Tx) HeldOfTrigger(ctx context.Context, trigger int64) ([]HeldRun, error) {
	var all []HeldRun
	err := sqlx.SelectContext(ctx, t.Ext, &all, `SELECT run_id, trigger_id, bunch, due, nominal FROM held_runs
		WHERE trigger_id = $1 ORDER BY due, run_id LIMIT $2`, trigger, maxHeld)
	return all, db.Wrap(err, "find the runs that wait")
}

// HeldOfJob lists the runs of a job that wait for what happens; of the triggers
// named only, when there are any.
func (t *Tx) HeldOfJob(ctx context.Context, jobID int64, triggers []int64) ([]job.RunID, error) {
	var ids []job.RunID
	err := sqlx.SelectContext(ctx, t.Ext, &ids, `SELECT p.run_id FROM parts p JOIN runs r ON r.id = p.run_id
		WHERE p.job_id = $1 AND p.state = 'waiting' AND p.held
		AND ($2::bigint[] IS NULL OR r.trigger_id = ANY($2)) ORDER BY p.run_id FOR UPDATE OF p`, jobID, triggers)
	return ids, db.Wrap(err, "find the runs that wait")
}

// letGoOf forgets that runs wait for what happens.
func (q Q) letGoOf(ctx context.Context, ids []job.RunID) error {
	_, err := q.Ext.ExecContext(ctx, `WITH old AS (DELETE FROM happened WHERE place = -1 AND run_id = ANY($1)) DELETE
		FROM held_runs WHERE run_id = ANY($1)`, db.Numbers(ids))
	return db.Wrap(err, "let the run wait no more")
}

// Release lets a run begin that waited for what has happened now. ok is false
// when it has given up waiting.
func (t *Tx) Release(ctx context.Context, id job.RunID, ready time.Time, given job.Values,
	reason string,
) (ok bool, err error) {
	if err := t.letGoOf(ctx, []job.RunID{id}); err != nil {
		return false, err
	}
	res, err := t.Ext.ExecContext(ctx, `UPDATE parts SET held = false, ready_at = $2, reason = $3 WHERE run_id = $1
		AND state = 'waiting' AND held`, id, ready, reason)
	if err != nil {
		return false, db.Wrap(err, "let the run begin")
	}
	n, err := res.RowsAffected()
	if err != nil || n == 0 {
		return false, db.Wrap(err, "let the run begin")
	}
	run, err := history.In(t.Base).LockRun(ctx, id)
	if err != nil {
		return false, err
	}
	if _, err := t.Ext.ExecContext(ctx, `UPDATE runs SET given = $2 WHERE id = $1`, id,
		db.Document[job.Values]{V: given.Over(nil)}); err != nil {
		return false, db.Wrap(err, "give the run its values")
	}
	if err := history.In(t.Base).MoveRun(ctx, run, job.RunWaiting, reason); err != nil {
		return false, err
	}
	return true, t.Tell(ctx, db.Notice{Kind: job.NoticeParts})
}

// GaveUp locks the runs that have waited in vain for what should have happened.
func (t *Tx) GaveUp(ctx context.Context, limit int) ([]job.RunID, error) {
	var ids []job.RunID
	err := sqlx.SelectContext(ctx, t.Ext, &ids, `SELECT run_id FROM parts WHERE state = 'waiting' AND held
		AND ready_at <= bell_now() ORDER BY ready_at LIMIT $1 FOR UPDATE SKIP LOCKED`, limit)
	return ids, db.Wrap(err, "find who waited in vain")
}

// TriggerWait is what a trigger waits for; nil when it is gone or waits for nothing.
func (q Q) TriggerWait(ctx context.Context, trigger int64) (*job.Wait, error) {
	var w db.Document[*job.Wait]
	err := sqlx.GetContext(ctx, q.Ext, &w, `SELECT waits FROM triggers WHERE id = $1`, trigger)
	if errors.Is(err, sql.ErrNoRows) {
		return nil, nil //nolint:nilnil // a trigger that is gone waits for nothing
	}
	return w.V, db.Wrap(err, "read what the trigger waits for")
}

// PassOver ends a run that has not begun: it will not.
func (t *Tx) PassOver(ctx context.Context, id job.RunID, reason string) error {
	_, err := t.endHeld(ctx, id, "cancelled", job.RunPassedOver, reason)
	return err
}

// FailHeld ends a run that has not begun: it has failed.
func (t *Tx) FailHeld(ctx context.Context, id job.RunID, reason string) (history.RunMove, error) {
	return t.endHeld(ctx, id, "failed", job.RunFailed, reason)
}

func (t *Tx) endHeld(ctx context.Context, id job.RunID, parts string, to job.RunState, reason string) (history.RunMove,
	error,
) {
	if err := t.letGoOf(ctx, []job.RunID{id}); err != nil {
		return history.RunMove{}, err
	}
	if _, err := t.Ext.ExecContext(ctx, `UPDATE parts SET state = $3, reason = $2, held = false, ended_at = bell_clock()
		WHERE run_id = $1 AND state = 'waiting'`, id, db.Bounded(reason), parts); err != nil {
		return history.RunMove{}, db.Wrap(err, "end the run")
	}
	run, err := history.In(t.Base).LockRun(ctx, id)
	if err != nil {
		return history.RunMove{}, err
	}
	return history.RunMove{Run: run, To: to, Reason: reason}, history.In(t.Base).MoveRun(ctx, run, to, reason)
}

// HappenedFor lists what has come about of the conditions for which a run waits;
// held is nil when it waits for nothing.
func (q Q) HappenedFor(ctx context.Context, run job.RunID) (held *HeldRun, all []Happened, err error) {
	var rows []HeldRun
	if err := sqlx.SelectContext(ctx, q.Ext, &rows, `SELECT run_id, trigger_id, bunch, due, nominal FROM held_runs
		WHERE run_id = $1`, run); err != nil || len(rows) == 0 {
		return nil, nil, db.Wrap(err, "see what the run waits for")
	}
	all, err = q.AllHappened(ctx, rows[0].TriggerID, rows[0].Bunch)
	return &rows[0], all, err
}

// Announce records which outcomes of a locked run others have heard of.
func (t *Tx) Announce(ctx context.Context, id job.RunID, outcome job.RunState) (before []string, err error) {
	var old db.Document[[]string]
	err = sqlx.GetContext(ctx, t.Ext, &old, `WITH old AS (SELECT announced FROM runs WHERE id = $1)
		UPDATE runs SET announced = runs.announced || $2::text FROM old WHERE runs.id = $1
		RETURNING array_to_json(old.announced)`, id, string(outcome))
	return old.V, db.Wrap(err, "record the outcome's announcement")
}

// SweepHappened forgets what never came together.
func (q Q) SweepHappened(ctx context.Context, before time.Time) error {
	_, err := q.Ext.ExecContext(ctx, `DELETE FROM happened WHERE at < $1`, before)
	return db.Wrap(err, "forget what never came together")
}

// Edge leads from a job to one that it starts: by its outcome or by an event.
type Edge struct {
	From int64  `db:"from_id"`
	To   int64  `db:"to_id"`
	Name string `db:"name"` // of the job that is started
	By   string `db:"by"`   // "done", or the event's type
}

// StartedBy lists the jobs that some jobs start, by an outcome or an event.
func (q Q) StartedBy(ctx context.Context, jobs []int64) ([]Edge, error) {
	var edges []Edge
	err := sqlx.SelectContext(ctx, q.Ext, &edges, `SELECT DISTINCT w.job_id AS from_id, j.id AS to_id, j.name,
		'its outcome' AS by
			FROM trigger_waits w JOIN triggers t ON t.id = w.trigger_id JOIN jobs j ON j.id = t.job_id
			WHERE w.job_id = ANY($1)
		UNION SELECT DISTINCT e.job_id, j.id, j.name, 'event ' || e.type
			FROM job_emits e JOIN jobs o ON o.id = e.job_id JOIN trigger_waits w ON w.event_type = e.type
			JOIN triggers t ON t.id = w.trigger_id JOIN jobs j ON j.id = t.job_id
			WHERE e.job_id = ANY($1) AND (j.owner_id = o.owner_id OR t.waits->'for'->w.place->>'source' IS NOT NULL)
		ORDER BY 1, 2 LIMIT 10000`, jobs)
	return edges, db.Wrap(err, "find what jobs start")
}
