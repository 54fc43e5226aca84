// Package deliveries keeps deliveries as people see and settle them: lists and counts, verdicts,
// consents of a second person, bounces, and what may leave now.
package deliveries

import "ironbell/internal/store/db"

// Q holds the methods that work inside and outside of a transaction.
type Q struct{ db.Base }

// Tx holds those that need one, beside them. It belongs to one goroutine.
type Tx struct{ Q }

// In gives all of them within a transaction.
func In(b db.Base) *Tx { return &Tx{Q{b}} }
