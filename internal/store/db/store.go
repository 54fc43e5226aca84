// Package db is the way to PostgreSQL beneath our records: the pool, transactions that are tried
// again, migrations, notices; settings, revisions and the errors that all rooms of the store
// share.
package db

import (
	"context"
	"database/sql"
	"database/sql/driver"
	"embed"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net"
	"slices"
	"strings"
	"time"

	"ironbell/internal/core/job"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"
	"github.com/jackc/pgx/v5/pgxpool"
	"github.com/jackc/pgx/v5/stdlib"
	"github.com/jmoiron/sqlx"
	"github.com/pressly/goose/v3"
	"github.com/pressly/goose/v3/lock"
)

//go:embed migrations/*.sql
var migrations embed.FS

// Pool are the connections of one program.
type Pool struct {
	Base
	pool  *pgxpool.Pool
	db    *sqlx.DB
	alone chan struct{} // room for those who hold a connection while they are alone
}

// Base holds the methods that work inside and outside of a transaction.
type Base struct {
	Ext sqlx.ExtContext

	// Of a transaction: its notices, which are sent together when it commits.
	notices *[]Notice
}

// ErrStale says that a lease was lost: another node has the work now, and the
// write was refused.
var ErrStale = errors.New("the lease was lost: another node has this work, or it was ended")

// NotFound says that there is no such record.
type NotFound struct {
	Kind, Name string
	Removed    *Removal // when there was one, and it can be brought back
}

func (e *NotFound) Error() string {
	text := fmt.Sprintf("there is no %s %q", e.Kind, e.Name)
	if e.Removed != nil {
		text += "; " + e.Removed.String()
	}
	return text
}

// Taken says that a name is in use already.
type Taken struct {
	Kind, Name string
	Alike      bool     // only a name like it is there: in other case, or other forms of its letters
	Removed    *Removal // of the one that has it, when that can be brought back
	Former     string   // the name that the one has now which had it before
}

// IsMissing tells whether an error says that there is no such record.
func IsMissing(err error) bool {
	var missing *NotFound
	return errors.As(err, &missing)
}

func (e *Taken) Error() string {
	if e.Alike {
		return fmt.Sprintf("there is a %s already whose name people cannot tell from %q: it differs by case, or by "+
			"how a letter is written; choose another name, or write it as it is there", e.Kind, e.Name)
	}
	text := fmt.Sprintf("there is a %s %q already", e.Kind, e.Name)
	switch {
	case e.Removed != nil:
		text = fmt.Sprintf("the name %q belongs to a %s that is not gone yet: %s", e.Name, e.Kind, e.Removed)
	case e.Former != "":
		text = fmt.Sprintf("the %s %q had the name %q before, and is still found by it", e.Kind, e.Former, e.Name)
	}
	return text + "; choose another name"
}

// Options of a store.
type Options struct {
	Conns   int         // connections at most; 20 when 0
	Waiting func(error) // told once when the database does not answer yet; may be nil
}

// Open connects to the database that dsn names and waits for it until ctx ends.
// It changes nothing; Migrate does.
func Open(ctx context.Context, dsn string, o Options) (*Pool, error) {
	config, err := pgxpool.ParseConfig(dsn)
	if err != nil {
		return nil, fmt.Errorf("read the database's connection string: %w", err)
	}
	config.MaxConns = int32(max(o.Conns, 0)) //nolint:gosec // a handful
	if o.Conns == 0 {
		config.MaxConns = 20
	}
	config.ConnConfig.RuntimeParams["application_name"] = "ironbell"
	config.ConnConfig.RuntimeParams["timezone"] = "UTC"
	// Planning a statement on partitioned tables costs more than running it; one
	// plan serves all values, and partitions are chosen when it runs.
	config.ConnConfig.RuntimeParams["plan_cache_mode"] = "force_generic_plan"
	// Such a plan may be made while a month's partition is still empty and then
	// serve it full: every search has an index, and must use it.
	config.ConnConfig.RuntimeParams["enable_seqscan"] = "off"
	// Compiling a statement pays for reports over many rows; ours touch a few, and
	// waited for it at each call.
	config.ConnConfig.RuntimeParams["jit"] = "off"
	config.ConnConfig.ConnectTimeout = 10 * time.Second
	pool, err := pgxpool.NewWithConfig(ctx, config)
	if err != nil {
		return nil, fmt.Errorf("open the database: %w", err)
	}
	for told := false; ; {
		err = pool.Ping(ctx)
		if err == nil {
			break
		}
		var said *pgconn.PgError
		if errors.As(err, &said) && (said.Code[:2] == "28" || said.Code[:2] == "3D") {
			pool.Close() // waiting changes no password and makes no database
			return nil, fmt.Errorf("the database refuses us: %s; check the connection string", said.Message)
		}
		if o.Waiting != nil && !told {
			told = true
			o.Waiting(err)
		}
		select {
		case <-ctx.Done():
			pool.Close()
			return nil, fmt.Errorf("the database does not answer: %w", err)
		case <-time.After(200 * time.Millisecond):
		}
	}
	db := sqlx.NewDb(stdlib.OpenDBFromPool(pool), "pgx")
	return &Pool{Base: Base{Ext: db}, pool: pool, db: db, alone: make(chan struct{}, max(config.MaxConns/2, 1))}, nil
}

// Close gives all connections back.
func (s *Pool) Close() {
	_ = s.db.Close() // it has nothing of its own: the pool is closed next
	s.pool.Close()
}

// Connections is the pool beneath, for libraries that bring their own tables.
func (s *Pool) Connections() *pgxpool.Pool { return s.pool }

// Ping tells whether the database answers.
func (s *Pool) Ping(ctx context.Context) error { return s.pool.Ping(ctx) }

// Migrate brings the schema to the version of this program. Several nodes may
// call it at once: one works, the others wait.
func (s *Pool) Migrate(ctx context.Context) error {
	dir, err := fs.Sub(migrations, "migrations")
	if err != nil {
		return fmt.Errorf("find the migrations: %w", err)
	}
	locker, err := lock.NewPostgresSessionLocker()
	if err != nil {
		return fmt.Errorf("prepare the migrations' lock: %w", err)
	}
	provider, err := goose.NewProvider(goose.DialectPostgres, s.db.DB, dir, goose.WithSessionLocker(locker))
	if err != nil {
		return fmt.Errorf("read the migrations: %w", err)
	}
	if _, err := provider.Up(ctx); err != nil {
		return fmt.Errorf("bring the database to this version: %w", err)
	}
	return s.EnsureMonths(ctx)
}

// EnsureMonths makes the partitions of this month and the next two.
func (s *Pool) EnsureMonths(ctx context.Context) error {
	_, err := s.Ext.ExecContext(ctx, `SELECT ensure_months(2)`)
	return Wrap(err, "make the partitions of the coming months")
}

// Do runs f in one transaction and tries it again, a few times, when the
// database broke it off in favour of another (deadlock, serialization).
func (s *Pool) Do(ctx context.Context, f func(Base) error) error {
	const tries = 4
	var err error
	for range tries {
		err = s.once(ctx, f)
		var pg *pgconn.PgError
		if !errors.As(err, &pg) || (pg.Code != "40P01" && pg.Code != "40001") {
			return err
		}
	}
	return err
}

func (s *Pool) once(ctx context.Context, f func(Base) error) error {
	tx, err := s.db.BeginTxx(ctx, nil)
	if err != nil {
		return fmt.Errorf("begin a transaction: %w", err)
	}
	defer func() { _ = tx.Rollback() }() // after a commit there is nothing to undo
	var notices []Notice
	t := Base{Ext: tx, notices: &notices}
	if err := f(t); err != nil {
		return err
	}
	if tries(ctx) {
		return nil
	}
	if err := t.send(ctx, notices); err != nil {
		return err
	}
	return Wrap(tx.Commit(), "commit")
}

type tryingKey struct{}

// Trying gives a context in which a transaction is carried out and then undone: what would
// be refused is refused, and nothing is changed and nobody is told.
func Trying(ctx context.Context) context.Context { return context.WithValue(ctx, tryingKey{}, true) }

func tries(ctx context.Context) bool { return ctx.Value(tryingKey{}) != nil }

// Notice is word of a change.
type Notice = job.Notice

const channel = "ironbell"

// Tell sends notices to every node, when the transaction commits if there is one.
func (q Base) Tell(ctx context.Context, all ...Notice) error {
	if q.notices == nil {
		return q.send(ctx, all)
	}
	for _, n := range all {
		if !slices.Contains(*q.notices, n) {
			*q.notices = append(*q.notices, n)
		}
	}
	return nil
}

// send sends notices as one statement. A notice travels as its kind, a blank and its id.
func (q Base) send(ctx context.Context, all []Notice) error {
	if len(all) == 0 {
		return nil
	}
	words := make([]string, len(all))
	for i, n := range all {
		words[i] = string(n.Kind) + " " + n.ID
	}
	_, err := q.Ext.ExecContext(ctx, `SELECT pg_notify($1, word) FROM unnest($2::text[]) AS u(word)`, channel, words)
	return Wrap(err, "notify")
}

// Listen calls heard for each notice until ctx ends or the line breaks. It has
// a connection of its own. ready is called once, when nothing is missed anymore.
func (s *Pool) Listen(ctx context.Context, ready func(), heard func(Notice)) error {
	conn, err := s.pool.Acquire(ctx)
	if err != nil {
		return fmt.Errorf("listen: %w", err)
	}
	line := conn.Hijack()
	defer func() {
		ending, stop := context.WithTimeout(context.WithoutCancel(ctx), time.Second)
		defer stop()
		_ = line.Close(ending) // the line is given up either way
	}()
	if _, err := line.Exec(ctx, "LISTEN "+pgx.Identifier{channel}.Sanitize()); err != nil {
		return fmt.Errorf("listen: %w", err)
	}
	ready()
	for {
		n, err := line.WaitForNotification(ctx)
		if err != nil {
			return fmt.Errorf("listen: %w", err)
		}
		kind, id, _ := strings.Cut(n.Payload, " ")
		heard(Notice{Kind: job.NoticeKind(kind), ID: id})
	}
}

// Document is a column of JSON.
type Document[T any] struct{ V T }

// Scan implements sql.Scanner.
func (d *Document[T]) Scan(src any) error {
	var text []byte
	switch v := src.(type) {
	case nil:
		return nil
	case []byte:
		text = v
	case string:
		text = []byte(v)
	default:
		return fmt.Errorf("a %T is no JSON", src)
	}
	if len(text) == 2 && (text[0] == '{' || text[0] == '[') {
		return nil // empty, as most of them are: the zero value says so
	}
	return json.Unmarshal(text, &d.V)
}

// Value implements driver.Valuer.
func (d Document[T]) Value() (driver.Value, error) {
	text, err := json.Marshal(d.V)
	return string(text), err
}

// Wrap says what was being done when the database failed; nil stays nil.
func Wrap(err error, doing string) error {
	if err == nil {
		return nil
	}
	return fmt.Errorf("%s: %w", doing, err)
}

// Found turns the driver's "no rows" into a NotFound.
func Found(err error, kind, name string) error {
	if errors.Is(err, sql.ErrNoRows) {
		return &NotFound{Kind: kind, Name: name}
	}
	return Wrap(err, "read the "+kind)
}

// Unwritable tells whether the database refused a text for a character that it cannot
// hold (PostgreSQL error codes 22021 and 22P05).
func Unwritable(err error) bool {
	var pg *pgconn.PgError
	return errors.As(err, &pg) && (pg.Code == "22021" || pg.Code == "22P05")
}

// WasTaken tells whether a write was refused since a row with its key stands already.
func WasTaken(err error) bool {
	var pg *pgconn.PgError
	return errors.As(err, &pg) && pg.Code == "23505"
}

// Unique turns a violated unique index into a Taken.
func Unique(err error, kind, name string) error {
	var pg *pgconn.PgError
	if WasTaken(err) && errors.As(err, &pg) {
		return &Taken{Kind: kind, Name: name, Alike: strings.HasSuffix(pg.ConstraintName, "_alike")}
	}
	return Wrap(err, "save the "+kind)
}

// One expects that a write moved exactly one row.
func One(res sql.Result, err error) error {
	if err != nil {
		return err
	}
	n, err := res.RowsAffected()
	if err != nil {
		return err
	}
	if n == 0 {
		return ErrStale
	}
	return nil
}

// Refused tells whether the database itself said no to what an error is about, or
// whether it came from our own records: another try would meet it again. It is not
// so when the database is away, overloaded, stopping or ended one of several
// transactions in favour of another.
func Refused(err error) bool {
	var said *pgconn.PgError
	if errors.As(err, &said) {
		switch said.Code[:2] {
		case "08", "25", "40", "53", "57", "58", "XX":
			return false
		}
		return true
	}
	var net net.Error
	var connecting *pgconn.ConnectError
	away := errors.Is(err, context.Canceled) || errors.Is(err, context.DeadlineExceeded) ||
		errors.Is(err, sql.ErrConnDone) || errors.Is(err, driver.ErrBadConn) ||
		errors.Is(err, io.EOF) || errors.Is(err, io.ErrUnexpectedEOF) || errors.As(err, &net) ||
		errors.As(err, &connecting) || pgconn.Timeout(err) || pgconn.SafeToRetry(err) ||
		strings.Contains(err.Error(), "conn closed") || strings.Contains(err.Error(), "closed pool")
	return !away
}
