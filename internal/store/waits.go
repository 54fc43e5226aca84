package store

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"time"

	"ironbell/internal/core/job"

	"github.com/jmoiron/sqlx"
)

// putWaits writes what a trigger waits for, to be found from the side of what happens.
func (q q) putWaits(ctx context.Context, trigger int64, w *job.Wait, uses Uses) error {
	if _, err := q.ext.ExecContext(ctx, `DELETE FROM trigger_waits WHERE trigger_id = $1`, trigger); err != nil {
		return wrap(err, "save what the trigger waits for")
	}
	if w == nil {
		return nil
	}
	for i, c := range w.For {
		var event *string
		var on *int64
		if c.Event != "" {
			event = &c.Event
		} else if id, ok := uses.Jobs[c.Job]; ok {
			on = &id
		}
		if _, err := q.ext.ExecContext(ctx, `INSERT INTO trigger_waits (trigger_id, place, event_type, job_id) VALUES ($1, $2, $3, $4)`, trigger, i, event, on); err != nil {
			return wrap(err, "save what the trigger waits for")
		}
	}
	return nil
}

// Waiter is a trigger that waits for what happened, with what a run of its job needs.
type Waiter struct {
	TriggerID  int64                  `db:"trigger_id"`
	Place      int                    `db:"place"`
	Waits      document[*job.Wait]    `db:"waits"`
	JobID      int64                  `db:"job_id"`
	Job        string                 `db:"job_name"`
	JobVersion int                    `db:"job_version"`
	On         bool                   `db:"is_on"`
	Rule       string                 `db:"rule"`
	Zone       string                 `db:"zone"`
	Calendars  document[[]string]     `db:"calendars"`
	Given      document[job.Values]   `db:"given"`
	Overlap    job.Overlap            `db:"overlap"`
	Priority   int                    `db:"priority"`
	Delay      float64                `db:"delay"`
	Deadline   document[job.Deadline] `db:"deadline"`
	Labels     document[[]string]     `db:"labels"`
}

const waiterColumns = `w.trigger_id, w.place, t.waits, t.job_id, j.name AS job_name, j.version AS job_version, j.is_on, t.rule, t.zone, t.calendars, t.given, t.overlap, t.priority,
	t.delay, t.deadline, array_to_json(j.labels) AS labels FROM trigger_waits w JOIN triggers t ON t.id = w.trigger_id JOIN jobs j ON j.id = t.job_id`

// maxWaiters bounds how many triggers one event or outcome may start.
const maxWaiters = 10_000

// WaitersForEvent locks the triggers of jobs that are on and wait for a type of event.
func (t *Tx) WaitersForEvent(ctx context.Context, eventType string) ([]Waiter, error) {
	var all []Waiter
	err := sqlx.SelectContext(ctx, t.ext, &all, `SELECT `+waiterColumns+` WHERE w.event_type = $1 AND j.is_on ORDER BY w.trigger_id, w.place LIMIT $2 FOR UPDATE OF t`, eventType, maxWaiters)
	return all, wrap(err, "find who waits for the event")
}

// WaitersForJobs locks the triggers of jobs that are on and wait for an outcome
// of one of some jobs; by gives the job that each waits for.
func (t *Tx) WaitersForJobs(ctx context.Context, jobs []int64) (all []Waiter, by []int64, err error) {
	var rows []struct {
		Waiter
		By int64 `db:"by"`
	}
	err = sqlx.SelectContext(ctx, t.ext, &rows, `SELECT w.job_id AS by, `+waiterColumns+` WHERE w.job_id = ANY($1) AND j.is_on ORDER BY w.trigger_id, w.place LIMIT $2 FOR UPDATE OF t`, jobs, maxWaiters)
	for _, r := range rows {
		all, by = append(all, r.Waiter), append(by, r.By)
	}
	return all, by, wrap(err, "find who waits for the jobs")
}

// Happened is one condition of a trigger that has come about.
type Happened struct {
	TriggerID int64                    `db:"trigger_id"`
	Bunch     string                   `db:"bunch"`
	Place     int                      `db:"place"` // -1 for the trigger's own rule
	At        time.Time                `db:"at"`
	Nominal   time.Time                `db:"nominal"`
	What      string                   `db:"what"`
	RunID     *job.RunID               `db:"run_id"` // of the rule's run that waits
	Facts     document[map[string]any] `db:"facts"`  // of an event
}

// PlaceOfRule is the place of a trigger's own rule among its conditions.
const PlaceOfRule = -1

// WithFacts gives the happening the facts of an event.
func (h Happened) WithFacts(facts map[string]any) Happened {
	h.Facts.V = facts
	return h
}

// PutHappened records that a condition has come about, or did so again, and
// lists all of its bunch that have. What is older than since is forgotten. The
// trigger must be locked.
func (t *Tx) PutHappened(ctx context.Context, h Happened, since time.Time) ([]Happened, error) {
	if h.Facts.V == nil {
		h.Facts.V = map[string]any{}
	}
	var run *int64
	if h.RunID != nil {
		id := int64(*h.RunID)
		run = &id
	}
	if _, err := t.ext.ExecContext(ctx, `DELETE FROM happened WHERE trigger_id = $1 AND bunch = $2 AND at < $3`, h.TriggerID, h.Bunch, since); err != nil {
		return nil, wrap(err, "forget what is too old")
	}
	if _, err := t.ext.ExecContext(ctx, `INSERT INTO happened (trigger_id, bunch, place, at, nominal, what, run_id, facts) VALUES ($1, $2, $3, $4, $5, $6, $7, $8)
		ON CONFLICT (trigger_id, bunch, place) DO UPDATE SET at = excluded.at, nominal = excluded.nominal, what = excluded.what, run_id = excluded.run_id, facts = excluded.facts`,
		h.TriggerID, h.Bunch, h.Place, h.At, h.Nominal, h.What, run, h.Facts); err != nil {
		return nil, wrap(err, "record what happened")
	}
	var all []Happened
	err := sqlx.SelectContext(ctx, t.ext, &all, `SELECT trigger_id, bunch, place, at, nominal, what, run_id, facts FROM happened WHERE trigger_id = $1 AND bunch = $2 ORDER BY place`, h.TriggerID, h.Bunch)
	return all, wrap(err, "see what has happened")
}

// DropHappened forgets a bunch that has started its run.
func (t *Tx) DropHappened(ctx context.Context, trigger int64, bunch string) error {
	_, err := t.ext.ExecContext(ctx, `DELETE FROM happened WHERE trigger_id = $1 AND bunch = $2`, trigger, bunch)
	return wrap(err, "forget what has started its run")
}

// Release lets a run begin that waited for what has happened now. ok is false
// when it has given up waiting.
func (t *Tx) Release(ctx context.Context, id job.RunID, ready time.Time, given job.Values, reason string) (ok bool, err error) {
	res, err := t.ext.ExecContext(ctx, `UPDATE parts SET held = false, ready_at = $2, reason = $3 WHERE run_id = $1 AND state = 'waiting' AND held`, id, ready, reason)
	if err != nil {
		return false, wrap(err, "let the run begin")
	}
	n, err := res.RowsAffected()
	if err != nil || n == 0 {
		return false, wrap(err, "let the run begin")
	}
	run, err := t.LockRun(ctx, id)
	if err != nil {
		return false, err
	}
	if _, err := t.ext.ExecContext(ctx, `UPDATE runs SET given = $2 WHERE id = $1`, id, document[job.Values]{given.Over(nil)}); err != nil {
		return false, wrap(err, "give the run its values")
	}
	if err := t.MoveRun(ctx, run, job.RunWaiting, reason); err != nil {
		return false, err
	}
	return true, t.Tell(ctx, Notice{Kind: "parts"})
}

// GaveUp locks the runs that have waited in vain for what should have happened.
func (t *Tx) GaveUp(ctx context.Context, limit int) ([]job.RunID, error) {
	var ids []job.RunID
	err := sqlx.SelectContext(ctx, t.ext, &ids, `SELECT run_id FROM parts WHERE state = 'waiting' AND held AND ready_at <= now() ORDER BY ready_at LIMIT $1 FOR UPDATE SKIP LOCKED`, limit)
	return ids, wrap(err, "find who waited in vain")
}

// TriggerWait is what a trigger waits for; nil when it is gone or waits for nothing.
func (q q) TriggerWait(ctx context.Context, trigger int64) (*job.Wait, error) {
	var w document[*job.Wait]
	err := sqlx.GetContext(ctx, q.ext, &w, `SELECT waits FROM triggers WHERE id = $1`, trigger)
	if errors.Is(err, sql.ErrNoRows) {
		return nil, nil //nolint:nilnil // a trigger that is gone waits for nothing
	}
	return w.V, wrap(err, "read what the trigger waits for")
}

// PassOver ends a run that has not begun: it will not.
func (t *Tx) PassOver(ctx context.Context, id job.RunID, reason string) error {
	if _, err := t.ext.ExecContext(ctx, `UPDATE parts SET state = 'cancelled', reason = $2, ended_at = clock_timestamp() WHERE run_id = $1 AND state = 'waiting'`, id, bounded(reason)); err != nil {
		return wrap(err, "pass over the run")
	}
	run, err := t.LockRun(ctx, id)
	if err != nil {
		return err
	}
	return t.MoveRun(ctx, run, job.RunPassedOver, reason)
}

// HappenedFor lists what has come about of the conditions for which a run waits.
func (q q) HappenedFor(ctx context.Context, run job.RunID) ([]Happened, error) {
	var all []Happened
	err := sqlx.SelectContext(ctx, q.ext, &all, `SELECT h.trigger_id, h.bunch, h.place, h.at, h.nominal, h.what, h.run_id, h.facts FROM happened r JOIN happened h USING (trigger_id, bunch)
		WHERE r.run_id = $1 AND r.place = $2 ORDER BY h.place`, run, PlaceOfRule)
	return all, wrap(err, "see what has happened")
}

// Announce records which outcomes of a locked run others have heard of.
func (t *Tx) Announce(ctx context.Context, id job.RunID, outcome job.RunState) (before []string, err error) {
	var old document[[]string]
	err = sqlx.GetContext(ctx, t.ext, &old, `WITH old AS (SELECT announced FROM runs WHERE id = $1)
		UPDATE runs SET announced = runs.announced || $2::text FROM old WHERE runs.id = $1 RETURNING array_to_json(old.announced)`, id, string(outcome))
	return old.V, wrap(err, "record the outcome's announcement")
}

// SweepHappened forgets what never came together.
func (q q) SweepHappened(ctx context.Context, before time.Time) error {
	_, err := q.ext.ExecContext(ctx, `DELETE FROM happened WHERE at < $1`, before)
	return wrap(err, "forget what never came together")
}

// EventRow is an event as it was recorded.
type EventRow struct {
	job.Event
	Row   int64             `db:"id"`
	RunID *job.RunID        `db:"run_id"`
	Data  *json.RawMessage  `db:"data"`
	Began document[[]int64] `db:"started"`
}

// Started are the runs that the event started.
func (e EventRow) Started() []job.RunID {
	out := make([]job.RunID, len(e.Began.V))
	for i, id := range e.Began.V {
		out[i] = job.RunID(id)
	}
	return out
}

// PutEvent records an event. fresh is false when one of this source and id was
// recorded before, which is then given.
func (t *Tx) PutEvent(ctx context.Context, e job.Event, by *int64, run *job.RunID) (row int64, fresh bool, err error) {
	var data *string
	if len(e.Data) > 0 {
		text := string(e.Data)
		data = &text
	}
	var runID *int64
	if run != nil {
		id := int64(*run)
		runID = &id
	}
	err = sqlx.GetContext(ctx, t.ext, &row, `INSERT INTO events (event_id, source, type, subject, time, data, reported_by, run_id) VALUES ($1, $2, $3, $4, $5, $6, $7, $8)
		ON CONFLICT (source, event_id) DO NOTHING RETURNING id`, e.ID, e.Source, e.Type, e.Subject, e.Time, data, by, runID)
	if errors.Is(err, sql.ErrNoRows) {
		err = sqlx.GetContext(ctx, t.ext, &row, `SELECT id FROM events WHERE source = $1 AND event_id = $2`, e.Source, e.ID)
		return row, false, wrap(err, "find the event")
	}
	return row, true, wrap(err, "record the event")
}

// EventStarted records which runs an event started.
func (t *Tx) EventStarted(ctx context.Context, row int64, runs []job.RunID) error {
	_, err := t.ext.ExecContext(ctx, `UPDATE events SET started = started || $2::bigint[] WHERE id = $1`, row, numbers(runs))
	return wrap(err, "record what the event started")
}

// Events lists events, newest first; of one type, unless it is empty.
func (q q) Events(ctx context.Context, eventType string, limit int) ([]EventRow, error) {
	all := []EventRow{}
	err := sqlx.SelectContext(ctx, q.ext, &all, `SELECT id, event_id, source, type, subject, time, data, received_at, run_id, array_to_json(started) AS started FROM events
		WHERE $1 = '' OR type = $1 ORDER BY id DESC LIMIT $2`, eventType, limit)
	return all, wrap(err, "list the events")
}

// SweepEvents removes events received before an instant, at most 10,000.
func (q q) SweepEvents(ctx context.Context, before time.Time) error {
	_, err := q.ext.ExecContext(ctx, `DELETE FROM events WHERE id IN (SELECT id FROM events WHERE received_at < $1 ORDER BY received_at LIMIT 10000)`, before)
	return wrap(err, "remove old events")
}

// Edge leads from a job to one that it starts: by its outcome or by an event.
type Edge struct {
	From int64  `db:"from_id"`
	To   int64  `db:"to_id"`
	Name string `db:"name"` // of the job that is started
	By   string `db:"by"`   // "done", or the event's type
}

// StartedBy lists the jobs that some jobs start, by an outcome or an event.
func (q q) StartedBy(ctx context.Context, jobs []int64) ([]Edge, error) {
	var edges []Edge
	err := sqlx.SelectContext(ctx, q.ext, &edges, `SELECT DISTINCT w.job_id AS from_id, j.id AS to_id, j.name, 'its outcome' AS by
			FROM trigger_waits w JOIN triggers t ON t.id = w.trigger_id JOIN jobs j ON j.id = t.job_id WHERE w.job_id = ANY($1)
		UNION SELECT DISTINCT e.job_id, j.id, j.name, 'event ' || e.type
			FROM job_emits e JOIN trigger_waits w ON w.event_type = e.type JOIN triggers t ON t.id = w.trigger_id JOIN jobs j ON j.id = t.job_id WHERE e.job_id = ANY($1)
		ORDER BY 1, 2 LIMIT 10000`, jobs)
	return edges, wrap(err, "find what jobs start")
}
