package db

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/jmoiron/sqlx"
)

// Every record that people edit has a revision, which rises with each change of it
// that is on record. Whoever saves says from which one they began (RFC 9110 section
// 13.1.1); when somebody else saved meanwhile, nothing is changed.

// Precondition is what must hold of a record that is about to be changed.
type Precondition struct {
	// of the record: job, report, calendar, source, destination, person, group, post, identity, setting
	Kind      string
	Revisions []int64 // one of which it must have; any when empty
	There     bool    // it must exist
	Absent    bool    // it must not
}

type preconditionKey struct{}

// Expecting gives a context in which a change of a record of the kind is made only
// when the precondition holds; otherwise it fails with a *Stale.
func Expecting(ctx context.Context, p Precondition) context.Context {
	return context.WithValue(ctx, preconditionKey{}, p)
}

// Stale says that a record is not what somebody began from; nothing was changed.
type Stale struct {
	Kind, Name string
	Yours      []int64 // the revisions that were expected
	Now        int64   // the revision that it has
	By         string  // who changed it last; empty when nobody knows
	At         time.Time
	Absent     bool // it was to be new, and is there already
}

func (e *Stale) Error() string {
	if e.Absent {
		return fmt.Sprintf("there is a %s %q already, and it was to be a new one; nothing was changed", e.Kind, e.Name)
	}
	text := fmt.Sprintf("%s %q was changed meanwhile", e.Kind, e.Name)
	if e.By != "" {
		text += fmt.Sprintf(" by %s at %s", e.By, e.At.UTC().Format("15:04:05 MST on Mon 2 January"))
	}
	yours := make([]string, len(e.Yours))
	for i, y := range e.Yours {
		yours[i] = fmt.Sprint(y)
	}
	return fmt.Sprintf("%s: it is at revision %d, and yours began from revision %s. Nothing was changed; look at it "+
		"again, then save what you want to keep", text, e.Now, strings.Join(yours, ", "))
}

// revised are the kinds of records that have a revision, with the kind that they
// count for, and the actions that change them.
var revised = map[string]string{
	"job": "job", "report": "report", "calendar": "calendar", "source": "source", "destination": "destination", "sender": "sender",
	"subscription": "subscription",
	"person":       "person", "wishes": "person",
	"group": "group", "post": "post", "identity": "identity", "setting": "setting",
}

var changes = []string{"save", "switch", "remove", "rename", "return"}

// folds tells whether names of a kind are the same in any case of their letters.
func folds(kind string) bool { return kind == "person" || kind == "group" || kind == "post" }

// RevisionKey is the name by which the revision of a record is kept.
func RevisionKey(kind, name string) string {
	if folds(kind) {
		return strings.ToLower(name)
	}
	return name
}

// Revision is the revision of a record; 0 for one that was not changed since
// revisions are counted.
func (q Base) Revision(ctx context.Context, kind, name string) (int64, error) {
	var n int64
	err := sqlx.GetContext(ctx, q.Ext, &n, `SELECT coalesce((SELECT version FROM record_versions WHERE kind = $1
		AND name = $2), 0)`, kind, RevisionKey(kind, name))
	return n, Wrap(err, "read the revision")
}

// Revise counts a change of a record and holds it against what its author expects.
// had tells whether the record was there before.
func (q Base) Revise(ctx context.Context, who, action, kind, name string, had bool) error {
	kind, ok := revised[kind]
	if !ok || !slices.Contains(changes, action) {
		return nil
	}
	key := RevisionKey(kind, name)
	var was struct {
		Version int64      `db:"version"`
		By      string     `db:"changed_by"`
		At      *time.Time `db:"changed_at"`
	}
	// The row is locked by the change of its count: of two saves at once the later sees the earlier.
	err := sqlx.GetContext(ctx, q.Ext, &was.Version, `INSERT INTO record_versions AS r (kind, name, version, changed_by)
		VALUES ($1, $2, 1, $3)
		ON CONFLICT (kind, name) DO UPDATE SET version = r.version + 1 RETURNING version - 1`, kind, key, who)
	if err != nil {
		return Wrap(err, "count the change")
	}
	p, expects := ctx.Value(preconditionKey{}).(Precondition)
	if expects && p.Kind == kind {
		there := had || was.Version > 0
		if p.Absent && there || p.There && !had || len(p.Revisions) > 0 && !slices.Contains(p.Revisions, was.Version) {
			if err := sqlx.GetContext(ctx, q.Ext, &was, `SELECT r.version, coalesce(p.name, r.changed_by) AS changed_by,
				r.changed_at FROM record_versions r LEFT JOIN people p ON lower(p.login) = lower(r.changed_by)
				WHERE r.kind = $1 AND r.name = $2`, kind, key); err != nil {
				return Wrap(err, "see who changed the record")
			}
			stale := &Stale{Kind: kind, Name: name, Yours: p.Revisions, Now: was.Version - 1, Absent: p.Absent}
			if was.Version > 1 {
				stale.By, stale.At = was.By, *was.At
			}
			return stale
		}
	}
	_, err = q.Ext.ExecContext(ctx, `UPDATE record_versions SET changed_by = $3, changed_at = bell_now() WHERE kind = $1
		AND name = $2`, kind, key, who)
	return Wrap(err, "note who changed the record")
}

// RevisionOf is the revision of the record at hand as a column.
func RevisionOf(kind, name string) string {
	if folds(kind) {
		name = "lower(" + name + ")"
	}
	return `coalesce((SELECT v.version FROM record_versions v WHERE v.kind = '` + kind + `' AND v.name = ` + name +
		`), 0) AS revision`
}
