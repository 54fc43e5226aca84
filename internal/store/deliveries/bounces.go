package deliveries

import (
	"context"

	"ironbell/internal/core/job"
	"ironbell/internal/store/db"

	"github.com/jmoiron/sqlx"
)

// Bounce marks a locked delivery as bounced, and counts what came back from its
// address. It tells how often that did in the last 90 days.
func (t *Tx) Bounce(ctx context.Context, d job.Delivery, answer, advice string) (times int, err error) {
	if err := db.One(t.Ext.ExecContext(ctx, `UPDATE deliveries SET state = 'bounced', answer = $2, advice = $3,
		class = 'lasting', settled_at = bell_clock(), lease_until = NULL
		WHERE id = $1 AND state IN ('sent', 'offered', 'unknown')`, d.ID, db.Bounded(answer), advice)); err != nil {
		return 0, err
	}
	err = sqlx.GetContext(ctx, t.Ext, &times, `INSERT INTO bounced_addresses (address, last_word) VALUES (lower($1), $2)
		ON CONFLICT (address) DO UPDATE
		SET times = CASE WHEN bounced_addresses.last_at < bell_now() - interval '90 days' THEN 1 ELSE bounced_addresses.times + 1 END, last_at = bell_now(), last_word = excluded.last_word
		RETURNING times`, d.Address, db.Bounded(answer))
	return times, db.Wrap(err, "count what came back")
}

// BouncedTimes is from how many bounces on an address is marked.
const BouncedTimes = 3

// Marked lists those of some addresses that mail came back from again and again.
func (q Q) Marked(ctx context.Context, addresses []string) (map[string]int, error) {
	var rows []struct {
		Address string `db:"address"`
		Times   int    `db:"times"`
	}
	err := sqlx.SelectContext(ctx, q.Ext, &rows, `SELECT address, times FROM bounced_addresses WHERE times >= $2
		AND last_at > bell_now() - interval '90 days' AND address = ANY(SELECT lower(a)
		FROM unnest($1::text[]) a)`, addresses, BouncedTimes)
	out := map[string]int{}
	for _, r := range rows {
		out[r.Address] = r.Times
	}
	return out, db.Wrap(err, "see which addresses are marked")
}
