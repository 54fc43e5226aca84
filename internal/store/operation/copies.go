package operation

import (
	"context"

	"ironbell/internal/store/db"
)

// EndQueues ends all that waits or works: runs are passed over for a reason, their
// deliveries declined, alerts closed. It is for a copy that begins anew.
func (t *Tx) EndQueues(ctx context.Context, reason string) error {
	for _, statement := range []string{
		`UPDATE deliveries SET state = 'declined', answer = $1, advice = '', class = '', kept_back = '',
			lease_until = NULL, yes_until = NULL, settled_at = bell_clock() WHERE state IN ` + db.DeliveriesOpen,
		`UPDATE parts SET state = 'cancelled', reason = $1, lease_no = lease_no + 1, lease_until = NULL,
			ended_at = bell_clock() WHERE state IN ` + db.PartsOpen,
		`UPDATE runs SET state = 'passed over', reason = $1, ended_at = bell_clock() WHERE state IN ` + db.RunsOpen,
		`UPDATE alerts SET state = 'closed', closed_at = bell_clock(), tell_at = NULL, advice = $1
			WHERE state <> 'closed'`,
	} {
		if _, err := t.Ext.ExecContext(ctx, statement, reason); err != nil {
			return db.Wrap(err, "end what waited in the original's queues")
		}
	}
	for _, table := range []string{"held_runs", "gates", "rests"} {
		if _, err := t.Ext.ExecContext(ctx, `DELETE FROM `+table); err != nil {
			return db.Wrap(err, "end what waited in the original's queues")
		}
	}
	return nil
}
