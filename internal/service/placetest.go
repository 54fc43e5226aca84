package service

import (
	"bytes"
	"context"
	"fmt"
	"strings"
	"time"

	"ironbell/internal/access"
	"ironbell/internal/core/fault"
	"ironbell/internal/core/job"
	"ironbell/internal/deliver"
	"ironbell/internal/engine/gate"
	"ironbell/internal/engine/node"
	"ironbell/internal/house"
	"ironbell/internal/report"
	"ironbell/internal/store"
	"ironbell/internal/store/records"
	"ironbell/internal/task"
)

// Refused is what the other side of a test answered when it did not go well.
type Refused struct{ *fault.Fault }

// Test tries a source or destination, and gives what the other side answered
// to each step. What it answered when it refused is a *Refused. A destination that
// rested works again when its test went well. A mail server may be given a mail to
// whoever tests it.
func (pl *Places) Test(ctx context.Context, who job.Person, kind records.PlaceKind, name string,
	mail bool,
) ([]string, error) {
	if err := access.May(who, access.Administer, "", ""); err != nil {
		return nil, err
	}
	p, err := pl.store.Place(ctx, kind, name)
	if err != nil {
		return nil, err
	}
	ctx, stop := context.WithTimeout(ctx, testLimit)
	defer stop()
	if kind == records.Source {
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
	settings, err := pl.store.MailSettings(ctx)
	if err != nil {
		return "", err
	}
	address := who.Mail
	// it is the address of an administrator on record
	switch gate, _ := gate.BySettings(settings, nil, true, address, ""); {
	case gate.Keep != "":
		return "",
			fault.New(fault.Task, doing, "this installation sends nothing now",
				"An administrator can change that in the settings of mail.")
	case gate.Redirect != "":
		address = gate.Redirect
	}
	look, err := house.NewShelf().Look(ctx, pl.store, "")
	if err != nil {
		return "", err
	}
	id := task.MessageID(task.DomainOf(mailer.From()))
	var raw bytes.Buffer
	if err := deliver.Compose(ctx, &raw, deliver.Letter{
		MessageID: id, From: mailer.From(), To: []string{address}, Date: pl.now(), Subject: "Test of " + name,
		Plain: fmt.Sprintf("%s tests the mail server %q of Iron Bell. That you read this means that it works.",
			who.Name, name),
		Headers: map[string]string{"Auto-Submitted": "auto-generated"}, House: look,
	}); err != nil {
		return "", fault.Wrap(err, fault.Lasting, fault.Message, doing, "")
	}
	line, err := d.Open(ctx)
	if err != nil {
		return "", err
	}
	defer line.Close()
	res, err := line.Send(ctx, deliver.Handover{
		To: address, From: mailer.ReturnPath("test"), MessageID: "<" + id + ">", Size: int64(raw.Len()),
		Content: bytes.NewReader(raw.Bytes()),
	}, func(context.Context) error { return nil })
	if err != nil {
		return "", err
	}
	return fmt.Sprintf("sent a mail to %s: %s", address, res.Answer), nil
}

// testLimit is the longest time of a test.
const testLimit = time.Minute
