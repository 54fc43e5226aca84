package db

import (
	"context"
	"fmt"
	"time"
)

// TurnClock puts the clock of the records ahead of the server's by so much, or sets it right again with 0, and
// makes the months that then begin. Tests and the demo of another day turn it; leases go by the server's own
// clock all the same. A node whose clock is not turned alike decides nothing.
func (s *Pool) TurnClock(ctx context.Context, by time.Duration) error {
	ahead := ""
	if by != 0 {
		ahead = fmt.Sprintf(` + interval '%d microseconds'`, by.Microseconds())
	}
	for name, body := range map[string]string{
		"bell_now() RETURNS timestamptz LANGUAGE sql STABLE":     "SELECT now()" + ahead,
		"bell_clock() RETURNS timestamptz LANGUAGE sql VOLATILE": "SELECT clock_timestamp()" + ahead,
	} {
		if _, err := s.Ext.ExecContext(ctx, "CREATE OR REPLACE FUNCTION "+name+" PARALLEL SAFE AS $$"+body+"$$"); err != nil {
			return Wrap(err, "turn the clock of the records")
		}
	}
	return s.EnsureMonths(ctx)
}
