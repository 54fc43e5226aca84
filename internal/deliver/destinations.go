package deliver

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"sync"
	"time"

	"ironbell/internal/core/fault"
	"ironbell/internal/store/db"
	"ironbell/internal/store/records"
)

// Vault opens sealed secrets.
type Vault interface {
	Open(record string, sealed []byte) (string, error)
}

// asks is what destinations want of the store.
type asks interface {
	Place(ctx context.Context, kind records.PlaceKind, name string) (records.Place, error)
	PlaceByID(ctx context.Context, kind records.PlaceKind, id int64) (records.Place, error)
}

// Destinations reads destinations from the store and keeps them until their
// record changes. It may be used by several goroutines.
type Destinations struct {
	store   asks
	vault   Vault
	allowed Allowed
	mu      sync.Mutex
	open    map[int64]opened
}

type opened struct {
	destination Destination
	saved       time.Time
}

// NewDestinations gives the destinations that stand in the store.
func NewDestinations(s asks, v Vault, a Allowed) *Destinations {
	return &Destinations{store: s, vault: v, allowed: a, open: map[int64]opened{}}
}

// Check tells what is wrong with the settings of a destination.
func (d *Destinations) Check(protocol, name string, settings json.RawMessage) error {
	if err := checkSettings(protocol, settings); err != nil {
		return err
	}
	_, err := Open(Place{Protocol: protocol, Name: name, Settings: settings}, d.allowed)
	return err
}

// Unseal opens another secret that is kept as those of destinations are.
func (d *Destinations) Unseal(record string, sealed []byte) (string, error) {
	return d.vault.Open(record, sealed)
}

// ByName finds a destination and its id.
func (d *Destinations) ByName(ctx context.Context, name string) (int64, Destination, error) {
	p, err := d.store.Place(ctx, records.Destination, name)
	if err != nil {
		return 0, nil, notThere(err, name)
	}
	dest, err := d.get(p)
	return p.ID, dest, err
}

// ByID finds a destination.
func (d *Destinations) ByID(ctx context.Context, id int64) (Destination, error) {
	p, err := d.store.PlaceByID(ctx, records.Destination, id)
	if err != nil {
		return nil, notThere(err, fmt.Sprint(id))
	}
	return d.get(p)
}

func notThere(err error, name string) error {
	doing := fmt.Sprintf("open destination %q", name)
	var missing *db.NotFound
	if errors.As(err, &missing) {
		return fault.New(fault.Destination, doing, "there is no such destination",
			"Add it, or name another one in the job.")
	}
	return fault.Wrap(err, fault.Passing, fault.Destination, doing, "")
}

func (d *Destinations) get(p records.Place) (Destination, error) {
	d.mu.Lock()
	defer d.mu.Unlock()
	if had, ok := d.open[p.ID]; ok && had.saved.Equal(p.UpdatedAt) {
		return had.destination, nil
	}
	secret, err := d.vault.Open("destination:"+p.Name, p.Secret)
	if err != nil {
		return nil, fault.Wrap(err, fault.Lasting, fault.Destination, fmt.Sprintf("open destination %q", p.Name), "")
	}
	dest, err := Open(Place{Protocol: p.Protocol, Name: p.Name, Settings: p.Settings, Secret: secret, Pin: p.Pin},
		d.allowed)
	if err != nil {
		return nil, err
	}
	d.open[p.ID] = opened{destination: dest, saved: p.UpdatedAt}
	return dest, nil
}
