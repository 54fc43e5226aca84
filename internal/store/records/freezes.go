package records

import (
	"context"
	"time"

	"github.com/jmoiron/sqlx"

	"ironbell/internal/core/job"
	"ironbell/internal/store/db"
)

// Freeze is a time in which what carries a label does not begin.
type Freeze struct {
	ID        int64      `json:"id" db:"id"`
	Label     string     `json:"label" db:"label" doc:"service for all, or source:name, destination:name, tag:name"`
	From      time.Time  `json:"from" db:"from_at"`
	To        *time.Time `json:"to,omitempty" db:"to_at" doc:"until it is lifted when left out"`
	Rings     string     `json:"rings" db:"rings" enum:"wait,pass over" doc:"what becomes of rings meanwhile"`
	Reason    string     `json:"reason,omitempty" db:"reason"`
	By        string     `json:"by" db:"by_name"`
	CreatedAt time.Time  `json:"created_at" db:"created_at"`
	LiftedAt  *time.Time `json:"lifted_at,omitempty" db:"lifted_at"`
	LiftedBy  string     `json:"lifted_by,omitempty" db:"lifted_by"`
}

// FreezeColumns are those of a Freeze.
const FreezeColumns = `id, label, from_at, to_at, rings, reason, by_name, created_at, lifted_at, lifted_by FROM freezes`

// Freezes lists the freezes that hold or are to come; with past, also those
// that have ended, newest first, at most 500.
func (q Q) Freezes(ctx context.Context, past bool) ([]Freeze, error) {
	all := []Freeze{}
	err := sqlx.SelectContext(ctx, q.Ext, &all, `SELECT `+FreezeColumns+` WHERE $1 OR lifted_at IS NULL AND (to_at IS NULL OR to_at > bell_now()) ORDER BY from_at DESC, id DESC LIMIT 500`, past)
	return all, db.Wrap(err, "list the freezes")
}

// FreezeOver lists the freezes that overlap a time, for the clock's decisions.
func (q Q) FreezeOver(ctx context.Context, from, to time.Time) ([]Freeze, error) {
	var all []Freeze
	err := sqlx.SelectContext(ctx, q.Ext, &all, `SELECT `+FreezeColumns+` WHERE from_at <= $2 AND coalesce(lifted_at, to_at, 'infinity') > $1 AND (to_at IS NULL OR to_at > $1) ORDER BY id LIMIT 500`, from, to)
	return all, db.Wrap(err, "find what is frozen")
}

// AddFreeze writes a freeze.
func (q Q) AddFreeze(ctx context.Context, f Freeze) (Freeze, error) {
	err := sqlx.GetContext(ctx, q.Ext, &f, `INSERT INTO freezes (label, from_at, to_at, rings, reason, by_name) VALUES ($1, $2, $3, $4, $5, $6)
		RETURNING id, label, from_at, to_at, rings, reason, by_name, created_at, lifted_at, lifted_by`, f.Label, f.From, f.To, f.Rings, f.Reason, f.By)
	if err != nil {
		return f, db.Wrap(err, "write the freeze")
	}
	if err := q.MoveGate(ctx); err != nil {
		return f, err
	}
	return f, q.Tell(ctx, db.Notice{Kind: job.NoticeParts})
}

// LiftFreeze ends a freeze now.
func (q Q) LiftFreeze(ctx context.Context, id int64, by string) (Freeze, error) {
	var f Freeze
	err := sqlx.GetContext(ctx, q.Ext, &f, `UPDATE freezes SET lifted_at = coalesce(lifted_at, bell_now()), lifted_by = CASE WHEN lifted_at IS NULL THEN $2 ELSE lifted_by END WHERE id = $1
		RETURNING id, label, from_at, to_at, rings, reason, by_name, created_at, lifted_at, lifted_by`, id, by)
	if err != nil {
		return f, db.Found(err, "freeze", "")
	}
	if err := q.MoveGate(ctx); err != nil {
		return f, err
	}
	for _, kind := range []job.NoticeKind{job.NoticeParts, job.NoticeDeliveries} {
		if err := q.Tell(ctx, db.Notice{Kind: kind}); err != nil {
			return f, err
		}
	}
	return f, nil
}
