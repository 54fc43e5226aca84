package operation

import (
	"context"
	"time"

	"ironbell/internal/core/job"
	"ironbell/internal/store/db"

	"github.com/jmoiron/sqlx"
)

// Node is one node of the service, as it says itself.
type Node struct {
	Name       string    `db:"name"`
	Version    string    `db:"version"`
	Zones      string    `db:"zones"` // version of its zone data
	StartedAt  time.Time `db:"started_at"`
	SeenAt     time.Time `db:"seen_at"`
	Ago        float64   `db:"ago"`        // seconds since then, by the database's clock
	Finishing  bool      `db:"finishing"`  // it takes no more work
	Parts      int       `db:"parts"`      // that it works on
	Deliveries int       `db:"deliveries"` // that it hands over
	Workers    int       `db:"workers"`    // parts that it works at once; 0 when it does not say
}

// A node that says nothing for this long is taken for gone, in seconds.
const nodeGone = 60

// SeeNode records that a node lives and what it does. It tells whether somebody
// asked it to finish. Nodes that are gone for a day are forgotten.
func (q Q) SeeNode(ctx context.Context, n Node) (finishing bool, err error) {
	err = sqlx.GetContext(ctx, q.Ext, &finishing, `WITH old AS (DELETE FROM nodes
		WHERE seen_at < now() - interval '1 day')
		INSERT INTO nodes (name, version, zones, parts, deliveries, workers) VALUES ($1, $2, $3, $4, $5, $6)
		ON CONFLICT (name) DO UPDATE SET version = excluded.version, zones = excluded.zones, parts = excluded.parts,
		deliveries = excluded.deliveries, workers = excluded.workers, seen_at = now()
		RETURNING finishing`, n.Name, n.Version, n.Zones, n.Parts, n.Deliveries, n.Workers)
	return finishing, db.Wrap(err, "say that the node lives")
}

// ForgetNode records that a node has stopped in order.
func (q Q) ForgetNode(ctx context.Context, name string) error {
	_, err := q.Ext.ExecContext(ctx, `DELETE FROM nodes WHERE name = $1`, name)
	return db.Wrap(err, "say that the node stops")
}

// Nodes lists the nodes that live, by name, at most 1,000.
func (q Q) Nodes(ctx context.Context) ([]Node, error) {
	nodes := []Node{}
	err := sqlx.SelectContext(ctx, q.Ext, &nodes, `SELECT name, version, zones, started_at, seen_at,
		extract(epoch FROM now() - seen_at) AS ago, finishing, parts, deliveries, workers
		FROM nodes WHERE seen_at > now() - make_interval(secs => $1) ORDER BY name LIMIT 1000`, nodeGone)
	return nodes, db.Wrap(err, "list the nodes")
}

// FinishNode asks a node to finish what it has and to take no more, or to work on.
func (t *Tx) FinishNode(ctx context.Context, name string, finish bool) error {
	res, err := t.Ext.ExecContext(ctx, `UPDATE nodes SET finishing = $2 WHERE name = $1`, name, finish)
	if err != nil {
		return db.Wrap(err, "ask the node")
	}
	if n, err := res.RowsAffected(); err != nil || n == 0 {
		return &db.NotFound{Kind: "node", Name: name}
	}
	return t.Tell(ctx, db.Notice{Kind: job.NoticeNodes})
}

// NewerZones tells whether a node lives whose zone data is newer than some.
func (q Q) NewerZones(ctx context.Context, zones string) (newer bool, err error) {
	err = sqlx.GetContext(ctx, q.Ext, &newer, `SELECT EXISTS (SELECT 1 FROM nodes WHERE zones > $1
		AND seen_at > now() - make_interval(secs => $2))`, zones, nodeGone)
	return newer, db.Wrap(err, "see by which zone data others work")
}

// OtherZonesAlive tells whether a node lives, or did in the last hours, whose zone
// data is other than some.
func (q Q) OtherZonesAlive(ctx context.Context, zones string) (other bool, err error) {
	err = sqlx.GetContext(ctx, q.Ext, &other, `SELECT EXISTS (SELECT 1 FROM nodes WHERE zones <> $1
		AND seen_at > now() - interval '3 hours')`, zones)
	return other, db.Wrap(err, "see by which zone data others work")
}
