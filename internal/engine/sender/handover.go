package sender

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"time"

	"ironbell/internal/core/fault"
	"ironbell/internal/deliver"
	"ironbell/internal/engine/crash"
	"ironbell/internal/store/sending"
)

// handOver sends one delivery.
func (sd *Sender) handOver(ctx context.Context, line deliver.Line, d deliver.Destination,
	s sending.Sending,
) (deliver.Result, error) {
	ctx, stop := context.WithTimeout(ctx, sendLimit+time.Duration(s.Size/sendSpeed)*time.Second)
	defer stop()
	content, err := sd.bytesOf(ctx, s)
	if err != nil {
		return deliver.Result{}, err
	}
	defer func() { _ = content.Close() }() // only read from
	h := deliver.Handover{
		ID: s.ID, To: s.Address, MessageID: s.MessageID, Name: s.Name, MediaType: s.MediaType, Size: s.Size,
		SHA256: s.SHA256, Try: s.Tries, IfExists: s.IfExists, Stamp: s.Stamp, Content: content,
		Alone: func(ctx context.Context, name string) (func(), error) {
			release, err := sd.store.Alone(ctx, s.DestinationID, name, 2*sd.node.Lease)
			switch {
			case err == nil:
				return release, nil
			case ctx.Err() != nil:
				return nil,
					fault.Wrap(err, fault.Passing, fault.Message, "choose a name at the destination",
						"Others of this name went there all the time.")
			}
			return nil, &notRecorded{err}
		},
	}
	if mailer, ok := d.(deliver.Mailer); ok {
		tag := sd.links.Mark(s.ID)
		h.From, h.Headers = mailer.ReturnPath(tag), append(sd.leaveHeaders(s), deliver.TagField+": "+tag)
	}
	var asked time.Time
	return line.Send(ctx, h, func(context.Context) error {
		if asked.IsZero() {
			asked = time.Now()
			if err := sd.offer(s); err != nil {
				return err
			}
			sd.node.Crash(crash.Offer)
		}
		// A node that was held up just here must not say the last word: by now
		// another may have taken the delivery for lost.
		if held := time.Since(asked); held > sd.node.Lease/2 {
			return fault.Wrap(fmt.Errorf("this node was held up for %s", held.Round(time.Millisecond)), fault.Passing,
				fault.Message, "offer the message", "")
		}
		return nil
	})
}

// bytesOf opens what a delivery hands over.
func (sd *Sender) bytesOf(ctx context.Context, s sending.Sending) (io.ReadSeekCloser, error) {
	if s.Key == "" && len(s.Body) > 0 {
		return inMemory{bytes.NewReader(s.Body)}, nil
	}
	return sd.files.Open(ctx, s.Key)
}

// inMemory is a text that is read like a file.
type inMemory struct{ *bytes.Reader }

func (inMemory) Close() error { return nil }

// leaveHeaders are the lines by which who gets a mail can leave the job's list with
// one click (RFC 2369, RFC 8058).
func (sd *Sender) leaveHeaders(s sending.Sending) []string {
	if !s.MayLeave || s.JobID == nil {
		return nil
	}
	link := sd.links.Leave(*s.JobID, s.Address)
	if link == "" {
		return nil
	}
	return []string{"List-Unsubscribe: <" + link + ">", "List-Unsubscribe-Post: List-Unsubscribe=One-Click"}
}
