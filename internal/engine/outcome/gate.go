package outcome

import (
	"context"
	"fmt"
	"strings"

	"ironbell/internal/core/job"
	"ironbell/internal/core/phrase"
	"ironbell/internal/installation"
	"ironbell/internal/store"
	"ironbell/internal/store/deliveries"
	"ironbell/internal/store/sending"
)

// PassedOver ends a delivery that a copy for tests does not make.
func (o *Outcome) PassedOver(ctx context.Context, s sending.Sending) error {
	err := o.store.Do(ctx, func(t *store.Tx) error {
		if err := t.EndSending(ctx, s, sending.Ended{
			State: job.DeliveryDeclined, Answer: installation.IsCopy,
			Advice: "Name its destination for this copy when it is to go out from here, too.", Untried: true,
		}); err != nil || s.RunID == nil {
			return err
		}
		if err := t.Log(ctx, job.LogLine{Level: "warn", Text: installation.IsCopy + "; nothing goes to " + s.Address},
			*s.RunID); err != nil {
			return err
		}
		return o.settle.Settle(ctx, t, []job.RunID{*s.RunID})
	})
	o.holdings.ReleaseSending(s)
	return err
}

// Dropped ends the delivery of a mail about an alert that was acknowledged or put right
// meanwhile.
func (o *Outcome) Dropped(ctx context.Context, s sending.Sending) error {
	err := o.store.Do(ctx, func(t *store.Tx) error {
		return t.EndSending(ctx, s, sending.Ended{
			State: job.DeliveryFailed, Answer: "not needed any more: the alert was acknowledged or put right",
			Untried: true,
		})
	})
	o.holdings.ReleaseSending(s)
	return err
}

// KeepBack writes that deliveries wait, says so in the logs of their runs, and asks
// those who may say yes.
func (o *Outcome) KeepBack(ctx context.Context, g deliveries.GateState, why job.KeptBack, all []sending.Sending) error {
	err := o.store.Do(ctx, func(t *store.Tx) error {
		byRun := map[job.RunID][]sending.Sending{}
		var rest []sending.Sending
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
			if err := o.notify.AskFor(ctx, t, group); err != nil {
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
				text = fmt.Sprintf("kept back until a second person says yes, since mail goes only to %s: %s",
					strings.Join(g.Settings.Domains, ", "), phrase.Few(who))
			}
			if err := t.Log(ctx, job.LogLine{Level: "warn", Text: text}, run); err != nil {
				return err
			}
			if err := o.settle.Retell(ctx, t, run); err != nil {
				return err
			}
		}
		return nil
	})
	for _, s := range all {
		o.holdings.ReleaseSending(s)
	}
	return err
}
