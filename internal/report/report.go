// Package report puts the queries of a saved report to its source and streams
// the rows to a sink. Memory does not grow with the number of rows.
//
// Each source has a pool of its own. A query runs alone, as one statement in a
// read-only transaction with a time limit, and a connection is cleaned before
// it is used again.
package report

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"reflect"
	"strings"
	"sync"
	"time"

	"ironbell/internal/core/fault"
	"ironbell/internal/core/job"
	"ironbell/internal/core/rows"
	"ironbell/internal/outgoing"
	"ironbell/internal/store/db"
	"ironbell/internal/store/records"
)

// Query is one query to be run.
type Query struct {
	SQL    string
	Params []job.Parameter
	Values []job.Bound
	Zone   string        // in which instants are written
	Limit  time.Duration // longest time; the source's own may be shorter
	Rows   int64         // most rows, after which the query is ended without a fault; 0: all
	Bytes  int64         // of its answer at most; the source's own limit may be less
}

// Limits are the settings that all sources of rows have.
type Limits struct {
	Conns   int          `json:"conns,omitempty" few:"yes" doc:"connections at most; 4 when left out"`
	Rows    int64        `json:"rows,omitempty" few:"yes" doc:"rows of one query at most; any number when left out"`
	Bytes   int64        `json:"bytes,omitempty" few:"yes" doc:"bytes of one answer at most; 8 GB when left out"`
	Longest job.Duration `json:"longest,omitempty" few:"yes" doc:"time of one query at most, such as 10m"`
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

// What one cell, one row and one answer may have, in bytes: each cell and row stands in
// memory as a whole, and what is made of an answer has to be kept.
const (
	maxCell   = 16 << 20
	maxRow    = 64 << 20
	maxAnswer = 8 << 30
)

// guarded hands rows on until a limit: the source's own is a fault, the number of rows
// that are wanted is not.
type guarded struct {
	rows.Sink
	source  string
	section string
	columns []rows.Column
	limits  Limits
	query   Query
	n       int64
	bytes   int64
}

// guard guards a sink for a query that is put to a source with some limits.
func guard(to rows.Sink, source, section string, l Limits, q Query) *guarded {
	most := int64(maxAnswer)
	if l.Bytes > 0 {
		most = l.Bytes
	}
	if q.Bytes <= 0 || q.Bytes > most {
		q.Bytes = most
	}
	return &guarded{Sink: to, source: source, section: section, limits: l, query: q}
}

func (g *guarded) Columns(section string, columns []rows.Column) error {
	g.columns = columns
	return g.Sink.Columns(section, columns)
}

func (g *guarded) Row(row rows.Row) error {
	if g.query.Rows > 0 && g.n >= g.query.Rows {
		return errEnough
	}
	if g.n++; g.limits.Rows > 0 && g.n > g.limits.Rows {
		return g.tooMuch(fmt.Sprintf("it gives more than %d rows, which is the limit of source %s", g.limits.Rows,
			quote(g.source)))
	}
	size := int64(0)
	for i, c := range row {
		if len(c.Text) > maxCell {
			return g.tooMuch(fmt.Sprintf("row %d has a cell of %d bytes in the column %s, and one of more than %d "+
				"is not read", g.n, len(c.Text), quote(g.columns[i].Name), maxCell))
		}
		size += int64(len(c.Text))
	}
	if size > maxRow {
		return g.tooMuch(fmt.Sprintf("row %d has %d bytes, and one of more than %d is not read", g.n, size, maxRow))
	}
	if g.bytes += size; g.bytes > g.query.Bytes {
		return g.tooMuch(fmt.Sprintf("its answer has more than %d bytes by row %d, which is the limit here",
			g.query.Bytes, g.n))
	}
	return g.Sink.Row(row)
}

func (g *guarded) tooMuch(what string) error {
	return fault.New(fault.Task, "run the query of section "+quote(g.section), what,
		"Restrict the query, cut long columns short in it, or let an administrator raise the limit of the source.")
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
	name     string
	title    string
	settings any
	password string // what the password is; empty when there is none
	open     func(a Allowed, name string, settings json.RawMessage, password string) (Source, error)
}{
	{"postgres", "PostgreSQL", PostgresSettings{}, serverPassword, func(_ Allowed, name string, settings json.RawMessage, password string) (Source, error) {
		return openPostgres(name, settings, password)
	}},
	{"mysql", "MySQL or MariaDB", ServerSettings{}, serverPassword, func(_ Allowed, name string, settings json.RawMessage, password string) (Source, error) {
		return openMySQL(name, settings, password)
	}},
	{"sqlite", "SQLite file", FileSettings{}, "", func(a Allowed, name string, settings json.RawMessage, _ string) (Source, error) {
		return openSQLite(name, settings, a.Folders)
	}},
	{"sqlserver", "SQL Server", ServerSettings{}, serverPassword, openSQLServer},
	{"folder", "Folder of files", FolderSettings{}, "", func(a Allowed, name string, settings json.RawMessage, _ string) (Source, error) {
		return openFolder(name, settings, a.Folders)
	}},
	{"http", "HTTP address", HTTPSettings{}, "a token that is sent with each request, if it wants one", func(a Allowed, name string, settings json.RawMessage, password string) (Source, error) {
		return openHTTP(name, settings, password, a.Guard)
	}},
}

const serverPassword = "password of the user"

// Describe tells what the settings of each driver are, by their names.
func Describe() []job.Driver {
	out := make([]job.Driver, 0, len(drivers))
	for _, d := range drivers {
		one := job.Driver{Name: d.name, Title: d.title, Settings: job.DescribeSettings(d.settings)}
		if d.password != "" {
			one.Password = &job.Setting{Name: "password", Form: job.SettingText, Doc: d.password}
		}
		if d.name == "sqlserver" {
			one.Note = Untested
		}
		out = append(out, one)
	}
	return out
}

// readSettings reads the settings of a source. A name that its driver does not know is
// refused: what somebody meant to set must not be left out in silence.
func readSettings(name string, settings json.RawMessage, into any) error {
	doing := "read the settings of source " + quote(name)
	d := json.NewDecoder(bytes.NewReader(settings))
	d.DisallowUnknownFields()
	err := d.Decode(into)
	var kind *json.UnmarshalTypeError
	if errors.As(err, &kind) {
		return fault.New(fault.Source, doing, fmt.Sprintf("the setting %s takes no %s", kind.Field, kind.Value),
			"Save its settings again.")
	}
	if err == nil {
		return nil
	}
	if unknown, ok := strings.CutPrefix(err.Error(), "json: unknown field "); ok {
		return fault.New(fault.Source, doing,
			fmt.Sprintf("there is no setting %s; there are %s", unknown,
				strings.Join(settingNames(reflect.TypeOf(into).Elem()), ", ")), "Save its settings again.")
	}
	return fault.Wrap(err, fault.Lasting, fault.Source, doing, "Save its settings again.")
}

// settingNames are the names of settings as they are written.
func settingNames(of reflect.Type) []string {
	var names []string
	for _, f := range reflect.VisibleFields(of) {
		if !f.Anonymous {
			name, _, _ := strings.Cut(f.Tag.Get("json"), ",")
			names = append(names, name)
		}
	}
	return names
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
	return nil,
		fault.New(fault.Source, "open source "+quote(name),
			fmt.Sprintf("there is no driver %q; there are %s", driver, strings.Join(names, ", ")), "")
}

// Vault opens sealed secrets.
type Vault interface {
	Open(record string, sealed []byte) (string, error)
}

// asks is what sources want of the store.
type asks interface {
	Identity(ctx context.Context, source, name string) (records.Identity, error)
	Place(ctx context.Context, kind records.PlaceKind, name string) (records.Place, error)
	SourceWrites(ctx context.Context, id int64, writes string) error
}

// Sources keeps open sources by name and opens them anew when their record
// changed. It may be used by several goroutines.
type Sources struct {
	Allowed
	store asks
	vault Vault
	mu    sync.Mutex
	open  map[string]opened
}

type opened struct {
	source Source
	saved  time.Time
}

// NewSources gives the sources that stand in the store.
func NewSources(s asks, v Vault, a Allowed) *Sources {
	return &Sources{Allowed: a, store: s, vault: v, open: map[string]opened{}}
}

// Get opens a source as one of its identities, or as its own login when identity
// is empty, or gives the one that is open. Each identity has a pool of its own.
func (s *Sources) Get(ctx context.Context, name, identity string) (Source, error) {
	doing := "open source " + quote(name)
	p, err := s.store.Place(ctx, records.Source, name)
	var missing *db.NotFound
	if errors.As(err, &missing) {
		if missing.Removed != nil {
			return nil, fault.New(fault.Source, doing, missing.Removed.String(), "Bring it back, or name another one in the report.")
		}
		return nil,
			fault.New(fault.Source, doing, "there is no such source", "Add it, or name another one in the report.")
	}
	if err != nil {
		return nil, fault.Wrap(err, fault.Passing, fault.Source, doing, "")
	}
	name = p.Name // it may have been asked for by one that it had before
	record, settings, secret, saved := "source:"+name, p.Settings, p.Secret, p.UpdatedAt
	key := name
	if identity != "" {
		i, err := s.store.Identity(ctx, name, identity)
		if errors.As(err, &missing) {
			return nil,
				fault.New(fault.Source, doing, fmt.Sprintf("it has no identity %q", identity),
					"Add it, or name another one in the report or the job.")
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
	// The rights of a login may change at any time; they are looked at whenever its pool
	// is opened anew.
	if err := s.mayRead(ctx, source, p, identity); err != nil {
		source.Close()
		return nil, err
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

// mayRead asks the server whether the login may be read with, and keeps what a source's
// own login can write.
func (s *Sources) mayRead(ctx context.Context, source Source, p records.Place, identity string) error {
	if identity != "" {
		if checked, can := source.(Checked); can {
			return Confined(ctx, checked, identity)
		}
		return nil
	}
	writes, err := ReadsOnly(ctx, source, p.Name)
	if err != nil {
		return err
	}
	if said := strings.Join(writes, "; "); said != p.Writes {
		return s.store.SourceWrites(ctx, p.ID, said)
	}
	return nil
}

// Try opens a source as it is to be saved and asks its server what the login may do. A
// nil password is the one that is sealed. It gives what the login can write, and whether
// the server answered at all; one that does not is asked when the source is first used.
func (s *Sources) Try(ctx context.Context, name, driver string, settings json.RawMessage, password *string,
	sealed []byte,
) (writes []string, asked bool, err error) {
	var plain string
	if password != nil {
		plain = *password
	} else if plain, err = s.vault.Open("source:"+name, sealed); err != nil {
		return nil, false, err
	}
	source, err := s.Open(driver, name, settings, plain)
	if err != nil {
		return nil, false, err
	}
	defer source.Close()
	checked, ok := source.(Checked)
	if !ok {
		return nil, true, nil
	}
	r, err := checked.Rights(ctx)
	if err != nil {
		return nil, false, nil // its test says so; nothing is read before it has answered
	}
	writes, err = r.readsOnly(name)
	return writes, true, err
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
	// Statements belong to the source's own login only, and so does what was signed for it.
	delete(fields, "statements")
	delete(fields, "may_write")
	return json.Marshal(fields)
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
