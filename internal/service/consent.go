package service

import (
	"context"
	"fmt"
	"strconv"
	"strings"
	"time"

	"ironbell/internal/access"
	"ironbell/internal/core/fault"
	"ironbell/internal/core/job"
	"ironbell/internal/store"
	"ironbell/internal/store/deliveries"
)

// longestYes bounds how long a yes holds.
const longestYes = 366 * 24 * time.Hour

// Consent is what somebody says of mail that waits for a second person.
type Consent struct {
	Yes bool
	// a yes for all that the job sends to the address over this destination until then; for this message alone when zero
	Until time.Time
}

// Allow says yes or no to a delivery that waits for a second person. A yes holds for
// this message's bytes to this address, or, with a date, for the job, its reports,
// the address and the destination until then or until one of them is saved.
func (ds *Deliveries) Allow(ctx context.Context, who job.Person, id int64, c Consent) (job.Delivery, error) {
	var d job.Delivery
	now := ds.now()
	if !c.Until.IsZero() && (c.Until.Before(now) || c.Until.After(now.Add(longestYes))) {
		return d,
			&fault.Invalid{Wrong: []fault.Wrong{{
				Where: "until", Sentence: "a yes holds until a day to come, within a year",
			}}}
	}
	err := ds.store.Do(ctx, func(t *store.Tx) error {
		var err error
		if d, err = t.LockDelivery(ctx, id); err != nil {
			return err
		}
		if d.State != job.DeliveryWaiting || d.KeptBack != job.KeptForYes || d.JobID == nil || d.RunID == nil {
			return &fault.Invalid{Wrong: []fault.Wrong{{Sentence: fmt.Sprintf("the delivery to %s does not wait for "+
				"a yes; it is %s", d.Address, d.State)}}}
		}
		j, err := t.Job(ctx, strconv.FormatInt(*d.JobID, 10))
		if err != nil {
			return err
		}
		if err := access.MayAllow(who, j.Owner); err != nil && c.Yes {
			return err
		}
		if err := access.May(who, access.Ring, "say no for "+j.Name, who.Login); err != nil {
			return err
		}
		not, err := ds.notify.NotBy(ctx, t, j, *d.RunID, []string{d.Address})
		if err != nil {
			return err
		}
		if why, no := not[strings.ToLower(who.Login)]; no && c.Yes {
			return &access.Denied{Act: access.Ring, Person: who, Second: true, What: why}
		}
		var text string
		verdict := "yes"
		if c.Yes {
			consent := deliveries.NewConsent{
				Address: d.Address, JobID: j.ID, DestinationID: d.DestinationID, By: who.Login,
			}
			text = fmt.Sprintf("%s said yes: it goes to %s", who.Name, d.Address)
			if c.Until.IsZero() {
				consent.SHA256 = d.SHA256
			} else {
				consent.Until = &c.Until
				text += ", and so does all that this job sends there until " +
					c.Until.UTC().Format("2 January 2006 15:04 MST")
			}
			if err = t.PutConsent(ctx, consent); err == nil {
				err = t.AllowDelivery(ctx, id, who.Name)
			}
		} else {
			verdict = "no"
			text = fmt.Sprintf("%s said no: it does not go to %s", who.Name, d.Address)
			err = t.Decline(ctx, id, who.Name+" said no")
		}
		if err != nil {
			return err
		}
		if err := ds.notify.NothingAsked(ctx, t, j.ID); err != nil {
			return err
		}
		d, err = ds.spoken(ctx, t, who, d, "allow", text, nil, map[string]any{
			"to": d.Address, "said": verdict, "until": c.Until,
		})
		return err
	})
	return d, err
}
