package service

import (
	"context"
	"encoding/json"
	"fmt"
	"strings"

	"ironbell/internal/access"
	"ironbell/internal/core/fault"
	"ironbell/internal/core/job"
	"ironbell/internal/store"
	"ironbell/internal/store/db"
	"ironbell/internal/store/records"
)

// What a password may be: at least so many characters, at most so many bytes.
const (
	minPassword = 10
	maxPassword = 1000
)

// Sealer seals secrets for a record.
type Sealer interface {
	Seal(record, plain string) ([]byte, error)
}

// Save checks and saves a source or destination. A nil password keeps the
// one that is there.
func (pl *Places) Save(ctx context.Context, who job.Person, kind records.PlaceKind, name, protocol string,
	settings map[string]any, password *string, seal Sealer,
) (records.Place, error) {
	if err := access.May(who, access.Administer, "", ""); err != nil {
		return records.Place{}, err
	}
	name, err := pl.store.Called(ctx, string(kind), name)
	if err != nil {
		return records.Place{}, err
	}
	v := &fault.Invalid{What: fmt.Sprintf("%s %q", kind, name)}
	CheckName(v, "name", name)
	text, err := json.Marshal(settings)
	if err != nil {
		return records.Place{}, fmt.Errorf("write the settings: %w", err)
	}
	writes, asked := []string(nil), false
	if kind == records.Source {
		old, had := pl.store.Place(ctx, kind, name)
		if had != nil && !db.IsMissing(had) {
			return records.Place{}, had
		}
		writes, asked, err = pl.sources.Try(ctx, name, protocol, text, password, old.Secret)
	} else {
		err = pl.destinations.Check(protocol, name, text)
	}
	if err != nil {
		v.Add("settings", "%s", err)
	}
	if err := v.Err(); err != nil {
		return records.Place{}, err
	}
	p := records.Place{Name: name, Protocol: protocol, Settings: text}
	if password != nil {
		if p.Secret, err = seal.Seal(string(kind)+":"+name, *password); err != nil {
			return p, err
		}
		if p.Secret == nil {
			p.Secret = []byte{}
		}
	}
	var saved records.Place
	err = pl.store.Do(ctx, func(t *store.Tx) error {
		var before any
		switch old, err := t.Place(ctx, kind, name); {
		case err == nil:
			before = saidPlace(old)
		case !db.IsMissing(err):
			return err
		}
		id, err := t.PutPlace(ctx, kind, p)
		if err != nil {
			return err
		}
		if asked {
			if err := t.SourceWrites(ctx, id, strings.Join(writes, "; ")); err != nil {
				return err
			}
		}
		if err := t.Audit(ctx, who.Login, "save", string(kind), name, before, map[string]any{
			"protocol": protocol, "settings": settings,
			"password": map[bool]string{true: "changed", false: "kept"}[password != nil],
		}); err != nil {
			return err
		}
		saved, err = t.PlaceByID(ctx, kind, id)
		return err
	})
	if err == nil && kind == records.Source {
		err = pl.soon(ctx, func(t *store.Tx) error { return t.LookSoon(ctx, "source:"+name) })
	}
	if err == nil && kind == records.Destination && saved.RestsSince != nil {
		// It may be mended now.
		err = pl.soon(ctx, func(t *store.Tx) error { return t.ProbeSoon(ctx, saved.ID) })
	}
	return saved, err
}

// saidPlace is what the record of changes keeps of a source or destination.
func saidPlace(p records.Place) any {
	return map[string]any{"protocol": p.Protocol, "settings": p.Settings}
}

// soon lets the nodes look at once at what rests.
func (pl *Places) soon(ctx context.Context, look func(t *store.Tx) error) error {
	return pl.store.Do(ctx, func(t *store.Tx) error {
		if err := look(t); err != nil {
			return err
		}
		return t.Tell(ctx, db.Notice{Kind: job.NoticeDestinations})
	})
}
