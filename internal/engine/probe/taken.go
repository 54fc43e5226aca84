package probe

import (
	"context"
	"errors"
	"fmt"
	"time"

	"ironbell/internal/core/fault"
	"ironbell/internal/deliver"
	"ironbell/internal/store/sending"
)

// Some places take a thing before it is done, such as a printer's queue. They are asked
// about it until they say what came of it, or until the time to wait has run out.

const (
	takenBatch = 50
	askLimit   = 20 * time.Second // for one question
)

// askTaken asks the other sides about what they took and are not done with.
func (pb *Prober) askTaken(ctx context.Context) error {
	for ctx.Err() == nil && pb.asking.free() {
		due, err := pb.store.TakenDue(ctx, takenBatch)
		if err != nil {
			return err
		}
		by := map[int64][]sending.TakenSending{}
		for _, s := range due {
			by[s.DestinationID] = append(by[s.DestinationID], s)
		}
		for id, group := range by {
			pb.ask(ctx, fmt.Sprintf("taken:%d", id), "ask about what was taken",
				func() error { return pb.askAbout(ctx, id, group) })
		}
		if len(due) < takenBatch {
			return nil
		}
	}
	return nil
}

// askAbout asks one destination about what it took. When it does not work, it is not
// asked about the others now, either.
func (pb *Prober) askAbout(ctx context.Context, destination int64, group []sending.TakenSending) error {
	d, silent := pb.destinations.ByID(ctx, destination)
	asker, can := d.(deliver.Asker)
	if silent == nil && !can {
		silent = errors.New("the destination cannot be asked any more")
	}
	for _, s := range group {
		var p deliver.Progress
		said := silent
		if said == nil {
			asking, stop := context.WithTimeout(ctx, askLimit)
			p, said = asker.Ask(asking, s.TakenAs)
			stop()
		}
		if said != nil && fault.Of(said).Scope == fault.Destination {
			silent = said
		}
		if err := pb.outcome.Answered(ctx, s, p, said); err != nil {
			return err
		}
	}
	return nil
}
