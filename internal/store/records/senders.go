package records

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

type senderRow struct {
	job.Sender
	Definition db.Document[job.SenderDefinition] `db:"definition"`
}

func (r senderRow) sender() job.Sender {
	s := r.Sender
	s.SenderDefinition, s.Keys = r.Definition.V, []job.SenderKey{}
	return s
}

// senderColumns count what came lately by an index of each sender's events.
var senderColumns = `s.id, s.name, s.definition, s.updated_at, s.refused, s.refused_at, s.refused_why, e.last_at, e.day, ` +
	db.RevisionOf("sender", "s.name") + ` FROM senders s LEFT JOIN LATERAL (SELECT
		(SELECT received_at FROM events WHERE sender_id = s.id ORDER BY id DESC LIMIT 1) AS last_at,
		(SELECT count(*) FROM events WHERE sender_id = s.id AND received_at > bell_now() - interval '24 hours') AS day)
		e ON true`

// Sender finds a sender by name, with what it is known by.
func (q Q) Sender(ctx context.Context, name string) (job.Sender, error) {
	var r senderRow
	err := sqlx.GetContext(ctx, q.Ext, &r, `SELECT `+senderColumns+` WHERE s.id = record_id('sender', $1)
		AND s.removed_at IS NULL`, name)
	if err != nil {
		return job.Sender{}, q.Found(ctx, err, "sender", name)
	}
	s := r.sender()
	s.Keys, err = q.SenderKeys(ctx, s.ID)
	return s, err
}

// Senders lists the senders by name, at most 1,000, each with what it is known by.
func (q Q) Senders(ctx context.Context) ([]job.Sender, error) {
	var rows []senderRow
	if err := sqlx.SelectContext(ctx, q.Ext, &rows, `SELECT `+senderColumns+` WHERE s.removed_at IS NULL
		ORDER BY s.name LIMIT 1000`); err != nil {
		return nil, db.Wrap(err, "list the senders")
	}
	ids := make([]int64, len(rows))
	for i, r := range rows {
		ids[i] = r.ID
	}
	keys, err := q.SenderKeys(ctx, ids...)
	if err != nil {
		return nil, err
	}
	out := make([]job.Sender, len(rows))
	for i, r := range rows {
		out[i] = r.sender()
		for _, k := range keys {
			if k.SenderID == r.ID {
				out[i].Keys = append(out[i].Keys, k)
			}
		}
	}
	return out, nil
}

// SenderKeys lists what some senders are known by, the newest first. What has ended is not among it.
func (q Q) SenderKeys(ctx context.Context, senders ...int64) ([]job.SenderKey, error) {
	keys := []job.SenderKey{}
	err := sqlx.SelectContext(ctx, q.Ext, &keys, `SELECT id, sender_id, kind, sealed, made_at, made_by, ends_at
		FROM sender_keys WHERE sender_id = ANY($1) AND (ends_at IS NULL OR ends_at > bell_now()) ORDER BY id DESC
		LIMIT 10000`, senders)
	return keys, db.Wrap(err, "list what senders are known by")
}

// knownSender reads no events: it is asked with each request.
const knownSender = `s.id, s.name, s.definition, s.updated_at FROM senders s`

// SenderByToken finds whose a token's hash is, unless it has ended.
func (q Q) SenderByToken(ctx context.Context, hash []byte) (job.Sender, error) {
	var r senderRow
	err := sqlx.GetContext(ctx, q.Ext, &r, `SELECT `+knownSender+` JOIN sender_keys k ON k.sender_id = s.id
		WHERE k.hash = $1 AND (k.ends_at IS NULL OR k.ends_at > bell_now()) AND s.removed_at IS NULL`, hash)
	return r.sender(), db.Found(err, "token", "")
}

// SenderToCheck finds a sender by name with the keys that it may sign with.
func (q Q) SenderToCheck(ctx context.Context, name string) (job.Sender, error) {
	var r senderRow
	err := sqlx.GetContext(ctx, q.Ext, &r, `SELECT `+knownSender+` WHERE s.id = record_id('sender', $1)
		AND s.removed_at IS NULL`, name)
	if err != nil {
		return job.Sender{}, db.Found(err, "sender", name)
	}
	s := r.sender()
	s.Keys, err = q.SenderKeys(ctx, s.ID)
	return s, err
}

// PutSender adds or changes a sender by name. What it was refused is forgotten: it may be mended now.
func (q Q) PutSender(ctx context.Context, name string, d job.SenderDefinition) (int64, error) {
	name, err := q.Called(ctx, "sender", name)
	if err != nil {
		return 0, err
	}
	var id int64
	err = sqlx.GetContext(ctx, q.Ext, &id, `INSERT INTO senders (name, definition) VALUES ($1, $2)
		ON CONFLICT (name) DO UPDATE SET definition = excluded.definition, updated_at = bell_now(), refused = 0,
			refused_at = NULL, refused_why = ''
		RETURNING id`, name, db.Document[job.SenderDefinition]{V: d})
	return id, db.Unique(err, "sender", name)
}

// NewSenderKey is something new that a sender is to be known by.
type NewSenderKey struct {
	Kind   job.SenderKeyKind
	Hash   []byte // of a token
	Sealed []byte // of a key
	By     string
	Until  time.Time // when those of this kind end that were there before
}

// PutSenderKey gives a sender something to be known by; what it had of this kind ends in time.
func (q Q) PutSenderKey(ctx context.Context, sender int64, k NewSenderKey) (int64, error) {
	if _, err := q.Ext.ExecContext(ctx, `UPDATE sender_keys SET ends_at = least(ends_at, $3)
		WHERE sender_id = $1 AND kind = $2`, sender, k.Kind, k.Until); err != nil {
		return 0, db.Wrap(err, "end what it was known by")
	}
	sealed := k.Sealed
	if sealed == nil {
		sealed = []byte{}
	}
	var id int64
	err := sqlx.GetContext(ctx, q.Ext, &id, `INSERT INTO sender_keys (sender_id, kind, hash, sealed, made_by)
		VALUES ($1, $2, $3, $4, $5) RETURNING id`, sender, k.Kind, k.Hash, sealed, k.By)
	return id, db.Wrap(err, "keep what it is known by")
}

// EndSenderKey ends something that a sender is known by.
func (q Q) EndSenderKey(ctx context.Context, sender, id int64) (job.SenderKey, error) {
	var k job.SenderKey
	err := sqlx.GetContext(ctx, q.Ext, &k, `DELETE FROM sender_keys WHERE id = $2 AND sender_id = $1
		RETURNING id, sender_id, kind, made_at, made_by, ends_at`, sender, id)
	if errors.Is(err, sql.ErrNoRows) {
		return k, &db.NotFound{Kind: "token or key", Name: strconv.FormatInt(id, 10)}
	}
	return k, db.Wrap(err, "end what it is known by")
}

// RefusedSender notes that a sender was refused, n times, the last time for why.
func (q Q) RefusedSender(ctx context.Context, id int64, n int, why string) error {
	_, err := q.Ext.ExecContext(ctx, `UPDATE senders SET refused = refused + $2, refused_at = bell_now(), refused_why = $3
		WHERE id = $1`, id, n, db.Bounded(why))
	return db.Wrap(err, "note what was refused")
}
