package store

import "context"

// InstallationSetting is the setting that tells an installation from a copy of it.
const InstallationSetting = "installation"

// EndQueues ends all that waits or works: runs are passed over for a reason, their
// deliveries declined, alerts closed. It is for a copy that begins anew.
func (t *Tx) EndQueues(ctx context.Context, reason string) error {
	for _, statement := range []string{
		`UPDATE deliveries SET state = 'declined', answer = $1, advice = '', class = '', kept_back = '', lease_until = NULL, yes_until = NULL, settled_at = bell_clock() WHERE state IN ` + deliveriesOpen,
		`UPDATE parts SET state = 'cancelled', reason = $1, lease_no = lease_no + 1, lease_until = NULL, ended_at = bell_clock() WHERE state IN ` + partsOpen,
		`UPDATE runs SET state = 'passed over', reason = $1, ended_at = bell_clock() WHERE state IN ` + runsOpen,
		`UPDATE alerts SET state = 'closed', closed_at = bell_clock(), tell_at = NULL, advice = $1 WHERE state <> 'closed'`,
	} {
		if _, err := t.ext.ExecContext(ctx, statement, reason); err != nil {
			return wrap(err, "end what waited in the original's queues")
		}
	}
	for _, table := range []string{"held_runs", "gates", "rests"} {
		if _, err := t.ext.ExecContext(ctx, `DELETE FROM `+table); err != nil {
			return wrap(err, "end what waited in the original's queues")
		}
	}
	return nil
}

// MoveGate makes all offers stale that were let through before.
func (t *Tx) MoveGate(ctx context.Context) error { return t.moveGate(ctx) }
