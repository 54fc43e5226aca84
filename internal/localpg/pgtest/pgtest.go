// Package pgtest gives tests databases of a real PostgreSQL server, which is
// started once for each test program.
package pgtest

import (
	"context"
	"fmt"
	"net/url"
	"os"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"ironbell/internal/localpg"

	"github.com/jackc/pgx/v5"
)

var shared struct {
	sync.Mutex
	server    *localpg.Server
	dir       string
	templates map[string]bool
	count     int
}

// Main runs the tests of a package, stops the server after them and exits.
func Main(m *testing.M) { os.Exit(Run(m)) }

// Run runs the tests of a package, stops the server after them and gives the
// exit status.
func Run(m *testing.M) int {
	status := m.Run()
	shared.Lock()
	if shared.server != nil {
		shared.server.Stop()
		if err := os.RemoveAll(shared.dir); err != nil {
			fmt.Fprintln(os.Stderr, "could not remove the test database:", err)
		}
	}
	return status
}

// Server starts the server, or gives the one that runs.
func Server(t testing.TB) *localpg.Server {
	t.Helper()
	shared.Lock()
	defer shared.Unlock()
	return start(t)
}

func start(t testing.TB) *localpg.Server {
	t.Helper()
	if shared.server != nil {
		return shared.server
	}
	dir, err := os.MkdirTemp("", "ironbell-pg-*") //nolint:usetesting // it outlives the test that starts it
	if err == nil {
		err = os.Chmod(dir, 0o755) //nolint:gosec // the server's user must pass
	}
	if err != nil {
		t.Fatal(err)
	}
	ctx, stop := context.WithTimeout(context.Background(), time.Minute)
	defer stop()
	s, err := localpg.Start(ctx, localpg.Options{Dir: dir + "/data", Volatile: true, Conns: 200})
	if err != nil {
		t.Fatal(err)
	}
	shared.server, shared.dir, shared.templates = s, dir, map[string]bool{}
	return s
}

// New makes a database as prepare leaves it; databases of one name are copies,
// so that prepare runs once. It is dropped with its server.
func New(t testing.TB, name string, prepare func(ctx context.Context, dsn string) error) (dsn string) {
	t.Helper()
	shared.Lock()
	defer shared.Unlock()
	s := start(t)
	ctx, stop := context.WithTimeout(context.Background(), time.Minute)
	defer stop()
	conn, err := pgx.Connect(ctx, s.DSN("postgres"))
	if err != nil {
		t.Fatal(err)
	}
	defer func() { _ = conn.Close(ctx) }() // nothing is left on it
	template := "template_" + name
	if !shared.templates[name] {
		if err := s.Ensure(ctx, template); err != nil {
			t.Fatal(err)
		}
		if err := prepare(ctx, s.DSN(template)); err != nil {
			t.Fatal(err)
		}
		shared.templates[name] = true
	}
	shared.count++
	copied := fmt.Sprintf("%s_%d", name, shared.count)
	if _, err := conn.Exec(ctx,
		"CREATE DATABASE "+pgx.Identifier{copied}.Sanitize()+" TEMPLATE "+
			pgx.Identifier{template}.Sanitize()); err != nil {
		t.Fatal(err)
	}
	return s.DSN(copied)
}

// Login makes a login of a database that is no superuser, as a member of some roles, and
// gives the address with it.
func Login(t testing.TB, dsn, roles string) string {
	t.Helper()
	ctx, stop := context.WithTimeout(context.Background(), time.Minute)
	defer stop()
	u, err := url.Parse(dsn)
	if err != nil {
		t.Fatal(err)
	}
	conn, err := pgx.Connect(ctx, dsn)
	if err != nil {
		t.Fatal(err)
	}
	defer func() { _ = conn.Close(ctx) }() // nothing is left on it
	name := fmt.Sprintf("%s_%d", strings.Trim(u.Path, "/"), loginNo.Add(1))
	if _, err := conn.Exec(ctx,
		"CREATE ROLE "+pgx.Identifier{name}.Sanitize()+" LOGIN PASSWORD 'login' IN ROLE "+roles); err != nil {
		t.Fatal(err)
	}
	u.User = url.UserPassword(name, "login")
	return u.String()
}

// loginNo tells logins of one server apart.
var loginNo atomic.Int64

// What Login makes a login of.
const (
	Reader = "pg_read_all_data"
	Writer = "pg_read_all_data, pg_write_all_data"
)
