package db

import (
	"context"

	"ironbell/internal/core/job"

	"github.com/jmoiron/sqlx"
)

// Bounds of the workbooks that are kept at once.
const (
	MostWorkbooks     = 500
	MostWorkbookBytes = 4 << 30
)

type workbookRow struct {
	ID    string                      `db:"id"`
	Name  string                      `db:"name"`
	Size  int64                       `db:"size"`
	Facts Document[job.WorkbookFacts] `db:"facts"`
	Data  []byte                      `db:"data"`
}

// WorkbookFile tells what is kept of a workbook by its number. The error is a
// *NotFound when there is none.
func (q Base) WorkbookFile(ctx context.Context, id string) (job.WorkbookFile, error) {
	var r workbookRow
	err := sqlx.GetContext(ctx, q.Ext, &r, `SELECT id, name, size, facts FROM workbook_files WHERE id = $1`, id)
	return job.WorkbookFile{ID: r.ID, Name: r.Name, Size: r.Size, WorkbookFacts: r.Facts.V}, Found(err, "workbook", id)
}

// WorkbookData reads the bytes of a workbook. The error is a *NotFound when there is none.
func (q Base) WorkbookData(ctx context.Context, id string) (data []byte, err error) {
	err = sqlx.GetContext(ctx, q.Ext, &data, `SELECT data FROM workbook_files WHERE id = $1`, id)
	return data, Found(err, "workbook", id)
}

// KeepWorkbookFile keeps a workbook, and those that no report has for 30 days only,
// or for an hour where there is no room.
// The error is ErrFull when there are too many, or they are too large together.
func (q Base) KeepWorkbookFile(ctx context.Context, f job.WorkbookFile, data []byte) error {
	full := true
	for _, age := range []string{"30 days", "1 hour"} { // where there is no room, they go sooner
		if _, err := q.Ext.ExecContext(ctx, `DELETE FROM workbook_files f WHERE kept_at < now() - $2::interval AND id <> $1
			AND NOT EXISTS (SELECT FROM workbook_uses u WHERE u.file_id = f.id)`, f.ID, age); err != nil {
			return Wrap(err, "remove unused workbooks")
		}
		var others struct {
			Count int   `db:"count"`
			Bytes int64 `db:"bytes"`
		}
		if err := sqlx.GetContext(ctx, q.Ext, &others, `SELECT count(*) AS count, coalesce(sum(size), 0)::bigint AS bytes FROM workbook_files
			WHERE id <> $1`, f.ID); err != nil {
			return Wrap(err, "count the workbooks")
		}
		if full = others.Count >= MostWorkbooks || others.Bytes+f.Size > MostWorkbookBytes; !full {
			break
		}
	}
	if full {
		return ErrFull
	}
	_, err := q.Ext.ExecContext(ctx, `INSERT INTO workbook_files (id, name, size, facts, data) VALUES ($1, $2, $3, $4, $5)
		ON CONFLICT (id) DO UPDATE SET kept_at = now(), name = excluded.name, facts = excluded.facts`,
		f.ID, f.Name, f.Size, Document[job.WorkbookFacts]{V: f.WorkbookFacts}, data)
	return Wrap(err, "keep a workbook")
}

// WorkbookLock is what keeps workbooks from being removed while a report that has
// one is saved: see LockSetting.
const WorkbookLock = "workbooks"
