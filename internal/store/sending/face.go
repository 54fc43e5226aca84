// Package sending keeps messages and their deliveries from the freeze to the receipt: claims,
// offers, receipts, and destinations that rest. What is written for each single delivery names
// its month's table, since opening all months costs more than the write.
package sending

import "ironbell/internal/store/db"

// Q holds the methods that work inside and outside of a transaction.
type Q struct{ db.Base }

// Tx holds those that need one, beside them. It belongs to one goroutine.
type Tx struct{ Q }

// In gives all of them within a transaction.
func In(b db.Base) *Tx { return &Tx{Q{b}} }
