package db

import (
	"context"
	"fmt"
	"time"
)

// Alone waits until nobody else, on any node, is alone with a name at a destination,
// and is so until release is called, or for most at longest: a node that hangs
// holds nobody up for good. It holds a connection.
func (s *Pool) Alone(ctx context.Context, destination int64, name string,
	most time.Duration,
) (release func(), err error) {
	for pause := 5 * time.Millisecond; ; pause = min(2*pause, 50*time.Millisecond) {
		// Asking again, and not waiting in the database: who waits holds nothing.
		if release, err = s.tryAlone(ctx, destination, name, most); release != nil || err != nil {
			return release, Wrap(err, "wait to be alone with the name")
		}
		select {
		case <-ctx.Done():
			return nil, Wrap(ctx.Err(), "wait to be alone with the name")
		case <-time.After(pause):
		}
	}
}

// tryAlone gives no release while somebody else is alone.
func (s *Pool) tryAlone(ctx context.Context, destination int64, name string,
	most time.Duration,
) (release func(), err error) {
	select {
	case s.alone <- struct{}{}:
	default:
		return nil, nil
	}
	tx, err := s.pool.Begin(ctx)
	if err != nil {
		<-s.alone
		return nil, err
	}
	release = func() {
		ending, stop := context.WithTimeout(context.WithoutCancel(ctx), 5*time.Second)
		defer stop()
		_ = tx.Rollback(ending) // nothing was written; a line that is broken is no longer alone either
		<-s.alone
	}
	var got bool
	if err := tx.QueryRow(ctx,
		`SELECT pg_try_advisory_xact_lock(hashtextextended('ironbell alone ' || $1::bigint || ' ' || $2, 0))
		FROM (SELECT set_config('idle_in_transaction_session_timeout', $3,
		true)) s`, destination, name, fmt.Sprint(most.Milliseconds())).Scan(&got); err != nil || !got {
		release()
		return nil, err
	}
	return release, nil
}
