package history

import (
	"context"
	"time"

	"ironbell/internal/core/job"
	"ironbell/internal/store/db"

	"github.com/jmoiron/sqlx"
)

// Archived is a run of which files are still kept.
type Archived struct {
	RunID     job.RunID                     `db:"id"`
	Nominal   time.Time                     `db:"nominal"`
	Due       time.Time                     `db:"due"`
	Zone      string                        `db:"zone"`
	State     job.RunState                  `db:"state"`
	Version   int                           `db:"job_version"`
	Open      int                           `db:"open"`      // links that lead to its files
	Withdrawn bool                          `db:"withdrawn"` // a link to its files was withdrawn: they may be wrong
	Reports   db.Document[[]ArchivedReport] `db:"reports"`
	Files     []ArchivedFile
}

// ArchivedReport is a report with the version that a run took.
type ArchivedReport struct {
	Name    string `json:"name"`
	Version int    `json:"version"`
}

// ArchivedFile is a file that is kept, with the name of the part that made it.
type ArchivedFile struct {
	job.Artifact
	PartName string `db:"part_name"`
}

// maxArchivedFiles bounds the files of one look into the archive.
const maxArchivedFiles = 2000

// Archive lists the runs of a job of which files are kept, the newest first, at most limit: those
// before a run, or from the newest on when it is 0. Rehearsals are left out. The files are those
// that the run stands by: of tries that failed there are none, and none of a form that is kept
// for our own use.
func (q Q) Archive(ctx context.Context, jobID int64, before job.RunID, limit int, ours string) ([]Archived, error) {
	runs := []Archived{}
	if err := sqlx.SelectContext(ctx, q.Ext, &runs, `SELECT r.id, r.nominal, r.due, r.zone, r.state, r.job_version,
		(SELECT count(*) FROM links l WHERE l.run_id = r.id AND l.withdrawn_at IS NULL AND l.ends_at > bell_now()) AS open,
		EXISTS (SELECT 1 FROM links l WHERE l.run_id = r.id AND l.withdrawn_at IS NOT NULL) AS withdrawn,
		(SELECT coalesce(jsonb_agg(jsonb_build_object('name', p.name, 'version', n.version) ORDER BY p.name), '[]')
			FROM run_reports n JOIN reports p ON p.id = n.report_id WHERE n.run_id = r.id) AS reports
		FROM runs r WHERE r.job_id = $1 AND ($2::bigint = 0 OR r.id < $2) AND NOT r.rehearsal
		AND EXISTS (SELECT 1 FROM artifacts a WHERE a.run_id = r.id AND a.removed_at IS NULL AND a.format <> $4)
		ORDER BY r.id DESC LIMIT $3`, jobID, before, limit, ours); err != nil {
		return nil, db.Wrap(err, "list the archive")
	}
	ids, at := make([]int64, len(runs)), map[job.RunID]int{}
	for i, r := range runs {
		ids[i], at[r.RunID] = int64(r.RunID), i
	}
	var files []ArchivedFile
	if err := sqlx.SelectContext(ctx, q.Ext, &files, `SELECT a.*, coalesce(p.name, '') AS part_name
		FROM (SELECT `+artifactColumns+` FROM artifacts WHERE run_id = ANY($1) AND removed_at IS NULL
			AND format <> $3) a
		LEFT JOIN parts p ON p.run_id = a.run_id AND p.part = a.part
		WHERE EXISTS (SELECT 1 FROM attempts t WHERE t.run_id = a.run_id AND t.part = a.part AND t.task = a.task
			AND t.try = a.try AND t.state = 'done')
		ORDER BY a.run_id DESC, a.part, a.id LIMIT $2`, ids, maxArchivedFiles, ours); err != nil {
		return nil, db.Wrap(err, "list the files of the archive")
	}
	for _, f := range files {
		runs[at[f.RunID]].Files = append(runs[at[f.RunID]].Files, f)
	}
	return runs, nil
}
