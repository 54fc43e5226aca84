// Package store keeps every record of the service in PostgreSQL. SQL on our
// records stands in its rooms and nowhere else; here they are put together.
//
// A Store may be used by several goroutines and by several nodes at once. What
// must be written together is written in Do; the single methods may be called
// inside of it (on the Tx) or outside (on the Store). Moves of state that
// belong to the holder of a lease name the lease's number and fail with
// db.ErrStale when another has it.
package store

import (
	"context"

	"ironbell/internal/store/alerts"
	"ironbell/internal/store/db"
	"ironbell/internal/store/deliveries"
	"ironbell/internal/store/history"
	"ironbell/internal/store/operation"
	"ironbell/internal/store/people"
	"ironbell/internal/store/queue"
	"ironbell/internal/store/records"
	"ironbell/internal/store/rings"
	"ironbell/internal/store/sending"
)

// Store is the way to our records. It has the methods of all rooms.
type Store struct {
	db.Base
	*db.Pool
	peopleAny
	recordsAny
	historyAny
	ringsAny
	sendingAny
	queueAny
	deliveriesAny
	alertsAny
	operationAny
}

// Tx is a Store within one transaction. It belongs to one goroutine.
type Tx struct {
	db.Base
	*peopleTx
	*recordsTx
	*historyTx
	*ringsTx
	*sendingTx
	*queueTx
	*deliveriesTx
	*alertsTx
	*operationTx
}

// The rooms, by names under which they can stand beside each other.
type (
	peopleAny     = people.Q
	peopleTx      = people.Tx
	recordsAny    = records.Q
	recordsTx     = records.Tx
	historyAny    = history.Q
	historyTx     = history.Tx
	ringsAny      = rings.Q
	ringsTx       = rings.Tx
	sendingAny    = sending.Q
	sendingTx     = sending.Tx
	queueAny      = queue.Pool
	queueTx       = queue.Tx
	deliveriesAny = deliveries.Q
	deliveriesTx  = deliveries.Tx
	alertsAny     = alerts.Q
	alertsTx      = alerts.Tx
	operationAny  = operation.Pool
	operationTx   = operation.Tx
)

// Options of a store.
type Options = db.Options

// Open connects to the database that dsn names and waits for it until ctx ends.
// It changes nothing; Migrate does.
func Open(ctx context.Context, dsn string, o Options) (*Store, error) {
	p, err := db.Open(ctx, dsn, o)
	if err != nil {
		return nil, err
	}
	return &Store{
		Base: p.Base, Pool: p,
		peopleAny:     people.Q{Base: p.Base},
		recordsAny:    records.Q{Base: p.Base},
		historyAny:    history.Q{Base: p.Base},
		ringsAny:      rings.Q{Base: p.Base},
		sendingAny:    sending.Q{Base: p.Base},
		queueAny:      queue.Over(p),
		deliveriesAny: deliveries.Q{Base: p.Base},
		alertsAny:     alerts.Q{Base: p.Base},
		operationAny:  operation.Over(p),
	}, nil
}

// Do runs f in one transaction and tries it again, a few times, when the
// database broke it off in favour of another (deadlock, serialization).
func (s *Store) Do(ctx context.Context, f func(*Tx) error) error {
	return s.Pool.Do(ctx, func(b db.Base) error { return f(In(b)) })
}

// In gives the methods of all rooms within a transaction.
func In(b db.Base) *Tx {
	return &Tx{
		Base:         b,
		peopleTx:     people.In(b),
		recordsTx:    records.In(b),
		historyTx:    history.In(b),
		ringsTx:      rings.In(b),
		sendingTx:    sending.In(b),
		queueTx:      queue.In(b),
		deliveriesTx: deliveries.In(b),
		alertsTx:     alerts.In(b),
		operationTx:  operation.In(b),
	}
}
