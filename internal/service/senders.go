package service

import (
	"context"
	"crypto/rand"
	"encoding/base64"
	"fmt"
	"strings"
	"time"

	"ironbell/internal/access"
	"ironbell/internal/core/fault"
	"ironbell/internal/core/job"
	"ironbell/internal/event"
	"ironbell/internal/store"
	"ironbell/internal/store/records"
)

// Bounds of what senders are known by.
const (
	maxSenderKeys  = 10                 // of one sender, of all kinds
	longestOverlap = 7 * 24 * time.Hour // for which what was there before may hold on
	newKeyBytes    = 32
)

// SenderRecord is what a sender's key is sealed for.
func SenderRecord(id int64) string { return fmt.Sprintf("sender:%d", id) }

// Save checks and saves a sender. What it is known by stays as it is.
func (sd *Senders) Save(ctx context.Context, who job.Person, name string, d job.SenderDefinition) (job.Sender, error) {
	if err := access.May(who, access.Administer, "", ""); err != nil {
		return job.Sender{}, err
	}
	name, err := sd.store.Called(ctx, "sender", name)
	if err != nil {
		return job.Sender{}, err
	}
	if err := checkSender(name, d); err != nil {
		return job.Sender{}, err
	}
	var saved job.Sender
	err = sd.store.Do(ctx, func(t *store.Tx) error {
		old, err := t.Sender(ctx, name)
		before, err := had(old.SenderDefinition, err)
		if err != nil {
			return err
		}
		if _, err := t.PutSender(ctx, name, d); err != nil {
			return err
		}
		if err := t.Audit(ctx, who.Login, "save", "sender", name, before, d); err != nil {
			return err
		}
		saved, err = t.Sender(ctx, name)
		return err
	})
	return saved, err
}

func checkSender(name string, d job.SenderDefinition) error {
	v := &fault.Invalid{What: fmt.Sprintf("the sender %q", name)}
	CheckName(v, "name", name)
	if len(d.Sends) == 0 {
		v.Add("sends", "say at least one source and type that it may send")
	}
	for i, g := range d.Sends {
		where := fmt.Sprintf("sends[%d]", i)
		if job.IsHouse(g.Source) {
			v.Add(where+".source", "what begins with %s or %s are our own sources, which nobody else reports", job.HouseSource,
				job.JobSource)
		}
		if strings.TrimSpace(g.Source) == "" {
			v.Add(where+".source", "say the source, such as https://ledger.tarnwick.example/")
		}
		if strings.TrimSpace(g.Type) == "" || strings.Contains(strings.TrimSuffix(g.Type, "*"), "*") {
			v.Add(where+".type", "say the type, such as example.tarnwick.tide, or how it begins, followed by *")
		}
	}
	if d.Type != "" && d.SourceOf(d.Type) == "" {
		v.Add("type", "%q is not among what it may send", d.Type)
	}
	return v.Err()
}

// NewToken makes a token for a sender, which is shown once. Those before hold on for a while.
func (sd *Senders) NewToken(ctx context.Context, who job.Person, name string, overlap time.Duration) (string, error) {
	token := rand.Text() + rand.Text()
	return token, sd.put(ctx, who, name, overlap, func(job.Sender) (records.NewSenderKey, error) {
		return records.NewSenderKey{Kind: job.SenderToken, Hash: access.TokenHash(token)}, nil
	})
}

// NewKey makes a key with which a sender signs, or takes the one that is given. It is shown once. Those
// before hold on for a while.
func (sd *Senders) NewKey(ctx context.Context, who job.Person, name, given string, overlap time.Duration,
	seal Sealer,
) (string, error) {
	key := given
	if key == "" {
		bytes := make([]byte, newKeyBytes)
		_, _ = rand.Read(bytes) // it never fails
		key = event.KeyPrefix + base64.StdEncoding.EncodeToString(bytes)
	} else if _, err := event.KeyBytes(given); err != nil {
		return "", fault.WrongField("the key", "key", err)
	}
	return key, sd.put(ctx, who, name, overlap, func(s job.Sender) (records.NewSenderKey, error) {
		sealed, err := seal.Seal(SenderRecord(s.ID), key)
		return records.NewSenderKey{Kind: job.SenderSigning, Sealed: sealed}, err
	})
}

func (sd *Senders) put(ctx context.Context, who job.Person, name string, overlap time.Duration,
	made func(job.Sender) (records.NewSenderKey, error),
) error {
	if err := access.May(who, access.Administer, "", ""); err != nil {
		return err
	}
	if overlap < 0 || overlap > longestOverlap {
		v := &fault.Invalid{What: "the overlap"}
		v.Add("overlap", "what was there before may hold on for %d days at most", int(longestOverlap.Hours()/24))
		return v.Err()
	}
	return sd.store.Do(ctx, func(t *store.Tx) error {
		if _, _, err := t.LockRecord(ctx, "sender", name); err != nil {
			return err
		}
		s, err := t.Sender(ctx, name)
		if err != nil {
			return err
		}
		if len(s.Keys) >= maxSenderKeys {
			v := &fault.Invalid{What: fmt.Sprintf("the sender %q", s.Name)}
			v.Add("keys", "it has %d tokens and keys already; end one first", len(s.Keys))
			return v.Err()
		}
		k, err := made(s)
		if err != nil {
			return err
		}
		k.By, k.Until = who.Login, sd.now().Add(overlap)
		if _, err := t.PutSenderKey(ctx, s.ID, k); err != nil {
			return err
		}
		return t.Audit(ctx, who.Login, "new "+string(k.Kind), "sender", s.Name, nil,
			map[string]any{"kind": k.Kind, "those before hold until": k.Until})
	})
}

// EndKey ends a token or key of a sender at once.
func (sd *Senders) EndKey(ctx context.Context, who job.Person, name string, id int64) error {
	if err := access.May(who, access.Administer, "", ""); err != nil {
		return err
	}
	return sd.store.Do(ctx, func(t *store.Tx) error {
		s, err := t.Sender(ctx, name)
		if err != nil {
			return err
		}
		was, err := t.EndSenderKey(ctx, s.ID, id)
		if err != nil {
			return err
		}
		return t.Audit(ctx, who.Login, "end "+string(was.Kind), "sender", s.Name, map[string]any{"id": was.ID}, nil)
	})
}
