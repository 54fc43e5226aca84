// Package rings keeps due times and what was decided on each, the runs that are made of them, and
// who waits for what. Triggers that are due are locked with SKIP LOCKED, so that any number of
// nodes may ask at once.
package rings

import "ironbell/internal/store/db"

// Q holds the methods that work inside and outside of a transaction.
type Q struct{ db.Base }

// Tx holds those that need one, beside them. It belongs to one goroutine.
type Tx struct{ Q }

// In gives all of them within a transaction.
func In(b db.Base) *Tx { return &Tx{Q{b}} }
