package task

import (
	"context"
	"crypto/rand"
	"fmt"
	"io"
	"strings"
	"time"

	"ironbell/internal/artifact"
	"ironbell/internal/core/expr"
	"ironbell/internal/core/fault"
	"ironbell/internal/core/job"
	"ironbell/internal/deliver"
	"ironbell/internal/render"

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

// Run composes and keeps the message.
func (k *Deliver) Run(ctx context.Context, w Work, t job.Task) (Result, error) {
	d := t.Deliver
	id, destination, err := k.Destinations.ByName(ctx, d.Destination)
	if err != nil {
		return Result{}, err
	}
	var count int64
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
			count = max(count, f.Rows)
			continue
		}
		count = max(count, f.Rows)
		letter.Attachments = append(letter.Attachments, deliver.Attachment{
			Name: f.Name, MediaType: f.MediaType,
			Open: func(ctx context.Context) (io.ReadSeekCloser, error) { return k.Files.Open(ctx, f.Key) },
		})
	}
	facts := w.facts(w.Job, count, nil)
	if letter.Subject, err = fill(orElse(d.Subject, DefaultSubject), expr.Names{}, facts); err != nil {
		return Result{}, fault.Wrap(err, fault.Lasting, fault.Task, "write the subject", "Correct the subject in the job.")
	}
	if letter.Plain, err = fill(orElse(d.Body, "{job}, {date:%A %e %B %Y}."), expr.Names{}, facts); err != nil {
		return Result{}, fault.Wrap(err, fault.Lasting, fault.Task, "write the body", "Correct the body in the job.")
	}
	if w.Blank {
		letter.Plain += "\n\nNothing was found this time: the report has no rows."
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
		Note: fmt.Sprintf("%s to %d %s, %s", files(len(letter.Attachments)), len(addresses), plural(len(addresses), "recipient"), humanize.Bytes(uint64(max(kept.Size, 0)))),
		Message: &Message{
			MessageID: "<" + letter.MessageID + ">", Subject: letter.Subject, DestinationID: id,
			Key: kept.Key, Size: kept.Size, SHA256: kept.SHA256, Addresses: addresses,
		},
	}, nil
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

func files(n int) string { return fmt.Sprintf("%d %s", n, plural(n, "file")) }

func plural(n int, word string) string {
	if n == 1 {
		return word
	}
	return word + "s"
}
