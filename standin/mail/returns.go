package mail

import (
	"bytes"
	"fmt"
	"net"
	"strings"
	"time"

	"ironbell/standin/gate"

	"github.com/emersion/go-imap/v2"
	"github.com/emersion/go-imap/v2/imapserver"
	"github.com/emersion/go-imap/v2/imapserver/imapmemserver"
)

// Return is a mail that goes back to the envelope's sender.
type Return struct {
	To  string
	Raw []byte
}

// sendBack returns a message: as a delivery status notification (RFC 3464), or as
// the answer of somebody who is away (RFC 3834).
func (s *Server) sendBack(from, to string, raw []byte, b gate.Behaviour) {
	s.mu.Lock()
	back := s.back
	s.mu.Unlock()
	if back == nil || from == "" { // nothing is returned to nobody (RFC 5321 section 6.1)
		return
	}
	if box, rest, found := strings.Cut(from, "+"); found && b.Mode == gate.Stripped {
		_, host, _ := strings.Cut(rest, "@")
		from = box + "@" + host
	}
	text := notification(from, to, raw)
	if b.Mode == gate.Absent {
		text = absence(from, to)
	}
	time.AfterFunc(time.Duration(b.Delay)*time.Millisecond, func() { back(Return{To: from, Raw: text}) })
}

func crlf(text string) []byte { return []byte(strings.ReplaceAll(text, "\n", "\r\n")) }

// notification writes a notification of a lasting failure.
func notification(from, to string, raw []byte) []byte {
	header, _, _ := bytes.Cut(raw, []byte("\r\n\r\n"))
	return crlf(fmt.Sprintf(`From: Mail Delivery System <postmaster@mail.standin.test>
To: %s
Subject: Undelivered mail returned to sender
Date: %s
Auto-Submitted: auto-replied
MIME-Version: 1.0
Content-Type: multipart/report; report-type=delivery-status; boundary="parts"

--parts
Content-Type: text/plain; charset=utf-8

Your message could not be delivered to %s.

--parts
Content-Type: message/delivery-status

Reporting-MTA: dns; mail.standin.test
Arrival-Date: %s

Final-Recipient: rfc822; %s
Action: failed
Status: 5.1.1
Diagnostic-Code: smtp; 550 5.1.1 No such mailbox here

--parts
Content-Type: text/rfc822-headers

%s

--parts--
`, from, time.Now().Format(time.RFC1123Z), to, time.Now().Format(time.RFC1123Z), to, strings.ReplaceAll(string(header), "\r\n", "\n")))
}

// absence writes the answer of somebody who is away.
func absence(from, to string) []byte {
	return crlf(fmt.Sprintf(`From: %s
To: %s
Subject: Out of the office
Date: %s
Auto-Submitted: auto-replied
MIME-Version: 1.0
Content-Type: text/plain; charset=utf-8

I am at sea until Monday.
`, to, from, time.Now().Format(time.RFC1123Z)))
}

// Mailbox is a stand-in for a mailbox that is read by IMAP (RFC 9051), without TLS.
type Mailbox struct {
	*gate.Gate
	user *imapmemserver.User
}

// OpenMailbox starts a mailbox with an inbox.
func OpenMailbox(name, address, user, password string) (*Mailbox, error) {
	m := &Mailbox{user: imapmemserver.NewUser(user, password)}
	if err := m.user.Create("INBOX", nil); err != nil {
		return nil, fmt.Errorf("make the inbox: %w", err)
	}
	users := imapmemserver.New()
	users.AddUser(m.user)
	var err error
	m.Gate, err = gate.Open(name, address, func(l net.Listener) {
		server := imapserver.New(&imapserver.Options{
			NewSession: func(*imapserver.Conn) (imapserver.Session, *imapserver.GreetingData, error) {
				return users.NewSession(), nil, nil
			},
			Caps: imap.CapSet{imap.CapIMAP4rev1: {}, imap.CapIMAP4rev2: {}}, InsecureAuth: true, Logger: silent{},
		})
		_ = server.Serve(l) // ends when it is closed
	})
	return m, err
}

// Modes are the ways in which it can behave.
func (m *Mailbox) Modes() []gate.Mode { return []gate.Mode{gate.Accept, gate.Away} }

// Put lays a mail into the inbox.
func (m *Mailbox) Put(raw []byte) error {
	if _, err := m.user.Append("INBOX", literal{bytes.NewReader(raw)}, &imap.AppendOptions{}); err != nil {
		return fmt.Errorf("lay a mail into the inbox: %w", err)
	}
	return nil
}

type literal struct{ *bytes.Reader }

// Size implements imap.LiteralReader.
func (l literal) Size() int64 { return l.Reader.Size() }
