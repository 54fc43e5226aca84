package store

import (
	"context"
	"encoding/json"
	"time"

	"ironbell/internal/core/job"
	"ironbell/internal/core/policy"

	"github.com/jmoiron/sqlx"
)

// DueTrigger is a trigger whose time has come, with what the decision needs.
type DueTrigger struct {
	ID          int64                  `db:"id"`
	JobID       int64                  `db:"job_id"`
	Job         string                 `db:"job_name"`
	JobVersion  int                    `db:"job_version"`
	Timing      document[job.Timing]   `db:"timing"`
	Calendars   document[[]string]     `db:"calendars"`
	Zone        string                 `db:"zone"`
	Given       document[job.Values]   `db:"given"`
	AfterOutage job.AfterOutage        `db:"after_outage"`
	Overlap     job.Overlap            `db:"overlap"`
	Priority    int                    `db:"priority"`
	Delay       float64                `db:"delay"` // seconds
	Deadline    document[job.Deadline] `db:"deadline"`
	Waits       document[*job.Wait]    `db:"waits"`
	Labels      document[[]string]     `db:"labels"`
	NextDue     time.Time              `db:"next_due"`
	NextNominal *time.Time             `db:"next_nominal"`

	Working bool      `db:"-"` // a run of the job waits or works
	Waiting job.RunID `db:"-"` // a run with equal values that has not begun
}

// NewRun is a run to be made.
type NewRun struct {
	ID         job.RunID // from RunIDs
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

// RingPlan is what was decided for the due triggers of one pass.
type RingPlan struct {
	Rings []job.Ring
	JobOf map[int64]int64 // trigger to job
	Runs  []NewRun
	Next  map[int64]*NextRing     // trigger to its following ring; nil for none
	Moved map[job.RunID]time.Time // waiting runs that later rings joined, to their newest nominal date
}

// TakeDue locks up to limit triggers that are due by now, earliest first,
// passing over those that another node has locked, and the runs that they may join.
func (t *Tx) TakeDue(ctx context.Context, now time.Time, limit int) ([]DueTrigger, error) {
	var due []DueTrigger
	err := sqlx.SelectContext(ctx, t.ext, &due, `SELECT t.id, t.job_id, j.name AS job_name, j.version AS job_version, t.timing, t.calendars, t.zone, t.given,
			t.after_outage, t.overlap, t.priority, t.delay, t.deadline, t.waits, array_to_json(j.labels) AS labels, t.next_due, t.next_nominal
		FROM triggers t JOIN jobs j ON j.id = t.job_id
		WHERE t.next_due <= $1 ORDER BY t.next_due, t.id LIMIT $2 FOR UPDATE OF t SKIP LOCKED`, now, limit)
	if err != nil || len(due) == 0 {
		return due, wrap(err, "find what is due")
	}
	jobs := make([]int64, len(due))
	for i, d := range due {
		jobs[i] = d.JobID
	}
	open, err := t.open(ctx, jobs)
	if err != nil {
		return nil, err
	}
	for i := range due {
		o := open.of(due[i].JobID, due[i].Given.V)
		due[i].Working, due[i].Waiting = o.Working, o.Waiting
	}
	return due, nil
}

// openRun is a run of a job that has not ended its tasks.
type openRun struct {
	JobID int64                `db:"job_id"`
	ID    job.RunID            `db:"id"`
	Given document[job.Values] `db:"given"`
	Rung  bool                 `db:"rung"`
	free  bool
}

type openRuns map[int64][]openRun

// open reads the runs of jobs that have not ended their tasks. One may be joined
// only while nobody takes it: its part is locked here, so that no worker begins
// with the older date meanwhile.
func (t *Tx) open(ctx context.Context, jobs []int64) (openRuns, error) {
	var ids []int64
	if err := sqlx.SelectContext(ctx, t.ext, &ids, `SELECT run_id FROM parts WHERE job_id = ANY($1) AND state IN ('waiting', 'running')`, jobs); err != nil {
		return nil, wrap(err, "find the open runs")
	}
	if len(ids) == 0 {
		return openRuns{}, nil
	}
	var all []openRun
	if err := sqlx.SelectContext(ctx, t.ext, &all, `SELECT job_id, id, given, trigger_id IS NOT NULL AND again IS NULL AND state = 'waiting' AND started_at IS NULL AS rung
		FROM runs WHERE id = ANY($1) AND NOT rehearsal ORDER BY id`, ids); err != nil {
		return nil, wrap(err, "find the open runs")
	}
	var waiting []int64
	for _, o := range all {
		if o.Rung {
			waiting = append(waiting, int64(o.ID))
		}
	}
	var free []job.RunID
	if len(waiting) > 0 {
		if err := sqlx.SelectContext(ctx, t.ext, &free, `SELECT run_id FROM parts WHERE run_id = ANY($1) AND state = 'waiting' AND lease_no = 0 AND NOT held
			ORDER BY run_id FOR UPDATE SKIP LOCKED`, waiting); err != nil {
			return nil, wrap(err, "lock the waiting runs")
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

// OpenFor says how the runs of a job stand for one more with some values.
func (t *Tx) OpenFor(ctx context.Context, jobID int64, given job.Values) (policy.Open, error) {
	open, err := t.open(ctx, []int64{jobID})
	return open.of(jobID, given), err
}

// RunIDs takes n numbers for runs.
func (q q) RunIDs(ctx context.Context, n int) ([]job.RunID, error) {
	var ids []job.RunID
	err := sqlx.SelectContext(ctx, q.ext, &ids, `SELECT month_id('run_count') FROM generate_series(1, $1)`, n)
	return ids, wrap(err, "number the runs")
}

// WriteRings writes the decisions, makes the runs and moves the triggers on.
func (t *Tx) WriteRings(ctx context.Context, p RingPlan) error {
	if err := t.AddRuns(ctx, p.Runs); err != nil {
		return err
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
	if _, err := t.ext.ExecContext(ctx, `INSERT INTO rings (trigger_id, due, nominal, job_id, decision, reason, run_id)
		SELECT * FROM unnest($1::bigint[], $2::timestamptz[], $3::timestamptz[], $4::bigint[], $5::text[], $6::text[], $7::bigint[])`,
		triggers, dues, nominals, jobs, decisions, reasons, runs); err != nil {
		return wrap(err, "write the rings")
	}
	if err := t.MoveTriggers(ctx, p.Next); err != nil {
		return err
	}
	for id, nominal := range p.Moved {
		if _, err := t.ext.ExecContext(ctx, `UPDATE runs SET nominal = $2 WHERE id = $1`, id, nominal); err != nil {
			return wrap(err, "give the joined run its date")
		}
		if err := t.Log(ctx, job.LogLine{Text: "a later ring joined this run; its date is now " + nominal.UTC().Format("2006-01-02 15:04 UTC")}, id); err != nil {
			return err
		}
	}
	return nil
}

// AddRuns makes runs with one part each, waiting for their turn.
func (q q) AddRuns(ctx context.Context, runs []NewRun) error {
	if len(runs) == 0 {
		return nil
	}
	n := len(runs)
	ids, jobs, triggers, askers, repeats := make([]int64, n), make([]int64, n), make([]*int64, n), make([]*int64, n), make([]*int64, n)
	names, whys, zones, givens, reasons, labels := make([]string, n), make([]string, n), make([]string, n), make([]string, n), make([]string, n), make([]string, n)
	corrections := make([]string, n)
	versions, priorities, gated, held, rehearsals, anyways := make([]int, n), make([]int, n), make([]bool, n), make([]bool, n), make([]bool, n), make([]bool, n)
	nominals, dues, readies, turns, deadlines, warns := make([]time.Time, n), make([]time.Time, n), make([]*time.Time, n), make([]time.Time, n), make([]*time.Time, n), make([]*time.Time, n)
	now := time.Now()
	for i, r := range runs {
		given := []byte("{}")
		if r.Given != nil {
			var err error
			if given, err = json.Marshal(r.Given); err != nil {
				return wrap(err, "write the run's values")
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
			return wrap(err, "write the run's labels")
		}
		ready := now
		if r.Ready != nil {
			ready = *r.Ready
		}
		if r.Again != nil {
			id := int64(*r.Again)
			repeats[i] = &id
		}
		ids[i], jobs[i], triggers[i], askers[i], labels[i] = int64(r.ID), r.JobID, r.TriggerID, r.AskedBy, string(text)
		names[i], whys[i], zones[i], givens[i], reasons[i], corrections[i] = r.Job, bounded(r.Why), r.Zone, string(given), r.Reason, bounded(r.Correction)
		versions[i], priorities[i], gated[i], held[i], rehearsals[i], anyways[i] = r.JobVersion, r.Priority, r.Gated, r.Held, r.Rehearsal, r.Anyway
		nominals[i], dues[i], readies[i], turns[i], deadlines[i], warns[i] = r.Nominal, r.Due, r.Ready, policy.Turn(r.Priority, ready), r.Deadline, r.WarnAt
	}
	_, err := q.ext.ExecContext(ctx, `WITH run AS (
			INSERT INTO runs (id, job_id, job_name, job_version, trigger_id, why, asked_by, nominal, due, zone, given, reason, deadline, warn_at, rehearsal, again, correction, state)
			SELECT *, 'waiting' FROM unnest($1::bigint[], $2::bigint[], $3::text[], $4::int[], $5::bigint[], $6::text[], $7::bigint[],
				$8::timestamptz[], $9::timestamptz[], $10::text[], $11::jsonb[], $12::text[], $13::timestamptz[], $14::timestamptz[], $15::bool[], $16::bigint[], $24::text[])
		), part AS (
			INSERT INTO parts (run_id, part, job_id, state, priority, gated, ready_at, turn, held, anyway, labels, reason)
			SELECT id, 1, job_id, 'waiting', priority, gated, coalesce(ready, now()), turn, held, anyway, ARRAY(SELECT jsonb_array_elements_text(labels)), reason
			FROM unnest($1::bigint[], $2::bigint[], $17::int[], $18::bool[], $19::timestamptz[], $20::timestamptz[], $21::bool[], $22::bool[], $23::jsonb[], $12::text[])
				AS u(id, job_id, priority, gated, ready, turn, held, anyway, labels, reason)
		)
		INSERT INTO run_log (run_id, state, text) SELECT id, 'waiting', why FROM unnest($1::bigint[], $6::text[]) AS u(id, why)`,
		ids, jobs, names, versions, triggers, whys, askers, nominals, dues, zones, givens, reasons, deadlines, warns, rehearsals, repeats,
		priorities, gated, readies, turns, held, anyways, labels, corrections)
	if err != nil {
		return wrap(err, "make the runs")
	}
	return q.Tell(ctx, Notice{Kind: "parts"})
}

// NextDue is the earliest due time of all triggers; ok is false when nothing is to ring.
func (q q) NextDue(ctx context.Context) (due time.Time, ok bool, err error) {
	var next *time.Time
	err = sqlx.GetContext(ctx, q.ext, &next, `SELECT min(next_due) FROM triggers WHERE next_due IS NOT NULL`)
	if err != nil || next == nil {
		return time.Time{}, false, wrap(err, "find what rings next")
	}
	return *next, true, nil
}

// Rings lists the decisions on a job's due times, newest first, of rings due
// before an instant.
func (q q) Rings(ctx context.Context, jobID int64, before time.Time, limit int) ([]job.Ring, error) {
	rings := []job.Ring{}
	err := sqlx.SelectContext(ctx, q.ext, &rings, `SELECT trigger_id, due, nominal, decision, reason, run_id, decided_at FROM rings
		WHERE job_id = $1 AND due < $2 ORDER BY due DESC LIMIT $3`, jobID, before, limit)
	return rings, wrap(err, "list the rings")
}
