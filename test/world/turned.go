package world

import (
	"context"
	"sync/atomic"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/require"
)

// Turned is one clock for service and database, which stands until it is turned on.
// Leases alone go by real time.
type Turned struct {
	T    *testing.T
	Conn *pgx.Conn
	by   atomic.Int64 // microseconds that it is ahead of the real one
}

// Now is where it stands.
func (c *Turned) Now() time.Time {
	return time.Now().Add(time.Duration(c.by.Load()) * time.Microsecond)
}

// To turns the clock to an instant.
func (c *Turned) To(at time.Time) {
	c.T.Helper()
	by := time.Until(at).Microseconds()
	_, err := c.Conn.Exec(context.Background(), `UPDATE turned SET by = $1 * interval '1 microsecond'`, by)
	require.NoError(c.T, err)
	c.by.Store(by)
}
