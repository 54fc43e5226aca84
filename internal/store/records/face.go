// Package records keeps what people edit: jobs with their triggers, reports, calendars, places,
// identities and freezes. Each is written with a version or a revision, so that two who edit it
// at once are told.
package records

import "ironbell/internal/store/db"

// Q holds the methods that work inside and outside of a transaction.
type Q struct{ db.Base }

// Tx holds those that need one, beside them. It belongs to one goroutine.
type Tx struct{ Q }

// In gives all of them within a transaction.
func In(b db.Base) *Tx { return &Tx{Q{b}} }
