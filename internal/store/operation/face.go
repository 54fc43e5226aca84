// Package operation keeps what concerns the whole installation: its nodes, what one of them does
// in turn, its state, copies of it, and what was kept long enough.
package operation

import "ironbell/internal/store/db"

// Q holds the methods that work inside and outside of a transaction.
type Q struct{ db.Base }

// Tx holds those that need one, beside them. It belongs to one goroutine.
type Tx struct{ Q }

// In gives all of them within a transaction.
func In(b db.Base) *Tx { return &Tx{Q{b}} }

// Pool holds the methods that need a transaction of their own.
type Pool struct {
	Q
	pool *db.Pool
}

// Over gives the methods over a pool.
func Over(p *db.Pool) Pool { return Pool{Q: Q{p.Base}, pool: p} }
