package engine

import (
	"bytes"
	"context"
	"encoding/base64"
	"fmt"
	"net/http"
	"strings"
	"sync"
	"time"

	"ironbell/internal/access"
	"ironbell/internal/core/fault"
	"ironbell/internal/core/job"
	"ironbell/internal/core/phrase"
	"ironbell/internal/deliver"
	"ironbell/internal/engine/node"
	"ironbell/internal/outgoing"
	"ironbell/internal/store"
)

const (
	mailboxEvery = time.Minute
	mailboxLimit = 3 * time.Minute
	beatLimit    = 20 * time.Second
)

// mailboxCause is the cause of the alert about the mailbox for bounces.
const mailboxCause = "mailbox"

// turns does what one node at a time does every so often: it reads the mailbox for
// bounces, and gives the sign of life. Neither waits for the other.
func (e *Engine) turns(ctx context.Context) {
	var all sync.WaitGroup
	defer all.Wait()
	var own []node.Waker
	for doing, do := range map[string]func(context.Context) (time.Duration, error){"read the mailbox for bounces": e.bounces, "give the sign of life": e.beat} {
		woken := make(node.Waker, 1)
		own = append(own, woken)
		all.Go(func() { e.turn(ctx, woken, doing, do) })
	}
	for {
		select {
		case <-ctx.Done():
			return
		case <-e.node.Turns:
			for _, c := range own {
				c.Wake()
			}
		}
	}
}

// turn does one thing every so often, as often as it says itself.
func (e *Engine) turn(ctx context.Context, woken node.Waker, doing string, do func(context.Context) (every time.Duration, err error)) {
	for {
		every, err := do(ctx)
		if err != nil {
			e.node.Failed(ctx, doing, err)
		}
		wait := min(e.node.Poll, e.node.Lease)
		if every > 0 {
			wait = min(wait, every/2)
		}
		if !node.Sleep(ctx, woken, max(wait, 100*time.Millisecond)) {
			return
		}
	}
}

// bounces looks into the mailbox when its time has come, and tells how often that is.
func (e *Engine) bounces(ctx context.Context) (time.Duration, error) {
	var s deliver.KeptBounces
	ok, err := e.store.Setting(ctx, store.BounceSetting, &s)
	if err != nil || !ok || s.Host == "" {
		return 0, err
	}
	every := time.Duration(s.Every)
	if every == 0 {
		every = mailboxEvery
	}
	if is, err := e.Installation(ctx); err != nil || is.Copy != nil || is.Test != nil {
		return every, err // it is the original's
	}
	if due, err := e.store.TakeTurn(ctx, store.BounceSetting, every); err != nil || !due {
		return every, err
	}
	ctx, stop := context.WithTimeout(ctx, mailboxLimit)
	defer stop()
	before, err := e.store.LastTurn(ctx, store.BounceSetting)
	if err != nil {
		return every, err
	}
	n, failed := e.readMailbox(ctx, s)
	word := fmt.Sprintf("looked at %d mails", n)
	if failed != nil {
		word = "failed: " + failed.Error()
		e.node.Log.Warn("the mailbox for bounces could not be read; it is tried again", "error", failed)
	}
	ctx, end := node.Ending(ctx)
	defer end()
	return every, e.store.Do(ctx, func(t *store.Tx) error {
		if err := t.NoteTurn(ctx, store.BounceSetting, word); err != nil {
			return err
		}
		again := strings.HasPrefix(before.Word, "failed: ")
		switch {
		case failed == nil && again:
			return t.CloseAlertsOf(ctx, []string{mailboxCause})
		case failed == nil, !again && fault.Of(failed).Class == fault.Passing:
			return nil // one that passes may be over at the next look
		}
		return t.OpenAlert(ctx, job.Alert{
			Kind: job.AlertDown, Cause: mailboxCause, Job: "Mailbox for bounces", Happened: fmt.Sprintf("The mailbox for bounces cannot be read. %s.", phrase.Upper(failed.Error())),
			ForWhom: "mail that comes back is not noticed meanwhile", Tried: fmt.Sprintf("It is read again every %s.", job.Duration(every)), Advice: "Check its settings, and that its server runs.", Next: "What came back meanwhile is read when it can be.",
		})
	})
}

func (e *Engine) readMailbox(ctx context.Context, s deliver.KeptBounces) (int, error) {
	sealed, err := base64.StdEncoding.DecodeString(s.Secret)
	if err != nil {
		return 0, fmt.Errorf("read the mailbox's password: %w", err)
	}
	password, err := e.destinations.Unseal(deliver.BounceRecord, sealed)
	if err != nil {
		return 0, err
	}
	n, err := s.Look(ctx, password, func(raw []byte) (bool, error) { return e.returned(ctx, raw) })
	return n, fault.NewBlotter(password).Err(err)
}

// returned deals with one mail that came to the mailbox for bounces, and tells
// whether it is to be removed from there. What is not understood stays.
func (e *Engine) returned(ctx context.Context, raw []byte) (remove bool, err error) {
	r, err := deliver.ReadReturned(bytes.NewReader(raw))
	if err != nil {
		e.node.Log.Warn("a mail in the mailbox for bounces could not be read; it stays there", "error", err)
		return deliver.KeepMail, nil
	}
	switch r.Kind {
	case deliver.ReturnAnswer:
		return deliver.RemoveMail, nil // an automatic answer is no bounce
	case deliver.ReturnOther:
		return deliver.KeepMail, nil
	}
	id := r.Delivery
	if seal := e.links.Seal(id); id != 0 && seal != "" && r.Seal != seal {
		e.node.Log.Warn("a bounce names a delivery without our seal; it is left alone", "delivery", id)
		return deliver.KeepMail, nil
	}
	if id == 0 {
		return deliver.KeepMail, nil
	}
	err = e.store.Do(ctx, func(t *store.Tx) error { return e.bounced(ctx, t, id, r) })
	if store.IsMissing(err) {
		return deliver.KeepMail, nil
	}
	return deliver.RemoveMail, err
}

// bounced writes what came back of a delivery.
func (e *Engine) bounced(ctx context.Context, t *store.Tx, id int64, r deliver.Returned) error {
	d, err := t.LockDelivery(ctx, id)
	if err != nil {
		return err
	}
	said := strings.TrimSpace(r.Status + " " + r.Words)
	if r.Kind != deliver.ReturnFailed {
		if d.RunID == nil {
			return nil
		}
		return t.Log(ctx, job.LogLine{Level: "info", Part: d.Part, Text: fmt.Sprintf("the mail to %s is %s: %s", d.Address, r.Kind, said)}, *d.RunID)
	}
	switch d.State {
	case job.DeliverySent, job.DeliveryOffered, job.DeliveryUnknown:
	default:
		return nil // it is known already
	}
	advice := "Check the address; correct it in the job, or take it out."
	times, err := t.Bounce(ctx, d, "it came back: "+said, advice)
	if err != nil {
		return err
	}
	e.node.Log.Warn("a mail came back", "delivery", id, "to", d.Address, "said", said)
	if d.AlertID != nil && *d.AlertID != 0 {
		return t.NextStep(ctx, *d.AlertID, fmt.Sprintf("the mail to %s came back: %s", d.Address, said))
	}
	if d.RunID == nil || d.JobID == nil {
		return nil
	}
	text := fmt.Sprintf("the mail to %s came back: %s", d.Address, said)
	if times >= store.BouncedTimes {
		text += fmt.Sprintf("; this address is marked: it happened %d times", times)
	}
	if err := t.Log(ctx, job.LogLine{Level: "error", Part: d.Part, Text: text}, *d.RunID); err != nil {
		return err
	}
	run, err := t.Run(ctx, *d.RunID)
	if err != nil {
		return err
	}
	s := store.Sending{ID: d.ID, RunID: d.RunID, JobID: d.JobID, DestinationID: d.DestinationID, Address: d.Address, Rehearsal: run.Rehearsal}
	f := fault.New(fault.Recipient, "", said, advice)
	tried := "The mail server had taken it; the other side sent it back."
	if times > 1 {
		tried = fmt.Sprintf("The mail server had taken it; the other side sent it back, as %d times before.", times-1)
	}
	if err := e.deliveryAlert(ctx, t, s, job.AlertBounced, f, tried); err != nil {
		return err
	}
	if err := e.settleRun(ctx, t, *d.RunID); err != nil {
		return err
	}
	return t.Tell(ctx, store.Notice{Kind: job.NoticeRun, ID: d.RunID.String()})
}

// SaveBounces says which mailbox bounces come to. A nil password keeps the one that
// is there.
func (e *Engine) SaveBounces(ctx context.Context, who job.Person, s deliver.Bounces, password *string, seal Sealer) error {
	if err := access.May(who, access.Administer, "", ""); err != nil {
		return err
	}
	var kept deliver.KeptBounces
	if _, err := e.store.Setting(ctx, store.BounceSetting, &kept); err != nil {
		return err
	}
	before := kept.Bounces
	kept.Bounces = s
	if password != nil {
		sealed, err := seal.Seal(deliver.BounceRecord, *password)
		if err != nil {
			return err
		}
		kept.Secret = base64.StdEncoding.EncodeToString(sealed)
	}
	if s.Every < 0 || time.Duration(s.Every) > 24*time.Hour {
		v := &fault.Invalid{What: "the mailbox for bounces"}
		v.Add("every", "%s is no time between two looks; use 1m or an hour", s.Every)
		return v.Err()
	}
	err := e.store.Do(ctx, func(t *store.Tx) error {
		if err := t.PutSetting(ctx, store.BounceSetting, kept); err != nil {
			return err
		}
		return t.Audit(ctx, who.Login, "save", "setting", store.BounceSetting, before, s)
	})
	e.node.Turns.Wake()
	return err
}

// BounceSettings are the settings of the mailbox for bounces, with how the last
// look went.
func (e *Engine) BounceSettings(ctx context.Context) (deliver.Bounces, store.Turn, error) {
	var s deliver.KeptBounces
	if _, err := e.store.Setting(ctx, store.BounceSetting, &s); err != nil {
		return deliver.Bounces{}, store.Turn{}, err
	}
	t, err := e.store.LastTurn(ctx, store.BounceSetting)
	return s.Bounces, t, err
}

// beat gives the sign of life when its time has come.
func (e *Engine) beat(ctx context.Context) (time.Duration, error) {
	var s job.Heartbeat
	ok, err := e.store.Setting(ctx, store.BeatSetting, &s)
	if err != nil || !ok || s.URL == "" {
		return 0, err
	}
	every := time.Duration(s.Every)
	if every == 0 {
		every = mailboxEvery
	}
	if is, err := e.Installation(ctx); err != nil || is.Test != nil {
		return every, err // a copy for tests would keep the watch over its original green
	}
	state, err := e.State(ctx)
	if err != nil || state.Silent {
		return every, err
	}
	if due, err := e.store.TakeTurn(ctx, store.BeatSetting, every); err != nil || !due {
		return every, err
	}
	ctx, stop := context.WithTimeout(ctx, beatLimit)
	defer stop()
	word := "answered"
	if err := e.signOfLife(ctx, s.URL); err != nil {
		word = "failed: " + err.Error()
		e.node.Log.Warn("the sign of life did not arrive", "error", err)
	}
	return every, e.store.NoteTurn(ctx, store.BeatSetting, word)
}

func (e *Engine) signOfLife(ctx context.Context, url string) error {
	r, err := http.NewRequestWithContext(ctx, http.MethodGet, url, http.NoBody)
	if err != nil {
		return fmt.Errorf("ask %s: %w", url, err)
	}
	res, err := e.o.Guard.Follow(r, "give the sign of life")
	if err != nil {
		return err
	}
	_ = res.Body.Close() // its status says it all
	return outgoing.Refusal(res, "give the sign of life")
}

// SaveHeartbeat says where the sign of life goes.
func (e *Engine) SaveHeartbeat(ctx context.Context, who job.Person, s job.Heartbeat) error {
	if err := access.May(who, access.Administer, "", ""); err != nil {
		return err
	}
	v := &fault.Invalid{What: "the heartbeat"}
	if s.URL != "" {
		if err := outgoing.CheckURL(s.URL); err != nil {
			v.Add("url", "%s", err)
		}
	}
	if s.Every != 0 && (time.Duration(s.Every) < time.Second || time.Duration(s.Every) > 24*time.Hour) {
		v.Add("every", "%s is no time between two signs of life; use 1m", s.Every)
	}
	if err := v.Err(); err != nil {
		return err
	}
	err := e.store.Do(ctx, func(t *store.Tx) error {
		var before job.Heartbeat
		if _, err := t.Setting(ctx, store.BeatSetting, &before); err != nil {
			return err
		}
		if err := t.PutSetting(ctx, store.BeatSetting, s); err != nil {
			return err
		}
		return t.Audit(ctx, who.Login, "save", "setting", store.BeatSetting, before, s)
	})
	e.node.Turns.Wake()
	return err
}

// HeartbeatSettings say where the sign of life goes, and how the last one went.
func (e *Engine) HeartbeatSettings(ctx context.Context) (job.Heartbeat, store.Turn, error) {
	var s job.Heartbeat
	if _, err := e.store.Setting(ctx, store.BeatSetting, &s); err != nil {
		return s, store.Turn{}, err
	}
	t, err := e.store.LastTurn(ctx, store.BeatSetting)
	return s, t, err
}
