package engine

import (
	"context"
	"fmt"
	"strings"
	"time"

	"ironbell/internal/core/job"
	"ironbell/internal/core/phrase"
	"ironbell/internal/store"
)

// Whether something may leave is decided here, at the moment at which it is handed
// over, for every way that leads there: first try, retry, resend, going on, rehearsal,
// alert, the end of a freeze or of a copy. What was true when a message was made does
// not count.

// passage says what becomes of a delivery at the gate.
type passage struct {
	keep     job.KeptBack // why it is kept back; it goes when this is empty and nothing holds it
	held     bool         // it is frozen: given back untried
	over     bool         // this is a copy for tests, and it was not named for it
	drop     bool         // nobody needs it any more: its alert was taken on or put right
	redirect string       // it goes there instead
}

// gateFor decides by the house's settings alone: what leaves it, and whereto. Whether
// a second person is needed is said by outside.
func gateFor(house job.MailSettings, test *job.TestCopy, mail bool, address, destination string) (p passage, outside bool) {
	switch {
	case test != nil && !mail:
		return passage{over: !test.Leaves("destination:" + destination)}, false
	case house.Sending == job.SendNone, house.Sending == job.SendOne && !mail:
		return passage{keep: job.KeptForSilent}, false
	case house.Sending == job.SendOne:
		if strings.EqualFold(address, house.OnlyTo) {
			return passage{}, false
		}
		return passage{redirect: house.OnlyTo}, false
	}
	return passage{}, mail && !house.MayReceive(address)
}

// decide decides on one delivery at an instant.
func decide(ctx context.Context, from interface {
	Allowed(ctx context.Context, address string, jobID int64, sha string, destination int64) (bool, error)
	IsOwnAddress(ctx context.Context, person int64, address string) (bool, error)
	AlertOver(ctx context.Context, id int64) (bool, error)
}, g store.GateState, s store.Sending, destination string, now time.Time,
) (passage, error) {
	mail := s.Name == ""
	p, outside := gateFor(g.House, g.Copy, mail, s.Address, destination)
	if s.AlertID != nil && *s.AlertID != 0 {
		if over, err := from.AlertOver(ctx, *s.AlertID); err != nil || over {
			return passage{drop: over}, err
		}
	}
	switch {
	case p.keep != "", p.over:
		return p, nil
	case s.AlertID == nil && freezeOf(g.Frozen, []string{"service", "destination:" + destination}, now) != nil:
		return passage{held: true}, nil
	case !outside:
		return p, nil
	}
	var ok bool
	var err error
	switch {
	case s.AlertID != nil && s.PersonID != nil:
		// Our own people are told where they are on record; who may change that is asked there.
		ok, err = from.IsOwnAddress(ctx, *s.PersonID, s.Address)
	case s.JobID != nil:
		ok, err = from.Allowed(ctx, s.Address, *s.JobID, s.SHA256, s.DestinationID)
	}
	if err == nil && !ok {
		p.keep = job.KeptForYes
	}
	return p, err
}

// atGate lets those of a batch through that may leave now, and gives back the others.
// Those that pass carry the number of the gate, which is asked again with their offer.
func (e *Engine) atGate(ctx context.Context, group []store.Sending) ([]store.Sending, error) {
	g, err := e.store.GateNow(ctx, e.node.Now())
	if err != nil {
		return nil, err
	}
	name := ""
	if len(g.Frozen) > 0 || g.Copy != nil {
		p, err := e.store.PlaceByID(ctx, store.Destination, group[0].DestinationID)
		if err != nil {
			return nil, err
		}
		name = p.Name
	}
	kept := map[job.KeptBack][]store.Sending{}
	var through, held []store.Sending
	for _, s := range group {
		p, err := decide(ctx, e.store, g, s, name, e.node.Now())
		if err != nil {
			return nil, err
		}
		if p.redirect != "" {
			if err := e.store.Redirect(ctx, s, p.redirect); err != nil {
				return nil, err
			}
			s.Address = p.redirect
		}
		switch {
		case p.over:
			if err := e.passedOver(ctx, s); err != nil {
				return nil, err
			}
		case p.drop:
			if err := e.dropped(ctx, s); err != nil {
				return nil, err
			}
		case p.keep != "":
			kept[p.keep] = append(kept[p.keep], s)
		case p.held:
			held = append(held, s)
		default:
			s.Gate = g.No
			through = append(through, s)
		}
	}
	if len(held) > 0 {
		e.giveBack(ctx, held)
	}
	for why, all := range kept {
		if err := e.keepBack(ctx, g, why, all); err != nil {
			return nil, err
		}
	}
	return through, nil
}

// passedOver ends a delivery that a copy for tests does not make.
func (e *Engine) passedOver(ctx context.Context, s store.Sending) error {
	err := e.store.Do(ctx, func(t *store.Tx) error {
		if err := t.EndSending(ctx, s, store.Ended{State: job.DeliveryDeclined, Answer: isCopy, Advice: "Name its destination for this copy when it is to go out from here, too.", Untried: true}); err != nil || s.RunID == nil {
			return err
		}
		if err := t.Log(ctx, job.LogLine{Level: "warn", Text: isCopy + "; nothing goes to " + s.Address}, *s.RunID); err != nil {
			return err
		}
		return e.settleRuns(ctx, t, []job.RunID{*s.RunID})
	})
	e.holdings.ReleaseSending(s)
	return err
}

// dropped ends the delivery of a mail about an alert that was taken on or put right
// meanwhile.
func (e *Engine) dropped(ctx context.Context, s store.Sending) error {
	err := e.store.Do(ctx, func(t *store.Tx) error {
		return t.EndSending(ctx, s, store.Ended{State: job.DeliveryFailed, Answer: "not needed any more: the alert was taken on or put right", Untried: true})
	})
	e.holdings.ReleaseSending(s)
	return err
}

// keepBack writes that deliveries wait, says so in the logs of their runs, and asks
// those who may say yes.
func (e *Engine) keepBack(ctx context.Context, g store.GateState, why job.KeptBack, all []store.Sending) error {
	err := e.store.Do(ctx, func(t *store.Tx) error {
		byRun := map[job.RunID][]store.Sending{}
		var rest []store.Sending
		for _, s := range all {
			if s.RunID == nil || why != job.KeptForYes {
				rest = append(rest, s)
			} else {
				byRun[*s.RunID] = append(byRun[*s.RunID], s)
			}
		}
		if err := t.HoldBack(ctx, rest, why, nil); err != nil {
			return err
		}
		for _, group := range byRun {
			if err := e.askFor(ctx, t, group); err != nil {
				return err
			}
		}
		lines := map[job.RunID][]string{}
		for _, s := range all {
			if s.RunID != nil {
				lines[*s.RunID] = append(lines[*s.RunID], s.Address)
			}
		}
		for run, who := range lines {
			text := "kept back since this installation sends nothing like it now: " + phrase.Few(who)
			if why == job.KeptForYes {
				text = fmt.Sprintf("kept back until a second person says yes, since mail goes only to %s: %s", strings.Join(g.House.Domains, ", "), phrase.Few(who))
			}
			if err := t.Log(ctx, job.LogLine{Level: "warn", Text: text}, run); err != nil {
				return err
			}
			if err := e.retell(ctx, t, run); err != nil {
				return err
			}
		}
		return nil
	})
	for _, s := range all {
		e.holdings.ReleaseSending(s)
	}
	return err
}
