package records

import (
	"context"
	"time"

	"ironbell/internal/store/db"

	"github.com/jmoiron/sqlx"
)

// Identity is a login of a source as which reports may run. Secret is sealed.
type Identity struct {
	ID        int64     `db:"id"`
	Source    string    `db:"source"`
	Name      string    `db:"name"`
	Login     string    `db:"login"`
	Secret    []byte    `db:"secret"`
	UpdatedAt time.Time `db:"updated_at"`
	Choosers  []string  // logins of the people who may choose it, beside administrators
}

type identityRow struct {
	Identity
	Names db.Document[[]string] `db:"choosers"`
}

const identityColumns = `i.id, s.name AS source, i.name, i.login, i.secret, i.updated_at, i.choosers FROM identities i
	JOIN sources s ON s.id = i.source_id`

// Identity finds an identity of a source.
func (q Q) Identity(ctx context.Context, source, name string) (Identity, error) {
	var row identityRow
	err := sqlx.GetContext(ctx, q.Ext, &row, `SELECT `+identityColumns+` WHERE s.id = record_id('source', $1) AND i.name = $2`, source,
		name)
	row.Choosers = row.Names.V
	return row.Identity, db.Found(err, "identity", name)
}

// Identities lists the identities of a source by name, at most 1,000.
func (q Q) Identities(ctx context.Context, source string) ([]Identity, error) {
	var rows []identityRow
	err := sqlx.SelectContext(ctx, q.Ext, &rows, `SELECT `+identityColumns+` WHERE s.id = record_id('source', $1) ORDER BY i.name
		LIMIT 1000`, source)
	all := make([]Identity, len(rows))
	for i, row := range rows {
		row.Choosers = row.Names.V
		all[i] = row.Identity
	}
	return all, db.Wrap(err, "list the identities")
}

// PutIdentity adds or changes an identity of a source. A nil secret keeps the
// one that is there.
func (q Q) PutIdentity(ctx context.Context, i Identity) error {
	if i.Choosers == nil {
		i.Choosers = []string{}
	}
	_, err := q.Ext.ExecContext(ctx, `INSERT INTO identities (source_id, name, login, secret, choosers)
		SELECT id, $2, $3, coalesce($4, ''::bytea), $5 FROM sources WHERE id = record_id('source', $1)
		ON CONFLICT (source_id, name) DO UPDATE SET login = excluded.login, secret = coalesce($4, identities.secret),
		choosers = excluded.choosers, updated_at = bell_now()`,
		i.Source, i.Name, i.Login, i.Secret, db.Document[[]string]{V: i.Choosers})
	return db.Unique(err, "identity", i.Name)
}
