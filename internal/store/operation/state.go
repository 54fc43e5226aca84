package operation

import (
	"context"
	"database/sql"
	"errors"
	"time"

	"ironbell/internal/core/job"
	"ironbell/internal/store/db"
	"ironbell/internal/store/queue"
	"ironbell/internal/store/records"

	"github.com/jmoiron/sqlx"
	"github.com/jmoiron/sqlx/types"
)

// Standing is what an operator must know of an installation, as the database has it.
type Standing struct {
	Frozen        *job.Freeze   // everything
	ClockLate     time.Duration // how long the earliest due time has stood undecided
	Unreached     int           // alerts of which nobody can be told
	Sources       []string      // that rest, at most 20
	SourcesN      int
	Destinations  []string // that rest, at most 20
	DestinationsN int
	StoreRests    bool // the store of artifacts
	Nodes         int  // that live
	Finishing     int  // of these, those that take no more work
	Schema        int64
}

// Standing tells how an installation stands.
func (q Q) Standing(ctx context.Context) (Standing, error) {
	var s Standing
	var late float64
	var sources, destinations types.JSONText
	row := q.Ext.QueryRowxContext(ctx, `SELECT
		coalesce((SELECT extract(epoch FROM bell_now() - min(next_due)) FROM triggers WHERE next_due <= bell_now()), 0),
		(SELECT count(*) FROM alerts WHERE unreached AND state <> 'closed'),
		(SELECT coalesce(json_agg(label), '[]') FROM (SELECT substr(label, 8) AS label FROM rests
		WHERE label LIKE 'source:%' ORDER BY label LIMIT 20) s),
		(SELECT count(*) FROM rests WHERE label LIKE 'source:%'),
		(SELECT coalesce(json_agg(name), '[]') FROM (SELECT name FROM destinations WHERE removed_at IS NULL AND rests_since IS NOT NULL
		ORDER BY name LIMIT 20) d), (SELECT count(*) FROM destinations WHERE removed_at IS NULL AND rests_since IS NOT NULL),
		EXISTS (SELECT 1 FROM rests WHERE label = $1), (SELECT count(*) FROM nodes
		WHERE seen_at > now() - make_interval(secs => $2::float8)),
		(SELECT count(*) FROM nodes WHERE finishing AND seen_at > now() - make_interval(secs => $2::float8)),
		(SELECT coalesce(max(version_id), 0) FROM goose_db_version WHERE is_applied)`, queue.StoreLabel, nodeGone)
	if err := row.Scan(&late, &s.Unreached, &sources, &s.SourcesN, &destinations, &s.DestinationsN, &s.StoreRests,
		&s.Nodes, &s.Finishing, &s.Schema); err != nil {
		return s, db.Wrap(err, "see how the installation stands")
	}
	s.ClockLate = job.Seconds(late)
	if err := errors.Join(sources.Unmarshal(&s.Sources), destinations.Unmarshal(&s.Destinations)); err != nil {
		return s, db.Wrap(err, "see what rests")
	}
	var f job.Freeze
	err := sqlx.GetContext(ctx, q.Ext, &f, `SELECT `+records.FreezeColumns+` WHERE label = 'service'
		AND from_at <= bell_now() AND coalesce(lifted_at, to_at, 'infinity') > bell_now()
		AND (to_at IS NULL OR to_at > bell_now()) ORDER BY id LIMIT 1`)
	switch {
	case err == nil:
		s.Frozen = &f
	case !errors.Is(err, sql.ErrNoRows):
		return s, db.Wrap(err, "see whether everything is frozen")
	}
	return s, nil
}
