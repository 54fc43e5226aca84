// Package attack counts the attacks that a test makes, so that one command can tell how many
// were tried, how many were refused, and which got through.
package attack

import (
	"fmt"
	"sync"
	"testing"
)

// Line is how a table's sum is told in the output of its test: name, tried, refused and got
// through.
const Line = "attacks on %s: %d tried, %d refused, %d got through"

// Table is a table of attacks. It may be used by several goroutines.
type Table struct {
	t       testing.TB
	name    string
	mu      sync.Mutex
	tried   int
	through int
}

// On begins a table. Its sum is told when the test ends.
func On(t testing.TB, name string) *Table {
	a := &Table{t: t, name: name}
	t.Cleanup(func() {
		a.mu.Lock()
		defer a.mu.Unlock()
		t.Logf(Line, a.name, a.tried, a.tried-a.through, a.through)
	})
	return a
}

// Tried counts one attack. One that was not held off fails the test, with what came of it.
func (a *Table) Tried(what string, heldOff bool, came ...any) {
	a.t.Helper()
	a.mu.Lock()
	defer a.mu.Unlock()
	a.tried++
	if !heldOff {
		a.through++
		a.t.Errorf("got through on %s: %.300s: %s", a.name, what, fmt.Sprint(came...))
	}
}
