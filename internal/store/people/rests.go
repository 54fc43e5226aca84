package people

import (
	"context"

	"ironbell/internal/core/job"
	"ironbell/internal/store/db"

	"github.com/jmoiron/sqlx"
)

// OwnersOf are the owners of the jobs that are on and carry a label, at most 50.
func (q Q) OwnersOf(ctx context.Context, label string) ([]job.Person, error) {
	people := []job.Person{}
	err := sqlx.SelectContext(ctx, q.Ext, &people, `SELECT `+PersonColumns+` FROM people p
		WHERE p.id IN (SELECT owner_id FROM jobs WHERE is_on AND labels @> ARRAY[$1::text]) ORDER BY p.id
		LIMIT 50`, label)
	return people, db.Wrap(err, "find whose jobs need it")
}
