package sender

import (
	"context"

	"ironbell/internal/core/job"
	"ironbell/internal/engine/gate"
	"ironbell/internal/store/records"
	"ironbell/internal/store/sending"
)

// atGate lets those of a batch through that may leave now, and gives back the others.
// Those that pass carry the number of the gate, which is asked again with their offer.
func (sd *Sender) atGate(ctx context.Context, group []sending.Sending) ([]sending.Sending, error) {
	g, err := sd.store.GateNow(ctx, sd.node.Now())
	if err != nil {
		return nil, err
	}
	name := ""
	if len(g.Frozen) > 0 || g.Copy != nil {
		p, err := sd.store.PlaceByID(ctx, records.Destination, group[0].DestinationID)
		if err != nil {
			return nil, err
		}
		name = p.Name
	}
	kept := map[job.KeptBack][]sending.Sending{}
	var through, held []sending.Sending
	for _, s := range group {
		p, err := gate.Decide(ctx, sd.store, g, s, name, sd.node.Now())
		if err != nil {
			return nil, err
		}
		if p.Redirect != "" {
			if err := sd.store.Redirect(ctx, s, p.Redirect); err != nil {
				return nil, err
			}
			s.Address = p.Redirect
		}
		switch {
		case p.Over:
			if err := sd.outcome.PassedOver(ctx, s); err != nil {
				return nil, err
			}
		case p.Drop:
			if err := sd.outcome.Dropped(ctx, s); err != nil {
				return nil, err
			}
		case p.Keep != "":
			kept[p.Keep] = append(kept[p.Keep], s)
		case p.Held:
			held = append(held, s)
		default:
			s.Gate = g.No
			through = append(through, s)
		}
	}
	if len(held) > 0 {
		sd.giveBack(ctx, held)
	}
	for why, all := range kept {
		if err := sd.outcome.KeepBack(ctx, g, why, all); err != nil {
			return nil, err
		}
	}
	return through, nil
}
