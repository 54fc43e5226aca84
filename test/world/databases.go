package world

import (
	"context"
	"testing"
	"time"

	"ironbell/client"
	"ironbell/demo"
	"ironbell/internal/access"
	"ironbell/internal/core/job"
	"ironbell/internal/localpg/pgtest"
	"ironbell/internal/service"
	"ironbell/internal/store"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/require"
)

// The people whom every world but an empty one knows.
var (
	sefa  = job.Person{Login: "sefa", Name: "Sefa Orlin", Mail: "sefa.orlin@tarnwick.example", Role: job.RoleAdministrator, Zone: demo.Zone}
	staff = []job.Person{
		sefa,
		{Login: "mara", Name: "Mara Quill", Mail: "mara@tarnwick.example", Role: job.RoleOwner, Zone: demo.Zone},
		{Login: "joren", Name: "Joren Tak", Mail: "joren@tarnwick.example", Role: job.RoleOwner, Zone: demo.Zone},
	}
)

// records makes a database of ours that knows nothing and whose clock is ahead by so much.
func records(t testing.TB, ahead time.Duration) string {
	t.Helper()
	dsn := pgtest.New(t, pgtest.Records, with(func(ctx context.Context, s *store.Store) error { return s.Migrate(ctx) }))
	require.NoError(t, with(func(ctx context.Context, s *store.Store) error { return s.TurnClock(ctx, ahead) })(context.Background(), dsn))
	return dsn
}

// staff makes the world's records, which know its people, and a token of sefa's. Its people are made once for
// all worlds, since passwords cost time by intent.
func (w *World) staff() {
	t := w.T
	t.Helper()
	// The months of another day are made once, too.
	w.Db = pgtest.New(t, "staff_"+w.Now().UTC().Format("0601"), with(func(ctx context.Context, s *store.Store) error {
		if err := s.Migrate(ctx); err != nil {
			return err
		}
		if err := s.TurnClock(ctx, w.ahead); err != nil {
			return err
		}
		for _, p := range staff {
			if _, err := service.PutPerson(ctx, s, p, Password); err != nil {
				return err
			}
			if err := s.Do(ctx, func(t *store.Tx) error {
				return t.Audit(ctx, sefa.Login, "save", "person", p.Login, nil, p)
			}); err != nil {
				return err
			}
		}
		return nil
	}))
	require.NoError(t, with(func(ctx context.Context, s *store.Store) error {
		if err := s.TurnClock(ctx, w.ahead); err != nil {
			return err
		}
		p, _, err := s.PersonByLogin(ctx, sefa.Login)
		if err != nil {
			return err
		}
		w.Token, _, err = access.NewToken(ctx, s, p.ID, p.Login, job.SignIn{Name: "made at the machine"})
		return err
	})(context.Background(), w.Db))
	w.C = client.New("http://"+w.Listen, w.Token)
}

// company gives the company's data as they stand on a day. All worlds read the same.
func company(t testing.TB, now time.Time) string {
	t.Helper()
	zone, err := time.LoadLocation(demo.Zone)
	require.NoError(t, err)
	now = now.In(zone)
	return pgtest.Once(t, "tarnwick_"+now.Format("060102"), func(ctx context.Context, dsn string) error {
		conn, err := pgx.Connect(ctx, dsn)
		if err != nil {
			return err
		}
		defer func() { _ = conn.Close(ctx) }()
		return demo.Fill(ctx, conn, 1, now, "reports")
	})
}

// with opens our records for as long as something is done.
func with(do func(context.Context, *store.Store) error) func(context.Context, string) error {
	return func(ctx context.Context, dsn string) error {
		s, err := store.Open(ctx, dsn, store.Options{Conns: 4})
		if err != nil {
			return err
		}
		defer s.Close()
		return do(ctx, s)
	}
}
