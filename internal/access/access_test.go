package access_test

import (
	"context"
	"strings"
	"testing"
	"time"

	"ironbell/internal/access"
	"ironbell/internal/core/job"
	"ironbell/internal/localpg/pgtest"
	"ironbell/internal/store"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestMain(m *testing.M) { pgtest.Main(m) }

func TestMay(t *testing.T) {
	administrator := job.Person{Login: "sefa", Name: "Sefa Orlin", Role: job.RoleAdministrator}
	owner := job.Person{Login: "mara", Name: "Mara Quill", Role: job.RoleOwner}
	reader := job.Person{Login: "aldous", Name: "Aldous Penhale", Role: job.RoleReader}
	for _, c := range []struct {
		who   job.Person
		act   access.Act
		owner string
		may   bool
	}{
		{administrator, access.Administer, "", true},
		{administrator, access.Write, "mara", true},
		{owner, access.Read, "joren", true},
		{owner, access.Ring, "mara", true},
		{owner, access.Ring, "Mara", true},
		{owner, access.Write, "", true},
		{owner, access.Ring, "joren", false},
		{owner, access.Write, "joren", false},
		{owner, access.Administer, "", false},
		{reader, access.Read, "mara", true},
		{reader, access.Ring, "aldous", false},
		{reader, access.Write, "", false},
		{job.Person{}, access.Ring, "", false},
	} {
		err := access.May(c.who, c.act, "do it", c.owner)
		assert.Equal(t, c.may, err == nil, "%s %s of %q", c.who.Login, c.act, c.owner)
	}
}

func TestSignInAndTokens(t *testing.T) {
	ctx := context.Background()
	s, err := store.Open(ctx, pgtest.New(t, "access", func(ctx context.Context, dsn string) error {
		s, err := store.Open(ctx, dsn, store.Options{Conns: 2})
		if err != nil {
			return err
		}
		defer s.Close()
		return s.Migrate(ctx)
	}), store.Options{Conns: 2})
	require.NoError(t, err)
	t.Cleanup(s.Close)
	hash, err := access.HashPassword("slipway-lantern")
	require.NoError(t, err)
	assert.True(t, strings.HasPrefix(hash, "$argon2id$"))
	again, err := access.HashPassword("slipway-lantern")
	require.NoError(t, err)
	assert.NotEqual(t, hash, again, "each has a salt of its own")
	id, err := s.PutPerson(ctx, job.Person{Login: "mara", Name: "Mara Quill", Role: job.RoleOwner, Zone: "Europe/London"}, hash)
	require.NoError(t, err)
	_, err = s.PutPerson(ctx, job.Person{Login: "oren", Name: "Oren Hask", Role: job.RoleReader, Zone: "Europe/London"}, "")
	require.NoError(t, err)
	p, err := access.SignIn(ctx, s, "MARA", "slipway-lantern")
	require.NoError(t, err)
	assert.Equal(t, id, p.ID)
	for login, password := range map[string]string{"mara": "slipway", "nobody": "slipway-lantern", "oren": ""} {
		_, err = access.SignIn(ctx, s, login, password)
		assert.ErrorIs(t, err, access.ErrSignIn, login)
	}
	token, err := access.NewToken(ctx, s, id, "test", time.Time{})
	require.NoError(t, err)
	p, err = access.ByToken(ctx, s, token)
	require.NoError(t, err)
	assert.Equal(t, "mara", p.Login)
	require.NoError(t, access.EndToken(ctx, s, token))
	var missing *store.NotFound
	_, err = access.ByToken(ctx, s, token)
	assert.ErrorAs(t, err, &missing)
}
