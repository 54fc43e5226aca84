package records

import (
	"context"
	"time"

	"ironbell/internal/core/job"
	"ironbell/internal/store/db"

	"github.com/jmoiron/sqlx"
)

// FreezeColumns are those of a Freeze.
const FreezeColumns = `id, label, from_at, to_at, rings, reason, by_name, created_at, lifted_at, lifted_by FROM freezes`

// Freezes lists the freezes that hold or are to come; with past, also those
// that have ended, newest first, at most 500.
func (q Q) Freezes(ctx context.Context, past bool) ([]job.Freeze, error) {
	all := []job.Freeze{}
	err := sqlx.SelectContext(ctx, q.Ext, &all, `SELECT `+FreezeColumns+` WHERE $1 OR lifted_at IS NULL
		AND (to_at IS NULL OR to_at > bell_now()) ORDER BY from_at DESC, id DESC LIMIT 500`, past)
	return all, db.Wrap(err, "list the freezes")
}

// FreezeOver lists the freezes that overlap a time, for the clock's decisions.
func (q Q) FreezeOver(ctx context.Context, from, to time.Time) ([]job.Freeze, error) {
	var all []job.Freeze
	err := sqlx.SelectContext(ctx, q.Ext, &all, `SELECT `+FreezeColumns+` WHERE from_at <= $2
		AND coalesce(lifted_at, to_at, 'infinity') > $1 AND (to_at IS NULL OR to_at > $1) ORDER BY id
		LIMIT 500`, from, to)
	return all, db.Wrap(err, "find what is frozen")
}

// AddFreeze writes a freeze.
func (q Q) AddFreeze(ctx context.Context, f job.Freeze) (job.Freeze, error) {
	err := sqlx.GetContext(ctx, q.Ext, &f, `INSERT INTO freezes (label, from_at, to_at, rings, reason, by_name)
		VALUES ($1, $2, $3, $4, $5, $6)
		RETURNING id, label, from_at, to_at, rings, reason, by_name, created_at, lifted_at,
		lifted_by`, f.Label, f.From, f.To, f.Rings, f.Reason, f.By)
	if err != nil {
		return f, db.Wrap(err, "write the freeze")
	}
	if err := q.MoveGate(ctx); err != nil {
		return f, err
	}
	return f, q.Tell(ctx, db.Notice{Kind: job.NoticeParts})
}

// LiftFreeze ends a freeze now.
func (q Q) LiftFreeze(ctx context.Context, id int64, by string) (job.Freeze, error) {
	var f job.Freeze
	err := sqlx.GetContext(ctx, q.Ext, &f, `UPDATE freezes SET lifted_at = coalesce(lifted_at, bell_now()),
		lifted_by = CASE WHEN lifted_at IS NULL THEN $2 ELSE lifted_by END WHERE id = $1
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
