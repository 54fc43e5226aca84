package records

import (
	"context"
	"encoding/json"
	"time"

	"ironbell/internal/store/db"

	"github.com/jmoiron/sqlx"
)

// Place is a source or a destination: where data comes from or goes to. Secret
// is sealed; only package secret opens it.
type Place struct {
	ID        int64           `db:"id"`
	Name      string          `db:"name"`
	Protocol  string          `db:"protocol"`
	Settings  json.RawMessage `db:"settings"`
	Secret    []byte          `db:"secret"`
	UpdatedAt time.Time       `db:"updated_at"`
	Revision  int64           `db:"revision"`

	// Of sources only: what the login can write, in words; empty when it only reads.
	Writes string `db:"writes"`

	// Of destinations only.
	Pin        string     `db:"pin"`
	RestsSince *time.Time `db:"rests_since"`
	RestAnswer string     `db:"rest_answer"`
	RestAdvice string     `db:"rest_advice"`
	ProbeAt    *time.Time `db:"probe_at"`
	TestedAt   *time.Time `db:"tested_at"`   // since it was saved
	TestAnswer string     `db:"test_answer"` // when the test failed
}

// PlaceKind is one of the two kinds of place.
type PlaceKind string

// The kinds.
const (
	Source      PlaceKind = "source"
	Destination PlaceKind = "destination"
)

// table gives the kind's table and the column of its protocol.
func (k PlaceKind) table() (table, protocol string) {
	if k == Source {
		return "sources", "driver"
	}
	return "destinations", "protocol"
}

// columns are what is read of the kind.
func (k PlaceKind) columns() string {
	table, protocol := k.table()
	columns := `id, name, ` + protocol + ` AS protocol, settings, secret, updated_at, ` +
		db.RevisionOf(string(k), table+".name")
	if k == Source {
		columns += `, writes`
	} else {
		columns += `, pin, rests_since, rest_answer, rest_advice, probe_at, tested_at, test_answer`
	}
	return columns
}

// Place finds a source or destination by name.
func (q Q) Place(ctx context.Context, kind PlaceKind, name string) (Place, error) {
	table, _ := kind.table()
	var p Place
	err := sqlx.GetContext(ctx, q.Ext, &p, `SELECT `+kind.columns()+` FROM `+table+` WHERE id = record_id($1, $2)
		AND removed_at IS NULL`, string(kind), name)
	return p, q.Found(ctx, err, string(kind), name)
}

// PlaceByID finds a source or destination, also one that was removed.
func (q Q) PlaceByID(ctx context.Context, kind PlaceKind, id int64) (Place, error) {
	table, _ := kind.table()
	var p Place
	err := sqlx.GetContext(ctx, q.Ext, &p, `SELECT `+kind.columns()+` FROM `+table+` WHERE id = $1`, id)
	return p, db.Found(err, string(kind), "")
}

// Places lists the sources or destinations by name, at most 1,000.
func (q Q) Places(ctx context.Context, kind PlaceKind) ([]Place, error) {
	table, _ := kind.table()
	places := []Place{}
	err := sqlx.SelectContext(ctx, q.Ext, &places, `SELECT `+kind.columns()+` FROM `+table+` WHERE removed_at IS NULL
		ORDER BY name LIMIT 1000`)
	return places, db.Wrap(err, "list the "+table)
}

// PutPlace adds or changes a source or destination by name. A nil secret keeps
// the one that is there. A host key that was pinned belongs to its server: another
// server shows its own at its first test. What was changed has yet to be tested.
func (q Q) PutPlace(ctx context.Context, kind PlaceKind, p Place) (int64, error) {
	table, protocol := kind.table()
	untested := ""
	if kind == Destination {
		untested = `, tested_at = NULL, test_answer = '', pin = CASE WHEN (destinations.protocol,
			destinations.settings->'host', destinations.settings->'port') IS DISTINCT
			FROM (excluded.protocol, excluded.settings->'host', excluded.settings->'port')
			THEN '' ELSE destinations.pin END`
	}
	name, err := q.Called(ctx, string(kind), p.Name)
	if err != nil {
		return 0, err
	}
	var id int64
	err = sqlx.GetContext(ctx, q.Ext, &id, `INSERT INTO `+table+` (name, `+protocol+`, settings, secret)
		VALUES ($1, $2, $3, coalesce($4, ''::bytea))
		ON CONFLICT (name) DO UPDATE SET `+protocol+` = excluded.`+protocol+`, settings = excluded.settings,
			secret = coalesce($4, `+table+`.secret), updated_at = bell_now()`+untested+`
		RETURNING id`, name, p.Protocol, []byte(p.Settings), p.Secret)
	return id, db.Unique(err, string(kind), p.Name)
}

// SourceWrites keeps what a source's own login can write.
func (q Q) SourceWrites(ctx context.Context, id int64, writes string) error {
	_, err := q.Ext.ExecContext(ctx, `UPDATE sources SET writes = $2 WHERE id = $1`, id, writes)
	return db.Wrap(err, "keep what the login can write")
}
