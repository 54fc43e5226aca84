// Package gate decides whether something may leave, at the moment at which it is handed over, for
// every way that leads there: first try, retry, resend, going on, rehearsal, alert, the end of a
// freeze or of a copy. What was true when a message was made does not count. It also says what
// is frozen. It writes nothing.
package gate

import (
	"context"
	"strings"
	"time"

	"ironbell/internal/core/job"
	"ironbell/internal/store/deliveries"
	"ironbell/internal/store/sending"
)

// Whether something may leave is decided here, at the moment at which it is handed
// over, for every way that leads there: first try, retry, resend, going on, rehearsal,
// alert, the end of a freeze or of a copy. What was true when a message was made does
// not count.

// Passage says what becomes of a delivery at the gate.
type Passage struct {
	Keep     job.KeptBack // why it is kept back; it goes when this is empty and nothing holds it
	Held     bool         // it is frozen: given back untried
	Over     bool         // this is a copy for tests, and it was not named for it
	Drop     bool         // nobody needs it any more: its alert was acknowledged or put right
	Redirect string       // it goes there instead
}

// BySettings decides by the house's settings alone: what leaves it, and whereto. Whether
// a second person is needed is said by outside.
func BySettings(settings job.MailSettings, test *job.TestCopy, mail bool,
	address, destination string,
) (p Passage, outside bool) {
	switch {
	case test != nil && !mail:
		return Passage{Over: !test.Leaves("destination:" + destination)}, false
	case settings.Sending == job.SendNone, settings.Sending == job.SendOne && !mail:
		return Passage{Keep: job.KeptForSilent}, false
	case settings.Sending == job.SendOne:
		if strings.EqualFold(address, settings.OnlyTo) {
			return Passage{}, false
		}
		return Passage{Redirect: settings.OnlyTo}, false
	}
	return Passage{}, mail && !settings.MayReceive(address)
}

// Records are what the gate asks of the store.
type Records interface {
	Allowed(ctx context.Context, address string, jobID int64, sha string, destination int64) (bool, error)
	IsOwnAddress(ctx context.Context, person int64, address string) (bool, error)
	AlertOver(ctx context.Context, id int64) (bool, error)
}

// Decide decides on one delivery at an instant.
func Decide(ctx context.Context, from Records, g deliveries.GateState, s sending.Sending, destination string,
	now time.Time,
) (Passage, error) {
	mail := s.Name == ""
	p, outside := BySettings(g.Settings, g.Copy, mail, s.Address, destination)
	if s.AlertID != nil && *s.AlertID != 0 {
		if over, err := from.AlertOver(ctx, *s.AlertID); err != nil || over {
			return Passage{Drop: over}, err
		}
	}
	switch {
	case p.Keep != "", p.Over:
		return p, nil
	case s.AlertID == nil && job.FreezeOf(g.Frozen, []string{"service", "destination:" + destination}, now) != nil:
		return Passage{Held: true}, nil
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
		p.Keep = job.KeptForYes
	}
	return p, err
}
