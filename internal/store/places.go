package store

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"time"

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
	columns := `id, name, ` + protocol + ` AS protocol, settings, secret, updated_at, ` + revisionOf(string(k), table+".name")
	if k == Source {
		columns += `, writes`
	} else {
		columns += `, pin, rests_since, rest_answer, rest_advice, probe_at, tested_at, test_answer`
	}
	return columns
}

// Place finds a source or destination by name.
func (q q) Place(ctx context.Context, kind PlaceKind, name string) (Place, error) {
	table, _ := kind.table()
	var p Place
	err := sqlx.GetContext(ctx, q.ext, &p, `SELECT `+kind.columns()+` FROM `+table+` WHERE name = $1`, name)
	return p, found(err, string(kind), name)
}

// PlaceByID finds a source or destination.
func (q q) PlaceByID(ctx context.Context, kind PlaceKind, id int64) (Place, error) {
	table, _ := kind.table()
	var p Place
	err := sqlx.GetContext(ctx, q.ext, &p, `SELECT `+kind.columns()+` FROM `+table+` WHERE id = $1`, id)
	return p, found(err, string(kind), "")
}

// Places lists the sources or destinations by name, at most 1,000.
func (q q) Places(ctx context.Context, kind PlaceKind) ([]Place, error) {
	table, _ := kind.table()
	places := []Place{}
	err := sqlx.SelectContext(ctx, q.ext, &places, `SELECT `+kind.columns()+` FROM `+table+` ORDER BY name LIMIT 1000`)
	return places, wrap(err, "list the "+table)
}

// PutPlace adds or changes a source or destination by name. A nil secret keeps
// the one that is there. A host key that was pinned belongs to its server: another
// server shows its own at its first test. What was changed has yet to be tested.
func (q q) PutPlace(ctx context.Context, kind PlaceKind, p Place) (int64, error) {
	table, protocol := kind.table()
	untested := ""
	if kind == Destination {
		untested = `, tested_at = NULL, test_answer = '', pin = CASE WHEN (destinations.protocol, destinations.settings->'host', destinations.settings->'port') IS DISTINCT FROM (excluded.protocol, excluded.settings->'host', excluded.settings->'port')
			THEN '' ELSE destinations.pin END`
	}
	var id int64
	err := sqlx.GetContext(ctx, q.ext, &id, `INSERT INTO `+table+` (name, `+protocol+`, settings, secret) VALUES ($1, $2, $3, coalesce($4, ''::bytea))
		ON CONFLICT (name) DO UPDATE SET `+protocol+` = excluded.`+protocol+`, settings = excluded.settings,
			secret = coalesce($4, `+table+`.secret), updated_at = bell_now()`+untested+`
		RETURNING id`, p.Name, p.Protocol, []byte(p.Settings), p.Secret)
	return id, unique(err, string(kind), p.Name)
}

// SourceWrites keeps what a source's own login can write.
func (q q) SourceWrites(ctx context.Context, id int64, writes string) error {
	_, err := q.ext.ExecContext(ctx, `UPDATE sources SET writes = $2 WHERE id = $1`, id, writes)
	return wrap(err, "keep what the login can write")
}

// RemoveDestination removes a destination that nothing ever went to.
func (t *Tx) RemoveDestination(ctx context.Context, id int64) error {
	return one(t.ext.ExecContext(ctx, `DELETE FROM destinations WHERE id = $1`, id))
}

// DestinationKept tells why a destination cannot be removed: the jobs that name it,
// at most 100, and whether the record of deliveries does.
func (q q) DestinationKept(ctx context.Context, id int64) (jobs []string, recorded bool, err error) {
	if err := sqlx.SelectContext(ctx, q.ext, &jobs, `SELECT j.name FROM jobs j JOIN job_uses u ON u.job_id = j.id WHERE u.kind = 'destination' AND u.id = $1 ORDER BY j.name LIMIT 100`, id); err != nil {
		return nil, false, wrap(err, "find the jobs that send to the destination")
	}
	err = sqlx.GetContext(ctx, q.ext, &recorded, `SELECT EXISTS (SELECT 1 FROM deliveries WHERE destination_id = $1)`, id)
	return jobs, recorded, wrap(err, "find what went to the destination")
}

// Setting reads a setting into to and tells whether it is there.
func (q q) Setting(ctx context.Context, key string, to any) (bool, error) {
	var text []byte
	err := sqlx.GetContext(ctx, q.ext, &text, `SELECT value FROM settings WHERE key = $1`, key)
	if errors.Is(err, sql.ErrNoRows) {
		return false, nil
	}
	if err != nil {
		return false, wrap(err, "read the setting "+key)
	}
	return true, wrap(json.Unmarshal(text, to), "read the setting "+key)
}

// PutSetting writes a setting.
func (q q) PutSetting(ctx context.Context, key string, value any) error {
	_, err := q.ext.ExecContext(ctx, `INSERT INTO settings (key, value) VALUES ($1, $2) ON CONFLICT (key) DO UPDATE SET value = excluded.value`,
		key, document[any]{value})
	if err != nil || key != MailSetting {
		return wrap(err, "write the setting "+key)
	}
	return q.moveGate(ctx)
}

// LockSetting keeps others from changing a setting until the transaction ends.
func (q q) LockSetting(ctx context.Context, key string) error {
	_, err := q.ext.ExecContext(ctx, `SELECT pg_advisory_xact_lock(hashtext('ironbell setting ' || $1))`, key)
	return wrap(err, "lock the setting "+key)
}

// DatabaseID is what tells this database from a copy of it in another server, or
// beside it in the same one.
func (q q) DatabaseID(ctx context.Context) (string, error) {
	var id string
	err := sqlx.GetContext(ctx, q.ext, &id, `SELECT (SELECT system_identifier FROM pg_control_system())::text || ':' || (SELECT oid FROM pg_database WHERE datname = current_database())::text`)
	return id, wrap(err, "ask the database who it is")
}
