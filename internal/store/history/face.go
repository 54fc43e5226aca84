// Package history keeps what runs leave behind: the runs themselves with their states, their logs,
// attempts, files and links. It is partitioned by month.
package history

import "ironbell/internal/store/db"

// Q holds the methods that work inside and outside of a transaction.
type Q struct{ db.Base }

// Tx holds those that need one, beside them. It belongs to one goroutine.
type Tx struct{ Q }

// In gives all of them within a transaction.
func In(b db.Base) *Tx { return &Tx{Q{b}} }
