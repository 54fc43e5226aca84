package records

import (
	"context"
	"database/sql"
	"errors"
	"strconv"
	"time"

	"ironbell/internal/core/job"
	"ironbell/internal/store/db"

	"github.com/jmoiron/sqlx"
)

type reportRow struct {
	job.Report
	Definition db.Document[job.ReportDefinition] `db:"definition"`
}

func (r reportRow) whole() job.Report {
	r.ReportDefinition = r.Definition.V
	return r.Report
}

var reportColumns = `r.id, r.name, p.login AS owner, r.version, r.updated_at, v.definition, r.removed_at, ` +
	db.RevisionOf("report", "r.name") + `
	FROM reports r JOIN people p ON p.id = r.owner_id JOIN report_versions v ON v.report_id = r.id
	AND v.version = r.version`

// Report finds a report by its name, or one that it had before, or its id. By its id also one
// is found that was removed.
func (q Q) Report(ctx context.Context, name string) (job.Report, error) {
	var row reportRow
	id, err := strconv.ParseInt(name, 10, 64)
	if err == nil {
		err = sqlx.GetContext(ctx, q.Ext, &row, `SELECT `+reportColumns+` WHERE r.id = $1`, id)
	} else {
		err = sqlx.GetContext(ctx, q.Ext, &row, `SELECT `+reportColumns+` WHERE r.id = record_id('report', $1)
			AND r.removed_at IS NULL`, name)
	}
	return row.whole(), q.Found(ctx, err, "report", name)
}

// ReportOf finds a report in the version that a run takes: the one that was current
// at an instant. It is noted at its first use, so that all tasks and tries of the run
// take the same, whoever saves the report meanwhile.
func (q Q) ReportOf(ctx context.Context, run job.RunID, name string, at time.Time) (job.Report, error) {
	if _, err := q.Ext.ExecContext(ctx, `INSERT INTO run_reports (run_id, report_id, version)
		SELECT $1, r.id, coalesce((SELECT max(v.version) FROM report_versions v WHERE v.report_id = r.id
		AND v.saved_at <= $3), (SELECT min(v.version) FROM report_versions v WHERE v.report_id = r.id))
		FROM reports r WHERE r.id = record_id('report', $2) AND r.removed_at IS NULL ON CONFLICT DO NOTHING`, run, name, at); err != nil {
		return job.Report{}, db.Wrap(err, "note the report's version")
	}
	var row reportRow
	err := sqlx.GetContext(ctx, q.Ext, &row, `SELECT r.id, r.name, p.login AS owner, v.version, r.updated_at,
		v.definition
		FROM reports r JOIN people p ON p.id = r.owner_id JOIN run_reports n ON n.report_id = r.id AND n.run_id = $2
		JOIN report_versions v ON v.report_id = r.id AND v.version = n.version
		WHERE r.id = record_id('report', $1)`, name, run)
	return row.whole(), q.Found(ctx, err, "report", name)
}

// Reports lists the reports by name, at most limit.
func (q Q) Reports(ctx context.Context, limit int) ([]job.Report, error) {
	var rows []reportRow
	err := sqlx.SelectContext(ctx, q.Ext, &rows, `SELECT `+reportColumns+` WHERE r.removed_at IS NULL
		ORDER BY r.name LIMIT $1`, limit)
	reports := make([]job.Report, 0, len(rows))
	for _, row := range rows {
		reports = append(reports, row.whole())
	}
	return reports, db.Wrap(err, "list the reports")
}

// PutReport adds a report or saves a new version of the one of that name. What
// is equal to the version that is there makes none.
func (q Q) PutReport(ctx context.Context, name string, owner, author int64,
	d job.ReportDefinition,
) (job.Report, error) {
	var row struct {
		ID      int64 `db:"id"`
		Version int   `db:"version"`
		Same    bool  `db:"same"`
	}
	name, err := q.Called(ctx, "report", name)
	if err != nil {
		return job.Report{}, err
	}
	err = sqlx.GetContext(ctx, q.Ext, &row, `SELECT r.id, r.version, v.definition = $2::jsonb AS same FROM reports r
		JOIN report_versions v ON v.report_id = r.id AND v.version = r.version WHERE r.name = $1
		FOR UPDATE OF r`, name, db.Document[job.ReportDefinition]{V: d})
	switch {
	case errors.Is(err, sql.ErrNoRows):
		err = sqlx.GetContext(ctx, q.Ext, &row, `INSERT INTO reports (name, owner_id, version) VALUES ($1, $2, 1)
			RETURNING id, version, false AS same`, name, owner)
	case err == nil && !row.Same:
		err = sqlx.GetContext(ctx, q.Ext, &row, `UPDATE reports SET version = version + 1, updated_at = bell_now()
			WHERE id = $1 RETURNING id, version, false AS same`, row.ID)
	}
	if err != nil {
		return job.Report{}, db.Unique(err, "report", name)
	}
	if !row.Same {
		if _, err := q.Ext.ExecContext(ctx, `INSERT INTO report_versions (report_id, version, definition, author_id)
			VALUES ($1, $2, $3, $4)`,
			row.ID, row.Version, db.Document[job.ReportDefinition]{V: d}, author); err != nil {
			return job.Report{}, db.Wrap(err, "save the report's version")
		}
		for _, w := range d.Workbooks {
			if _, err := q.Ext.ExecContext(ctx, `INSERT INTO workbook_uses (report_id, version, file_id) VALUES ($1, $2, $3)
				ON CONFLICT DO NOTHING`, row.ID, row.Version, w.File); err != nil {
				return job.Report{}, db.Wrap(err, "save the report's workbooks")
			}
		}
	}
	if _, err := q.Ext.ExecContext(ctx, `UPDATE reports SET owner_id = $2 WHERE id = $1 AND owner_id <> $2`, row.ID,
		owner); err != nil {
		return job.Report{}, db.Wrap(err, "save the report's owner")
	}
	return q.Report(ctx, name)
}

// ReportsOwned lists the names of a person's reports, at most limit.
func (q Q) ReportsOwned(ctx context.Context, personID int64, limit int) ([]string, error) {
	names := []string{}
	err := sqlx.SelectContext(ctx, q.Ext, &names, `SELECT name FROM reports WHERE removed_at IS NULL AND owner_id = $1
		ORDER BY name LIMIT $2`, personID, limit)
	return names, db.Wrap(err, "list the reports of a person")
}

// ReportsToSchedule lists the reports that are open to own schedules of somebody, at most 1,000.
func (q Q) ReportsToSchedule(ctx context.Context) ([]job.Report, error) {
	var rows []reportRow
	err := sqlx.SelectContext(ctx, q.Ext, &rows, `SELECT `+reportColumns+` WHERE r.removed_at IS NULL
		AND v.definition ? 'schedulers' ORDER BY r.name LIMIT 1000`)
	out := make([]job.Report, len(rows))
	for i, r := range rows {
		out[i] = r.whole()
	}
	return out, db.Wrap(err, "list the reports that are open")
}
