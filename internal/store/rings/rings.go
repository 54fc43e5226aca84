package rings

import (
	"context"
	"encoding/json"
	"errors"
	"slices"
	"time"

	"ironbell/internal/core/job"
	"ironbell/internal/core/policy"
	"ironbell/internal/store/db"
	"ironbell/internal/store/history"
	"ironbell/internal/store/records"

	"github.com/jmoiron/sqlx"
)

// DueTrigger is a trigger whose time has come, with what the decision needs.
type DueTrigger struct {
	ID          int64                     `db:"id"`
	JobID       int64                     `db:"job_id"`
	Job         string                    `db:"job_name"`
	JobVersion  int                       `db:"job_version"`
	Timing      db.Document[job.Timing]   `db:"timing"`
	Calendars   db.Document[[]string]     `db:"calendars"`
	Zone        string                    `db:"zone"`
	Given       db.Document[job.Values]   `db:"given"`
	AfterOutage job.AfterOutage           `db:"after_outage"`
	Overlap     job.Overlap               `db:"overlap"`
	Priority    int                       `db:"priority"`
	Delay       float64                   `db:"delay"` // seconds
	Deadline    db.Document[job.Deadline] `db:"deadline"`
	Waits       db.Document[*job.Wait]    `db:"waits"`
	Labels      db.Document[[]string]     `db:"labels"`
	NextDue     time.Time                 `db:"next_due"`
	NextNominal *time.Time                `db:"next_nominal"`
	Zones       string                    `db:"zones"`     // the zone data by which NextDue was reckoned
	Apart       string                    `db:"apart_why"` // why it was set apart before

	Working bool      `db:"-"` // a run of the job waits or works
	Waiting job.RunID `db:"-"` // a run with equal values that has not begun
}

// NewRun is a run to be made.
type NewRun struct {
	ID         job.RunID // from AddRuns
	JobID      int64
	Job        string
	JobVersion int
	TriggerID  *int64
	Why        string
	AskedBy    *int64
	Nominal    time.Time
	Due        time.Time
	Zone       string
	Given      job.Values
	Priority   int
	Gated      bool       // waits until no other run of its job works
	Ready      *time.Time // when it may begin; at once when nil
	Held       bool       // until what it waits for has happened; Ready is then when it gives up
	Labels     []string   // what limits and freezes may name
	Deadline   *time.Time
	WarnAt     *time.Time // when its owner is warned of the deadline
	Rehearsal  bool
	Again      *job.RunID // the run that it repeats
	Correction string     // what was wrong with that, when it is put right by this one
	Anyway     bool       // what is blank or unusual is sent
	Reason     string     // why it waits; "for its turn" when empty
}

// RingPlan is what was decided for the due triggers of one pass. Its rings name its runs
// by -1, -2, ..., in their order, until they have their numbers.
type RingPlan struct {
	Rings []job.Ring
	JobOf map[int64]int64 // trigger to job
	Runs  []NewRun
	Next  map[int64]*records.NextRing // trigger to its following ring; nil for none
	Zones string                      // the zone data by which Next was reckoned
	Moved map[job.RunID]time.Time     // waiting runs that later rings joined, to their newest nominal date
}

const dueColumns = `t.id, t.job_id, j.name AS job_name, j.version AS job_version, t.timing, t.calendars, t.zone,
	t.given,
			t.after_outage, t.overlap, t.priority, t.delay, t.deadline, t.waits, array_to_json(j.labels) AS labels,
			t.next_due, t.next_nominal, t.zones, t.apart_why
		FROM triggers t JOIN jobs j ON j.id = t.job_id`

// The first trigger of a job stands for all of its triggers: whoever decides on
// rings of a job, or changes its triggers, holds that one's lock. So all that is due
// of a job is decided together, over all nodes, and never in two halves.

// nextJobs locks jobs of which triggers are due by $1, the earliest first, passing over
// those that another node has locked: at most $2 rows, perhaps one job in more than one.
// Each is looked up and locked on its own, so that the limit ends the search: many that
// are due at once are not all looked up in each pass over them.
const nextJobs = `SELECT f.job_id FROM (SELECT job_id FROM triggers WHERE next_due <= $1 ORDER BY next_due, id) d,
	LATERAL (SELECT f.job_id FROM triggers f WHERE f.job_id = d.job_id AND f.position = 0 FOR UPDATE SKIP LOCKED) f
	LIMIT $2`

// NextJob locks the job of which a trigger is due that no other node has; 0 when there
// is none.
func (t *Tx) NextJob(ctx context.Context, now time.Time) (int64, error) {
	var jobs []int64
	err := sqlx.SelectContext(ctx, t.Ext, &jobs, nextJobs, now, 1)
	return slices.Max(append(jobs, 0)), db.Wrap(err, "find what is due")
}

// TakeNext locks jobs of which triggers are due that no other node has, at most so many,
// with what TakeDue does.
func (t *Tx) TakeNext(ctx context.Context, now time.Time, limit int) ([]DueTrigger, error) {
	return t.take(ctx, `WITH next AS MATERIALIZED (`+nextJobs+`) SELECT `+dueColumns+`
		WHERE t.job_id IN (SELECT job_id FROM next)`, now, limit)
}

// TakeDue locks the triggers of some locked jobs that are due by now, earliest
// first, and the runs that they may join.
func (t *Tx) TakeDue(ctx context.Context, now time.Time, jobs []int64) ([]DueTrigger, error) {
	return t.take(ctx, `SELECT `+dueColumns+` WHERE t.job_id = ANY($2)`, now, jobs)
}

func (t *Tx) take(ctx context.Context, which string, now time.Time, arg any) ([]DueTrigger, error) {
	var due []DueTrigger
	err := sqlx.SelectContext(ctx, t.Ext, &due, which+` AND t.next_due <= $1 ORDER BY t.next_due, t.id FOR UPDATE OF t`,
		now, arg)
	if err != nil || len(due) == 0 {
		return due, db.Wrap(err, "find what is due")
	}
	var jobs []int64
	for _, d := range due {
		jobs = append(jobs, d.JobID)
	}
	slices.Sort(jobs)
	open, err := t.open(ctx, slices.Compact(jobs))
	if err != nil {
		return nil, err
	}
	for i := range due {
		o := open.of(due[i].JobID, due[i].Given.V)
		due[i].Working, due[i].Waiting = o.Working, o.Waiting
	}
	return due, nil
}

// ErrStands says that a decision on one of the rings stands already, from a node
// whose clock was ahead. It was taken; this one is to be taken without it.
var ErrStands = errors.New("a decision on this ring stands already")

// Standing gives the decisions of some jobs that stand on due times in [from, to],
// with the values of the runs that they made.
func (t *Tx) Standing(ctx context.Context, jobs []int64, from, to time.Time) ([]Stood, error) {
	var all []Stood
	err := sqlx.SelectContext(ctx, t.Ext, &all, `SELECT g.trigger_id, g.job_id, g.due,
		CASE WHEN g.decision = 'run' THEN g.run_id END AS run_id, r.given
		FROM rings g LEFT JOIN runs r ON r.id = g.run_id AND g.decision = 'run' WHERE g.job_id = ANY($1)
		AND g.due BETWEEN $2 AND $3`, jobs, from, to)
	return all, db.Wrap(err, "see which decisions stand")
}

// Stood is a decision that stands.
type Stood struct {
	TriggerID int64                   `db:"trigger_id"`
	JobID     int64                   `db:"job_id"`
	Due       time.Time               `db:"due"`
	RunID     *job.RunID              `db:"run_id"` // that it made
	Given     db.Document[job.Values] `db:"given"`
}

// LastRings is the latest due time since an instant that was decided on, by trigger
// of a job. Triggers that are gone have theirs under their old id.
func (t *Tx) LastRings(ctx context.Context, job int64, since time.Time) (last map[int64]time.Time, err error) {
	var rows []struct {
		TriggerID int64     `db:"trigger_id"`
		Due       time.Time `db:"due"`
	}
	err = sqlx.SelectContext(ctx, t.Ext, &rows, `SELECT trigger_id, max(due) AS due FROM rings WHERE job_id = $1
		AND due > $2 GROUP BY trigger_id`, job, since)
	last = make(map[int64]time.Time, len(rows))
	for _, r := range rows {
		last[r.TriggerID] = r.Due
	}
	return last, db.Wrap(err, "find the last rings")
}

// SetApart sets the triggers of a job apart that are due by now: their due times
// wait until they are tried again after a while.
func (t *Tx) SetApart(ctx context.Context, jobID int64, now time.Time, wait time.Duration, why string) error {
	_, err := t.Ext.ExecContext(ctx, `UPDATE triggers SET apart_due = next_due, next_due = NULL,
		apart_until = bell_now() + make_interval(secs => $3), apart_why = $4 WHERE job_id = $1 AND next_due <= $2`,
		jobID, now, wait.Seconds(), db.Bounded(why))
	return db.Wrap(err, "set the triggers apart")
}

// TryAgain lets triggers ring that were set apart, when their time has come; those
// of one job at once, unless it is 0.
func (q Q) TryAgain(ctx context.Context, jobID int64) error {
	_, err := q.Ext.ExecContext(ctx, `UPDATE triggers SET next_due = apart_due, apart_due = NULL, apart_until = NULL
		WHERE apart_until IS NOT NULL
		AND CASE WHEN $1::bigint = 0 THEN apart_until <= bell_now() ELSE job_id = $1 END`, jobID)
	return db.Wrap(err, "let triggers ring that were set apart")
}

// Together notes that triggers of some jobs that were set apart ring again.
func (t *Tx) Together(ctx context.Context, triggers []int64) error {
	_, err := t.Ext.ExecContext(ctx, `UPDATE triggers SET apart_why = '' WHERE id = ANY($1)`, triggers)
	return db.Wrap(err, "take the triggers in again")
}

// openRun is a run of a job that has not ended its tasks.
type openRun struct {
	JobID int64                   `db:"job_id"`
	ID    job.RunID               `db:"id"`
	Given db.Document[job.Values] `db:"given"`
	Rung  bool                    `db:"rung"`
	free  bool
}

type openRuns map[int64][]openRun

// open reads the runs of jobs that have not ended their tasks, but for those that
// wait for what happens elsewhere. One may be joined
// only while nobody takes it: its part is locked here, so that no worker begins
// with the older date meanwhile.
func (t *Tx) open(ctx context.Context, jobs []int64) (openRuns, error) {
	var ids []int64
	if err := sqlx.SelectContext(ctx, t.Ext, &ids,
		`SELECT run_id FROM parts WHERE job_id = ANY($1) AND state IN `+db.PartsOpen+` AND NOT held`,
		jobs); err != nil {
		return nil, db.Wrap(err, "find the open runs")
	}
	if len(ids) == 0 {
		return openRuns{}, nil
	}
	var all []openRun
	if err := sqlx.SelectContext(ctx, t.Ext, &all, `SELECT job_id, id, given, trigger_id IS NOT NULL AND again IS NULL
		AND state = 'waiting' AND started_at IS NULL AS rung
		FROM runs WHERE id = ANY($1) AND NOT rehearsal ORDER BY id`, ids); err != nil {
		return nil, db.Wrap(err, "find the open runs")
	}
	var waiting []int64
	for _, o := range all {
		if o.Rung {
			waiting = append(waiting, int64(o.ID))
		}
	}
	var free []job.RunID
	if len(waiting) > 0 {
		if err := sqlx.SelectContext(ctx, t.Ext, &free, `SELECT run_id FROM parts WHERE run_id = ANY($1)
			AND state = 'waiting' AND lease_no = 0 AND NOT held
			ORDER BY run_id FOR UPDATE SKIP LOCKED`, waiting); err != nil {
			return nil, db.Wrap(err, "lock the waiting runs")
		}
	}
	isFree := make(map[job.RunID]bool, len(free))
	for _, id := range free {
		isFree[id] = true
	}
	open := openRuns{}
	for _, o := range all {
		o.free = isFree[o.ID]
		open[o.JobID] = append(open[o.JobID], o)
	}
	return open, nil
}

// of says how the runs of a job stand for one more with some values.
func (o openRuns) of(jobID int64, given job.Values) policy.Open {
	var out policy.Open
	for _, r := range o[jobID] {
		out.Working = true
		if r.Rung && r.free && r.Given.V.Key() == given.Key() {
			out.Waiting = r.ID
		}
	}
	return out
}

// WriteRings writes the decisions, makes the runs, which get their numbers with it, and
// moves the triggers on.
func (t *Tx) WriteRings(ctx context.Context, p *RingPlan) error {
	if err := t.AddRuns(ctx, p.Runs); err != nil {
		return err
	}
	for i, r := range p.Rings {
		if r.RunID != nil && *r.RunID < 0 {
			p.Rings[i].RunID = &p.Runs[-1-int(*r.RunID)].ID
		}
	}
	n := len(p.Rings)
	triggers, jobs, runs := make([]int64, n), make([]int64, n), make([]*int64, n)
	dues, nominals := make([]time.Time, n), make([]time.Time, n)
	decisions, reasons := make([]string, n), make([]string, n)
	for i, r := range p.Rings {
		triggers[i], jobs[i], dues[i], nominals[i] = r.TriggerID, p.JobOf[r.TriggerID], r.Due, r.Nominal
		decisions[i], reasons[i] = string(r.Decision), r.Reason
		if r.RunID != nil {
			id := int64(*r.RunID)
			runs[i] = &id
		}
	}
	ids, nextDues, nextNominals := records.Moves(p.Next)
	_, err := t.Ext.ExecContext(ctx, `WITH moved AS (`+records.MoveTriggers+`)
		INSERT INTO rings (trigger_id, due, nominal, job_id, decision, reason, run_id)
		SELECT * FROM unnest($5::bigint[], $6::timestamptz[], $7::timestamptz[], $8::bigint[], $9::text[], $10::text[],
		$11::bigint[])`,
		ids, nextDues, nextNominals, p.Zones, triggers, dues, nominals, jobs, decisions, reasons, runs)
	if db.WasTaken(err) {
		return ErrStands
	}
	if err != nil {
		return db.Wrap(err, "write the rings and move the triggers")
	}
	if err := t.Tell(ctx, db.Notice{Kind: job.NoticeJobs}); err != nil {
		return err
	}
	for id, nominal := range p.Moved {
		if _, err := t.Ext.ExecContext(ctx, `UPDATE runs SET nominal = $2 WHERE id = $1`, id, nominal); err != nil {
			return db.Wrap(err, "give the joined run its date")
		}
		if err := history.In(t.Base).Log(ctx,
			job.LogLine{Text: "a later ring joined this run; its date is now " +
				nominal.UTC().Format("2006-01-02 15:04 UTC")}, id); err != nil {
			return err
		}
	}
	return nil
}

// AddRuns makes runs with one part each, waiting for their turn, and gives them their
// numbers.
func (q Q) AddRuns(ctx context.Context, runs []NewRun) error {
	if len(runs) == 0 {
		return nil
	}
	n := len(runs)
	jobs, triggers, askers, repeats := make([]int64, n), make([]*int64, n), make([]*int64, n), make([]*int64, n)
	names, whys, zones, givens, reasons, labels := make([]string, n), make([]string, n), make([]string, n),
		make([]string, n), make([]string, n), make([]string, n)
	corrections := make([]string, n)
	versions, priorities, gated, held, rehearsals, anyways := make([]int, n), make([]int, n), make([]bool, n),
		make([]bool, n), make([]bool, n), make([]bool, n)
	nominals, dues, readies, turns, deadlines, warns := make([]time.Time, n), make([]time.Time, n),
		make([]*time.Time, n), make([]time.Time, n), make([]*time.Time, n), make([]*time.Time, n)
	now := time.Now()
	for i, r := range runs {
		given := []byte("{}")
		if r.Given != nil {
			var err error
			if given, err = json.Marshal(r.Given); err != nil {
				return db.Wrap(err, "write the run's values")
			}
		}
		if r.Reason == "" {
			r.Reason = "for its turn"
		}
		if len(r.Labels) == 0 {
			r.Labels = []string{"service"}
		}
		text, err := json.Marshal(r.Labels)
		if err != nil {
			return db.Wrap(err, "write the run's labels")
		}
		ready := now
		if r.Ready != nil {
			ready = *r.Ready
		}
		if r.Again != nil {
			id := int64(*r.Again)
			repeats[i] = &id
		}
		jobs[i], triggers[i], askers[i], labels[i] = r.JobID, r.TriggerID, r.AskedBy, string(text)
		names[i], whys[i], zones[i], givens[i], reasons[i], corrections[i] = r.Job, db.Bounded(r.Why), r.Zone,
			string(given), r.Reason, db.Bounded(r.Correction)
		versions[i], priorities[i], gated[i], held[i], rehearsals[i], anyways[i] = r.JobVersion, r.Priority, r.Gated,
			r.Held, r.Rehearsal, r.Anyway
		nominals[i], dues[i], readies[i], turns[i], deadlines[i], warns[i] = r.Nominal, r.Due, r.Ready,
			policy.Turn(r.Priority, ready), r.Deadline, r.WarnAt
	}
	var ids []job.RunID
	err := sqlx.SelectContext(ctx, q.Ext, &ids, `WITH u AS MATERIALIZED (
			SELECT month_id('run_count') AS id, * FROM unnest($1::bigint[], $2::text[], $3::int[], $4::bigint[],
			$5::text[], $6::bigint[],
				$7::timestamptz[], $8::timestamptz[], $9::text[], $10::jsonb[], $11::text[], $12::timestamptz[],
				$13::timestamptz[], $14::bool[], $15::bigint[],
				$16::int[], $17::bool[], $18::timestamptz[], $19::timestamptz[], $20::bool[], $21::bool[], $22::jsonb[],
				$23::text[]) WITH ORDINALITY
				AS u(job_id, job_name, job_version, trigger_id, why, asked_by, nominal, due, zone, given, reason,
				deadline, warn_at, rehearsal, again,
					priority, gated, ready, turn, held, anyway, labels, correction, n)
		), run AS (
			INSERT INTO runs (id, job_id, job_name, job_version, trigger_id, why, asked_by, nominal, due, zone, given,
			reason, deadline, warn_at, rehearsal, again, correction, state)
			SELECT id, job_id, job_name, job_version, trigger_id, why, asked_by, nominal, due, zone, given, reason,
			deadline, warn_at, rehearsal, again, correction, 'waiting' FROM u
		), part AS (
			INSERT INTO parts (run_id, part, job_id, state, priority, gated, ready_at, turn, held, anyway, labels,
			reason)
			SELECT id, 1, job_id, 'waiting', priority, gated, coalesce(ready, bell_now()), turn, held, anyway,
			ARRAY(SELECT jsonb_array_elements_text(labels)), reason FROM u
		), logged AS (
			INSERT INTO run_log (run_id, state, text) SELECT id, 'waiting', why FROM u
		)
		SELECT id FROM u ORDER BY n`,
		jobs, names, versions, triggers, whys, askers, nominals, dues, zones, givens, reasons, deadlines, warns,
		rehearsals, repeats,
		priorities, gated, readies, turns, held, anyways, labels, corrections)
	if err != nil {
		return db.Wrap(err, "make the runs")
	}
	for i, id := range ids {
		runs[i].ID = id
	}
	return q.Tell(ctx, db.Notice{Kind: job.NoticeParts})
}

// NextDue is the earliest due time of all triggers; ok is false when nothing is to ring.
func (q Q) NextDue(ctx context.Context) (due time.Time, ok bool, err error) {
	var next *time.Time
	err = sqlx.GetContext(ctx, q.Ext, &next, `SELECT least((SELECT min(next_due) FROM triggers
		WHERE next_due IS NOT NULL), (SELECT min(apart_until) FROM triggers WHERE apart_until IS NOT NULL))`)
	if err != nil || next == nil {
		return time.Time{}, false, db.Wrap(err, "find what rings next")
	}
	return *next, true, nil
}

// Rings lists the decisions on a job's due times, newest first, of rings due
// before an instant.
func (q Q) Rings(ctx context.Context, jobID int64, before time.Time, limit int) ([]job.Ring, error) {
	rings := []job.Ring{}
	err := sqlx.SelectContext(ctx, q.Ext, &rings, `SELECT trigger_id, due, nominal, decision, reason, run_id, decided_at
		FROM rings
		WHERE job_id = $1 AND due < $2 ORDER BY due DESC LIMIT $3`, jobID, before, limit)
	return rings, db.Wrap(err, "list the rings")
}
