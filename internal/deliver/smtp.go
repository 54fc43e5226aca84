package deliver

import (
	"bufio"
	"bytes"
	"context"
	"crypto/tls"
	"crypto/x509"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"net/mail"
	"strconv"
	"strings"
	"time"

	"ironbell/internal/core/fault"
	"ironbell/internal/outgoing"

	"github.com/emersion/go-sasl"
	"github.com/emersion/go-smtp"
)

// MailSettings are the settings of a destination of the protocol smtp.
type MailSettings struct {
	Host       string `json:"host"`
	Port       int    `json:"port"`
	Security   string `json:"security,omitempty" enum:"starttls,tls,none"` // starttls when empty
	User       string `json:"user,omitempty"`
	From       string `json:"from"`                  // address of the sender, with or without a name
	ReturnPath string `json:"return_path,omitempty"` // mailbox for bounces; the sender's when empty
	CA         string `json:"ca,omitempty"`          // certificates to trust, in PEM; those of the machine when empty
	Hello      string `json:"hello,omitempty"`       // our name in the greeting; localhost when empty
}

const (
	dialLimit    = 10 * time.Second
	commandLimit = 30 * time.Second
	finalLimit   = 2 * time.Minute // the server may think long after the final dot (RFC 5321 4.5.3.2.6 allows 10)
)

type mailServer struct {
	name     string
	settings MailSettings
	password string
	from     *mail.Address
	tls      *tls.Config
}

func openMail(name string, settings json.RawMessage, password string, _ *outgoing.Guard) (Destination, error) {
	doing := fmt.Sprintf("open destination %q", name)
	m := &mailServer{name: name, password: password}
	if err := json.Unmarshal(settings, &m.settings); err != nil {
		return nil, fault.Wrap(err, fault.Lasting, fault.Destination, doing, "Save its settings again.")
	}
	s := &m.settings
	var err error
	if m.from, err = mail.ParseAddress(s.From); err != nil {
		return nil, fault.New(fault.Destination, doing, fmt.Sprintf("%q is no address of a sender", s.From), "Set the sender as name@company.example.")
	}
	if s.Host == "" {
		return nil, fault.New(fault.Destination, doing, "it names no server", "Set the host of the mail server.")
	}
	if s.Security == "" {
		s.Security = "starttls"
	}
	if s.Port == 0 {
		s.Port = map[string]int{"tls": 465, "none": 25}[s.Security]
		if s.Port == 0 {
			s.Port = 587
		}
	}
	if s.Hello == "" {
		s.Hello = "localhost"
	}
	m.tls = &tls.Config{ServerName: s.Host, MinVersion: tls.VersionTLS12}
	if s.CA != "" {
		m.tls.RootCAs = x509.NewCertPool()
		if !m.tls.RootCAs.AppendCertsFromPEM([]byte(s.CA)) {
			return nil, fault.New(fault.Destination, doing, "its certificates to trust are no PEM", "Paste them with their BEGIN and END lines.")
		}
	}
	return m, nil
}

func (m *mailServer) From() string { return m.from.String() }

// ReturnPath puts the delivery's number behind a plus (RFC 5233) of the mailbox
// for bounces.
func (m *mailServer) ReturnPath(delivery int64) string {
	box := m.settings.ReturnPath
	if box == "" {
		box = m.from.Address
	}
	at := strings.LastIndexByte(box, '@')
	if at < 0 {
		return box
	}
	return box[:at] + "+d" + strconv.FormatInt(delivery, 10) + box[at:]
}

func (m *mailServer) Test(ctx context.Context) (string, error) {
	line, err := m.open(ctx)
	if err != nil {
		return "", err
	}
	defer line.Close()
	if err := line.client.Noop(); err != nil {
		return "", line.explain(err, "ask the server", fault.Destination)
	}
	return fmt.Sprintf("%s:%d answers, security %s, sign-in %s", m.settings.Host, m.settings.Port, m.settings.Security, map[bool]string{true: "accepted", false: "none"}[m.settings.User != ""]), nil
}

func (m *mailServer) Open(ctx context.Context) (Line, error) {
	l, err := m.open(ctx)
	if err != nil {
		return nil, err
	}
	return l, nil
}

func (m *mailServer) open(ctx context.Context) (*mailLine, error) {
	address := net.JoinHostPort(m.settings.Host, strconv.Itoa(m.settings.Port))
	doing := fmt.Sprintf("connect to mail server %q at %s", m.name, address)
	dialing, stop := context.WithTimeout(ctx, dialLimit)
	defer stop()
	conn, err := (&net.Dialer{}).DialContext(dialing, "tcp", address)
	if err != nil {
		return nil, fault.Wrap(errors.New(fault.Reason(err)), fault.Passing, fault.Destination, doing, "Check that the mail server runs and can be reached from this machine.")
	}
	// Whatever waits on the line ends when ctx does.
	raw := conn
	l := &mailLine{server: m, unwatch: context.AfterFunc(ctx, func() { _ = raw.Close() })}
	conn = patient{conn}
	switch m.settings.Security {
	case "tls":
		l.client = smtp.NewClient(tls.Client(conn, m.tls))
	case "none":
		l.client = smtp.NewClient(conn)
	default:
		if l.client, err = smtp.NewClientStartTLS(conn, m.tls); err != nil {
			_ = raw.Close() // nothing was said on it yet
			l.unwatch()
			return nil, l.secure(err, doing)
		}
	}
	l.client.CommandTimeout, l.client.SubmissionTimeout = commandLimit, finalLimit
	if err := l.client.Hello(m.settings.Hello); err != nil {
		l.Close()
		return nil, l.secure(err, doing)
	}
	if m.settings.User != "" {
		if err := l.client.Auth(sasl.NewPlainClient("", m.settings.User, m.password)); err != nil {
			l.Close()
			f := l.explain(err, fmt.Sprintf("sign in to mail server %q as %s", m.name, m.settings.User), fault.Destination)
			f.Advice = "Check user and password of the destination."
			return nil, f
		}
	}
	return l, nil
}

// patient gives every write a limit of its own; the client library sets limits
// for commands and answers, but none while a message goes out.
type patient struct{ net.Conn }

func (p patient) Write(b []byte) (int, error) {
	if err := p.SetWriteDeadline(time.Now().Add(commandLimit)); err != nil {
		return 0, fmt.Errorf("limit the write: %w", err)
	}
	return p.Conn.Write(b)
}

// mailLine is one connection; several messages go over it one after another.
type mailLine struct {
	server  *mailServer
	client  *smtp.Client
	unwatch func() bool
}

func (l *mailLine) Close() {
	if err := l.client.Quit(); err != nil {
		_ = l.client.Close() // it is gone already
	}
	l.unwatch()
}

func (l *mailLine) Send(ctx context.Context, e Envelope, content io.Reader, offer func(context.Context) error) (Result, error) {
	about := fmt.Sprintf("hand over to %s at mail server %q", e.To, l.server.name)
	var res Result
	if err := l.client.Mail(e.From, &smtp.MailOptions{}); err != nil {
		return res, l.refused(err, about+": sender", fault.Destination)
	}
	if err := l.client.Rcpt(e.To, &smtp.RcptOptions{}); err != nil {
		f := l.refused(err, about, fault.Recipient)
		return res, f
	}
	data, err := l.client.Data()
	if err != nil {
		return res, l.refused(err, about, fault.Message)
	}
	if err := copyMessage(data, content, e.MessageID); err != nil {
		// Without the final dot nothing is accepted; the line is of no use now.
		_ = l.client.Close()
		return res, fault.Wrap(err, fault.Passing, fault.Destination, about, "")
	}
	if err := offer(ctx); err != nil {
		_ = l.client.Close() // the final dot must not go out
		return res, err
	}
	res.Offered = true
	reply, err := data.CloseWithResponse()
	if err != nil {
		var said *smtp.SMTPError
		if errors.As(err, &said) {
			res.Answered = true
			return res, l.refused(err, about, fault.Message)
		}
		return res, fault.Wrap(errors.New(fault.Reason(err)), fault.Passing, fault.Message, about+": the answer was lost", "")
	}
	res.Answered = true
	res.Answer = "250 " + strings.TrimSpace(reply.StatusText)
	return res, nil
}

// refused explains an error and readies the line for the next message.
func (l *mailLine) refused(err error, doing string, scope fault.Scope) *fault.Fault {
	var said *smtp.SMTPError
	if errors.As(err, &said) {
		_ = l.client.Reset() // a line that is broken shows at the next message
	}
	return l.explain(err, doing, scope)
}

// explain tells passing from lasting by the reply's first digit (RFC 5321 4.2.1).
func (l *mailLine) explain(err error, doing string, scope fault.Scope) *fault.Fault {
	var said *smtp.SMTPError
	if !errors.As(err, &said) {
		return fault.Wrap(fmt.Errorf("the line broke: %s", fault.Reason(err)), fault.Passing, fault.Destination, doing, "Check that the mail server runs and can be reached.")
	}
	text := fmt.Sprintf("the server answered: %d", said.Code)
	if said.EnhancedCode != (smtp.EnhancedCode{}) && said.EnhancedCode != smtp.NoEnhancedCode {
		text += fmt.Sprintf(" %d.%d.%d", said.EnhancedCode[0], said.EnhancedCode[1], said.EnhancedCode[2])
	}
	text += " " + strings.Join(strings.Fields(said.Message), " ")
	class, advice := fault.Lasting, "Ask the administrator of the mail server what it means."
	switch {
	case said.Temporary():
		class, advice = fault.Passing, ""
	case scope == fault.Recipient:
		advice = "Check the address; take it out of the job or correct it."
	}
	if said.Code == 421 {
		scope = fault.Destination
	}
	return fault.Wrap(errors.New(text), class, scope, doing, advice)
}

// secure explains why a secured line could not be had.
func (l *mailLine) secure(err error, doing string) *fault.Fault {
	var certificate *tls.CertificateVerificationError
	var said *smtp.SMTPError
	switch {
	case errors.As(err, &certificate):
		return fault.Wrap(err, fault.Lasting, fault.Destination, doing, "The server's certificate is not trusted: correct the host name, or add its certificate to those that the destination trusts.")
	case errors.As(err, &said):
		return l.explain(err, doing, fault.Destination)
	case strings.Contains(err.Error(), "doesn't support STARTTLS"):
		return fault.Wrap(err, fault.Lasting, fault.Destination, doing, "The server offers no STARTTLS: choose the security that it has.")
	}
	return fault.Wrap(errors.New(fault.Reason(err)), fault.Passing, fault.Destination, doing, "Check that the mail server runs and can be reached.")
}

// copyMessage copies a stored message and puts the given id in its header in
// place of the one that it was stored with.
func copyMessage(w io.Writer, content io.Reader, id string) error {
	in := bufio.NewReaderSize(content, 64<<10)
	for {
		line, err := in.ReadBytes('\n')
		if err != nil && !errors.Is(err, io.EOF) {
			return fmt.Errorf("read the message: %w", err)
		}
		if len(line) > 11 && strings.EqualFold(string(line[:11]), "message-id:") {
			line = []byte("Message-ID: " + id + "\r\n")
		}
		if _, err := w.Write(line); err != nil {
			return fmt.Errorf("write the message: %w", err)
		}
		if len(bytes.TrimSpace(line)) == 0 || err != nil {
			break
		}
	}
	if _, err := io.Copy(w, in); err != nil {
		return fmt.Errorf("write the message: %w", err)
	}
	return nil
}
