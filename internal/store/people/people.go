package people

import (
	"context"
	"database/sql"
	"errors"
	"time"

	"ironbell/internal/core/job"
	"ironbell/internal/store/db"

	"github.com/jmoiron/sqlx"
)

// PersonColumns are those of a job.Person; p is the row of people.
var PersonColumns = `p.id, p.login, p.name, p.mail, p.role, p.zone, p.wishes, ` + db.RevisionOf("person", "p.login")

// PersonByLogin finds a person and the hash of their password.
func (q Q) PersonByLogin(ctx context.Context, login string) (job.Person, string, error) {
	var row struct {
		job.Person
		Hash string `db:"password_hash"`
	}
	err := sqlx.GetContext(ctx, q.Ext, &row, `SELECT `+PersonColumns+`, p.password_hash FROM people p
		WHERE p.id = record_id('person', $1) AND p.removed_at IS NULL`, login)
	return row.Person, row.Hash, q.Found(ctx, err, "person", login)
}

// PersonByID finds a person, also one who was removed.
func (q Q) PersonByID(ctx context.Context, id int64) (job.Person, error) {
	var p job.Person
	err := sqlx.GetContext(ctx, q.Ext, &p, `SELECT `+PersonColumns+` FROM people p WHERE p.id = $1`, id)
	return p, db.Found(err, "person", "")
}

// People lists everybody by name, at most 10,000.
func (q Q) People(ctx context.Context) ([]job.Person, error) {
	people := []job.Person{}
	err := sqlx.SelectContext(ctx, q.Ext, &people, `SELECT `+PersonColumns+` FROM people p WHERE p.removed_at IS NULL
		ORDER BY p.name, p.id
		LIMIT 10000`)
	return people, db.Wrap(err, "list the people")
}

// Administrators lists those who may do everything.
func (q Q) Administrators(ctx context.Context) ([]job.Person, error) {
	people := []job.Person{}
	err := sqlx.SelectContext(ctx, q.Ext, &people, `SELECT `+PersonColumns+` FROM people p
		WHERE p.role = 'administrator' AND p.removed_at IS NULL ORDER BY p.id LIMIT 100`)
	return people, db.Wrap(err, "list the administrators")
}

// Belongings counts what belongs to a person, and what belongs to all.
type Belongings struct {
	Jobs           int `db:"jobs"` // without own schedules
	On             int `db:"jobs_on"`
	Own            int `db:"own"` // own schedules
	Reports        int `db:"reports"`
	AllJobs        int `db:"all_jobs"`
	AllReports     int `db:"all_reports"`
	Administrators int `db:"administrators"`
	SignIns        int `db:"sign_ins"`
}

// Belongings counts what belongs to a person.
func (q Q) Belongings(ctx context.Context, p job.Person) (Belongings, error) {
	var s Belongings
	err := sqlx.GetContext(ctx, q.Ext, &s, `WITH j AS (SELECT j.owner_id = $1 AS theirs, j.is_on,
			coalesce((v.definition->>'personal')::boolean, false) AS own
			FROM jobs j JOIN job_versions v ON v.job_id = j.id AND v.version = j.version WHERE j.removed_at IS NULL)
		SELECT count(*) FILTER (WHERE theirs AND NOT own) AS jobs,
		count(*) FILTER (WHERE theirs AND NOT own AND is_on) AS jobs_on,
		count(*) FILTER (WHERE theirs AND own) AS own,
		count(*) FILTER (WHERE NOT own) AS all_jobs,
		(SELECT count(*) FROM reports WHERE owner_id = $1 AND removed_at IS NULL) AS reports,
		(SELECT count(*) FROM reports WHERE removed_at IS NULL) AS all_reports,
		(SELECT count(*) FROM people WHERE role = 'administrator' AND removed_at IS NULL) AS administrators,
		(SELECT count(*) FROM sign_ins WHERE person_id = $1 AND sends IS NULL AND (ends_at IS NULL OR ends_at > bell_now())) AS sign_ins
		FROM j`, p.ID)
	return s, db.Wrap(err, "count what belongs to them")
}

// PutPerson adds or changes a person by login. An empty hash keeps the password.
func (q Q) PutPerson(ctx context.Context, p job.Person, hash string) (int64, error) {
	login, err := q.Called(ctx, "person", p.Login)
	if err != nil {
		return 0, err
	}
	var id int64
	err = sqlx.GetContext(ctx, q.Ext, &id, `INSERT INTO people (login, name, mail, role, zone, password_hash)
		VALUES ($1, $2, $3, $4, $5, $6)
		ON CONFLICT (lower(login)) DO UPDATE SET name = excluded.name, mail = excluded.mail, mail_own = false,
		role = excluded.role, zone = excluded.zone,
			password_hash = CASE WHEN excluded.password_hash = '' THEN people.password_hash ELSE excluded.password_hash END
		RETURNING id`, login, p.Name, p.Mail, p.Role, p.Zone, hash)
	return id, db.Unique(err, "person", p.Login)
}

// PutPassword keeps the hash of a person's password, unless another came in the place of
// the one that was there; it tells whether it did.
func (q Q) PutPassword(ctx context.Context, id int64, was, hash string) (bool, error) {
	res, err := q.Ext.ExecContext(ctx, `UPDATE people SET password_hash = $3 WHERE id = $1 AND password_hash = $2`, id,
		was, hash)
	if err != nil {
		return false, db.Wrap(err, "save the password")
	}
	n, err := res.RowsAffected()
	return n > 0, db.Wrap(err, "save the password")
}

// PutDigest sets when a person's next digest is due; none when it is nil.
func (q Q) PutDigest(ctx context.Context, id int64, due *time.Time) error {
	_, err := q.Ext.ExecContext(ctx, `UPDATE people SET digest_due = $2 WHERE id = $1`, id, due)
	return db.Wrap(err, "set when the next digest is due")
}

// PutWishes saves what a person says about themselves, with when their next digest is due; none
// when it is nil. An address that is changed here is their own word.
func (q Q) PutWishes(ctx context.Context, p job.Person, digest *time.Time) error {
	_, err := q.Ext.ExecContext(ctx, `UPDATE people SET wishes = $2, digest_due = $3, mail = $4, mail_own = mail_own
		OR mail <> $4, zone = $5 WHERE id = $1`, p.ID, db.Document[job.Wishes]{V: p.Wishes}, digest, p.Mail, p.Zone)
	return db.Wrap(err, "save the wishes")
}

// DigestsDue locks people whose digest is due, at most limit.
func (t *Tx) DigestsDue(ctx context.Context, limit int) ([]job.Person, error) {
	var people []job.Person
	err := sqlx.SelectContext(ctx, t.Ext, &people, `SELECT `+PersonColumns+` FROM people p
		WHERE p.digest_due <= bell_now() AND p.removed_at IS NULL ORDER BY p.digest_due LIMIT $1 FOR UPDATE SKIP LOCKED`, limit)
	return people, db.Wrap(err, "find the digests that are due")
}

// Audit records who changed what, within the transaction of the change. Before is nil
// when there was nothing, after when there is nothing any more. It counts the change
// in the record's revision, and fails with a *Stale when its author did not expect
// that one (see Expecting).
func (q Q) Audit(ctx context.Context, who, action, kind, subject string, before, after any) error {
	if err := q.Revise(ctx, who, action, kind, subject, before != nil); err != nil {
		return err
	}
	_, err := q.Ext.ExecContext(ctx, `INSERT INTO audit (who, action, kind, subject, before, after)
		VALUES ($1, $2, $3, $4, $5, $6)`,
		who, action, kind, subject, db.Document[any]{V: before}, db.Document[any]{V: after})
	return db.Wrap(err, "record the change")
}

// Switched is the last switch of a job before a time. A zero At means that it
// never was switched since it was saved.
type Switched struct {
	At  time.Time `db:"at"`
	Who string    `db:"who"`
	Off bool      `db:"off"`
}

// LastSwitch finds who switched a job last before a time, also by saving it.
func (q Q) LastSwitch(ctx context.Context, name string, before time.Time) (Switched, error) {
	var s Switched
	err := sqlx.GetContext(ctx, q.Ext, &s, `SELECT a.at, coalesce(p.name, a.who) AS who, a.after->>'on' = 'false' AS off
		FROM audit a LEFT JOIN people p ON lower(p.login) = lower(a.who)
		WHERE a.kind = 'job' AND a.subject = ANY(all_names('job', ARRAY[$1::text])) AND a.action IN ('switch', 'save') AND a.after->>'on' IS NOT NULL
		AND a.at < $2 ORDER BY a.id DESC LIMIT 1`, name, before)
	if errors.Is(err, sql.ErrNoRows) {
		return Switched{}, nil
	}
	return s, db.Wrap(err, "find the last switch")
}

// FirstSaved is when a job was saved for the first time; zero when nobody knows.
func (q Q) FirstSaved(ctx context.Context, name string) (time.Time, error) {
	var at *time.Time
	err := sqlx.GetContext(ctx, q.Ext, &at, `SELECT min(at) FROM audit WHERE kind = 'job'
		AND subject = ANY(all_names('job', ARRAY[$1::text]))`, name)
	if err != nil || at == nil {
		return time.Time{}, db.Wrap(err, "find when the job was saved first")
	}
	return *at, nil
}
