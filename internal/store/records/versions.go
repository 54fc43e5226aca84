package records

import (
	"context"
	"encoding/json"
	"strconv"

	"ironbell/internal/core/job"
	"ironbell/internal/store/db"

	"github.com/jmoiron/sqlx"
)

// Versioned is a kind of record whose versions are kept.
type Versioned string

// The kinds.
const (
	JobVersions    Versioned = "job"
	ReportVersions Versioned = "report"
)

// Versions lists the versions of a record, the newest first, at most 200.
func (q Q) Versions(ctx context.Context, kind Versioned, id int64) ([]job.Saved, error) {
	out := []job.Saved{}
	k := string(kind)
	// By the key (record, version): the newest versions of one record.
	err := sqlx.SelectContext(ctx, q.Ext, &out, `SELECT v.version, coalesce(p.name, '') AS author, v.saved_at
		FROM `+k+`_versions v LEFT JOIN people p ON p.id = v.author_id
		WHERE v.`+k+`_id = $1 ORDER BY v.version DESC LIMIT 200`, id)
	return out, db.Wrap(err, "list the versions")
}

// Version is what a record said in one version.
func (q Q) Version(ctx context.Context, kind Versioned, id int64, version int) (json.RawMessage, error) {
	var text json.RawMessage
	k := string(kind)
	err := sqlx.GetContext(ctx, q.Ext, &text, `SELECT definition FROM `+k+`_versions
		WHERE `+k+`_id = $1 AND version = $2`, id, version)
	return text, db.Found(err, "version", strconv.Itoa(version))
}
