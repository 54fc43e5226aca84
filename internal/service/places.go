package service

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"slices"
	"strings"
	"time"

	"ironbell/internal/access"
	"ironbell/internal/core/fault"
	"ironbell/internal/core/job"
	"ironbell/internal/core/phrase"
	"ironbell/internal/deliver"
	"ironbell/internal/engine/gate"
	"ironbell/internal/engine/node"
	"ironbell/internal/report"
	"ironbell/internal/store"
	"ironbell/internal/task"
)

// What a password may be: at least so many characters, at most so many bytes.
const (
	minPassword = 10
	maxPassword = 1000
)

// Sealer seals secrets for a record.
type Sealer interface {
	Seal(record, plain string) ([]byte, error)
}

// Save checks and saves a source or destination. A nil password keeps the
// one that is there.
func (pl *Places) Save(ctx context.Context, who job.Person, kind store.PlaceKind, name, protocol string, settings map[string]any, password *string, seal Sealer) (store.Place, error) {
	if err := access.May(who, access.Administer, "", ""); err != nil {
		return store.Place{}, err
	}
	v := &fault.Invalid{What: fmt.Sprintf("%s %q", kind, name)}
	CheckName(v, "name", name)
	text, err := json.Marshal(settings)
	if err != nil {
		return store.Place{}, fmt.Errorf("write the settings: %w", err)
	}
	writes, asked := []string(nil), false
	if kind == store.Source {
		old, had := pl.store.Place(ctx, kind, name)
		if had != nil && !store.IsMissing(had) {
			return store.Place{}, had
		}
		writes, asked, err = pl.sources.Try(ctx, name, protocol, text, password, old.Secret)
	} else {
		err = pl.destinations.Check(protocol, name, text)
	}
	if err != nil {
		v.Add("settings", "%s", err)
	}
	if err := v.Err(); err != nil {
		return store.Place{}, err
	}
	p := store.Place{Name: name, Protocol: protocol, Settings: text}
	if password != nil {
		if p.Secret, err = seal.Seal(string(kind)+":"+name, *password); err != nil {
			return p, err
		}
		if p.Secret == nil {
			p.Secret = []byte{}
		}
	}
	var saved store.Place
	err = pl.store.Do(ctx, func(t *store.Tx) error {
		var before any
		switch old, err := t.Place(ctx, kind, name); {
		case err == nil:
			before = saidPlace(old)
		case !store.IsMissing(err):
			return err
		}
		id, err := t.PutPlace(ctx, kind, p)
		if err != nil {
			return err
		}
		if asked {
			if err := t.SourceWrites(ctx, id, strings.Join(writes, "; ")); err != nil {
				return err
			}
		}
		if err := t.Audit(ctx, who.Login, "save", string(kind), name, before, map[string]any{"protocol": protocol, "settings": settings, "password": map[bool]string{true: "changed", false: "kept"}[password != nil]}); err != nil {
			return err
		}
		saved, err = t.PlaceByID(ctx, kind, id)
		return err
	})
	if err == nil && kind == store.Source {
		err = pl.soon(ctx, func(t *store.Tx) error { return t.LookSoon(ctx, "source:"+name) })
	}
	if err == nil && kind == store.Destination && saved.RestsSince != nil {
		// It may be mended now.
		err = pl.soon(ctx, func(t *store.Tx) error { return t.ProbeSoon(ctx, saved.ID) })
	}
	return saved, err
}

// saidPlace is what the record of changes keeps of a source or destination.
func saidPlace(p store.Place) any {
	return map[string]any{"protocol": p.Protocol, "settings": p.Settings}
}

// RemoveDestination removes a destination that was saved by mistake: one that no
// job names, over which no alerts go, and that nothing ever went to. The record of
// deliveries needs the others.
func (pl *Places) RemoveDestination(ctx context.Context, who job.Person, name string) error {
	if err := access.May(who, access.Administer, "", ""); err != nil {
		return err
	}
	return pl.store.Do(ctx, func(t *store.Tx) error {
		p, err := t.Place(ctx, store.Destination, name)
		if err != nil {
			return err
		}
		jobs, recorded, err := t.DestinationKept(ctx, p.ID)
		if err != nil {
			return err
		}
		s, _, err := pl.notify.Settings(ctx, t)
		if err != nil {
			return err
		}
		v := &fault.Invalid{What: fmt.Sprintf("removing destination %q", name)}
		if len(jobs) > 0 {
			v.Add("", "%d %s there, such as %s; take it out of them first", len(jobs), phrase.Plural(len(jobs), "job sends", "jobs send"), strings.Join(jobs[:min(len(jobs), 5)], ", "))
		}
		if slices.Contains([]string{s.Destination, s.Standby, s.Call}, name) {
			v.Add("", "alerts go over it; name another one in the settings first")
		}
		if recorded {
			v.Add("", "the record says what went there, and needs its name; when no job names it, nothing goes there any more")
		}
		if err := v.Err(); err != nil {
			return err
		}
		if err := t.RemoveDestination(ctx, p.ID); err != nil {
			return err
		}
		return t.Audit(ctx, who.Login, "remove", string(store.Destination), name, saidPlace(p), nil)
	})
}

// Refused is what the other side of a test answered when it did not go well.
type Refused struct{ *fault.Fault }

// Test tries a source or destination, and gives what the other side answered
// to each step. What it answered when it refused is a *Refused. A destination that
// rested works again when its test went well. A mail server may be given a mail to
// whoever tests it.
func (pl *Places) Test(ctx context.Context, who job.Person, kind store.PlaceKind, name string, mail bool) ([]string, error) {
	if err := access.May(who, access.Administer, "", ""); err != nil {
		return nil, err
	}
	p, err := pl.store.Place(ctx, kind, name)
	if err != nil {
		return nil, err
	}
	ctx, stop := context.WithTimeout(ctx, testLimit)
	defer stop()
	if kind == store.Source {
		s, err := pl.sources.Get(ctx, name, "")
		if err != nil {
			return nil, &Refused{fault.Of(err)}
		}
		said, err := s.Test(ctx)
		if err != nil {
			return nil, &Refused{fault.Of(err)}
		}
		writes, err := report.ReadsOnly(ctx, s, name)
		if err != nil {
			return []string{said}, &Refused{fault.Of(err)}
		}
		steps := []string{said, "its login may only read"}
		if len(writes) > 0 {
			steps[1] = "this login can write, as was signed: " + strings.Join(writes, "; ")
		}
		if err := pl.store.SourceWrites(ctx, p.ID, strings.Join(writes, "; ")); err != nil {
			return nil, err
		}
		return steps, pl.rests.EndRest(ctx, "source:"+name, who.Name+" tested it")
	}
	id, d, err := pl.destinations.ByName(ctx, name)
	var tested deliver.Tested
	if err == nil {
		tested, err = d.Test(ctx)
		if keeping := pl.keepTest(ctx, id, err); keeping != nil {
			return nil, keeping
		}
	}
	if tested.Pin != "" {
		if err := pl.store.PinDestination(ctx, id, tested.Pin); err != nil {
			return nil, err
		}
	}
	if _, takesMail := d.(deliver.Mailer); err == nil && (mail || takesMail) {
		said := "sent nothing"
		if mail {
			said, err = pl.testMail(ctx, who, name, d)
		}
		if err == nil {
			tested.Said = append(tested.Said, said)
		}
	}
	if err != nil {
		return tested.Said, &Refused{fault.Of(err)}
	}
	if p.RestsSince != nil {
		tested.Said = append(tested.Said, "it rested, and works again")
		err = pl.rests.WakeDestination(ctx, id, name, who.Name+" tested it")
	}
	return tested.Said, err
}

// keepTest keeps how a test went, also of one that ran out of time.
func (pl *Places) keepTest(ctx context.Context, id int64, failed error) error {
	ctx, stop := node.Ending(ctx)
	defer stop()
	answer := ""
	if failed != nil {
		answer = fault.Of(failed).Error()
	}
	return pl.store.Do(ctx, func(t *store.Tx) error { return t.Tested(ctx, id, answer) })
}

// testMail sends a mail to whoever tests a mail server, and gives what the server
// answered to it. It is no delivery of the record: nobody waits for it.
func (pl *Places) testMail(ctx context.Context, who job.Person, name string, d deliver.Destination) (string, error) {
	doing := fmt.Sprintf("send a mail over %q", name)
	mailer, ok := d.(deliver.Mailer)
	if !ok {
		return "", fault.New(fault.Task, doing, "it takes no mails", "")
	}
	if who.Mail == "" {
		return "", fault.New(fault.Task, doing, "you have no mail address", "Set it on your page, under People.")
	}
	house, err := pl.store.MailSettings(ctx)
	if err != nil {
		return "", err
	}
	address := who.Mail
	switch gate, _ := gate.BySettings(house, nil, true, address, ""); { // it is the address of an administrator on record
	case gate.Keep != "":
		return "", fault.New(fault.Task, doing, "this installation sends nothing now", "An administrator can change that in the settings of mail.")
	case gate.Redirect != "":
		address = gate.Redirect
	}
	id := task.MessageID(task.DomainOf(mailer.From()))
	var raw bytes.Buffer
	if err := deliver.Compose(ctx, &raw, deliver.Letter{
		MessageID: id, From: mailer.From(), To: []string{address}, Date: pl.now(), Subject: "Test of " + name,
		Plain:   fmt.Sprintf("%s tests the mail server %q of Iron Bell. That you read this means that it works.", who.Name, name),
		Headers: map[string]string{"Auto-Submitted": "auto-generated"},
	}); err != nil {
		return "", fault.Wrap(err, fault.Lasting, fault.Message, doing, "")
	}
	line, err := d.Open(ctx)
	if err != nil {
		return "", err
	}
	defer line.Close()
	res, err := line.Send(ctx, deliver.Handover{
		To: address, From: mailer.ReturnPath("test"), MessageID: "<" + id + ">", Size: int64(raw.Len()), Content: bytes.NewReader(raw.Bytes()),
	}, func(context.Context) error { return nil })
	if err != nil {
		return "", err
	}
	return fmt.Sprintf("sent a mail to %s: %s", address, res.Answer), nil
}

// testLimit is the longest time of a test.
const testLimit = time.Minute

// soon lets the nodes look at once at what rests.
func (pl *Places) soon(ctx context.Context, look func(t *store.Tx) error) error {
	return pl.store.Do(ctx, func(t *store.Tx) error {
		if err := look(t); err != nil {
			return err
		}
		return t.Tell(ctx, store.Notice{Kind: job.NoticeDestinations})
	})
}
