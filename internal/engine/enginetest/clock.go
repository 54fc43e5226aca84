package enginetest

import (
	"sync/atomic"
	"time"
)

// Clock is a clock that tests turn.
type Clock struct{ at atomic.Int64 }

// Now is where it stands.
func (c *Clock) Now() time.Time { return time.Unix(0, c.at.Load()) }

// Set puts it to an instant.
func (c *Clock) Set(at time.Time) *Clock { c.at.Store(at.UnixNano()); return c }

// Turn turns it on.
func (c *Clock) Turn(d time.Duration) { c.at.Add(int64(d)) }

// ClockAt is a clock that stands at an instant until it is turned.
func ClockAt(at time.Time) *Clock { return (&Clock{}).Set(at) }

// London is an instant of 2026 by the winter clocks of London.
func London(month, day, hour, minute int) time.Time {
	return time.Date(2026, time.Month(month), day, hour, minute, 0, 0, time.UTC)
}

// Noon is a Monday in winter.
var Noon = London(11, 23, 12, 0)
