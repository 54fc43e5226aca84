// Package pgtest gives tests databases of a real PostgreSQL server. It is started once for each test program;
// or once for all of them, where whoever runs them says which one they share.
package pgtest

import (
	"context"
	"errors"
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
	"github.com/jackc/pgx/v5/pgconn"
)

// Variable names the server that the test programs of one run share, by the address of its database postgres.
const Variable = "IRONBELL_TEST_SERVER"

// Records is the name of the database of our own records, as the migrations leave it: one template for the tests
// of all packages.
const Records = "records"

// limit is how long a database may take to be made, on a machine with other work.
const limit = 2 * time.Minute

var shared struct {
	sync.Mutex
	server    *localpg.Server // of this program alone
	dir       string
	address   string // of the database postgres
	templates map[string]bool
	count     int
}

// Options are those of a server for tests: what it holds may be lost.
func Options(dir string) localpg.Options {
	return localpg.Options{Dir: dir, Volatile: true, Conns: 600, Settings: map[string]string{
		// What tests leave behind is thrown away: nobody needs it tidied, or written soon.
		"autovacuum": "off", "max_wal_size": "4GB", "checkpoint_timeout": "1h", "wal_level": "minimal", "max_wal_senders": "0",
	}}
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

// Address is the connection string of a database of the server, which is started when nobody did.
func Address(t testing.TB, database string) string {
	t.Helper()
	shared.Lock()
	defer shared.Unlock()
	start(t)
	return of(database)
}

func of(database string) string {
	u, err := url.Parse(shared.address)
	if err != nil {
		panic(err) // start has read it
	}
	u.Path = "/" + database
	return u.String()
}

func start(t testing.TB) {
	t.Helper()
	if shared.address != "" {
		return
	}
	shared.templates = map[string]bool{}
	if given := os.Getenv(Variable); given != "" {
		if _, err := url.Parse(given); err != nil {
			t.Fatal(err)
		}
		shared.address = given
		return
	}
	dir, err := os.MkdirTemp("", "ironbell-pg-*") //nolint:usetesting // it outlives the test that starts it
	if err == nil {
		err = os.Chmod(dir, 0o755) //nolint:gosec // the server's user must pass
	}
	if err != nil {
		t.Fatal(err)
	}
	ctx, stop := context.WithTimeout(context.Background(), limit)
	defer stop()
	s, err := localpg.Start(ctx, Options(dir+"/data"))
	if err != nil {
		t.Fatal(err)
	}
	shared.server, shared.dir, shared.address = s, dir, s.DSN("postgres")
}

// New makes a database as prepare leaves it; databases of one name are copies, also those of other programs that
// share the server, so that prepare runs once. It is dropped with its server.
func New(t testing.TB, name string, prepare func(ctx context.Context, dsn string) error) (dsn string) {
	t.Helper()
	template := "template_" + name
	Once(t, template, prepare)
	shared.Lock()
	defer shared.Unlock()
	ctx, stop := context.WithTimeout(context.Background(), limit)
	defer stop()
	conn, err := pgx.Connect(ctx, shared.address)
	if err != nil {
		t.Fatal(err)
	}
	defer func() { _ = conn.Close(ctx) }() // nothing is left on it
	shared.count++
	copied := fmt.Sprintf("%s_%d_%d", name, os.Getpid(), shared.count)
	if err := copyOf(ctx, conn, copied, template); err != nil {
		t.Fatal(err)
	}
	return of(copied)
}

// Once gives the one database of a name, as prepare left it, which all tests of all programs of a run share: for
// those that only read it.
func Once(t testing.TB, name string, prepare func(ctx context.Context, dsn string) error) (dsn string) {
	t.Helper()
	shared.Lock()
	defer shared.Unlock()
	start(t)
	ctx, stop := context.WithTimeout(context.Background(), limit)
	defer stop()
	conn, err := pgx.Connect(ctx, shared.address)
	if err != nil {
		t.Fatal(err)
	}
	defer func() { _ = conn.Close(ctx) }() // nothing is left on it
	if !shared.templates[name] {
		if err := makeTemplate(ctx, conn, name, prepare); err != nil {
			t.Fatal(err)
		}
		shared.templates[name] = true
	}
	return of(name)
}

// makeTemplate makes a database and prepares it, unless another program has done it. What a program left
// half made is made anew. Programs take turns at it by a lock, which ends with their line.
func makeTemplate(ctx context.Context, conn *pgx.Conn, name string, prepare func(ctx context.Context, dsn string) error) error {
	if _, err := conn.Exec(ctx, `SELECT pg_advisory_lock(hashtext($1))`, name); err != nil {
		return fmt.Errorf("wait for the template %s: %w", name, err)
	}
	var done bool
	err := conn.QueryRow(ctx, `SELECT coalesce((SELECT shobj_description(oid, 'pg_database') = 'made' FROM pg_database
		WHERE datname = $1), false)`, name).Scan(&done)
	if err != nil || done {
		return err
	}
	quoted := pgx.Identifier{name}.Sanitize()
	for _, statement := range []string{"DROP DATABASE IF EXISTS " + quoted, "CREATE DATABASE " + quoted} {
		if _, err := conn.Exec(ctx, statement); err != nil {
			return fmt.Errorf("make the template %s: %w", name, err)
		}
	}
	if err := prepare(ctx, of(name)); err != nil {
		return fmt.Errorf("prepare the template %s: %w", name, err)
	}
	if _, err := conn.Exec(ctx, "COMMENT ON DATABASE "+quoted+" IS 'made'"); err != nil {
		return fmt.Errorf("mark the template %s as made: %w", name, err)
	}
	_, err = conn.Exec(ctx, `SELECT pg_advisory_unlock(hashtext($1))`, name)
	return err
}

// copyOf copies a database. While somebody's last line to the original ends, the server refuses it.
func copyOf(ctx context.Context, conn *pgx.Conn, name, template string) error {
	for {
		_, err := conn.Exec(ctx, "CREATE DATABASE "+pgx.Identifier{name}.Sanitize()+" TEMPLATE "+
			pgx.Identifier{template}.Sanitize())
		var refused *pgconn.PgError
		if err == nil || !errors.As(err, &refused) || refused.Code != "55006" {
			return err
		}
		select {
		case <-ctx.Done():
			return err
		case <-time.After(50 * time.Millisecond):
		}
	}
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
