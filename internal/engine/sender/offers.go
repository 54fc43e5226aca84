package sender

import (
	"context"
	"errors"

	"ironbell/internal/engine/node"
	"ironbell/internal/store/db"
	"ironbell/internal/store/sending"
)

// maxOffers is how many offers are recorded in one transaction.
const maxOffers = 500

// offered is one offer that waits to be recorded.
type offered struct {
	sending.Sending
	done chan error
}

// offer records that the other side may accept from now on; only then may the
// last byte go out.
func (sd *Sender) offer(s sending.Sending) error {
	o := offered{s, make(chan error, 1)}
	sd.offers <- o
	return <-o.done
}

// notRecorded says that our own database could not be told of an offer: nothing
// was offered, and the delivery is as it was.
type notRecorded struct{ cause error }

func (n *notRecorded) Error() string { return "the offer could not be recorded: " + n.cause.Error() }
func (n *notRecorded) Unwrap() error { return n.cause }

// errGateMoved says that what may leave has changed since a delivery was let through:
// it is given back, and the gate is asked again.
var errGateMoved = errors.New("what may leave was changed just now")

// recordOffers records offers until their channel is closed.
func (sd *Sender) recordOffers(ctx context.Context) {
	for o := range sd.offers {
		group := node.Gather(o, sd.offers, maxOffers)
		all := make([]sending.Sending, len(group))
		for i, o := range group {
			all[i] = o.Sending
		}
		bounded, stop := node.Ending(ctx)
		done, moved, err := sd.store.Offer(bounded, all)
		stop()
		if err != nil {
			err = &notRecorded{err}
		}
		for _, o := range group {
			if err == nil && moved[o.ID] {
				o.done <- &notRecorded{errGateMoved}
				continue
			}
			if err == nil && !done[o.ID] {
				sd.node.Refused.Add(1)
				o.done <- db.ErrStale
				continue
			}
			o.done <- err
		}
	}
}
