package db

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"time"

	"github.com/jmoiron/sqlx"
)

// KeepRemoved is how long a record that was removed can be brought back.
const KeepRemoved = 30 * 24 * time.Hour

// A Table keeps the records of one kind that can be renamed, removed and brought back.
type Table struct {
	Kind string
	Name string // of the table
	Key  string // the column of the record's name
}

// Tables are the kinds, in an order in which each is removed before those that it speaks of.
var Tables = []Table{
	{"job", "jobs", "name"},
	{"report", "reports", "name"},
	{"group", "groups", "name"},
	{"post", "posts", "name"},
	{"destination", "destinations", "name"},
	{"calendar", "calendars", "name"},
	{"source", "sources", "name"},
	{"sender", "senders", "name"},
	{"subscription", "subscriptions", "name"},
	{"person", "people", "login"},
}

// TableOf finds the table of a kind.
func TableOf(kind string) (Table, bool) {
	for _, t := range Tables {
		if t.Kind == kind {
			return t, true
		}
	}
	return Table{}, false
}

// Removal says when a record was removed, and by whom.
type Removal struct {
	At time.Time `db:"removed_at"`
	By string    `db:"by_name"` // their name, or sign-in name when nobody knows it any more
}

// Until is when the record is gone for good.
func (r Removal) Until() time.Time { return r.At.Add(KeepRemoved) }

// removalOf tells whether the record of a name was removed; nil when there is none or it is
// there.
func (q Base) removalOf(ctx context.Context, kind, name string) (*Removal, error) {
	t, ok := TableOf(kind)
	if !ok {
		return nil, nil //nolint:nilnil // nothing is what is known
	}
	var r Removal
	err := sqlx.GetContext(ctx, q.Ext, &r, `SELECT t.removed_at, coalesce(p.name, t.removed_by) AS by_name
		FROM `+t.Name+` t LEFT JOIN people p ON lower(p.login) = lower(t.removed_by)
		WHERE t.id = record_id($1, $2) AND t.removed_at IS NOT NULL AND NOT t.gone`, kind, name)
	if errors.Is(err, sql.ErrNoRows) {
		return nil, nil //nolint:nilnil // it is there, or never was
	}
	return &r, Wrap(err, "see whether the "+kind+" was removed")
}

// Found turns an error into a *NotFound when there was no row; of a record that was removed
// it says so.
func (q Base) Found(ctx context.Context, err error, kind, name string) error {
	if !errors.Is(err, sql.ErrNoRows) {
		return Found(err, kind, name)
	}
	removal, err := q.removalOf(ctx, kind, name)
	if err != nil {
		return err
	}
	return &NotFound{Kind: kind, Name: name, Removed: removal}
}

// Called is the name under which a record is to be saved: the one that it has now when name is
// one that it had before. A name that a removed record can come back to is taken.
func (q Base) Called(ctx context.Context, kind, name string) (string, error) {
	t, ok := TableOf(kind)
	if !ok {
		return name, nil
	}
	removal, err := q.removalOf(ctx, kind, name)
	if err != nil {
		return "", err
	}
	if removal != nil {
		return "", &Taken{Kind: kind, Name: name, Removed: removal}
	}
	var now string
	err = sqlx.GetContext(ctx, q.Ext, &now, `SELECT `+t.Key+` FROM `+t.Name+` WHERE id = record_id($1, $2)`, kind, name)
	if errors.Is(err, sql.ErrNoRows) {
		return name, nil
	}
	return now, Wrap(err, "see what the "+kind+" is called")
}

func (r Removal) String() string {
	return fmt.Sprintf("it was removed by %s on %s and can be brought back until %s", r.By,
		r.At.UTC().Format("2 January 2006 at 15:04 UTC"), r.Until().UTC().Format("2 January 2006"))
}
