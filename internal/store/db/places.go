package db

import (
	"context"
)

// LockSetting keeps others from changing a setting until the transaction ends.
func (q Base) LockSetting(ctx context.Context, key string) error {
	_, err := q.Ext.ExecContext(ctx, `SELECT pg_advisory_xact_lock(hashtext('ironbell setting ' || $1))`, key)
	return Wrap(err, "lock the setting "+key)
}
