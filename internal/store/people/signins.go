package people

import (
	"context"
	"database/sql"
	"errors"
	"strconv"
	"time"

	"ironbell/internal/core/job"
	"ironbell/internal/store/db"

	"github.com/jmoiron/sqlx"
)

// NewSignIn is a way in that is to be opened.
type NewSignIn struct {
	job.SignIn
	PersonID int64
	Hash     []byte // of a token
	Proof    string // the password's hash as it was checked; empty when none was asked for
}

// BeginSignIn opens a way in and gives its number. It gives 0 when the person's password is
// not the one any more that was checked: who changed it meant to end what began with it.
func (q Q) BeginSignIn(ctx context.Context, n NewSignIn) (int64, error) {
	var id int64
	// The lock makes it wait for a change of the password that is under way.
	err := sqlx.GetContext(ctx, q.Ext, &id, `INSERT INTO sign_ins (person_id, kind, name, hash, address, ends_at)
		SELECT p.id, $3, $4, $5, $6, $7 FROM (SELECT id FROM people WHERE id = $1
		AND ($2 = '' OR password_hash = $2) FOR SHARE) p RETURNING id`,
		n.PersonID, n.Proof, n.Kind, n.Name, n.Hash, n.Address, n.EndsAt)
	if errors.Is(err, sql.ErrNoRows) {
		return 0, nil
	}
	return id, db.Wrap(err, "sign in")
}

// usedEvery is how exactly it is kept when a way in was last used.
const usedEvery = 10 * time.Minute

// byWay finds whose a way in is, and notes now and then that it is used.
func (q Q) byWay(ctx context.Context, what, which string, arg any) (job.Person, job.SignIn, error) {
	var row struct {
		job.Person
		WayID int64          `db:"way_id"`
		Kind  job.SignInKind `db:"kind"`
	}
	err := sqlx.GetContext(ctx, q.Ext, &row, `WITH way AS (SELECT * FROM sign_ins WHERE `+which+`
		AND sends IS NULL AND (ends_at IS NULL OR ends_at > bell_now())),
		used AS (UPDATE sign_ins SET used_at = bell_now() WHERE id = (SELECT id FROM way WHERE used_at IS NULL
		OR used_at < bell_now() - make_interval(secs => $2)))
		SELECT `+PersonColumns+`, w.id AS way_id, w.kind FROM way w
			JOIN people p ON p.id = w.person_id`, arg, usedEvery.Seconds())
	return row.Person, job.SignIn{ID: row.WayID, Kind: row.Kind}, db.Found(err, what, "")
}

// PersonBySession finds whose session has a number, unless it has ended.
func (q Q) PersonBySession(ctx context.Context, id int64) (job.Person, job.SignIn, error) {
	return q.byWay(ctx, "session", `id = $1 AND kind = 'session'`, id)
}

// PersonByToken finds whom a token's hash belongs to, unless it has ended.
func (q Q) PersonByToken(ctx context.Context, hash []byte) (job.Person, job.SignIn, error) {
	return q.byWay(ctx, "token", `hash = $1`, hash)
}

// SignInOpen tells whether a way in is still open.
func (q Q) SignInOpen(ctx context.Context, id int64) (bool, error) {
	var open bool
	err := sqlx.GetContext(ctx, q.Ext, &open, `SELECT EXISTS (SELECT 1 FROM sign_ins WHERE id = $1
		AND (ends_at IS NULL OR ends_at > bell_now()))`, id)
	return open, db.Wrap(err, "see whether the session is open")
}

// SignIns lists the ways in that a person has open, the newest first, at most 1,000. Tokens that only
// report events were among them once; each is a sender now.
func (q Q) SignIns(ctx context.Context, person int64) ([]job.SignIn, error) {
	all := []job.SignIn{}
	err := sqlx.SelectContext(ctx, q.Ext, &all, `SELECT id, kind, name, address, began_at, used_at, ends_at
		FROM sign_ins WHERE person_id = $1 AND sends IS NULL AND (ends_at IS NULL OR ends_at > bell_now())
		ORDER BY id DESC LIMIT 1000`, person)
	return all, db.Wrap(err, "list the sessions and tokens")
}

// EndSignIn ends a way in, and gives it as it was and whose.
func (q Q) EndSignIn(ctx context.Context, id int64) (job.SignIn, job.Person, error) {
	var row struct {
		job.Person
		WayID   int64          `db:"way_id"`
		Kind    job.SignInKind `db:"kind"`
		WayName string         `db:"way_name"`
		Address string         `db:"address"`
	}
	err := sqlx.GetContext(ctx, q.Ext, &row, `WITH gone AS (DELETE FROM sign_ins WHERE id = $1
		RETURNING id, person_id, kind, name, address)
		SELECT `+PersonColumns+`, g.id AS way_id, g.kind, g.name AS way_name, g.address FROM gone g
			JOIN people p ON p.id = g.person_id`, id)
	if err := db.Found(err, "session or token", strconv.FormatInt(id, 10)); err != nil {
		return job.SignIn{}, job.Person{}, err
	}
	return job.SignIn{ID: row.WayID, Kind: row.Kind, Name: row.WayName, Address: row.Address}, row.Person,
		q.Tell(ctx, db.Notice{Kind: job.NoticeAccess})
}

// EndAccess ends the sessions and tokens of a person and their link to the forecast.
func (t *Tx) EndAccess(ctx context.Context, person int64) error {
	if _, err := t.Ext.ExecContext(ctx, `WITH unlinked AS (DELETE FROM feeds WHERE person_id = $1) DELETE FROM sign_ins
		WHERE person_id = $1`, person); err != nil {
		return db.Wrap(err, "end the sessions and tokens")
	}
	return t.Tell(ctx, db.Notice{Kind: job.NoticeAccess})
}

// SweepAccess removes sessions and tokens that have ended.
func (q Q) SweepAccess(ctx context.Context) error {
	// The library that keeps them goes by the machine's clock.
	if _, err := q.Ext.ExecContext(ctx, `DELETE FROM sessions WHERE expiry < now()`); err != nil {
		return db.Wrap(err, "sweep the sessions")
	}
	_, err := q.Ext.ExecContext(ctx, `DELETE FROM sign_ins WHERE ends_at < bell_now()`)
	return db.Wrap(err, "sweep the tokens")
}
