package store

import (
	"context"
	"database/sql"
	"errors"
	"reflect"
	"slices"
	"strconv"
	"time"

	"ironbell/internal/core/job"

	"github.com/jmoiron/sqlx"
)

type jobRow struct {
	job.Job
	Definition document[job.Definition] `db:"definition"`
}

var jobColumns = `j.id, j.name, p.login AS owner, j.is_on, j.version, j.updated_at, v.definition, ` + revisionOf("job", "j.name") + `
	FROM jobs j JOIN people p ON p.id = j.owner_id JOIN job_versions v ON v.job_id = j.id AND v.version = j.version`

// Job finds a job by its name or its id, with the next due times of its triggers.
func (q q) Job(ctx context.Context, name string) (job.Job, error) {
	var row jobRow
	id, err := strconv.ParseInt(name, 10, 64)
	if err == nil {
		err = sqlx.GetContext(ctx, q.ext, &row, `SELECT `+jobColumns+` WHERE j.id = $1`, id)
	} else {
		err = sqlx.GetContext(ctx, q.ext, &row, `SELECT `+jobColumns+` WHERE j.name = $1`, name)
	}
	if err != nil {
		return job.Job{}, found(err, "job", name)
	}
	jobs, err := q.withTriggers(ctx, []jobRow{row})
	if err != nil {
		return job.Job{}, err
	}
	return jobs[0], nil
}

// JobAt finds a version of a job, as a run was made from it.
func (q q) JobAt(ctx context.Context, id int64, version int) (job.Definition, error) {
	var d document[job.Definition]
	err := sqlx.GetContext(ctx, q.ext, &d, `SELECT definition FROM job_versions WHERE job_id = $1 AND version = $2`, id, version)
	return d.V, found(err, "job", strconv.FormatInt(id, 10))
}

// Version names a version of a job.
type Version struct {
	JobID   int64 `db:"job_id"`
	Version int   `db:"version"`
}

// JobsAt finds versions of jobs. Those that are gone are missing.
func (q q) JobsAt(ctx context.Context, versions []Version) (map[Version]job.Definition, error) {
	ids, numbers := make([]int64, len(versions)), make([]int64, len(versions))
	for i, v := range versions {
		ids[i], numbers[i] = v.JobID, int64(v.Version)
	}
	var rows []struct {
		Version
		Definition document[job.Definition] `db:"definition"`
	}
	err := sqlx.SelectContext(ctx, q.ext, &rows, `SELECT v.job_id, v.version, v.definition FROM unnest($1::bigint[], $2::bigint[]) AS u(job_id, version)
		JOIN job_versions v ON v.job_id = u.job_id AND v.version = u.version`, ids, numbers)
	found := make(map[Version]job.Definition, len(rows))
	for _, r := range rows {
		found[r.Version] = r.Definition.V
	}
	return found, wrap(err, "read the jobs")
}

// Jobs lists jobs by name, at most limit. An empty search finds all; otherwise
// the name must hold it, in any case.
func (q q) Jobs(ctx context.Context, search string, limit int) ([]job.Job, error) {
	var rows []jobRow
	err := sqlx.SelectContext(ctx, q.ext, &rows, `SELECT `+jobColumns+` WHERE $1 = '' OR position(lower($1) IN lower(j.name)) > 0 ORDER BY j.name LIMIT $2`, search, limit)
	if err != nil {
		return nil, wrap(err, "list the jobs")
	}
	return q.withTriggers(ctx, rows)
}

func (q q) withTriggers(ctx context.Context, rows []jobRow) ([]job.Job, error) {
	ids := make([]int64, len(rows))
	place := make(map[int64]int, len(rows))
	jobs := make([]job.Job, len(rows))
	for i, row := range rows {
		row.Job.Definition = row.Definition.V
		row.Triggers = nil
		ids[i], jobs[i] = row.ID, row.Job
		place[row.ID] = i
	}
	var triggers []struct {
		ID      int64                `db:"id"`
		JobID   int64                `db:"job_id"`
		Timing  document[job.Timing] `db:"timing"`
		Given   document[job.Values] `db:"given"`
		Waits   document[*job.Wait]  `db:"waits"`
		Next    *time.Time           `db:"next_due"`
		Nominal *time.Time           `db:"next_nominal"`
	}
	err := sqlx.SelectContext(ctx, q.ext, &triggers, `SELECT id, job_id, timing, given, waits, next_due, next_nominal FROM triggers WHERE job_id = ANY($1) ORDER BY job_id, position`, ids)
	for _, t := range triggers {
		j := &jobs[place[t.JobID]]
		j.Triggers = append(j.Triggers, job.Trigger{ID: t.ID, Timing: t.Timing.V, Wait: t.Waits.V, Values: t.Given.V, NextDue: t.Next, NextNominal: t.Nominal})
	}
	return jobs, wrap(err, "read the triggers")
}

// LockJob finds a job by its name, keeps others from saving or switching it, and
// the clock from deciding on its rings, until the transaction ends.
func (t *Tx) LockJob(ctx context.Context, name string) (job.Job, error) {
	var id int64
	if err := sqlx.GetContext(ctx, t.ext, &id, `SELECT id FROM jobs WHERE name = $1 FOR UPDATE`, name); err != nil {
		return job.Job{}, found(err, "job", name)
	}
	if err := t.LockTriggers(ctx, []int64{id}); err != nil {
		return job.Job{}, err
	}
	return t.Job(ctx, strconv.FormatInt(id, 10))
}

// Uses names what a job speaks of.
type Uses struct {
	Reports, Destinations, Calendars, Sources []int64
	Labels                                    []string         // of the job, for limits and freezes
	Jobs                                      map[string]int64 // jobs that its triggers wait for, by name
	Emits                                     []string         // types of the events that it raises
}

// PutJob adds a job or saves a new version of the one of that name. The
// triggers' NextDue says when each rings next; nil while the job is off.
// Triggers that keep their timing keep their id.
func (q q) PutJob(ctx context.Context, name string, owner, author int64, on bool, d job.Definition, uses Uses) (job.Job, error) {
	var row struct {
		ID      int64 `db:"id"`
		Version int   `db:"version"`
	}
	err := sqlx.GetContext(ctx, q.ext, &row, `SELECT id, version FROM jobs WHERE name = $1 FOR UPDATE`, name)
	if errors.Is(err, sql.ErrNoRows) {
		err = sqlx.GetContext(ctx, q.ext, &row, `INSERT INTO jobs (name, owner_id, is_on, version) VALUES ($1, $2, $3, 1) RETURNING id, version`, name, owner, on)
	} else if err == nil {
		err = sqlx.GetContext(ctx, q.ext, &row, `UPDATE jobs SET version = version + 1, owner_id = $2, is_on = $3, updated_at = bell_now() WHERE id = $1 RETURNING id, version`, row.ID, owner, on)
	}
	if err != nil {
		return job.Job{}, unique(err, "job", name)
	}
	if err := q.putTriggers(ctx, row.ID, d, uses); err != nil {
		return job.Job{}, err
	}
	kept := d
	kept.Triggers = nil // they stand in their own table; a version keeps the texts only
	for _, t := range d.Triggers {
		kept.Triggers = append(kept.Triggers, job.Trigger{Timing: t.Timing, Wait: t.Wait, Values: t.Values})
	}
	if _, err := q.ext.ExecContext(ctx, `INSERT INTO job_versions (job_id, version, definition, author_id) VALUES ($1, $2, $3, $4)`,
		row.ID, row.Version, document[job.Definition]{kept}, author); err != nil {
		return job.Job{}, wrap(err, "save the job's version")
	}
	if _, err := q.ext.ExecContext(ctx, `DELETE FROM job_uses WHERE job_id = $1`, row.ID); err != nil {
		return job.Job{}, wrap(err, "save what the job uses")
	}
	if _, err := q.ext.ExecContext(ctx, `INSERT INTO job_uses (job_id, kind, id)
		SELECT $1::bigint, 'report', unnest($2::bigint[]) UNION SELECT $1::bigint, 'destination', unnest($3::bigint[])
		UNION SELECT $1::bigint, 'calendar', unnest($4::bigint[]) UNION SELECT $1::bigint, 'source', unnest($5::bigint[])`,
		row.ID, uses.Reports, uses.Destinations, uses.Calendars, uses.Sources); err != nil {
		return job.Job{}, wrap(err, "save what the job uses")
	}
	keep := d.Keep.WithDefaults()
	if _, err := q.ext.ExecContext(ctx, `UPDATE jobs SET labels = coalesce($2, '{service}'::text[]), keep_runs = $3, keep_log = $4, keep_files = $5, tells_success = $6 WHERE id = $1`,
		row.ID, uses.Labels, keep.Runs, keep.Log, keep.Files, slices.Contains(d.AlertOn, "success")); err != nil {
		return job.Job{}, wrap(err, "save the job's labels")
	}
	if _, err := q.ext.ExecContext(ctx, `DELETE FROM job_emits WHERE job_id = $1`, row.ID); err != nil {
		return job.Job{}, wrap(err, "save what the job raises")
	}
	if _, err := q.ext.ExecContext(ctx, `INSERT INTO job_emits (job_id, type) SELECT DISTINCT $1::bigint, unnest($2::text[])`, row.ID, uses.Emits); err != nil {
		return job.Job{}, wrap(err, "save what the job raises")
	}
	if err := q.Tell(ctx, Notice{Kind: job.NoticeJobs, ID: strconv.FormatInt(row.ID, 10)}); err != nil {
		return job.Job{}, err
	}
	return q.Job(ctx, strconv.FormatInt(row.ID, 10))
}

func (q q) putTriggers(ctx context.Context, jobID int64, d job.Definition, uses Uses) error {
	var old []struct {
		ID     int64                `db:"id"`
		Timing document[job.Timing] `db:"timing"`
		Waits  document[*job.Wait]  `db:"waits"`
	}
	if err := sqlx.SelectContext(ctx, q.ext, &old, `SELECT id, timing, waits FROM triggers WHERE job_id = $1 ORDER BY position FOR UPDATE`, jobID); err != nil {
		return wrap(err, "read the triggers")
	}
	kept := map[int64]bool{}
	for i, t := range d.Triggers {
		id := int64(0)
		for _, o := range old {
			if reflect.DeepEqual(o.Timing.V, t.Timing) && reflect.DeepEqual(o.Waits.V, t.Wait) && !kept[o.ID] {
				id = o.ID
				kept[id] = true
				break
			}
		}
		given := document[job.Values]{t.Values}
		if t.Values == nil {
			given.V = job.Values{}
		}
		timing, calendars := document[job.Timing]{t.Timing}, document[[]string]{d.Calendars}
		if d.Calendars == nil {
			calendars.V = []string{}
		}
		var waits any
		if t.Wait != nil {
			waits = document[*job.Wait]{t.Wait}
		}
		delay, deadline := time.Duration(d.Delay).Seconds(), document[job.Deadline]{d.Deadline}
		var err error
		if id == 0 {
			err = sqlx.GetContext(ctx, q.ext, &id, `INSERT INTO triggers (job_id, position, rule, timing, calendars, zone, given, after_outage, overlap, priority, next_due, next_nominal, waits, delay, deadline)
				VALUES ($1, $2, $3, $4, $5, $6, $7, $8, $9, $10, $11, $12, $13, $14, $15) RETURNING id`,
				jobID, i, t.Rule, timing, calendars, d.Zone, given, d.AfterOutage, d.Overlap, d.Priority, t.NextDue, t.NextNominal, waits, delay, deadline)
		} else {
			_, err = q.ext.ExecContext(ctx, `UPDATE triggers SET position = $2, calendars = $3, zone = $4, given = $5, after_outage = $6, overlap = $7, priority = $8,
				next_due = $9, next_nominal = $10, delay = $11, deadline = $12, apart_due = NULL, apart_until = NULL, apart_why = '' WHERE id = $1`, id, i, calendars, d.Zone, given, d.AfterOutage, d.Overlap, d.Priority, t.NextDue, t.NextNominal, delay, deadline)
		}
		if err != nil {
			return wrap(err, "save the trigger")
		}
		if err := q.putWaits(ctx, id, t.Wait, uses); err != nil {
			return err
		}
	}
	for _, o := range old {
		if !kept[o.ID] {
			if _, err := q.ext.ExecContext(ctx, `DELETE FROM triggers WHERE id = $1`, o.ID); err != nil {
				return wrap(err, "remove the trigger")
			}
		}
	}
	return nil
}

// SwitchJob turns a job on or off. next gives the next ring of each trigger by
// id; those that are missing ring no more.
func (q q) SwitchJob(ctx context.Context, id int64, on bool, next map[int64]*NextRing, zones string) error {
	if err := one(q.ext.ExecContext(ctx, `UPDATE jobs SET is_on = $2, updated_at = bell_now() WHERE id = $1`, id, on)); err != nil {
		return wrap(err, "switch the job")
	}
	if _, err := q.ext.ExecContext(ctx, `UPDATE triggers SET next_due = NULL, next_nominal = NULL, apart_due = NULL, apart_until = NULL, apart_why = '' WHERE job_id = $1`, id); err != nil {
		return wrap(err, "switch the triggers")
	}
	if err := q.MoveTriggers(ctx, next, zones); err != nil {
		return err
	}
	return q.Tell(ctx, Notice{Kind: job.NoticeJobs, ID: strconv.FormatInt(id, 10)})
}

// LastRun is the outcome that a list of jobs shows.
type LastRun struct {
	JobID  int64        `db:"job_id"`
	ID     job.RunID    `db:"id"`
	State  job.RunState `db:"state"`
	Reason string       `db:"reason"`
	Due    time.Time    `db:"due"`
	Usual  *float64     `db:"usual"` // median seconds of the last good runs
}

// LastRuns finds the newest run of each of the jobs and how long they usually take.
func (q q) LastRuns(ctx context.Context, jobs []int64) (map[int64]LastRun, error) {
	var rows []LastRun
	err := sqlx.SelectContext(ctx, q.ext, &rows, `SELECT j.id AS job_id, r.id, r.state, r.reason, r.due, u.usual FROM unnest($1::bigint[]) AS j(id)
		CROSS JOIN LATERAL (SELECT id, state, reason, due FROM runs WHERE job_id = j.id AND NOT rehearsal ORDER BY id DESC LIMIT 1) r
		CROSS JOIN LATERAL (SELECT percentile_cont(0.5) WITHIN GROUP (ORDER BY extract(epoch FROM ended_at - started_at)) AS usual
			FROM (SELECT ended_at, started_at FROM runs WHERE job_id = j.id AND state IN ('done', 'blank', 'partly') AND NOT rehearsal ORDER BY id DESC LIMIT 20) g) u`, jobs)
	last := make(map[int64]LastRun, len(rows))
	for _, row := range rows {
		last[row.JobID] = row
	}
	return last, wrap(err, "find the last runs")
}
