// Package wallclock is the clock of a whole process. It is the machine's own, unless whoever started the
// process put it ahead or back: the tests do, so that what they look at happens on a day of their choosing.
//
// Nothing in production turns it. A service whose clock is turned, while its database's is not, decides
// nothing and says so, as any node does whose clock is wrong.
package wallclock

import (
	"fmt"
	"os"
	"sync/atomic"
	"time"
)

// Variable of the environment by which a process hands its clock to those that it starts: a duration such
// as 26h or -90s by which it is ahead of the machine's.
const Variable = "IRONBELL_CLOCK_AHEAD"

var ahead atomic.Int64 // nanoseconds

// Now is the time of this process. It carries a monotonic reading, as time.Now does. Any goroutine may ask.
func Now() time.Time { return time.Now().Add(Ahead()) }

// Ahead is by how much the process is ahead of the machine; negative when it is behind.
func Ahead() time.Duration { return time.Duration(ahead.Load()) }

// Read takes the clock over from whoever started the process. A main function calls it first.
func Read() error {
	text := os.Getenv(Variable)
	if text == "" {
		return nil
	}
	by, err := time.ParseDuration(text)
	if err != nil {
		return fmt.Errorf("%s: %w; it takes a duration such as 26h, or nothing", Variable, err)
	}
	ahead.Store(int64(by))
	return nil
}

// Turn turns the clock of this process and of those that it starts from now on.
func Turn(by time.Duration) error {
	ahead.Store(int64(by))
	return os.Setenv(Variable, by.String())
}
