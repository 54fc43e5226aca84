package records

import (
	"context"
	"time"

	"ironbell/internal/core/job"
	"ironbell/internal/store/db"

	"github.com/jmoiron/sqlx"
)

// Removed is a record that was removed and can be brought back.
type Removed struct {
	Kind string `db:"kind"`
	Name string `db:"name"`
	ID   int64  `db:"id"`
	db.Removal
}

// RemovedRecords lists what can be brought back, the latest removal first, at most limit.
func (q Q) RemovedRecords(ctx context.Context, limit int) ([]Removed, error) {
	all := ""
	for i, t := range db.Tables {
		if i > 0 {
			all += " UNION ALL "
		}
		all += `SELECT '` + t.Kind + `' AS kind, ` + t.Key + ` AS name, id, removed_at, removed_by FROM ` + t.Name +
			` WHERE removed_at IS NOT NULL AND NOT gone`
	}
	out := []Removed{}
	err := sqlx.SelectContext(ctx, q.Ext, &out, `SELECT r.kind, r.name, r.id, r.removed_at,
		coalesce(p.name, r.removed_by) AS by_name FROM (`+all+`) r
		LEFT JOIN people p ON lower(p.login) = lower(r.removed_by) ORDER BY r.removed_at DESC, r.kind, r.name LIMIT $1`,
		limit)
	return out, db.Wrap(err, "list what was removed")
}

// LockRecord finds a record that is there by a name that it has or had, and keeps others from
// changing it until the transaction ends. It gives its id and the name that it has.
func (t *Tx) LockRecord(ctx context.Context, kind, name string) (int64, string, error) {
	return t.lockRecord(ctx, kind, name, "removed_at IS NULL")
}

// LockRemoved finds a record that was removed and is not gone, and locks it.
func (t *Tx) LockRemoved(ctx context.Context, kind, name string) (int64, string, error) {
	return t.lockRecord(ctx, kind, name, "removed_at IS NOT NULL AND NOT gone")
}

func (t *Tx) lockRecord(ctx context.Context, kind, name, which string) (int64, string, error) {
	table, ok := db.TableOf(kind)
	if !ok {
		return 0, "", &db.NotFound{Kind: kind, Name: name}
	}
	var row struct {
		ID   int64  `db:"id"`
		Name string `db:"name"`
	}
	err := sqlx.GetContext(ctx, t.Ext, &row, `SELECT id, `+table.Key+` AS name FROM `+table.Name+`
		WHERE id = record_id($1, $2) AND `+which+` FOR UPDATE`, kind, name)
	return row.ID, row.Name, t.Found(ctx, err, kind, name)
}

// Remove takes a record away that was locked. What waits for a destination is kept back, as
// while it rests. A person's ways in are not asked for here (see EndAccess).
func (t *Tx) Remove(ctx context.Context, kind string, id int64, by string) error {
	table, _ := db.TableOf(kind)
	if err := db.One(t.Ext.ExecContext(ctx, `UPDATE `+table.Name+` SET removed_at = bell_now(), removed_by = $2
		WHERE id = $1 AND removed_at IS NULL`, id, by)); err != nil {
		return db.Wrap(err, "remove the "+kind)
	}
	return t.tellOf(ctx, kind)
}

// Return brings a record back that was locked.
func (t *Tx) Return(ctx context.Context, kind string, id int64) error {
	table, _ := db.TableOf(kind)
	if err := db.One(t.Ext.ExecContext(ctx, `UPDATE `+table.Name+` SET removed_at = NULL, removed_by = ''
		WHERE id = $1 AND removed_at IS NOT NULL AND NOT gone`, id)); err != nil {
		return db.Wrap(err, "bring the "+kind+" back")
	}
	return t.tellOf(ctx, kind)
}

// NoteOn keeps whether a job was on when it was removed.
func (t *Tx) NoteOn(ctx context.Context, id int64, on bool) error {
	return db.Wrap(db.One(t.Ext.ExecContext(ctx, `UPDATE jobs SET was_on = $2 WHERE id = $1`, id, on)), "note the job's state")
}

// WasOn tells whether a job was on when it was removed.
func (t *Tx) WasOn(ctx context.Context, id int64) (on bool, err error) {
	err = sqlx.GetContext(ctx, t.Ext, &on, `SELECT was_on FROM jobs WHERE id = $1`, id)
	return on, db.Wrap(err, "read the job's state")
}

// tellOf lets every node know that records of a kind have changed.
func (t *Tx) tellOf(ctx context.Context, kind string) error {
	notices := map[string]job.NoticeKind{
		"job": job.NoticeJobs, "calendar": job.NoticeCalendars, "destination": job.NoticeDestinations,
		"source": job.NoticeDestinations, "person": job.NoticeAccess,
	}
	if n, ok := notices[kind]; ok {
		return t.Tell(ctx, db.Notice{Kind: n})
	}
	return nil
}

// OwnerOf is the sign-in name of who owns a job or a report.
func (q Q) OwnerOf(ctx context.Context, kind, name string) (login string, err error) {
	table, _ := db.TableOf(kind)
	err = sqlx.GetContext(ctx, q.Ext, &login, `SELECT p.login FROM `+table.Name+` r JOIN people p ON p.id = r.owner_id
		WHERE r.id = record_id($1, $2)`, kind, name)
	return login, q.Found(ctx, err, kind, name)
}

// OwnedBy lists the jobs and reports that are there and owned by a person, at most limit.
func (q Q) OwnedBy(ctx context.Context, person int64, limit int) ([]Named, error) {
	out := []Named{}
	err := sqlx.SelectContext(ctx, q.Ext, &out, `SELECT * FROM (SELECT 'job' AS kind, name FROM jobs
		WHERE owner_id = $1 AND removed_at IS NULL UNION ALL SELECT 'report', name FROM reports
		WHERE owner_id = $1 AND removed_at IS NULL) o ORDER BY kind, name LIMIT $2`, person, limit)
	return out, db.Wrap(err, "find what they own")
}

// Named names a record.
type Named struct {
	Kind string `db:"kind"`
	Name string `db:"name"`
}

// ReportsFrom lists the reports that ask a source, at most limit.
func (q Q) ReportsFrom(ctx context.Context, source int64, limit int) ([]string, error) {
	names := []string{}
	err := sqlx.SelectContext(ctx, q.Ext, &names, `SELECT r.name FROM reports r JOIN report_versions v
		ON v.report_id = r.id AND v.version = r.version
		WHERE r.removed_at IS NULL AND record_id('source', v.definition->>'source') = $1 ORDER BY r.name LIMIT $2`,
		source, limit)
	return names, db.Wrap(err, "find the reports of the source")
}

// JobsAfter lists the jobs that wait for another one, at most limit.
func (q Q) JobsAfter(ctx context.Context, id int64, limit int) ([]string, error) {
	names := []string{}
	err := sqlx.SelectContext(ctx, q.Ext, &names, `SELECT DISTINCT j.name FROM trigger_waits w
		JOIN triggers t ON t.id = w.trigger_id JOIN jobs j ON j.id = t.job_id
		WHERE w.job_id = $1 AND j.id <> $1 AND j.removed_at IS NULL ORDER BY j.name LIMIT $2`, id, limit)
	return names, db.Wrap(err, "find the jobs that wait for it")
}

// OpenOf counts what is under way: runs of a job that wait and work, and deliveries that are
// still open, of a job or to a destination.
func (q Q) OpenOf(ctx context.Context, kind string, id int64) (waits, works, deliveries int, err error) {
	if kind == "job" {
		var n struct {
			Waits int `db:"waits"`
			Works int `db:"works"`
		}
		err = sqlx.GetContext(ctx, q.Ext, &n, `SELECT count(*) FILTER (WHERE state = 'waiting') AS waits,
			count(*) FILTER (WHERE state = 'running') AS works FROM runs WHERE job_id = $1
			AND state IN ('waiting', 'running')`, id)
		if err != nil {
			return 0, 0, 0, db.Wrap(err, "count the runs of the job")
		}
		waits, works = n.Waits, n.Works
	}
	column := map[string]string{"job": "job_id", "destination": "destination_id"}[kind]
	if column == "" {
		return waits, works, 0, nil
	}
	err = sqlx.GetContext(ctx, q.Ext, &deliveries, `SELECT count(*) FROM deliveries WHERE `+column+` = $1
		AND phase IN ('ready', 'kept back', 'leased')`, id)
	return waits, works, deliveries, db.Wrap(err, "count the deliveries that are open")
}

// Gone lets records go for good that were removed before a time: their names are free, and what
// was secret or personal in them is erased. Rows stay where history speaks of them. At most
// limit of each kind; it tells how many.
func (q Q) Gone(ctx context.Context, before time.Time, limit int) (int, error) {
	n := 0
	for _, t := range db.Tables {
		erased := ""
		switch t.Kind {
		case "source", "destination":
			erased = `, secret = '', settings = '{}'`
		case "person":
			erased = `, mail = '', password_hash = '', wishes = '{}', digest_due = NULL`
		}
		res, err := q.Ext.ExecContext(ctx, `WITH old AS (SELECT id FROM `+t.Name+` WHERE removed_at < $1 AND NOT gone
				ORDER BY removed_at LIMIT $2 FOR UPDATE SKIP LOCKED),
			freed AS (UPDATE former_names SET freed = true WHERE kind = $3 AND record_id IN (SELECT id FROM old)),
			keys_gone AS (DELETE FROM sender_keys WHERE $3 = 'sender' AND sender_id IN (SELECT id FROM old)),
			identities_gone AS (DELETE FROM identities WHERE $3 = 'source' AND source_id IN (SELECT id FROM old))
			UPDATE `+t.Name+` r SET gone = true, `+t.Key+` = r.`+t.Key+` || ' (removed ' ||
				to_char(r.removed_at AT TIME ZONE 'UTC', 'YYYY-MM-DD') || ', no. ' || r.id || ')'`+erased+`
			FROM old WHERE r.id = old.id`, before, limit, t.Kind)
		if err != nil {
			return n, db.Wrap(err, "let go what was removed")
		}
		rows, err := res.RowsAffected()
		if err != nil {
			return n, db.Wrap(err, "let go what was removed")
		}
		n += int(rows)
	}
	return n, nil
}
