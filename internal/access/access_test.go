package access_test

import (
	"context"
	"strings"
	"sync"
	"testing"

	"ironbell/internal/access"
	"ironbell/internal/core/job"
	"ironbell/internal/localpg/pgtest"
	"ironbell/internal/store"
	"ironbell/internal/store/db"

	"github.com/jackc/pgx/v5"
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
	s, err := store.Open(ctx, pgtest.New(t, pgtest.Records, func(ctx context.Context, dsn string) error {
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
	id, err := s.PutPerson(ctx,
		job.Person{Login: "mara", Name: "Mara Quill", Role: job.RoleOwner, Zone: "Europe/London"}, hash)
	require.NoError(t, err)
	_, err = s.PutPerson(ctx, job.Person{Login: "oren", Name: "Oren Hask", Role: job.RoleReader, Zone: "Europe/London"},
		"")
	require.NoError(t, err)
	session := job.SignIn{Kind: job.Session, Name: "a browser", Address: "192.0.2.7"}
	p, way, token, err := access.SignIn(ctx, s, "MARA", "slipway-lantern", session)
	require.NoError(t, err)
	assert.Equal(t, id, p.ID)
	assert.Empty(t, token)
	p, _, err = s.PersonBySession(ctx, way)
	require.NoError(t, err)
	assert.Equal(t, "mara", p.Login)
	for login, password := range map[string]string{"mara": "slipway", "nobody": "slipway-lantern", "oren": ""} {
		_, _, _, err = access.SignIn(ctx, s, login, password, session)
		assert.ErrorIs(t, err, access.ErrSignIn, login)
	}
	token, way, err = access.NewToken(ctx, s, id, "sefa", job.SignIn{Name: "test"})
	require.NoError(t, err)
	mara, seen, err := access.ByToken(ctx, s, token)
	require.NoError(t, err)
	assert.Equal(t, "mara", mara.Login)
	assert.Equal(t, way, seen.ID)
	var missing *db.NotFound
	assert.ErrorAs(t, access.EndSignIn(ctx, s, job.Person{ID: 99, Login: "oren", Role: job.RoleOwner}, way, ""),
		&missing, "it is nobody else's")
	_, _, err = access.ByToken(ctx, s, token)
	require.NoError(t, err, "and it still holds")
	require.NoError(t, access.EndSignIn(ctx, s, mara, way, "192.0.2.7"))
	_, _, err = access.ByToken(ctx, s, token)
	assert.ErrorAs(t, err, &missing)
	var record []string
	rows, err := s.Connections().Query(ctx,
		`SELECT who || ' ' || action || ' ' || subject || ' ' || coalesce(after->>'address', '') FROM audit WHERE kind = 'sign-in' ORDER BY id`)
	require.NoError(t, err)
	record, err = pgx.CollectRows(rows, pgx.RowTo[string])
	require.NoError(t, err)
	assert.Contains(t, record, "mara sign in mara 192.0.2.7")
	assert.Contains(t, record, "nobody fail to sign in nobody 192.0.2.7")
	assert.Contains(t, record, "mara end mara 192.0.2.7")

	// A password that is changed while it is checked ends what began with it.
	other, err := access.HashPassword("quay-and-crane")
	require.NoError(t, err)
	for range 20 {
		_, err = s.PutPerson(ctx,
			job.Person{Login: "mara", Name: "Mara Quill", Role: job.RoleOwner, Zone: "Europe/London"}, hash)
		require.NoError(t, err)
		var both sync.WaitGroup
		both.Go(func() { _, way, _, err = access.SignIn(ctx, s, "mara", "slipway-lantern", session) })
		both.Go(func() {
			_ = s.Do(ctx, func(t *store.Tx) error {
				if _, err := t.PutPassword(ctx, id, hash, other); err != nil {
					return err
				}
				return t.EndAccess(ctx, id)
			})
		})
		both.Wait()
		if err == nil {
			_, _, err = s.PersonBySession(ctx, way)
		}
		assert.Error(t, err, "nobody is in by the password that was changed")
	}
}

func TestEventsBelongToTheirSenders(t *testing.T) {
	mara, sefa := job.Person{Login: "mara", Role: job.RoleOwner}, job.Person{Login: "sefa", Role: job.RoleAdministrator}
	for _, c := range []struct {
		who    job.Person
		source string
		may    bool
	}{
		{mara, "/cranes/7", false},
		{mara, "/ironbell/people/mara", true},
		{mara, "/ironbell/people/joren", false},
		{mara, "/ironbell/jobs/1", false},
		{sefa, "/cranes/7", true},
		{sefa, "/IronBell/jobs/1", false},
		{sefa, "/Jobs/Tide%20notice", false},
		{job.Person{Login: "oren", Role: job.RoleReader}, "/ironbell/people/oren", false},
	} {
		err := access.MayReport(c.who, c.source)
		assert.Equal(t, c.may, err == nil, "%s by %s: %v", c.source, c.who.Login, err)
	}
	crane := job.Sender{Name: "crane 7", SenderDefinition: job.SenderDefinition{Sends: []job.EventGrant{
		{Source: "/cranes/7", Type: "example.crane.*"},
		{Source: "/cranes/7", Type: "example.slack"},
	}}}
	for _, c := range []struct {
		source, kind string
		may          bool
	}{
		{"/cranes/7", "example.crane.up", true},
		{"/cranes/7", "example.slack", true},
		{"/cranes/7", "example.slacker", false},
		{"/cranes/8", "example.crane.up", false},
		{"/ironbell/people/mara", "example.crane.up", false},
		{"/gauges/1", "example.tide", false},
	} {
		err := access.MaySend(crane, c.source, c.kind)
		assert.Equal(t, c.may, err == nil, "%s of %s: %v", c.kind, c.source, err)
	}
}

// What the console is told of rights is what is asked when somebody acts.
func TestActsAreThoseThatAreAllowed(t *testing.T) {
	for role, want := range map[job.Role][2][]access.Act{
		job.RoleReader: {{access.Read}, {access.Read}},
		job.RoleOwner:  {{access.Read}, {access.Read, access.Ring, access.Write}},
		job.RoleAdministrator: {
			{access.Read, access.Ring, access.Write, access.Administer},
			{access.Read, access.Ring, access.Write, access.Administer},
		},
	} {
		p := job.Person{Login: "mara", Role: role}
		all, own := access.Acts(p)
		assert.Equal(t, want[0], all, role)
		assert.Equal(t, want[1], own, role)
		for _, act := range all {
			assert.NoError(t, access.May(p, act, "", "joren"), "%s %s", role, act)
		}
		for _, act := range own {
			assert.NoError(t, access.May(p, act, "", "Mara"), "%s %s", role, act)
		}
	}
}
