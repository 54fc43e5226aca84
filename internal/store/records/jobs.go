package records

import (
	"context"
	"database/sql"
	"errors"
	"reflect"
	"slices"
	"strconv"
	"time"

	"ironbell/internal/core/job"
	"ironbell/internal/store/db"

	"github.com/jmoiron/sqlx"
)

type jobRow struct {
	job.Job
	Definition db.Document[job.Definition] `db:"definition"`
}

var jobColumns = `j.id, j.name, p.login AS owner, j.is_on, j.version, j.updated_at, v.definition, j.removed_at, ` +
	db.RevisionOf("job", "j.name") + `
	FROM jobs j JOIN people p ON p.id = j.owner_id JOIN job_versions v ON v.job_id = j.id AND v.version = j.version`

// Job finds a job by its name, or one that it had before, or its id, with the next due times of
// its triggers. By its id also one is found that was removed.
func (q Q) Job(ctx context.Context, name string) (job.Job, error) {
	var row jobRow
	id, err := strconv.ParseInt(name, 10, 64)
	if err == nil {
		err = sqlx.GetContext(ctx, q.Ext, &row, `SELECT `+jobColumns+` WHERE j.id = $1`, id)
	} else {
		err = sqlx.GetContext(ctx, q.Ext, &row, `SELECT `+jobColumns+` WHERE j.id = record_id('job', $1)
			AND j.removed_at IS NULL`, name)
	}
	if err != nil {
		return job.Job{}, q.Found(ctx, err, "job", name)
	}
	jobs, err := q.withTriggers(ctx, []jobRow{row})
	if err != nil {
		return job.Job{}, err
	}
	return jobs[0], nil
}

// JobAt finds a version of a job, as a run was made from it.
func (q Q) JobAt(ctx context.Context, id int64, version int) (job.Definition, error) {
	var d db.Document[job.Definition]
	err := sqlx.GetContext(ctx, q.Ext, &d, `SELECT definition FROM job_versions WHERE job_id = $1 AND version = $2`, id,
		version)
	return d.V, db.Found(err, "job", strconv.FormatInt(id, 10))
}

// Version names a version of a job.
type Version struct {
	JobID   int64 `db:"job_id"`
	Version int   `db:"version"`
}

// JobsAt finds versions of jobs. Those that are gone are missing.
func (q Q) JobsAt(ctx context.Context, versions []Version) (map[Version]job.Definition, error) {
	ids, numbers := make([]int64, len(versions)), make([]int64, len(versions))
	for i, v := range versions {
		ids[i], numbers[i] = v.JobID, int64(v.Version)
	}
	var rows []struct {
		Version
		Definition db.Document[job.Definition] `db:"definition"`
	}
	err := sqlx.SelectContext(ctx, q.Ext, &rows, `SELECT v.job_id, v.version, v.definition
		FROM unnest($1::bigint[], $2::bigint[]) AS u(job_id, version)
		JOIN job_versions v ON v.job_id = u.job_id AND v.version = u.version`, ids, numbers)
	found := make(map[Version]job.Definition, len(rows))
	for _, r := range rows {
		found[r.Version] = r.Definition.V
	}
	return found, db.Wrap(err, "read the jobs")
}

// Jobs lists jobs by name, at most limit. An empty search finds all; otherwise
// the name must hold it, in any case.
func (q Q) Jobs(ctx context.Context, search string, limit int) ([]job.Job, error) {
	var rows []jobRow
	err := sqlx.SelectContext(ctx, q.Ext, &rows, `SELECT `+jobColumns+` WHERE j.removed_at IS NULL AND ($1 = ''
		OR position(lower($1) IN lower(j.name)) > 0) ORDER BY j.name LIMIT $2`, search, limit)
	if err != nil {
		return nil, db.Wrap(err, "list the jobs")
	}
	return q.withTriggers(ctx, rows)
}

// JobsByID lists jobs by their ids, in the order of their names. Those that are removed are missing.
func (q Q) JobsByID(ctx context.Context, ids []int64) ([]job.Job, error) {
	var rows []jobRow
	err := sqlx.SelectContext(ctx, q.Ext, &rows, `SELECT `+jobColumns+` WHERE j.removed_at IS NULL AND j.id = ANY($1)
		ORDER BY j.name`, ids)
	if err != nil {
		return nil, db.Wrap(err, "list jobs")
	}
	return q.withTriggers(ctx, rows)
}

// JobsOwned lists the jobs of a person by name, at most limit.
func (q Q) JobsOwned(ctx context.Context, personID int64, limit int) ([]job.Job, error) {
	var rows []jobRow
	err := sqlx.SelectContext(ctx, q.Ext, &rows, `SELECT `+jobColumns+` WHERE j.removed_at IS NULL AND j.owner_id = $1
		ORDER BY j.name LIMIT $2`, personID, limit)
	if err != nil {
		return nil, db.Wrap(err, "list the jobs of a person")
	}
	return q.withTriggers(ctx, rows)
}

func (q Q) withTriggers(ctx context.Context, rows []jobRow) ([]job.Job, error) {
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
		ID      int64                   `db:"id"`
		JobID   int64                   `db:"job_id"`
		Timing  db.Document[job.Timing] `db:"timing"`
		Given   db.Document[job.Values] `db:"given"`
		Waits   db.Document[*job.Wait]  `db:"waits"`
		Next    *time.Time              `db:"next_due"`
		Nominal *time.Time              `db:"next_nominal"`
	}
	err := sqlx.SelectContext(ctx, q.Ext, &triggers, `SELECT id, job_id, timing, given, waits, next_due, next_nominal
		FROM triggers WHERE job_id = ANY($1) ORDER BY job_id, position`, ids)
	for _, t := range triggers {
		j := &jobs[place[t.JobID]]
		j.Triggers = append(j.Triggers, job.Trigger{
			ID: t.ID, Timing: t.Timing.V, Wait: t.Waits.V, Values: t.Given.V, NextDue: t.Next, NextNominal: t.Nominal,
		})
	}
	return jobs, db.Wrap(err, "read the triggers")
}

// LockJob finds a job by its name, keeps others from saving or switching it, and
// the clock from deciding on its rings, until the transaction ends.
func (t *Tx) LockJob(ctx context.Context, name string) (job.Job, error) {
	var id int64
	if err := sqlx.GetContext(ctx, t.Ext, &id, `SELECT id FROM jobs WHERE id = record_id('job', $1)
		AND removed_at IS NULL FOR UPDATE`, name); err != nil {
		return job.Job{}, t.Found(ctx, err, "job", name)
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
func (q Q) PutJob(ctx context.Context, name string, owner, author int64, on bool, d job.Definition,
	uses Uses,
) (job.Job, error) {
	var row struct {
		ID      int64 `db:"id"`
		Version int   `db:"version"`
	}
	name, err := q.Called(ctx, "job", name)
	if err != nil {
		return job.Job{}, err
	}
	err = sqlx.GetContext(ctx, q.Ext, &row, `SELECT id, version FROM jobs WHERE name = $1 FOR UPDATE`, name)
	if errors.Is(err, sql.ErrNoRows) {
		err = sqlx.GetContext(ctx, q.Ext, &row, `INSERT INTO jobs (name, owner_id, is_on, version)
			VALUES ($1, $2, $3, 1) RETURNING id, version`, name, owner, on)
	} else if err == nil {
		err = sqlx.GetContext(ctx, q.Ext, &row, `UPDATE jobs SET version = version + 1, owner_id = $2, is_on = $3,
			updated_at = bell_now() WHERE id = $1 RETURNING id, version`, row.ID, owner, on)
	}
	if err != nil {
		return job.Job{}, db.Unique(err, "job", name)
	}
	if err := q.putTriggers(ctx, row.ID, d, uses); err != nil {
		return job.Job{}, err
	}
	if err := q.putJobVersion(ctx, row.ID, row.Version, author, d); err != nil {
		return job.Job{}, err
	}
	if _, err := q.Ext.ExecContext(ctx, `DELETE FROM job_uses WHERE job_id = $1`, row.ID); err != nil {
		return job.Job{}, db.Wrap(err, "save what the job uses")
	}
	if _, err := q.Ext.ExecContext(ctx, `INSERT INTO job_uses (job_id, kind, id)
		SELECT $1::bigint, 'report', unnest($2::bigint[]) UNION SELECT $1::bigint, 'destination', unnest($3::bigint[])
		UNION SELECT $1::bigint, 'calendar', unnest($4::bigint[])
		UNION SELECT $1::bigint, 'source', unnest($5::bigint[])`,
		row.ID, uses.Reports, uses.Destinations, uses.Calendars, uses.Sources); err != nil {
		return job.Job{}, db.Wrap(err, "save what the job uses")
	}
	if err := q.stillThere(ctx, uses); err != nil {
		return job.Job{}, err
	}
	keep := d.Keep.WithDefaults()
	if _, err := q.Ext.ExecContext(ctx, `UPDATE jobs SET labels = coalesce($2, '{service}'::text[]), keep_runs = $3,
		keep_log = $4, keep_files = $5, tells_success = $6 WHERE id = $1`,
		row.ID, uses.Labels, keep.Runs, keep.Log, keep.Files, slices.Contains(d.AlertOn, "success")); err != nil {
		return job.Job{}, db.Wrap(err, "save the job's labels")
	}
	if _, err := q.Ext.ExecContext(ctx, `DELETE FROM job_emits WHERE job_id = $1`, row.ID); err != nil {
		return job.Job{}, db.Wrap(err, "save what the job raises")
	}
	if _, err := q.Ext.ExecContext(ctx, `INSERT INTO job_emits (job_id, type) SELECT DISTINCT $1::bigint,
		unnest($2::text[])`, row.ID, uses.Emits); err != nil {
		return job.Job{}, db.Wrap(err, "save what the job raises")
	}
	if err := q.Tell(ctx, db.Notice{Kind: job.NoticeJobs, ID: strconv.FormatInt(row.ID, 10)}); err != nil {
		return job.Job{}, err
	}
	return q.Job(ctx, strconv.FormatInt(row.ID, 10))
}

// stillThere refuses to use what somebody has removed since it was looked at, and keeps others
// from removing it until the transaction ends.
func (q Q) stillThere(ctx context.Context, uses Uses) error {
	for kind, ids := range map[string][]int64{
		"report": uses.Reports, "destination": uses.Destinations, "calendar": uses.Calendars, "source": uses.Sources,
	} {
		if err := q.notRemoved(ctx, kind, ids); err != nil {
			return err
		}
	}
	return nil
}

func (q Q) notRemoved(ctx context.Context, kind string, ids []int64) error {
	if len(ids) == 0 {
		return nil
	}
	t, _ := db.TableOf(kind)
	var names []string
	if err := sqlx.SelectContext(ctx, q.Ext, &names, `SELECT name FROM (SELECT name, removed_at FROM `+t.Name+`
		WHERE id = ANY($1) ORDER BY id FOR SHARE) r WHERE removed_at IS NOT NULL`, ids); err != nil {
		return db.Wrap(err, "see whether what the job uses is there")
	}
	if len(names) > 0 {
		return q.Found(ctx, sql.ErrNoRows, kind, names[0])
	}
	return nil
}

// putJobVersion keeps what a job says in a version. The triggers stand in their own table; a
// version keeps their texts only.
func (q Q) putJobVersion(ctx context.Context, id int64, version int, author int64, d job.Definition) error {
	kept := d
	kept.Triggers = nil
	for _, t := range d.Triggers {
		kept.Triggers = append(kept.Triggers, job.Trigger{Timing: t.Timing, Wait: t.Wait, Values: t.Values})
	}
	_, err := q.Ext.ExecContext(ctx, `INSERT INTO job_versions (job_id, version, definition, author_id)
		VALUES ($1, $2, $3, $4)`, id, version, db.Document[job.Definition]{V: kept}, author)
	return db.Wrap(err, "save the job's version")
}

func (q Q) putTriggers(ctx context.Context, jobID int64, d job.Definition, uses Uses) error {
	var old []struct {
		ID     int64                   `db:"id"`
		Timing db.Document[job.Timing] `db:"timing"`
		Waits  db.Document[*job.Wait]  `db:"waits"`
	}
	if err := sqlx.SelectContext(ctx, q.Ext, &old, `SELECT id, timing, waits FROM triggers WHERE job_id = $1
		ORDER BY position FOR UPDATE`, jobID); err != nil {
		return db.Wrap(err, "read the triggers")
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
		given := db.Document[job.Values]{V: t.Values}
		if t.Values == nil {
			given.V = job.Values{}
		}
		timing, calendars := db.Document[job.Timing]{V: t.Timing}, db.Document[[]string]{V: d.Calendars}
		if d.Calendars == nil {
			calendars.V = []string{}
		}
		var waits any
		if t.Wait != nil {
			waits = db.Document[*job.Wait]{V: t.Wait}
		}
		delay, deadline := time.Duration(d.Delay).Seconds(), db.Document[job.Deadline]{V: d.Deadline}
		var err error
		if id == 0 {
			err = sqlx.GetContext(ctx, q.Ext, &id, `INSERT INTO triggers (job_id, position, rule, timing, calendars,
				zone, given, after_outage, overlap, priority, next_due, next_nominal, waits, delay, deadline)
				VALUES ($1, $2, $3, $4, $5, $6, $7, $8, $9, $10, $11, $12, $13, $14, $15) RETURNING id`,
				jobID, i, t.Rule, timing, calendars, d.Zone, given, d.AfterOutage, d.Overlap, d.Priority, t.NextDue,
				t.NextNominal, waits, delay, deadline)
		} else {
			_, err = q.Ext.ExecContext(ctx, `UPDATE triggers SET position = $2, calendars = $3, zone = $4, given = $5,
				after_outage = $6, overlap = $7, priority = $8,
				next_due = $9, next_nominal = $10, delay = $11, deadline = $12, apart_due = NULL, apart_until = NULL,
				apart_why = ''
				WHERE id = $1`, id, i, calendars, d.Zone, given, d.AfterOutage, d.Overlap, d.Priority, t.NextDue, t.NextNominal, delay, deadline)
		}
		if err != nil {
			return db.Wrap(err, "save the trigger")
		}
		if err := q.putWaits(ctx, id, t, uses); err != nil {
			return err
		}
	}
	for _, o := range old {
		if !kept[o.ID] {
			if _, err := q.Ext.ExecContext(ctx, `DELETE FROM triggers WHERE id = $1`, o.ID); err != nil {
				return db.Wrap(err, "remove the trigger")
			}
		}
	}
	return nil
}

// SwitchJob turns a job on or off. next gives the next ring of each trigger by
// id; those that are missing ring no more.
func (q Q) SwitchJob(ctx context.Context, id int64, on bool, next map[int64]*NextRing, zones string) error {
	if err := db.One(q.Ext.ExecContext(ctx, `UPDATE jobs SET is_on = $2, updated_at = bell_now() WHERE id = $1`, id,
		on)); err != nil {
		return db.Wrap(err, "switch the job")
	}
	if _, err := q.Ext.ExecContext(ctx, `UPDATE triggers SET next_due = NULL, next_nominal = NULL, apart_due = NULL,
		apart_until = NULL, apart_why = '' WHERE job_id = $1`, id); err != nil {
		return db.Wrap(err, "switch the triggers")
	}
	if err := q.MoveTriggers(ctx, next, zones); err != nil {
		return err
	}
	return q.Tell(ctx, db.Notice{Kind: job.NoticeJobs, ID: strconv.FormatInt(id, 10)})
}

// putWaits writes what a trigger waits for, to be found from the side of what happens.
func (q Q) putWaits(ctx context.Context, trigger int64, t job.Trigger, uses Uses) error {
	w := t.Wait
	if _, err := q.Ext.ExecContext(ctx, `DELETE FROM trigger_waits WHERE trigger_id = $1`, trigger); err != nil {
		return db.Wrap(err, "save what the trigger waits for")
	}
	if w == nil {
		return nil
	}
	for i, c := range w.For {
		var event *string
		var on, watch *int64
		switch {
		case c.Event != "":
			event = &c.Event
		case c.Start != "":
			started := job.EventStarted
			event = &started
		case c.Job != "":
			if id, ok := uses.Jobs[c.Job]; ok {
				on = &id
			}
		default:
			look := c.Watch()
			if t.Gates(i) {
				look.Key += job.GateKey // it is asked only while something waits for it, and tells that
			}
			id, err := q.putWatch(ctx, look)
			if err != nil {
				return err
			}
			watch = id
		}
		if _, err := q.Ext.ExecContext(ctx, `INSERT INTO trigger_waits (trigger_id, place, event_type, job_id, watch_id)
			VALUES ($1, $2, $3, $4, $5)`, trigger, i, event, on, watch); err != nil {
			return db.Wrap(err, "save what the trigger waits for")
		}
	}
	return nil
}

// putWatch finds what is looked at, or begins to look; nil when its place is not there.
func (q Q) putWatch(ctx context.Context, w *job.Watch) (*int64, error) {
	if w == nil {
		return nil, nil //nolint:nilnil // nothing is looked at
	}
	kind := "destination"
	if w.Kind == job.WatchQuery {
		kind = "source"
	}
	var id *int64
	err := sqlx.GetContext(ctx, q.Ext, &id, `INSERT INTO watches (kind, place_id, key, spec, every)
		SELECT $1, place, $3, $4, $5 FROM record_id($6, $2) AS place WHERE place IS NOT NULL
		ON CONFLICT (kind, place_id, key) DO UPDATE SET every = CASE WHEN EXISTS (SELECT 1 FROM trigger_waits x
				WHERE x.watch_id = watches.id) THEN least(watches.every, excluded.every) ELSE excluded.every END,
			next_at = CASE WHEN excluded.every < watches.every THEN bell_now() ELSE watches.next_at END RETURNING id`,
		w.Kind, w.Place, w.Key, db.Document[job.Watch]{V: *w}, w.Every.Seconds(), kind)
	if errors.Is(err, sql.ErrNoRows) {
		return nil, nil //nolint:nilnil // its place is not there
	}
	return id, db.Wrap(err, "look at what the trigger waits for")
}
