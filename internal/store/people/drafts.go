package people

import (
	"context"

	"ironbell/internal/core/fault"
	"ironbell/internal/core/job"
	"ironbell/internal/store/db"

	"github.com/jmoiron/sqlx"
)

// Drafts are the drafts of a person, the newest first, at most job.MostDrafts, without
// their contents.
func (q Q) Drafts(ctx context.Context, person int64) ([]job.Draft, error) {
	out := []job.Draft{}
	err := sqlx.SelectContext(ctx, q.Ext, &out, `SELECT kind, key, record, began, 'null'::jsonb AS content, kept_at, kept
		FROM drafts WHERE person_id = $1 ORDER BY kept_at DESC LIMIT $2`, person, job.MostDrafts)
	return out, db.Wrap(err, "list the drafts")
}

// Draft is one draft of a person, or nil.
func (q Q) Draft(ctx context.Context, person int64, kind, key string) (*job.Draft, error) {
	var found []job.Draft
	err := sqlx.SelectContext(ctx, q.Ext, &found, `SELECT kind, key, record, began, content, kept_at, kept FROM drafts
		WHERE person_id = $1 AND kind = $2 AND key = $3`, person, kind, key)
	if err != nil || len(found) == 0 {
		return nil, db.Wrap(err, "read the draft")
	}
	return &found[0], nil
}

// Writers are the others who have had a draft of a record in the last day, at most 20.
func (q Q) Writers(ctx context.Context, person int64, kind, record string) ([]job.Writer, error) {
	out := []job.Writer{}
	if record == "" {
		return out, nil
	}
	err := sqlx.SelectContext(ctx, q.Ext, &out, `SELECT p.name, d.kept_at FROM drafts d JOIN people p ON p.id = d.person_id
		WHERE d.kind = $1 AND d.record = $2 AND d.person_id <> $3 AND d.kept_at > bell_now() - interval '1 day'
		ORDER BY d.kept_at DESC LIMIT 20`, kind, record, person)
	return out, db.Wrap(err, "see who else writes")
}

// KeepDraft keeps a draft in place of the one of its key. A person may have
// job.MostDrafts; one more is refused. With over, the number of the draft that it is to
// replace, one of another number stays, and the error is a *db.Stale.
func (q Q) KeepDraft(ctx context.Context, person int64, d job.Draft, over *int64) (job.Draft, error) {
	var kept []job.Draft
	err := sqlx.SelectContext(ctx, q.Ext, &kept, `INSERT INTO drafts (person_id, kind, key, record, began, content)
		SELECT $1, $2, $3, $4, $5, $6
		WHERE (SELECT count(*) FROM drafts WHERE person_id = $1 AND (kind, key) <> ($2, $3)) < $7
		ON CONFLICT (person_id, kind, key) DO UPDATE SET record = excluded.record, began = excluded.began,
			content = excluded.content, kept_at = bell_now(), kept = drafts.kept + 1
			WHERE $8::bigint IS NULL OR drafts.kept = $8
		RETURNING kind, key, record, began, content, kept_at, kept`,
		person, d.Kind, d.Key, d.Record, d.Began, string(d.Content), job.MostDrafts, over)
	if err != nil {
		return job.Draft{}, db.Wrap(err, "keep the draft")
	}
	if len(kept) == 0 && over != nil {
		there, err := q.Draft(ctx, person, d.Kind, d.Key)
		if err != nil {
			return job.Draft{}, err
		}
		if there != nil && there.Kept != *over {
			return job.Draft{}, &db.Stale{Kind: "draft", Name: d.Key, Yours: []int64{*over}, Now: there.Kept, At: there.KeptAt}
		}
	}
	if len(kept) == 0 {
		v := &fault.Invalid{What: "the draft"}
		v.Add("key", "you have %d drafts already; save or drop one of them first", job.MostDrafts)
		return job.Draft{}, v.Err()
	}
	return kept[0], nil
}

// DropDraft forgets a draft; there may be none.
func (q Q) DropDraft(ctx context.Context, person int64, kind, key string) error {
	_, err := q.Ext.ExecContext(ctx, `DELETE FROM drafts WHERE person_id = $1 AND kind = $2 AND key = $3`,
		person, kind, key)
	return db.Wrap(err, "drop the draft")
}
