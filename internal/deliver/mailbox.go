package deliver

import (
	"bytes"
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"net"
	"strconv"
	"time"

	"ironbell/internal/core/fault"
	"ironbell/internal/outgoing"

	"github.com/emersion/go-imap/v2"
	"github.com/emersion/go-imap/v2/imapclient"
)

// Mailbox is the mailbox that bounces come to, read by IMAP (RFC 9051).
type Mailbox struct {
	Host     string `json:"host" minLength:"1" maxLength:"253"`
	Port     int    `json:"port,omitempty" minimum:"0" maximum:"65535" doc:"993 with tls, 143 otherwise, when left out"`
	Security string `json:"security,omitempty" enum:"tls,starttls,none" doc:"tls when left out"`
	User     string `json:"user" minLength:"1" maxLength:"254"`
	Folder   string `json:"folder,omitempty" maxLength:"200" doc:"INBOX when left out"`
	CA       string `json:"ca,omitempty" maxLength:"100000" doc:"certificates to trust, in PEM; those of the machine when left out"`
}

const (
	maxMails   = 200      // of one look
	maxMailLen = 10 << 20 // bytes of a mail that is read
)

// What to do with a mail that was looked at.
const (
	RemoveMail = true  // it is dealt with
	KeepMail   = false // somebody may want to see it
)

// Look reads the mails that were not seen yet, at most 200, and gives each to
// handle, which says whether it is removed. It tells how many there were.
func (m Mailbox) Look(ctx context.Context, password string,
	handle func(raw []byte) (remove bool, err error),
) (n int, err error) {
	doing := fmt.Sprintf("read the mailbox %s at %s", m.User, m.Host)
	c, unwatch, err := m.open(ctx, password, doing)
	if err != nil {
		return 0, err
	}
	defer unwatch()
	defer func() { _ = c.Close() }() // what was done is done
	folder := m.Folder
	if folder == "" {
		folder = "INBOX"
	}
	if _, err := c.Select(folder, nil).Wait(); err != nil {
		return 0, mailboxFault(err, doing+": open "+folder)
	}
	found, err := c.UIDSearch(&imap.SearchCriteria{
		NotFlag: []imap.Flag{imap.FlagSeen, imap.FlagDeleted}, Smaller: maxMailLen,
	}, nil).Wait()
	if err != nil {
		return 0, mailboxFault(err, doing)
	}
	for _, uid := range found.AllUIDs() {
		if n >= maxMails {
			break
		}
		set := imap.UIDSetNum(uid)
		got, err := c.Fetch(set, &imap.FetchOptions{BodySection: []*imap.FetchItemBodySection{{Peek: true}}}).Collect()
		if err != nil {
			return n, mailboxFault(err, doing)
		}
		flag := imap.FlagSeen
		for _, one := range got {
			for _, section := range one.BodySection {
				remove, err := handle(bytes.Clone(section.Bytes))
				if err != nil {
					return n, err
				}
				if remove {
					flag = imap.FlagDeleted
				}
			}
		}
		if err := c.Store(set, &imap.StoreFlags{Op: imap.StoreFlagsAdd, Silent: true, Flags: []imap.Flag{flag}},
			nil).Close(); err != nil {
			return n, mailboxFault(err, doing)
		}
		n++
	}
	if n > 0 {
		if err := c.Expunge().Close(); err != nil {
			return n, mailboxFault(err, doing)
		}
	}
	return n, nil
}

func (m Mailbox) open(ctx context.Context, password, doing string) (*imapclient.Client, func(), error) {
	port := m.Port
	if port == 0 {
		port = 143
		if m.Security == "" || m.Security == "tls" {
			port = 993
		}
	}
	trust, err := Place{Name: "bounces"}.trust(m.Host, m.CA)
	if err != nil {
		return nil, nil, err
	}
	raw, err := dial(ctx, net.JoinHostPort(m.Host, strconv.Itoa(port)), doing)
	if err != nil {
		return nil, nil, err
	}
	stop := context.AfterFunc(ctx, func() { _ = raw.Close() })
	unwatch := func() { stop() }
	if err := raw.SetDeadline(time.Now().Add(2 * time.Minute)); err != nil {
		unwatch()
		_ = raw.Close()
		return nil, nil, broken(err, doing)
	}
	var c *imapclient.Client
	switch m.Security {
	case "", "tls":
		secure := tls.Client(raw, trust)
		// The library would keep the words of what fails, and not its kind.
		if err = secure.HandshakeContext(ctx); err == nil {
			c = imapclient.New(secure, nil)
		}
	case "starttls":
		c, err = imapclient.NewStartTLS(raw, &imapclient.Options{TLSConfig: trust})
	default:
		c = imapclient.New(raw, nil)
	}
	if err == nil {
		err = c.WaitGreeting()
	}
	if err == nil {
		err = c.Login(m.User, password).Wait()
	}
	if err != nil {
		unwatch()
		_ = raw.Close()
		return nil, nil, mailboxFault(err, doing)
	}
	return c, unwatch, nil
}

func mailboxFault(err error, doing string) error {
	var said *imap.Error
	if no := outgoing.Insecure(err, fault.Destination, doing); no != nil {
		return no
	}
	if errors.As(err, &said) {
		return fault.Wrap(err, fault.Lasting, fault.Destination, doing,
			"Check user, password and folder of the mailbox.")
	}
	return broken(err, doing)
}
