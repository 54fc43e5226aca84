package operation

import (
	"context"
	"fmt"
	"regexp"
	"time"

	"ironbell/internal/store/db"

	"github.com/jmoiron/sqlx"
)

// OldFile is a file that has been kept long enough.
type OldFile struct {
	ID      int64  `db:"id"`
	Key     string `db:"key"`
	Message bool   `db:"message"` // of a message, otherwise an artifact
}

// stillNeeded tells whether anybody may still need the file of a key: a record of a
// file or message of the same bytes that is not old enough or whose run has not
// ended, a delivery that still goes out or that nobody knows of, or a link that leads
// there.
var stillNeeded = `(
	EXISTS (SELECT 1 FROM artifacts o LEFT JOIN runs r ON r.id = o.run_id LEFT JOIN jobs j ON j.id = r.job_id
	WHERE o.key = k.key AND o.removed_at IS NULL
		AND (o.created_at >= bell_now() - make_interval(days => coalesce(j.keep_files, 90)) OR r.state IN ` +
	db.RunsOpen + `))
	OR EXISTS (SELECT 1 FROM messages o LEFT JOIN runs r ON r.id = o.run_id LEFT JOIN jobs j ON j.id = r.job_id
	WHERE o.key = k.key AND o.removed_at IS NULL
		AND (o.created_at >= bell_now() - make_interval(days => coalesce(j.keep_files, 90))
			OR EXISTS (SELECT 1 FROM deliveries d WHERE d.run_id = o.run_id AND d.message_id = o.id
			AND d.phase IN ('ready', 'kept back', 'leased', 'taken', 'unknown'))
			OR EXISTS (SELECT 1 FROM deliveries d WHERE d.alert_id = o.alert_id AND d.message_id = o.id
			AND d.phase IN ('ready', 'kept back', 'leased', 'taken', 'unknown'))))
	OR EXISTS (SELECT 1 FROM links l WHERE l.run_id = k.run_id AND k.key = ANY(l.files) AND l.withdrawn_at IS NULL
	AND l.ends_at > bell_now()))`

// OldFiles lists files that have been kept for as long as their jobs say, at
// most limit, and that nobody needs any more: the same bytes may belong to several
// records, and each of them is asked.
func (q Q) OldFiles(ctx context.Context, limit int) ([]OldFile, error) {
	var old []OldFile
	err := sqlx.SelectContext(ctx, q.Ext, &old, `WITH least AS (SELECT coalesce(min(keep_files), 90) AS days FROM jobs)
		(SELECT k.id, k.key, false AS message FROM least, artifacts k LEFT JOIN runs r ON r.id = k.run_id LEFT
		JOIN jobs j ON j.id = r.job_id
			WHERE k.removed_at IS NULL AND k.key <> ''
			AND k.created_at < bell_now() - make_interval(days => least(least.days, 90))
			AND k.created_at < bell_now() - make_interval(days => coalesce(j.keep_files, 90))
				AND NOT `+stillNeeded+` LIMIT $1)
		UNION ALL
		(SELECT k.id, k.key, true FROM least, messages k LEFT JOIN runs r ON r.id = k.run_id LEFT
		JOIN jobs j ON j.id = r.job_id
			WHERE k.removed_at IS NULL AND k.key <> ''
			AND k.created_at < bell_now() - make_interval(days => least(least.days, 90))
			AND k.created_at < bell_now() - make_interval(days => coalesce(j.keep_files, 90))
				AND NOT `+stillNeeded+` LIMIT $1)
		LIMIT $1`, limit)
	return old, db.Wrap(err, "find files that were kept long enough")
}

// FilesRemoved records that files were removed.
func (q Q) FilesRemoved(ctx context.Context, files []OldFile) error {
	for _, table := range []string{"artifacts", "messages"} {
		ids := []int64{}
		for _, f := range files {
			if f.Message == (table == "messages") {
				ids = append(ids, f.ID)
			}
		}
		if _, err := q.Ext.ExecContext(ctx, `UPDATE `+table+` SET removed_at = bell_now() WHERE id = ANY($1)`,
			ids); err != nil {
			return db.Wrap(err, "record that files were removed")
		}
	}
	return nil
}

// KnownKeys tells which of some keys a record names.
func (q Q) KnownKeys(ctx context.Context, keys []string) (map[string]bool, error) {
	var found []string
	err := sqlx.SelectContext(ctx, q.Ext, &found, `SELECT key FROM artifacts WHERE key = ANY($1) AND removed_at IS NULL
		UNION SELECT key FROM messages WHERE key = ANY($1) AND removed_at IS NULL`, keys)
	known := make(map[string]bool, len(found))
	for _, k := range found {
		known[k] = true
	}
	return known, db.Wrap(err, "see which files are known")
}

// sweepBatch bounds the rows that one statement of a sweep removes.
const sweepBatch = 5000

// SweepHistory removes logs and runs that have been kept for as long as their
// jobs say, batch by batch. It walks through the months that may hold any: once a
// day is enough.
func (q Q) SweepHistory(ctx context.Context) error {
	for _, sweep := range []struct{ what, find, remove string }{
		{
			"logs", `SELECT r.id FROM runs r LEFT JOIN jobs j ON j.id = r.job_id WHERE r.id > $1 AND NOT r.log_removed
				AND r.ended_at < bell_now() - make_interval(days => coalesce(j.keep_log, 90))
				AND r.id < (SELECT month_end(least(90, min(keep_log))) FROM jobs) ORDER BY r.id LIMIT $2`,
			`WITH l AS (DELETE FROM run_log WHERE run_id = ANY($1) AND state = '') UPDATE runs SET log_removed = true
				WHERE id = ANY($1)`,
		},
		{
			"runs", `SELECT r.id FROM runs r LEFT JOIN jobs j ON j.id = r.job_id WHERE r.id > $1
				AND r.ended_at < bell_now() - make_interval(days => coalesce(j.keep_runs, 400))
				AND r.id < (SELECT month_end(least(400, min(keep_runs))) FROM jobs) ORDER BY r.id LIMIT $2`,
			`WITH a AS (DELETE FROM parts WHERE run_id = ANY($1)), b AS (DELETE FROM attempts WHERE run_id = ANY($1)),
				c AS (DELETE FROM artifacts WHERE run_id = ANY($1)),
				d AS (DELETE FROM run_log WHERE run_id = ANY($1)),
				r AS (DELETE FROM run_reports WHERE run_id = ANY($1)),
				h AS (DELETE FROM held_runs WHERE run_id = ANY($1)),
				n AS (DELETE FROM run_notes WHERE run_id = ANY($1)),
				p AS (DELETE FROM run_names WHERE run_id = ANY($1)),
				e AS (DELETE FROM deliveries WHERE run_id = ANY($1)), f AS (DELETE FROM messages WHERE run_id = ANY($1))
			DELETE FROM runs WHERE id = ANY($1)`,
		},
	} {
		for last := int64(0); ; {
			var ids []int64
			if err := sqlx.SelectContext(ctx, q.Ext, &ids, sweep.find, last, sweepBatch); err != nil {
				return db.Wrap(err, "find old "+sweep.what)
			}
			if len(ids) == 0 {
				break
			}
			last = ids[len(ids)-1]
			if _, err := q.Ext.ExecContext(ctx, sweep.remove, ids); err != nil {
				return db.Wrap(err, "remove old "+sweep.what)
			}
		}
	}
	return nil
}

var partition = regexp.MustCompile(`^(runs|rings)_([0-9]{4})$`)

// DropMonths drops the partitions of months in which nothing is kept any more:
// those without runs that are older than any job keeps its runs. A partition
// goes only when its lock is to be had at once; otherwise it goes another time.
func (s *Pool) DropMonths(ctx context.Context) error {
	var tables []string
	if err := sqlx.SelectContext(ctx, s.Ext, &tables, `SELECT relname FROM pg_class WHERE relkind = 'r'
		AND relispartition AND relname ~ '^(runs|rings)_[0-9]{4}$' ORDER BY relname`); err != nil {
		return db.Wrap(err, "list the months")
	}
	var days int
	var now time.Time
	if err := sqlx.GetContext(ctx, s.Ext, &now, `SELECT bell_now()`); err != nil {
		return db.Wrap(err, "ask for the time")
	}
	if err := sqlx.GetContext(ctx, s.Ext, &days,
		`SELECT greatest(400, coalesce(max(keep_runs), 400)) FROM jobs`); err != nil {
		return db.Wrap(err, "see how long runs are kept")
	}
	for _, table := range tables {
		m := partition.FindStringSubmatch(table)
		month, err := time.Parse("0601", m[2])
		if err != nil || month.AddDate(0, 1, days).After(now) {
			continue
		}
		if m[1] == "runs" {
			err = s.dropMonth(ctx, m[2])
		} else {
			err = s.dropTable(ctx, "rings", table)
		}
		if err != nil {
			return err
		}
	}
	return nil
}

// dropMonth drops all tables of history of a month, its runs last, so that a
// month whose runs are gone is gone.
func (s *Pool) dropMonth(ctx context.Context, month string) error {
	var open bool
	if err := sqlx.GetContext(ctx, s.Ext, &open,
		`SELECT EXISTS (SELECT 1 FROM runs_`+month+` WHERE state IN `+db.RunsOpen+`)`); err != nil || open {
		return db.Wrap(err, "see whether the month is at rest")
	}
	for _, table := range []string{"run_log", "attempts", "artifacts", "deliveries", "messages", "parts", "runs"} {
		if err := s.dropTable(ctx, table, table+"_"+month); err != nil {
			return err
		}
	}
	// What hangs on runs and has no months of its own.
	for _, table := range []string{"run_reports", "run_notes", "run_names", "held_runs", "alert_runs"} {
		if _, err := s.Ext.ExecContext(ctx, `DELETE FROM `+table+` WHERE run_id >= $1::bigint * 10000000000
			AND run_id < ($1::bigint + 1) * 10000000000`, month); err != nil {
			return db.Wrap(err, "remove what hangs on the runs of a month")
		}
	}
	return nil
}

// dropTable detaches and drops a partition, waiting only a moment for the lock
// that this takes on the whole table.
func (s *Pool) dropTable(ctx context.Context, parent, table string) error {
	return s.pool.Do(ctx, func(t db.Base) error {
		var there bool
		if err := sqlx.GetContext(ctx, t.Ext, &there, `SELECT to_regclass($1) IS NOT NULL`, table); err != nil ||
			!there {
			return db.Wrap(err, "find the partition")
		}
		for _, statement := range []string{
			`SET LOCAL lock_timeout = '200ms'`,
			fmt.Sprintf(`ALTER TABLE %s DETACH PARTITION %s`, parent, table), `DROP TABLE ` + table,
		} {
			if _, err := t.Ext.ExecContext(ctx, statement); err != nil {
				return db.Wrap(err, "drop the partition "+table)
			}
		}
		return nil
	})
}
