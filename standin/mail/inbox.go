package mail

import (
	"bytes"
	"encoding/base64"
	"errors"
	"fmt"
	"io"
	"strings"
	"sync"
	"time"

	"github.com/emersion/go-message"
	_ "github.com/emersion/go-message/charset" // reads what is not UTF-8
	"github.com/emersion/go-message/mail"
)

// Bounds of the inbox: the oldest go first.
const (
	maxMessages = 20_000
	maxBytes    = 512 << 20
)

// Message is a message that was accepted.
type Message struct {
	ID          int          `json:"id"`
	At          time.Time    `json:"at"`
	Server      string       `json:"server"`
	From        string       `json:"from"` // of the envelope
	To          []string     `json:"to"`   // of the envelope
	Sender      string       `json:"sender"`
	Subject     string       `json:"subject"`
	MessageID   string       `json:"message_id"`
	Plain       string       `json:"plain"`
	HTML        string       `json:"html"`
	Attachments []Attachment `json:"attachments"`
	Size        int          `json:"size"`

	raw      []byte
	pictures map[string]string // that the HTML shows, as data addresses by their content ids
}

// Attachment is a file of a message.
type Attachment struct {
	Name      string `json:"name"`
	MediaType string `json:"media_type"`
	Size      int    `json:"size"`

	content []byte
}

// Inbox keeps messages in memory. Its methods may be called by several goroutines.
type Inbox struct {
	mu       sync.Mutex
	messages []*Message
	bytes    int
	next     int
}

func (b *Inbox) add(server, from string, to []string, raw []byte) error {
	m, err := read(raw)
	if err != nil {
		return err
	}
	m.Server, m.From, m.To, m.At, m.Size, m.raw = server, from, append([]string(nil), to...), time.Now(), len(raw), raw
	b.mu.Lock()
	defer b.mu.Unlock()
	b.next++
	m.ID = b.next
	b.messages = append(b.messages, m)
	b.bytes += len(raw)
	for len(b.messages) > maxMessages || b.bytes > maxBytes && len(b.messages) > 1 {
		b.bytes -= b.messages[0].Size
		b.messages = b.messages[1:]
	}
	return nil
}

// All lists the messages, newest first.
func (b *Inbox) All() []*Message {
	b.mu.Lock()
	defer b.mu.Unlock()
	all := make([]*Message, 0, len(b.messages))
	for i := len(b.messages) - 1; i >= 0; i-- {
		all = append(all, b.messages[i])
	}
	return all
}

// Get finds a message.
func (b *Inbox) Get(id int) (*Message, bool) {
	b.mu.Lock()
	defer b.mu.Unlock()
	for _, m := range b.messages {
		if m.ID == id {
			return m, true
		}
	}
	return nil, false
}

// Clear forgets all messages.
func (b *Inbox) Clear() {
	b.mu.Lock()
	defer b.mu.Unlock()
	b.messages, b.bytes = nil, 0
}

// Shown is the HTML with its pictures in it, as a mail program shows it (RFC 2392).
func (m *Message) Shown() string {
	shown := m.HTML
	for id, picture := range m.pictures {
		shown = strings.ReplaceAll(shown, `"`+id+`"`, `"`+picture+`"`)
	}
	return shown
}

// Raw is the message as it came.
func (m *Message) Raw() []byte { return m.raw }

// read takes a message apart.
func read(raw []byte) (*Message, error) {
	r, err := mail.CreateReader(bytes.NewReader(raw))
	if err != nil && !message.IsUnknownCharset(err) {
		return nil, fmt.Errorf("read the header: %w", err)
	}
	m := &Message{Attachments: []Attachment{}, pictures: map[string]string{}}
	if m.Subject, err = r.Header.Subject(); err != nil {
		m.Subject = r.Header.Get("Subject")
	}
	m.MessageID = r.Header.Get("Message-Id")
	m.Sender = r.Header.Get("From")
	for {
		p, err := r.NextPart()
		if errors.Is(err, io.EOF) {
			return m, nil
		}
		if err != nil && !message.IsUnknownCharset(err) {
			return nil, fmt.Errorf("read a part: %w", err)
		}
		content, err := io.ReadAll(p.Body)
		if err != nil {
			return nil, fmt.Errorf("read a part: %w", err)
		}
		switch h := p.Header.(type) {
		case *mail.InlineHeader:
			kind, _, err := h.ContentType()
			if err != nil {
				return nil, fmt.Errorf("read a part's type: %w", err)
			}
			switch {
			case kind == "text/html":
				m.HTML += string(content)
			case strings.HasPrefix(kind, "image/"):
				m.pictures["cid:"+strings.Trim(h.Get("Content-Id"), "<> ")] = "data:" + kind + ";base64," +
					base64.StdEncoding.EncodeToString(content)
			default:
				m.Plain += string(content)
			}
		case *mail.AttachmentHeader:
			name, err := h.Filename()
			if err != nil {
				return nil, fmt.Errorf("read an attachment's name: %w", err)
			}
			kind, _, _ := h.ContentType() // one without a type is shown without
			m.Attachments = append(m.Attachments, Attachment{
				Name: name, MediaType: kind, Size: len(content), content: content,
			})
		}
	}
}
