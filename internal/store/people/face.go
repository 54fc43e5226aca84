// Package people keeps the records of people: who they are, their sign-ins, groups and posts, what
// they leave and what they get; and the audit trail, which names them.
package people

import "ironbell/internal/store/db"

// Q holds the methods that work inside and outside of a transaction.
type Q struct{ db.Base }

// Tx holds those that need one, beside them. It belongs to one goroutine.
type Tx struct{ Q }

// In gives all of them within a transaction.
func In(b db.Base) *Tx { return &Tx{Q{b}} }
