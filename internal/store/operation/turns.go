package operation

import (
	"context"
	"database/sql"
	"errors"
	"time"

	"ironbell/internal/store/db"

	"github.com/jmoiron/sqlx"
)

// TakeTurn takes the turn of something that one node at a time does every so
// often; ok is false when it is not due.
func (q Q) TakeTurn(ctx context.Context, name string, every time.Duration) (ok bool, err error) {
	var taken bool
	err = sqlx.GetContext(ctx, q.Ext, &taken, `INSERT INTO turns (name, due, taken_at)
		VALUES ($1, bell_now() + make_interval(secs => $2), bell_now())
		ON CONFLICT (name) DO UPDATE SET due = excluded.due, taken_at = excluded.taken_at WHERE turns.due <= bell_now()
		RETURNING true`, name, every.Seconds())
	if errors.Is(err, sql.ErrNoRows) {
		return false, nil
	}
	return taken, db.Wrap(err, "take a turn")
}

// Turn is when something was done last, and how that went.
type Turn struct {
	TakenAt *time.Time `db:"taken_at"`
	Word    string     `db:"word"`
}

// LastTurn tells when something was done last; never, when it is nil.
func (q Q) LastTurn(ctx context.Context, name string) (Turn, error) {
	var t Turn
	err := sqlx.GetContext(ctx, q.Ext, &t, `SELECT taken_at, word FROM turns WHERE name = $1`, name)
	if errors.Is(err, sql.ErrNoRows) {
		return Turn{}, nil // the library has made an instant where there is none
	}
	return t, db.Wrap(err, "read a turn")
}

// NoteTurn records how a turn went.
func (q Q) NoteTurn(ctx context.Context, name, word string) error {
	_, err := q.Ext.ExecContext(ctx, `UPDATE turns SET word = $2 WHERE name = $1`, name, db.Bounded(word))
	return db.Wrap(err, "record how a turn went")
}
