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
	"sync"
	"time"

	"ironbell/internal/core/fault"
	"ironbell/internal/core/job"
	"ironbell/internal/core/rows"
	"ironbell/internal/store"
)

// Query is one query to be run.
type Query struct {
	SQL    string
	Params []job.Parameter
	Values []job.Bound
	Zone   string        // in which instants are written
	Limit  time.Duration // longest time
}

// Source is an open source of rows. It may be used by several goroutines.
type Source interface {
	// Stream puts a query and hands its rows on; it gives their number.
	Stream(ctx context.Context, q Query, section string, to rows.Sink) (int64, error)
	// Describe checks a query without running it and gives its columns.
	Describe(ctx context.Context, q Query) ([]rows.Column, error)
	// Test tells what the server answers.
	Test(ctx context.Context) (string, error)
	Close()
}

// Statements is a source that runs statements, too, when its settings allow it.
type Statements interface {
	// Exec runs one statement in a transaction of its own and gives the number
	// of rows that it changed.
	Exec(ctx context.Context, q Query) (int64, error)
	// Executes tells whether the settings allow statements.
	Executes() bool
}

// Allowed is what the operator of this machine lets sources reach.
type Allowed struct {
	Folders []string // in which, or below which, sources may lie
}

// Open opens a source of a given driver. There are postgres and folder.
func (a Allowed) Open(driver, name string, settings json.RawMessage, password string) (Source, error) {
	switch driver {
	case "postgres":
		return openPostgres(name, settings, password)
	case "folder":
		return openFolder(name, settings, a.Folders)
	}
	return nil, fault.New(fault.Source, "open source "+quote(name), fmt.Sprintf("there is no driver %q; there are postgres and folder", driver), "")
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

// Get opens a source or gives the one that is open.
func (s *Sources) Get(ctx context.Context, name string) (Source, error) {
	p, err := s.store.Place(ctx, store.Source, name)
	var missing *store.NotFound
	if errors.As(err, &missing) {
		return nil, fault.New(fault.Source, "open source "+quote(name), "there is no such source", "Add it, or name another one in the report.")
	}
	if err != nil {
		return nil, fault.Wrap(err, fault.Passing, fault.Source, "open source "+quote(name), "")
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	had, ok := s.open[name]
	if ok && had.saved.Equal(p.UpdatedAt) {
		return had.source, nil
	}
	password, err := s.vault.Open("source:"+name, p.Secret)
	if err != nil {
		return nil, fault.Wrap(err, fault.Lasting, fault.Source, "open source "+quote(name), "")
	}
	source, err := s.Open(p.Protocol, name, p.Settings, password) //nolint:contextcheck // a pool outlives the call that opens it
	if err != nil {
		return nil, err
	}
	if ok {
		// Queries that still run on the old pool end first.
		go had.source.Close()
	}
	s.open[name] = opened{source: source, saved: p.UpdatedAt}
	return source, nil
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
