package store_test

import (
	"context"
	"crypto/sha256"
	"database/sql"
	"os"
	"testing"

	"ironbell/internal/core/job"
	"ironbell/internal/localpg/pgtest"
	"ironbell/internal/store"
	"ironbell/internal/store/rings"

	_ "github.com/jackc/pgx/v5/stdlib" // the driver by which migrations are made one by one
	"github.com/pressly/goose/v3"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// Tokens that only reported events were a person's: each is a sender afterwards, goes on by the same text
// as long as it would have, and is no way in any more. Events of before do not claim what nobody kept.
func TestTokensForEventsBecomeSenders(t *testing.T) {
	ctx := context.Background()
	dsn := pgtest.New(t, "empty", func(context.Context, string) error { return nil })
	pool, err := sql.Open("pgx", dsn)
	require.NoError(t, err)
	defer func() { _ = pool.Close() }()
	steps, err := goose.NewProvider(goose.DialectPostgres, pool, os.DirFS("db/migrations"))
	require.NoError(t, err)
	_, err = steps.UpTo(ctx, 14)
	require.NoError(t, err)
	hash := func(token string) []byte {
		sum := sha256.Sum256([]byte(token))
		return sum[:]
	}
	_, err = pool.ExecContext(ctx, `INSERT INTO people (login, name, mail, role, zone, password_hash)
		VALUES ('mara', 'Mara Quill', 'mara.quill@tarnwick.example', 'owner', 'Europe/London', '')`)
	require.NoError(t, err)
	for _, way := range []struct {
		name, token string
		sends       any
		ends        string
	}{
		{"crane 7/8", "one", `[{"source": "/cranes/7", "type": "example.crane.*"}]`, "now() + interval '1 day'"},
		{"crane 7/8", "two", `[{"source": "/cranes/8", "type": "*"}]`, "NULL"},
		{"old crane", "past", `[{"source": "/cranes/1", "type": "*"}]`, "now() - interval '1 day'"},
		{"laptop", "hers", nil, "NULL"},
	} {
		_, err := pool.ExecContext(ctx, `INSERT INTO sign_ins (person_id, kind, name, hash, sends, ends_at)
			SELECT id, 'token', $1, $2, $3::jsonb, `+way.ends+` FROM people`, way.name, hash(way.token), way.sends)
		require.NoError(t, err)
	}
	_, err = pool.ExecContext(ctx, `INSERT INTO events (event_id, source, type, time) VALUES ('1', '/cranes/7', 'example.crane.up', now())`)
	require.NoError(t, err)
	_, err = steps.Up(ctx)
	require.NoError(t, err)

	s, err := store.Open(ctx, dsn, store.Options{})
	require.NoError(t, err)
	defer s.Close()
	all, err := s.Senders(ctx)
	require.NoError(t, err)
	require.Len(t, all, 2)
	one, err := s.SenderByToken(ctx, hash("one"))
	require.NoError(t, err)
	assert.True(t, one.Lets("/cranes/7", "example.crane.up"))
	assert.False(t, one.Lets("/cranes/8", "example.crane.up"))
	assert.NotContains(t, one.Name, "/")
	keys, err := s.SenderKeys(ctx, one.ID)
	require.NoError(t, err)
	require.Len(t, keys, 1)
	assert.NotNil(t, keys[0].EndsAt, "it ends when it would have")
	two, err := s.SenderByToken(ctx, hash("two"))
	require.NoError(t, err)
	assert.NotEqual(t, one.ID, two.ID)
	_, err = s.SenderByToken(ctx, hash("past"))
	require.Error(t, err)
	_, _, err = s.PersonByToken(ctx, hash("one"))
	require.Error(t, err, "it is no way in any more")
	p, _, err := s.PersonByToken(ctx, hash("hers"))
	require.NoError(t, err)
	assert.Equal(t, job.RoleOwner, p.Role)
	ways, err := s.SignIns(ctx, p.ID)
	require.NoError(t, err)
	assert.Len(t, ways, 1)
	events, err := s.Events(ctx, rings.EventFilter{Limit: 10})
	require.NoError(t, err)
	require.Len(t, events, 1)
	assert.NotEmpty(t, events[0].Note)

	_, err = steps.DownTo(ctx, 14)
	require.NoError(t, err, "and back")
	_, err = steps.Up(ctx)
	require.NoError(t, err)
}
