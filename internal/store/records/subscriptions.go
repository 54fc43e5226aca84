package records

import (
	"context"

	"ironbell/internal/core/job"
	"ironbell/internal/store/db"

	"github.com/jmoiron/sqlx"
)

type subscriptionRow struct {
	job.Subscription
	Definition db.Document[job.SubscriptionDefinition] `db:"definition"`
}

func (r subscriptionRow) subscription() job.Subscription {
	s := r.Subscription
	s.SubscriptionDefinition = r.Definition.V
	return s
}

// subscriptionColumns count by an index of each subscription's deliveries.
var subscriptionColumns = `s.id, s.name, s.definition, s.updated_at, s.mark,
	coalesce(nullif(s.stands, ''), (SELECT 'the destination "' || p.name || '" does not work now; what waits follows when it does'
		FROM destinations p WHERE p.id = record_id('destination', s.definition->>'destination')
		AND p.rests_since IS NOT NULL), '') AS stands,
	(SELECT count(*) FROM (SELECT 1 FROM published WHERE no > s.mark LIMIT 10000) b) AS behind, d.open, d.sent, d.failed,
	(SELECT settled_at FROM deliveries WHERE subscription_id = s.id AND state = 'sent'
		AND settled_at IS NOT NULL ORDER BY settled_at DESC LIMIT 1) AS last_at, ` +
	db.RevisionOf("subscription", "s.name") + ` FROM subscriptions s LEFT JOIN LATERAL (SELECT
		(SELECT count(*) FROM deliveries WHERE subscription_id = s.id AND state IN ` + db.DeliveriesOpen + `) AS open,
		count(*) FILTER (WHERE state = 'sent') AS sent, count(*) FILTER (WHERE state = 'failed') AS failed
		FROM deliveries WHERE subscription_id = s.id AND settled_at > bell_now() - interval '24 hours') d ON true`

// Subscription finds a subscription by name.
func (q Q) Subscription(ctx context.Context, name string) (job.Subscription, error) {
	var r subscriptionRow
	err := sqlx.GetContext(ctx, q.Ext, &r, `SELECT `+subscriptionColumns+` WHERE s.id = record_id('subscription', $1)
		AND s.removed_at IS NULL`, name)
	if err != nil {
		return job.Subscription{}, q.Found(ctx, err, "subscription", name)
	}
	return r.subscription(), nil
}

// Subscriptions lists the subscriptions by name, at most 1,000.
func (q Q) Subscriptions(ctx context.Context) ([]job.Subscription, error) {
	var rows []subscriptionRow
	if err := sqlx.SelectContext(ctx, q.Ext, &rows, `SELECT `+subscriptionColumns+` WHERE s.removed_at IS NULL
		ORDER BY s.name LIMIT 1000`); err != nil {
		return nil, db.Wrap(err, "list the subscriptions")
	}
	out := make([]job.Subscription, len(rows))
	for i, r := range rows {
		out[i] = r.subscription()
	}
	return out, nil
}

// SubscribedTo lists the names of the subscriptions whose events go to a destination.
func (q Q) SubscribedTo(ctx context.Context, destination int64) ([]string, error) {
	names := []string{}
	err := sqlx.SelectContext(ctx, q.Ext, &names, `SELECT name FROM subscriptions WHERE removed_at IS NULL
		AND record_id('destination', definition->>'destination') = $1 ORDER BY name LIMIT 1000`, destination)
	return names, db.Wrap(err, "find the subscriptions of the destination")
}

// PutSubscription adds or changes a subscription by name. A new one begins with what is published from now on.
func (q Q) PutSubscription(ctx context.Context, name string, d job.SubscriptionDefinition) (int64, error) {
	name, err := q.Called(ctx, "subscription", name)
	if err != nil {
		return 0, err
	}
	var id int64
	err = sqlx.GetContext(ctx, q.Ext, &id, `INSERT INTO subscriptions (name, definition, mark)
		VALUES ($1, $2, coalesce((SELECT max(no) FROM published), 0))
		ON CONFLICT (name) DO UPDATE SET definition = excluded.definition, updated_at = bell_now()
		RETURNING id`, name, db.Document[job.SubscriptionDefinition]{V: d})
	if err != nil {
		return 0, db.Unique(err, "subscription", name)
	}
	return id, q.Tell(ctx, db.Notice{Kind: job.NoticePublished})
}

// SubscriptionByID gives the name of a subscription, also of one that was removed.
func (q Q) SubscriptionByID(ctx context.Context, id int64) (name string, err error) {
	err = sqlx.GetContext(ctx, q.Ext, &name, `SELECT name FROM subscriptions WHERE id = $1`, id)
	return name, db.Found(err, "subscription", "")
}
