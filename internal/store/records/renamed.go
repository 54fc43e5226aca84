package records

import (
	"context"
	"encoding/json"
	"strings"

	"ironbell/internal/core/job"
	"ironbell/internal/store/db"

	"github.com/jmoiron/sqlx"
)

// Rename gives a record that was locked another name. The old one still finds it, until it is
// freed. The other name must be free (see Called): whether it is, is asked of the caller.
func (t *Tx) Rename(ctx context.Context, kind string, id int64, from, to string) error {
	table, _ := db.TableOf(kind)
	if _, err := t.Ext.ExecContext(ctx, `DELETE FROM former_names WHERE kind = $1 AND record_id = $2 AND name = $3`,
		kind, id, to); err != nil {
		return db.Wrap(err, "free the name")
	}
	if _, err := t.Ext.ExecContext(ctx, `UPDATE `+table.Name+` SET `+table.Key+` = $2 WHERE id = $1`, id,
		to); err != nil {
		return db.Unique(err, kind, to)
	}
	if _, err := t.Ext.ExecContext(ctx, `INSERT INTO former_names (kind, name, record_id) VALUES ($1, $2, $3)
		ON CONFLICT (kind, record_id, name) DO UPDATE SET freed = false, since = bell_now()`, kind, from, id); err != nil {
		return db.Wrap(err, "keep the old name")
	}
	old, now := db.RevisionKey(kind, from), db.RevisionKey(kind, to)
	if _, err := t.Ext.ExecContext(ctx, `INSERT INTO record_versions AS r (kind, name, version, changed_by, changed_at)
		SELECT kind, $3, version, changed_by, changed_at FROM record_versions WHERE kind = $1 AND name = $2
		ON CONFLICT (kind, name) DO UPDATE SET version = greatest(r.version, excluded.version)`, kind, old,
		now); err != nil {
		return db.Wrap(err, "take the revision over")
	}
	if _, err := t.Ext.ExecContext(ctx, `UPDATE drafts SET record = $3, key = CASE WHEN key = $2
		AND NOT EXISTS (SELECT 1 FROM drafts d WHERE d.person_id = drafts.person_id AND d.kind = $1 AND d.key = $3)
		THEN $3 ELSE key END WHERE kind = $1 AND record = $2`, kind, from, to); err != nil {
		return db.Wrap(err, "take the drafts over")
	}
	return t.tellOf(ctx, kind)
}

// FormerNames lists the names by which a record is found beside its own; none when there is no
// such record.
func (q Q) FormerNames(ctx context.Context, kind, name string) ([]string, error) {
	names := []string{}
	err := sqlx.SelectContext(ctx, q.Ext, &names, `SELECT name FROM former_names WHERE kind = $1
		AND record_id = record_id($1, $2) AND NOT freed ORDER BY since DESC LIMIT 100`, kind, name)
	return names, db.Wrap(err, "list the former names")
}

// FreeName frees a name that a record had before.
func (t *Tx) FreeName(ctx context.Context, kind string, id int64, name string) error {
	err := db.One(t.Ext.ExecContext(ctx, `UPDATE former_names SET freed = true WHERE kind = $1 AND record_id = $2
		AND name = $3 AND NOT freed`, kind, id, name))
	if err != nil {
		return &db.NotFound{Kind: "former name", Name: name}
	}
	return nil
}

// Relabelled gives what is limited, frozen or kept back under a label another one.
func (t *Tx) Relabelled(ctx context.Context, from, to string) error {
	for _, sql := range []string{
		`UPDATE jobs SET labels = array_replace(labels, $1, $2) WHERE labels @> ARRAY[$1::text]`,
		`UPDATE parts SET labels = array_replace(labels, $1, $2) WHERE state IN ('waiting', 'running')
			AND labels @> ARRAY[$1::text]`,
		`UPDATE freezes SET label = $2 WHERE label = $1 AND lifted_at IS NULL`,
		`UPDATE rests SET label = $2 WHERE label = $1`,
		`UPDATE alerts SET cause = $2 WHERE cause = $1 AND state <> 'closed'`,
		`UPDATE settings SET value = value - $1::text || jsonb_build_object($2::text, value->$1::text)
			WHERE key = 'limits' AND value ? $1::text`,
	} {
		if _, err := t.Ext.ExecContext(ctx, sql, from, to); err != nil {
			return db.Wrap(err, "label anew")
		}
	}
	return t.Tell(ctx, db.Notice{Kind: job.NoticeParts})
}

// JobsSaying locks the jobs in whose definitions a text stands, in any case of its letters, at
// most 20,000; also those that were removed, which may come back.
func (t *Tx) JobsSaying(ctx context.Context, text string) ([]job.Job, error) {
	var rows []jobRow
	err := sqlx.SelectContext(ctx, t.Ext, &rows, `SELECT `+jobColumns+` WHERE position($1 IN lower(v.definition::text)) > 0
		ORDER BY j.id LIMIT 20000 FOR UPDATE OF j`, written(text))
	if err != nil {
		return nil, db.Wrap(err, "find the jobs that speak of "+text)
	}
	return t.withTriggers(ctx, rows)
}

// ReportsSaying locks the reports in whose definitions a text stands, as JobsSaying does.
func (t *Tx) ReportsSaying(ctx context.Context, text string) ([]job.Report, error) {
	var rows []reportRow
	err := sqlx.SelectContext(ctx, t.Ext, &rows, `SELECT `+reportColumns+`
		WHERE position($1 IN lower(v.definition::text)) > 0 ORDER BY r.id LIMIT 20000 FOR UPDATE OF r`, written(text))
	reports := make([]job.Report, 0, len(rows))
	for _, row := range rows {
		reports = append(reports, row.whole())
	}
	return reports, db.Wrap(err, "find the reports that speak of "+text)
}

// written is a text as it stands in a document.
func written(text string) string {
	out, err := json.Marshal(text)
	if err != nil {
		return strings.ToLower(text) // a text can always be written
	}
	return strings.ToLower(strings.Trim(string(out), `"`))
}

// Reword saves a new version of a job that says the same in other words: its triggers stay
// what they are and ring when they would have.
func (t *Tx) Reword(ctx context.Context, j job.Job, author int64) error {
	version := 0
	if err := sqlx.GetContext(ctx, t.Ext, &version, `UPDATE jobs SET version = version + 1, updated_at = bell_now()
		WHERE id = $1 RETURNING version`, j.ID); err != nil {
		return db.Wrap(err, "save the job")
	}
	if err := t.putJobVersion(ctx, j.ID, version, author, j.Definition); err != nil {
		return err
	}
	calendars := db.Document[[]string]{V: j.Calendars}
	if j.Calendars == nil {
		calendars.V = []string{}
	}
	for _, tr := range j.Triggers {
		var waits any
		if tr.Wait != nil {
			waits = db.Document[*job.Wait]{V: tr.Wait}
		}
		if _, err := t.Ext.ExecContext(ctx, `UPDATE triggers SET waits = $2, calendars = $3 WHERE id = $1`, tr.ID, waits,
			calendars); err != nil {
			return db.Wrap(err, "save the trigger")
		}
	}
	return t.tellOf(ctx, "job")
}

// RewordReport saves a new version of a report that says the same in other words.
func (t *Tx) RewordReport(ctx context.Context, r job.Report, author int64) error {
	version := 0
	if err := sqlx.GetContext(ctx, t.Ext, &version, `UPDATE reports SET version = version + 1, updated_at = bell_now()
		WHERE id = $1 RETURNING version`, r.ID); err != nil {
		return db.Wrap(err, "save the report")
	}
	_, err := t.Ext.ExecContext(ctx, `INSERT INTO report_versions (report_id, version, definition, author_id)
		VALUES ($1, $2, $3, $4)`, r.ID, version, db.Document[job.ReportDefinition]{V: r.ReportDefinition}, author)
	return db.Wrap(err, "save the report's version")
}

// PutSecret keeps a sealed secret of a source, a destination or an identity.
func (t *Tx) PutSecret(ctx context.Context, kind string, id int64, sealed []byte) error {
	table := map[string]string{"source": "sources", "destination": "destinations", "identity": "identities"}[kind]
	_, err := t.Ext.ExecContext(ctx, `UPDATE `+table+` SET secret = $2 WHERE id = $1`, id, sealed)
	return db.Wrap(err, "keep the secret")
}
