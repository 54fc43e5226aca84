// Package compose puts the files of a message together: how large they are as a mail carries
// them, how they are parted over several mails, and as one archive.
package compose

import (
	"archive/zip"
	"context"
	"fmt"
	"io"
	"time"

	"ironbell/internal/core/fault"
	"ironbell/internal/deliver"

	"github.com/dustin/go-humanize"
)

// SizeOf is about how large a mail becomes: base64 makes four of three, and lines.
func SizeOf(l deliver.Letter) int64 {
	size := int64(len(l.Plain))*3 + 4000
	for _, t := range l.Tables {
		size += int64(len(t)) * 2
	}
	for _, a := range l.Attachments {
		size += encoded(a.Size)
	}
	return size
}

func encoded(size int64) int64 { return size*4/3 + size/38 + 500 }

// TooLarge is the fault of a message that its destination does not take, which takes limit bytes.
func TooLarge(size, limit int64) error {
	return fault.New(fault.Message, "compose the message",
		fmt.Sprintf("it has about %s, and the mail server takes %s", humanize.Bytes(uint64(max(size, 0))),
			humanize.Bytes(uint64(max(limit, 0)))),
		"Let the job send a link in place of the files, or make them smaller.")
}

// Bunch divides the attachments over as few mails as can be, in their order.
func Bunch(l deliver.Letter, limit int64) ([][]deliver.Attachment, error) {
	body := l
	body.Attachments = nil
	room := limit - SizeOf(body)
	var out [][]deliver.Attachment
	var now []deliver.Attachment
	left := room
	for _, a := range l.Attachments {
		size := encoded(a.Size)
		if size > room {
			return nil, TooLarge(SizeOf(l), limit)
		}
		if size > left && len(now) > 0 {
			out, now, left = append(out, now), nil, room
		}
		now, left = append(now, a), left-size
	}
	return append(out, now), nil
}

// WriteZip writes attachments as one archive whose entries carry an instant.
func WriteZip(ctx context.Context, to io.Writer, all []deliver.Attachment, now time.Time) error {
	archive := zip.NewWriter(to)
	for _, a := range all {
		entry, err := archive.CreateHeader(&zip.FileHeader{Name: a.Name, Method: zip.Deflate, Modified: now})
		if err != nil {
			return fmt.Errorf("begin %s: %w", a.Name, err)
		}
		in, err := a.Open(ctx)
		if err != nil {
			return err
		}
		_, err = io.Copy(entry, in)
		_ = in.Close() // only read from
		if err != nil {
			return fmt.Errorf("write %s: %w", a.Name, err)
		}
	}
	return archive.Close()
}
