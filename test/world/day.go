package world

import (
	"fmt"
	"os"
	"strings"
	"time"

	"ironbell/internal/wallclock"
)

// Day is the variable that says on which day and at what hour the tests of the whole live, in the form of
// RFC 3339: each test program begins at that instant, and its clocks go on from there. Without it they live now.
// Service, client, stand-ins, database and browser follow; leases and files go by the machine's clock.
const Day = "IRONBELL_DAY"

// live turns the clock of this program, and of those that it starts, to the day of this run.
func live() error {
	text := os.Getenv(Day)
	if text == "" {
		return nil
	}
	at, err := time.Parse(time.RFC3339, text)
	if err != nil {
		return fmt.Errorf("%s: %w; it takes a time such as 2028-02-29T23:58:00Z", Day, err)
	}
	fmt.Fprintf(os.Stderr, "%s=%s: these tests live on %s\n", Day, text, at.Format("Monday, 2 January 2006, 15:04 MST"))
	return wallclock.Turn(time.Until(at).Round(time.Second))
}

// Environment is that of the world's programs: ours, its clock, and what is added.
func (w *World) Environment(more ...string) []string {
	all := make([]string, 0, len(os.Environ())+len(more)+1)
	for _, one := range os.Environ() {
		if !strings.HasPrefix(one, wallclock.Variable+"=") {
			all = append(all, one)
		}
	}
	return append(append(all, wallclock.Variable+"="+w.ahead.String()), more...)
}
