package upkeep

import (
	"bytes"
	"context"
	"encoding/base64"
	"fmt"
	"net/http"
	"strings"
	"sync"
	"time"

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
func (u *Upkeep) turns(ctx context.Context) {
	var all sync.WaitGroup
	defer all.Wait()
	var own []node.Waker
	for doing, do := range map[string]func(context.Context) (time.Duration, error){"read the mailbox for bounces": u.Bounces, "give the sign of life": u.beat} {
		woken := make(node.Waker, 1)
		own = append(own, woken)
		all.Go(func() { u.turn(ctx, woken, doing, do) })
	}
	for {
		select {
		case <-ctx.Done():
			return
		case <-u.node.Turns:
			for _, c := range own {
				c.Wake()
			}
		}
	}
}

// turn does one thing every so often, as often as it says itself.
func (u *Upkeep) turn(ctx context.Context, woken node.Waker, doing string, do func(context.Context) (every time.Duration, err error)) {
	for {
		every, err := do(ctx)
		if err != nil {
			u.node.Failed(ctx, doing, err)
		}
		wait := min(u.node.Poll, u.node.Lease)
		if every > 0 {
			wait = min(wait, every/2)
		}
		if !node.Sleep(ctx, woken, max(wait, 100*time.Millisecond)) {
			return
		}
	}
}

// Bounces looks into the mailbox when its time has come, and tells how often that is.
func (u *Upkeep) Bounces(ctx context.Context) (time.Duration, error) {
	var s deliver.KeptBounces
	ok, err := u.store.Setting(ctx, store.BounceSetting, &s)
	if err != nil || !ok || s.Host == "" {
		return 0, err
	}
	every := time.Duration(s.Every)
	if every == 0 {
		every = mailboxEvery
	}
	if is, err := u.installation.Is(ctx); err != nil || is.Copy != nil || is.Test != nil {
		return every, err // it is the original's
	}
	if due, err := u.store.TakeTurn(ctx, store.BounceSetting, every); err != nil || !due {
		return every, err
	}
	ctx, stop := context.WithTimeout(ctx, mailboxLimit)
	defer stop()
	before, err := u.store.LastTurn(ctx, store.BounceSetting)
	if err != nil {
		return every, err
	}
	n, failed := u.readMailbox(ctx, s)
	word := fmt.Sprintf("looked at %d mails", n)
	if failed != nil {
		word = "failed: " + failed.Error()
		u.node.Log.Warn("the mailbox for bounces could not be read; it is tried again", "error", failed)
	}
	ctx, end := node.Ending(ctx)
	defer end()
	return every, u.store.Do(ctx, func(t *store.Tx) error {
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

func (u *Upkeep) readMailbox(ctx context.Context, s deliver.KeptBounces) (int, error) {
	sealed, err := base64.StdEncoding.DecodeString(s.Secret)
	if err != nil {
		return 0, fmt.Errorf("read the mailbox's password: %w", err)
	}
	password, err := u.destinations.Unseal(deliver.BounceRecord, sealed)
	if err != nil {
		return 0, err
	}
	n, err := s.Look(ctx, password, func(raw []byte) (bool, error) { return u.returned(ctx, raw) })
	return n, fault.NewBlotter(password).Err(err)
}

// returned deals with one mail that came to the mailbox for bounces, and tells
// whether it is to be removed from there. What is not understood stays.
func (u *Upkeep) returned(ctx context.Context, raw []byte) (remove bool, err error) {
	r, err := deliver.ReadReturned(bytes.NewReader(raw))
	if err != nil {
		u.node.Log.Warn("a mail in the mailbox for bounces could not be read; it stays there", "error", err)
		return deliver.KeepMail, nil
	}
	switch r.Kind {
	case deliver.ReturnAnswer:
		return deliver.RemoveMail, nil // an automatic answer is no bounce
	case deliver.ReturnOther:
		return deliver.KeepMail, nil
	}
	id := r.Delivery
	if seal := u.links.Seal(id); id != 0 && seal != "" && r.Seal != seal {
		u.node.Log.Warn("a bounce names a delivery without our seal; it is left alone", "delivery", id)
		return deliver.KeepMail, nil
	}
	if id == 0 {
		return deliver.KeepMail, nil
	}
	err = u.store.Do(ctx, func(t *store.Tx) error { return u.outcome.Bounced(ctx, t, id, r) })
	if store.IsMissing(err) {
		return deliver.KeepMail, nil
	}
	return deliver.RemoveMail, err
}

// beat gives the sign of life when its time has come.
func (u *Upkeep) beat(ctx context.Context) (time.Duration, error) {
	var s job.Heartbeat
	ok, err := u.store.Setting(ctx, store.BeatSetting, &s)
	if err != nil || !ok || s.URL == "" {
		return 0, err
	}
	every := time.Duration(s.Every)
	if every == 0 {
		every = mailboxEvery
	}
	if is, err := u.installation.Is(ctx); err != nil || is.Test != nil {
		return every, err // a copy for tests would keep the watch over its original green
	}
	state, err := u.installation.State(ctx)
	if err != nil || state.Silent {
		return every, err
	}
	if due, err := u.store.TakeTurn(ctx, store.BeatSetting, every); err != nil || !due {
		return every, err
	}
	ctx, stop := context.WithTimeout(ctx, beatLimit)
	defer stop()
	word := "answered"
	if err := u.signOfLife(ctx, s.URL); err != nil {
		word = "failed: " + err.Error()
		u.node.Log.Warn("the sign of life did not arrive", "error", err)
	}
	return every, u.store.NoteTurn(ctx, store.BeatSetting, word)
}

func (u *Upkeep) signOfLife(ctx context.Context, url string) error {
	r, err := http.NewRequestWithContext(ctx, http.MethodGet, url, http.NoBody)
	if err != nil {
		return fmt.Errorf("ask %s: %w", url, err)
	}
	res, err := u.guard.Follow(r, "give the sign of life")
	if err != nil {
		return err
	}
	_ = res.Body.Close() // its status says it all
	return outgoing.Refusal(res, "give the sign of life")
}
