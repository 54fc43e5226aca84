package records

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"time"

	"ironbell/internal/core/calendar"
	"ironbell/internal/core/job"
	"ironbell/internal/store/db"
	"ironbell/internal/store/people"

	"github.com/jmoiron/sqlx"
)

// Calendar is a calendar in its newest version.
type Calendar struct {
	ID         int64     `db:"id"`
	Name       string    `db:"name"`
	Version    int       `db:"version"`
	Revision   int64     `db:"revision"`
	UpdatedAt  time.Time `db:"updated_at"`
	Jobs       int       `db:"jobs"` // that go by it
	Definition calendar.Definition
}

type calendarRow struct {
	Calendar
	Document db.Document[calendar.Definition] `db:"definition"`
}

var calendarColumns = `c.id, c.name, c.version, c.updated_at, v.definition, ` + db.RevisionOf("calendar", "c.name") + `,
	(SELECT count(*) FROM job_uses u WHERE u.kind = 'calendar' AND u.id = c.id
		AND EXISTS (SELECT 1 FROM jobs j WHERE j.id = u.job_id AND j.removed_at IS NULL)) AS jobs
	FROM calendars c JOIN calendar_versions v ON v.calendar_id = c.id AND v.version = c.version`

// Calendars lists all calendars by name, at most 1000.
func (q Q) Calendars(ctx context.Context) ([]Calendar, error) {
	var rows []calendarRow
	err := sqlx.SelectContext(ctx, q.Ext, &rows, `SELECT `+calendarColumns+` WHERE c.removed_at IS NULL
		ORDER BY c.name LIMIT 1000`)
	out := make([]Calendar, len(rows))
	for i, r := range rows {
		out[i] = r.Calendar
		out[i].Definition = r.Document.V
	}
	return out, db.Wrap(err, "list the calendars")
}

// Calendar finds a calendar by its name.
func (q Q) Calendar(ctx context.Context, name string) (Calendar, error) {
	var row calendarRow
	err := sqlx.GetContext(ctx, q.Ext, &row, `SELECT `+calendarColumns+` WHERE c.id = record_id('calendar', $1)
		AND c.removed_at IS NULL`, name)
	c := row.Calendar
	c.Definition = row.Document.V
	return c, q.Found(ctx, err, "calendar", name)
}

// CalendarStamps gives each calendar's stamp by name. It changes with every
// version, and also when a calendar is removed and made again.
func (q Q) CalendarStamps(ctx context.Context) (map[string]string, error) {
	var rows []struct {
		Name  string `db:"name"`
		Stamp string `db:"stamp"`
	}
	err := sqlx.SelectContext(ctx, q.Ext, &rows, `SELECT name, id || '.' || version AS stamp FROM calendars
		WHERE removed_at IS NULL LIMIT 1000`)
	stamps := make(map[string]string, len(rows))
	for _, r := range rows {
		stamps[r.Name] = r.Stamp
	}
	return stamps, db.Wrap(err, "list the calendars")
}

// Stamp is the calendar's stamp, as CalendarStamps gives it.
func (c Calendar) Stamp() string { return fmt.Sprintf("%d.%d", c.ID, c.Version) }

// PutCalendar adds a calendar or saves a new version of the one of that name.
func (q Q) PutCalendar(ctx context.Context, name string, author int64, d calendar.Definition) (Calendar, error) {
	var row struct {
		ID      int64 `db:"id"`
		Version int   `db:"version"`
	}
	name, err := q.Called(ctx, "calendar", name)
	if err != nil {
		return Calendar{}, err
	}
	err = sqlx.GetContext(ctx, q.Ext, &row, `INSERT INTO calendars (name, version) VALUES ($1, 1)
		ON CONFLICT (name) DO UPDATE SET version = calendars.version + 1, updated_at = bell_now()
		RETURNING id, version`, name)
	if err != nil {
		return Calendar{}, db.Unique(err, "calendar", name)
	}
	if _, err := q.Ext.ExecContext(ctx, `INSERT INTO calendar_versions (calendar_id, version, definition, author_id)
		VALUES ($1, $2, $3, $4)`,
		row.ID, row.Version, db.Document[calendar.Definition]{V: d}, author); err != nil {
		return Calendar{}, db.Wrap(err, "save the calendar's version")
	}
	if err := q.Tell(ctx, db.Notice{Kind: job.NoticeCalendars, ID: name}); err != nil {
		return Calendar{}, err
	}
	return q.Calendar(ctx, name)
}

// JobsUsing lists the jobs that speak of a calendar, a report or another record
// of a kind that job_uses keeps, by name.
func (q Q) JobsUsing(ctx context.Context, kind string, id int64) ([]job.Job, error) {
	var rows []jobRow
	err := sqlx.SelectContext(ctx, q.Ext, &rows, `SELECT `+jobColumns+` JOIN job_uses u ON u.job_id = j.id
		AND u.kind = $1 AND u.id = $2
		WHERE j.removed_at IS NULL ORDER BY j.name LIMIT 5000`, kind, id)
	if err != nil {
		return nil, db.Wrap(err, "find the jobs of the "+kind)
	}
	return q.withTriggers(ctx, rows)
}

// NextRing is when a trigger rings next, and the date that its rule names for it.
type NextRing struct{ Due, Nominal time.Time }

// MoveTriggers sets the next rings of triggers, reckoned by some zone data; nil for
// none.
func (q Q) MoveTriggers(ctx context.Context, next map[int64]*NextRing, zones string) error {
	if len(next) == 0 {
		return nil
	}
	ids, dues, nominals := Moves(next)
	if _, err := q.Ext.ExecContext(ctx, MoveTriggers, ids, dues, nominals, zones); err != nil {
		return db.Wrap(err, "move the triggers")
	}
	return q.Tell(ctx, db.Notice{Kind: job.NoticeJobs})
}

// MoveTriggers gives triggers other due times, which moves lists, and says by which zone data.
const MoveTriggers = `UPDATE triggers t SET next_due = u.due, next_nominal = u.nominal, zones = $4
	FROM unnest($1::bigint[], $2::timestamptz[], $3::timestamptz[]) AS u(id, due, nominal) WHERE t.id = u.id`

// Moves are the columns of triggers that move on.
func Moves(next map[int64]*NextRing) (ids []int64, dues, nominals []*time.Time) {
	for id, n := range next {
		ids = append(ids, id)
		if n == nil {
			dues, nominals = append(dues, nil), append(nominals, nil)
			continue
		}
		dues, nominals = append(dues, &n.Due), append(nominals, &n.Nominal)
	}
	return ids, dues, nominals
}

// LockTriggers locks the triggers of jobs, each job's first trigger before its
// others, so that the clock waits for what is decided about them.
func (t *Tx) LockTriggers(ctx context.Context, jobs []int64) error {
	for _, which := range []string{`position = 0`, `position > 0`} {
		if _, err := t.Ext.ExecContext(ctx,
			`SELECT id FROM triggers WHERE job_id = ANY($1) AND `+which+` ORDER BY job_id, position FOR UPDATE`,
			jobs); err != nil {
			return db.Wrap(err, "lock the triggers")
		}
	}
	return nil
}

// ReckonedBy locks triggers that wait for a due time which other zone data gave, in
// the order of their ids after one, at most limit; with all those, too, that say they
// were reckoned by these. Rows that were written before triggers knew their zone data
// count as reckoned by old.
func (t *Tx) ReckonedBy(ctx context.Context, after int64, zones, old string, all bool,
	limit int,
) ([]OtherZones, error) {
	var out []OtherZones
	err := sqlx.SelectContext(ctx, t.Ext, &out, `SELECT t.id, j.name AS job_name, t.timing, t.calendars, t.zone,
		t.next_due, t.next_nominal, t.zones
		FROM triggers t JOIN jobs j ON j.id = t.job_id WHERE t.id > $1 AND t.next_due IS NOT NULL
		AND (coalesce(nullif(t.zones, ''), $3) <> $2 OR $5)
		ORDER BY t.id LIMIT $4 FOR UPDATE OF t SKIP LOCKED`, after, zones, old, limit, all)
	return out, db.Wrap(err, "find what other zone data gave")
}

// OtherZones is a trigger whose due time was reckoned by other zone data.
type OtherZones struct {
	ID          int64                   `db:"id"`
	Job         string                  `db:"job_name"`
	Timing      db.Document[job.Timing] `db:"timing"`
	Calendars   db.Document[[]string]   `db:"calendars"`
	Zone        string                  `db:"zone"`
	NextDue     time.Time               `db:"next_due"`
	NextNominal *time.Time              `db:"next_nominal"`
	Zones       string                  `db:"zones"`
}

// KeepDue notes that the due times of triggers stand by some zone data.
func (t *Tx) KeepDue(ctx context.Context, triggers []int64, zones string) error {
	_, err := t.Ext.ExecContext(ctx, `UPDATE triggers SET zones = $2 WHERE id = ANY($1)`, triggers, zones)
	return db.Wrap(err, "note the zone data of the triggers")
}

// PutFeed keeps the hash of a person's link to the forecast, in place of the
// one before. A nil hash ends the link.
func (q Q) PutFeed(ctx context.Context, person int64, hash []byte) error {
	if hash == nil {
		_, err := q.Ext.ExecContext(ctx, `DELETE FROM feeds WHERE person_id = $1`, person)
		return db.Wrap(err, "end the link")
	}
	_, err := q.Ext.ExecContext(ctx, `INSERT INTO feeds (person_id, hash) VALUES ($1, $2)
		ON CONFLICT (person_id) DO UPDATE SET hash = excluded.hash, created_at = bell_now()`, person, hash)
	return db.Wrap(err, "save the link")
}

// PersonByFeed finds whose link it is.
func (q Q) PersonByFeed(ctx context.Context, hash []byte) (job.Person, error) {
	var p job.Person
	err := sqlx.GetContext(ctx, q.Ext, &p, `SELECT `+people.PersonColumns+` FROM feeds f
		JOIN people p ON p.id = f.person_id WHERE f.hash = $1`, hash)
	return p, db.Found(err, "link", "")
}

// FeedSince tells since when a person has a link to the forecast.
func (q Q) FeedSince(ctx context.Context, person int64) (since time.Time, ok bool, err error) {
	err = sqlx.GetContext(ctx, q.Ext, &since, `SELECT created_at FROM feeds WHERE person_id = $1`, person)
	if errors.Is(err, sql.ErrNoRows) {
		return since, false, nil
	}
	return since, err == nil, db.Wrap(err, "find the link")
}
