package store

import (
	"context"
	"database/sql"
	"errors"
	"time"

	"ironbell/internal/core/job"

	"github.com/jmoiron/sqlx"
)

// TakeTurn takes the turn of something that one node at a time does every so
// often; ok is false when it is not due.
func (q q) TakeTurn(ctx context.Context, name string, every time.Duration) (ok bool, err error) {
	var taken bool
	err = sqlx.GetContext(ctx, q.ext, &taken, `INSERT INTO turns (name, due, taken_at) VALUES ($1, bell_now() + make_interval(secs => $2), bell_now())
		ON CONFLICT (name) DO UPDATE SET due = excluded.due, taken_at = excluded.taken_at WHERE turns.due <= bell_now() RETURNING true`, name, every.Seconds())
	if errors.Is(err, sql.ErrNoRows) {
		return false, nil
	}
	return taken, wrap(err, "take a turn")
}

// Turn is when something was done last, and how that went.
type Turn struct {
	TakenAt *time.Time `db:"taken_at"`
	Word    string     `db:"word"`
}

// LastTurn tells when something was done last; never, when it is nil.
func (q q) LastTurn(ctx context.Context, name string) (Turn, error) {
	var t Turn
	err := sqlx.GetContext(ctx, q.ext, &t, `SELECT taken_at, word FROM turns WHERE name = $1`, name)
	if errors.Is(err, sql.ErrNoRows) {
		return Turn{}, nil // the library has made an instant where there is none
	}
	return t, wrap(err, "read a turn")
}

// NoteTurn records how a turn went.
func (q q) NoteTurn(ctx context.Context, name, word string) error {
	_, err := q.ext.ExecContext(ctx, `UPDATE turns SET word = $2 WHERE name = $1`, name, bounded(word))
	return wrap(err, "record how a turn went")
}

// Bounce marks a locked delivery as bounced, and counts what came back from its
// address. It tells how often that did in the last 90 days.
func (t *Tx) Bounce(ctx context.Context, d job.Delivery, answer, advice string) (times int, err error) {
	if err := one(t.ext.ExecContext(ctx, `UPDATE deliveries SET state = 'bounced', answer = $2, advice = $3, class = 'lasting', settled_at = bell_clock(), lease_until = NULL
		WHERE id = $1 AND state IN ('sent', 'offered', 'unknown')`, d.ID, bounded(answer), advice)); err != nil {
		return 0, err
	}
	err = sqlx.GetContext(ctx, t.ext, &times, `INSERT INTO bounced_addresses (address, last_word) VALUES (lower($1), $2)
		ON CONFLICT (address) DO UPDATE SET times = CASE WHEN bounced_addresses.last_at < bell_now() - interval '90 days' THEN 1 ELSE bounced_addresses.times + 1 END, last_at = bell_now(), last_word = excluded.last_word
		RETURNING times`, d.Address, bounded(answer))
	return times, wrap(err, "count what came back")
}

// BouncedTimes is from how many bounces on an address is marked.
const BouncedTimes = 3

// Marked lists those of some addresses that mail came back from again and again.
func (q q) Marked(ctx context.Context, addresses []string) (map[string]int, error) {
	var rows []struct {
		Address string `db:"address"`
		Times   int    `db:"times"`
	}
	err := sqlx.SelectContext(ctx, q.ext, &rows, `SELECT address, times FROM bounced_addresses WHERE times >= $2 AND last_at > bell_now() - interval '90 days' AND address = ANY(SELECT lower(a) FROM unnest($1::text[]) a)`, addresses, BouncedTimes)
	out := map[string]int{}
	for _, r := range rows {
		out[r.Address] = r.Times
	}
	return out, wrap(err, "see which addresses are marked")
}
