package world

import (
	"time"
)

// Patience is how long a test waits for what must come: long enough for a slow machine with
// other work, since waiting costs nothing when it comes.
const Patience = 2 * time.Minute

// Until waits for a condition, as long as a wait is patient.
func (w *World) Until(what string, holds func() bool) {
	w.T.Helper()
	w.Within(Patience, what, holds)
}

// Within waits for a condition, at most so long.
func (w *World) Within(limit time.Duration, what string, holds func() bool) {
	w.T.Helper()
	end := time.Now().Add(limit)
	for !holds() {
		if time.Now().After(end) {
			w.T.Fatalf("waited %s in vain: %s", limit, what)
		}
		time.Sleep(50 * time.Millisecond)
	}
}
