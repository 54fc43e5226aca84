package upkeep

import (
	"bytes"
	"context"
	"encoding/base64"
	"fmt"
	"strings"
	"time"

	"ironbell/internal/core/fault"
	"ironbell/internal/core/job"
	"ironbell/internal/core/phrase"
	"ironbell/internal/deliver"
	"ironbell/internal/engine/node"
	"ironbell/internal/store"
	"ironbell/internal/store/db"
)

const (
	mailboxEvery = time.Minute
	mailboxLimit = 3 * time.Minute
	beatLimit    = 20 * time.Second
)

// mailboxCause is the cause of the alert about the mailbox for bounces.
const mailboxCause = "mailbox"

// Bounces looks into the mailbox when its time has come, and tells how often that is.
func (u *Upkeep) Bounces(ctx context.Context) (time.Duration, error) {
	var s deliver.KeptBounces
	ok, err := u.store.Setting(ctx, db.BounceSetting, &s)
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
	if due, err := u.store.TakeTurn(ctx, db.BounceSetting, every); err != nil || !due {
		return every, err
	}
	ctx, stop := context.WithTimeout(ctx, mailboxLimit)
	defer stop()
	before, err := u.store.LastTurn(ctx, db.BounceSetting)
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
		if err := t.NoteTurn(ctx, db.BounceSetting, word); err != nil {
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
			Kind: job.AlertDown, Cause: mailboxCause, Job: "Mailbox for bounces",
			Happened: fmt.Sprintf("The mailbox for bounces cannot be read. %s.", phrase.Upper(failed.Error())),
			ForWhom:  "mail that comes back is not noticed meanwhile",
			Tried:    fmt.Sprintf("It is read again every %s.", job.Duration(every)),
			Advice:   "Check its settings, and that its server runs.",
			Next:     "What came back meanwhile is read when it can be.",
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
	if db.IsMissing(err) {
		return deliver.KeepMail, nil
	}
	return deliver.RemoveMail, err
}
