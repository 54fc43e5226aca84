// Package report puts the queries of a saved report to its source and streams
// the rows to a sink. Memory does not grow with the number of rows.
//
// Each source has a pool of its own. A query runs alone, as one statement in a
// read-only transaction with a time limit, and a connection is cleaned before
// it is used again.
package report

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"strings"
	"sync"
	"time"

	"ironbell/internal/core/fault"
	"ironbell/internal/core/job"
	"ironbell/internal/core/rows"
	"ironbell/internal/outgoing"
	"ironbell/internal/store"
)

// Query is one query to be run.
type Query struct {
	SQL    string
	Params []job.Parameter
	Values []job.Bound
	Zone   string        // in which instants are written
	Limit  time.Duration // longest time; the source's own may be shorter
	Rows   int64         // most rows, after which the query is ended without a fault; 0: all
}

// Limits are the settings that all sources of rows have.
type Limits struct {
	Conns   int          `json:"conns,omitempty"`   // connections at most; 4 when 0
	Rows    int64        `json:"rows,omitempty"`    // rows of one query at most; any number when 0
	Longest job.Duration `json:"longest,omitempty"` // time of one query at most, such as 10m
}

// conns is how many connections there may be.
func (l Limits) conns() int {
	if l.Conns <= 0 {
		return 4
	}
	return min(l.Conns, 1000)
}

// shorter gives the shorter of two limits of time, of which 0 is none.
func (l Limits) shorter(limit time.Duration) time.Duration {
	if longest := time.Duration(l.Longest); longest > 0 && (limit == 0 || longest < limit) {
		return longest
	}
	return limit
}

// errEnough ends a query of which no more rows are wanted.
var errEnough = errors.New("no more rows are wanted")

// guarded hands rows on until a limit: the source's own is a fault, the query's
// is not.
type guarded struct {
	rows.Sink
	source  string
	section string
	most    int64 // of the source; 0: any number
	wanted  int64 // of the query; 0: all
	n       int64
}

func (g *guarded) Row(row rows.Row) error {
	if g.wanted > 0 && g.n >= g.wanted {
		return errEnough
	}
	if g.n++; g.most > 0 && g.n > g.most {
		return fault.New(fault.Task, "run the query of section "+quote(g.section), fmt.Sprintf("it gives more than %d rows, which is the limit of source %s", g.most, quote(g.source)),
			"Restrict the query, or let an administrator raise the limit of the source.")
	}
	return g.Sink.Row(row)
}

// Source is an open source of rows. It may be used by several goroutines.
type Source interface {
	// Stream puts a query and hands its rows on; it gives their number.
	Stream(ctx context.Context, q Query, section string, to rows.Sink) (int64, error)
	// Describe checks a query without running it and gives its columns.
	Describe(ctx context.Context, q Query) ([]rows.Column, error)
	// Test tells what the server answers.
	Test(ctx context.Context) (string, error)
	// Login says as whom it reads, such as "ferry_reports at tarnwick".
	Login() string
	Close()
}

// Checked is a source that can tell what would let a query out of its identity.
type Checked interface {
	// Ways lists them in words; there should be none.
	Ways(ctx context.Context) ([]string, error)
}

// Statements is a source that runs statements, too, when its settings allow it.
type Statements interface {
	// Exec runs one statement in a transaction of its own and gives the number
	// of rows that it changed.
	Exec(ctx context.Context, q Query) (int64, error)
	// Executes tells whether the settings allow statements.
	Executes() bool
	// Read lets the database read a statement, and gives what it finds wrong with its
	// form: that it is none, or several. A database that does not answer finds nothing.
	Read(ctx context.Context, q Query) error
}

// Allowed is what the operator of this machine lets sources reach.
type Allowed struct {
	Folders []string        // in which, or below which, sources may lie
	Guard   *outgoing.Guard // of addresses that sources may fetch from
	Untried []string        // drivers that were never tried on a real server and are used all the same
}

// drivers is the table of all drivers.
var drivers = []struct {
	name string
	open func(a Allowed, name string, settings json.RawMessage, password string) (Source, error)
}{
	{"postgres", func(_ Allowed, name string, settings json.RawMessage, password string) (Source, error) {
		return openPostgres(name, settings, password)
	}},
	{"mysql", func(_ Allowed, name string, settings json.RawMessage, password string) (Source, error) {
		return openMySQL(name, settings, password)
	}},
	{"sqlite", func(a Allowed, name string, settings json.RawMessage, _ string) (Source, error) {
		return openSQLite(name, settings, a.Folders)
	}},
	{"sqlserver", openSQLServer},
	{"folder", func(a Allowed, name string, settings json.RawMessage, _ string) (Source, error) {
		return openFolder(name, settings, a.Folders)
	}},
	{"http", func(a Allowed, name string, settings json.RawMessage, password string) (Source, error) {
		return openHTTP(name, settings, password, a.Guard)
	}},
}

// Open opens a source of a given driver.
func (a Allowed) Open(driver, name string, settings json.RawMessage, password string) (Source, error) {
	names := make([]string, len(drivers))
	for i, d := range drivers {
		if d.name == driver {
			return d.open(a, name, settings, password)
		}
		names[i] = d.name
	}
	return nil, fault.New(fault.Source, "open source "+quote(name), fmt.Sprintf("there is no driver %q; there are %s", driver, strings.Join(names, ", ")), "")
}

// Vault opens sealed secrets.
type Vault interface {
	Open(record string, sealed []byte) (string, error)
}

// Sources keeps open sources by name and opens them anew when their record
// changed. It may be used by several goroutines.
type Sources struct {
	Allowed
	store *store.Store
	vault Vault
	mu    sync.Mutex
	open  map[string]opened
}

type opened struct {
	source Source
	saved  time.Time
}

// NewSources gives the sources that stand in the store.
func NewSources(s *store.Store, v Vault, a Allowed) *Sources {
	return &Sources{Allowed: a, store: s, vault: v, open: map[string]opened{}}
}

// Get opens a source as one of its identities, or as its own login when identity
// is empty, or gives the one that is open. Each identity has a pool of its own.
func (s *Sources) Get(ctx context.Context, name, identity string) (Source, error) {
	doing := "open source " + quote(name)
	p, err := s.store.Place(ctx, store.Source, name)
	var missing *store.NotFound
	if errors.As(err, &missing) {
		return nil, fault.New(fault.Source, doing, "there is no such source", "Add it, or name another one in the report.")
	}
	if err != nil {
		return nil, fault.Wrap(err, fault.Passing, fault.Source, doing, "")
	}
	record, settings, secret, saved := "source:"+name, p.Settings, p.Secret, p.UpdatedAt
	key := name
	if identity != "" {
		i, err := s.store.Identity(ctx, name, identity)
		if errors.As(err, &missing) {
			return nil, fault.New(fault.Source, doing, fmt.Sprintf("it has no identity %q", identity), "Add it, or name another one in the report or the job.")
		}
		if err != nil {
			return nil, fault.Wrap(err, fault.Passing, fault.Source, doing, "")
		}
		if settings, err = As(p.Settings, i.Login); err != nil {
			return nil, fault.Wrap(err, fault.Lasting, fault.Source, doing, "Save its settings again.")
		}
		record, secret, key = IdentityRecord(name, identity), i.Secret, name+"\x00"+identity
		if i.UpdatedAt.After(saved) {
			saved = i.UpdatedAt
		}
	}
	if source, ok := s.had(key, saved); ok {
		return source, nil
	}
	password, err := s.vault.Open(record, secret)
	if err != nil {
		return nil, fault.Wrap(err, fault.Lasting, fault.Source, doing, "")
	}
	source, err := s.Open(p.Protocol, name, settings, password)
	if err != nil {
		return nil, err
	}
	if checked, can := source.(Checked); can && identity != "" {
		// The rights of a login may change at any time; they are looked at
		// whenever its pool is opened anew.
		if err := Confined(ctx, checked, identity); err != nil {
			source.Close()
			return nil, err
		}
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	had, ok := s.open[key]
	if ok && had.saved.Equal(saved) {
		source.Close() // somebody else was quicker
		return had.source, nil
	}
	if ok {
		// Queries that still run on the old pool end first.
		go had.source.Close()
	}
	s.open[key] = opened{source: source, saved: saved}
	return source, nil
}

func (s *Sources) had(key string, saved time.Time) (Source, bool) {
	s.mu.Lock()
	defer s.mu.Unlock()
	had, ok := s.open[key]
	return had.source, ok && had.saved.Equal(saved)
}

// IdentityRecord is the name under which the secret of an identity is sealed.
func IdentityRecord(source, identity string) string { return "identity:" + source + ":" + identity }

// As gives the settings of a source with another login.
func As(settings json.RawMessage, login string) (json.RawMessage, error) {
	fields := map[string]any{}
	if err := json.Unmarshal(settings, &fields); err != nil {
		return nil, fmt.Errorf("read the settings: %w", err)
	}
	if _, ok := fields["user"]; !ok {
		return nil, errors.New("this source signs nobody in and so has no identities")
	}
	fields["user"] = login
	// Statements belong to the source's own login only.
	delete(fields, "statements")
	return json.Marshal(fields)
}

// Confined tells whether a query that runs as an identity stays within its rows.
func Confined(ctx context.Context, source Checked, identity string) error {
	ways, err := source.Ways(ctx)
	if err != nil {
		return err
	}
	if len(ways) == 0 {
		return nil
	}
	return fault.New(fault.Source, "read as identity "+quote(identity), "a query could get out of it: "+strings.Join(ways, "; "),
		"Take these rights from the login, or give the identity another login.")
}

// Close closes all sources, once the queries on them have ended.
func (s *Sources) Close() {
	s.mu.Lock()
	defer s.mu.Unlock()
	for name, o := range s.open {
		o.source.Close()
		delete(s.open, name)
	}
}

func quote(name string) string { return fmt.Sprintf("%q", name) }
