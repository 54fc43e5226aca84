package task

import (
	"context"
	"crypto/rand"
	"fmt"
	"io"
	"strings"
	"time"

	"ironbell/internal/artifact"
	"ironbell/internal/core/fault"
	"ironbell/internal/core/job"
	"ironbell/internal/deliver"
	"ironbell/internal/render"
	"ironbell/internal/store"

	"github.com/dustin/go-humanize"
)

// DefaultSubject is the subject of a message whose task gives none.
const DefaultSubject = "{job} {date:%Y-%m-%d}"

// Deliver is the task kind that composes a message out of the files made before
// it. The message's bytes are kept once; the deliveries hand them over.
type Deliver struct {
	Destinations *deliver.Destinations
	Files        *artifact.Folder
	Now          func() time.Time
}

// MessageID makes an id in a domain that is unique over all nodes (RFC 5322
// section 3.6.4), without angle brackets.
func MessageID(domain string) string {
	if domain == "" {
		domain = "ironbell.invalid"
	}
	return strings.ToLower(rand.Text()) + "@" + domain
}

// DomainOf is the domain of a sender's address.
func DomainOf(from string) string {
	address, err := deliver.CheckAddress(from)
	if err != nil {
		return ""
	}
	return address[strings.LastIndexByte(address, '@')+1:]
}

// Help implements Kind.
func (k *Deliver) Help() Help {
	return Help{
		Kind: job.KindDeliver, Summary: "send the files as a mail",
		Text: "Composes one message of the files of the tasks before, tables in the body and all else attached, and hands it over to each recipient by itself: who has it never " +
			"gets it twice. The task is done when the message is on record; the deliveries go on after it. In a rehearsal the message goes only to the one who rehearses.",
		Example: job.Task{Name: "mail", Kind: job.KindDeliver, Deliver: &job.DeliverTask{Destination: "company mail", To: []string{"oren.hask@tarnwick.example"}, Subject: "Day sheet {date:%Y-%m-%d}: {rows} sailings"}},
	}
}

// Check implements Kind.
func (k *Deliver) Check(ctx context.Context, c *Checking, where string, t job.Task) error {
	d := t.Deliver
	p, ok, err := c.place(ctx, store.Destination, where+".destination", d.Destination)
	if ok && p.Protocol != "smtp" {
		c.V.Add(where+".destination", "the destination %q is a %s, and mails go to one of the protocol smtp", p.Name, p.Protocol)
	}
	if len(d.To) == 0 {
		c.V.Add(where+".to", "nobody is named; add at least one address")
	}
	for i, to := range d.To {
		if _, err := deliver.CheckAddress(to); err != nil {
			c.V.Add(fmt.Sprintf("%s.to[%d]", where, i), "%s", err)
		}
	}
	c.text(where+".subject", d.Subject)
	c.text(where+".body", d.Body)
	return err
}

// Run composes and keeps the message.
func (k *Deliver) Run(ctx context.Context, w Work, t job.Task) (Result, error) {
	d := t.Deliver
	id, destination, err := k.Destinations.ByName(ctx, d.Destination)
	if err != nil {
		return Result{}, err
	}
	letter := deliver.Letter{MessageID: MessageID(DomainOf(destination.From())), From: destination.From(), Date: k.Now(), Headers: map[string]string{
		"Auto-Submitted": "auto-generated", // RFC 3834
	}}
	for _, f := range w.Files {
		if f.Format == render.MailTable {
			table, err := k.read(ctx, f)
			if err != nil {
				return Result{}, err
			}
			letter.Tables = append(letter.Tables, table)
			continue
		}
		letter.Attachments = append(letter.Attachments, deliver.Attachment{
			Name: f.Name, MediaType: f.MediaType,
			Open: func(ctx context.Context) (io.ReadSeekCloser, error) { return k.Files.Open(ctx, f.Key) },
		})
	}
	if letter.Subject, err = w.fill(ctx, "the subject", orElse(d.Subject, DefaultSubject), nil); err != nil {
		return Result{}, err
	}
	if letter.Plain, err = w.fill(ctx, "the body", orElse(d.Body, "{job}, {date:%A %e %B %Y}."), nil); err != nil {
		return Result{}, err
	}
	for _, note := range w.Notes {
		letter.Plain += "\n\n" + note
	}
	letter.Footer = fmt.Sprintf("Iron Bell, run %s, due %s", w.RunID, w.Due.Format("Mon 2 Jan 2006 15:04 MST"))
	addresses := make([]string, 0, len(d.To))
	for _, to := range d.To {
		address, err := deliver.CheckAddress(to)
		if err != nil {
			return Result{}, fault.Wrap(err, fault.Lasting, fault.Task, "read the recipients", "Correct the address in the job.")
		}
		addresses = append(addresses, address)
	}
	if w.Rehearsal != nil {
		letter.Subject = "Rehearsal: " + letter.Subject
		letter.Plain = fmt.Sprintf("This is a rehearsal for %s. In earnest it would have gone to %s.\n\n", w.Rehearsal.Name, shorten(addresses)) + letter.Plain
		letter.Footer = "Rehearsal. " + letter.Footer
		addresses = []string{w.Rehearsal.Mail}
	}
	letter.To = addresses
	file, err := k.Files.Create()
	if err != nil {
		return Result{}, err
	}
	if err := deliver.Compose(ctx, file, letter); err != nil {
		file.Drop()
		return Result{}, fault.Wrap(err, fault.Lasting, fault.Message, "compose the message", "")
	}
	kept, err := file.Keep()
	if err != nil {
		return Result{}, err
	}
	return Result{
		Note: fmt.Sprintf("%s to %d %s, %s", countFiles(len(letter.Attachments)), len(addresses), plural(len(addresses), "recipient"), humanize.Bytes(uint64(max(kept.Size, 0)))),
		Message: &Message{
			MessageID: "<" + letter.MessageID + ">", Subject: letter.Subject, DestinationID: id,
			Key: kept.Key, Size: kept.Size, SHA256: kept.SHA256, Addresses: addresses,
		},
	}, nil
}

// shorten lists addresses, the first twenty of many.
func shorten(addresses []string) string {
	const shown = 20
	text := strings.Join(addresses[:min(len(addresses), shown)], ", ")
	if len(addresses) > shown {
		text += fmt.Sprintf(" and %d more", len(addresses)-shown)
	}
	return text
}

func (k *Deliver) read(ctx context.Context, f job.Artifact) (string, error) {
	in, err := k.Files.Open(ctx, f.Key)
	if err != nil {
		return "", err
	}
	defer func() { _ = in.Close() }() // only read from
	text, err := io.ReadAll(in)
	if err != nil {
		return "", fault.Wrap(err, fault.Passing, fault.Task, "read the table "+f.Name, "")
	}
	return string(text), nil
}

func orElse(text, otherwise string) string {
	if strings.TrimSpace(text) == "" {
		return otherwise
	}
	return text
}

func countFiles(n int) string { return fmt.Sprintf("%d %s", n, plural(n, "file")) }

func plural(n int, word string) string {
	if n == 1 {
		return word
	}
	return word + "s"
}
