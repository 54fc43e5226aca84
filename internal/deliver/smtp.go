package deliver

import (
	"bufio"
	"bytes"
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/mail"
	"strconv"
	"strings"
	"sync/atomic"
	"time"

	"ironbell/internal/core/fault"
	"ironbell/internal/outgoing"

	"github.com/emersion/go-sasl"
	"github.com/emersion/go-smtp"
	"golang.org/x/oauth2"
	"golang.org/x/oauth2/clientcredentials"
)

// MailSettings are the settings of a destination of the protocol smtp (RFC 5321,
// RFC 6409). Its password is one, or with xoauth2 an access token, or what is
// given for one at token_url (RFC 6749 section 4.4).
type MailSettings struct {
	Host       string   `json:"host" doc:"name or address of the server"`
	Port       int      `json:"port,omitempty" doc:"587 for starttls, 465 for tls, 25 for none when left out"`
	Security   string   `json:"security,omitempty" enum:"starttls,tls,none" doc:"starttls when left out"`
	From       string   `json:"from" doc:"address that stands as sender, with or without a name"`
	User       string   `json:"user,omitempty" doc:"sign-in name; nobody signs in when left out"`
	SignIn     string   `json:"sign_in,omitempty" enum:"password,xoauth2" doc:"password when left out" few:"y"`
	TokenURL   string   `json:"token_url,omitempty" doc:"for xoauth2: where access tokens are had; the password is the token when left out, otherwise the client's secret" few:"y"`
	ClientID   string   `json:"client_id,omitempty" doc:"for xoauth2 with a token_url" few:"y"`
	TokenScope string   `json:"token_scope,omitempty" doc:"for xoauth2 with a token_url" few:"y"`
	ReturnPath string   `json:"return_path,omitempty" doc:"mailbox that bounces come to; the sender's when left out"`
	Standby    []string `json:"standby,omitempty" doc:"further servers as host:port, tried in this order when those before cannot be reached" few:"y"`
	MaxSize    int64    `json:"max_size,omitempty" doc:"bytes of the largest mail; what the server says when left out" few:"y"`
	PerMinute  int      `json:"per_minute,omitempty" doc:"mails that may go out in a minute, from all nodes together; no limit when left out" few:"y"`
	Hello      string   `json:"hello,omitempty" doc:"our name in the greeting; localhost when left out" few:"y"`
	CA         string   `json:"ca,omitempty" form:"block" doc:"certificates to trust, in PEM; those of the machine when left out" few:"y"`
}

const (
	finalLimit = 2 * time.Minute // the server may think long after the final dot (RFC 5321 4.5.3.2.6 allows 10)
	maxStandby = 10
)

type mailServer struct {
	Place
	settings MailSettings
	servers  []string // host:port, in order
	from     *mail.Address
	tokens   oauth2.TokenSource // for xoauth2 with a token_url
	largest  atomic.Int64       // what the server said last
}

func openMail(p Place, a Allowed) (Destination, error) {
	m := &mailServer{Place: p}
	if err := p.read(&m.settings); err != nil {
		return nil, err
	}
	s := &m.settings
	var err error
	if m.from, err = mail.ParseAddress(s.From); err != nil {
		return nil, p.wrong(fmt.Sprintf("%q is no address of a sender", s.From), "Set the sender as name@company.example.")
	}
	if s.ReturnPath != "" {
		if s.ReturnPath, err = CheckAddress(s.ReturnPath); err != nil {
			return nil, p.wrong(err.Error(), "Set the mailbox that bounces go to.")
		}
	}
	if s.Host == "" {
		return nil, p.wrong("it names no server", "Set the host of the mail server.")
	}
	switch s.Security {
	case "":
		s.Security = "starttls"
	case "starttls", "tls", "none":
	default:
		return nil, p.wrong(fmt.Sprintf("there is no security %q", s.Security), "Choose starttls, tls or none.")
	}
	if s.Port == 0 {
		s.Port = map[string]int{"tls": 465, "none": 25, "starttls": 587}[s.Security]
	}
	if s.Hello == "" {
		s.Hello = "localhost"
	}
	if s.MaxSize < 0 || s.PerMinute < 0 {
		return nil, p.wrong("max_size and per_minute are numbers from 0 on", "")
	}
	m.servers = []string{net.JoinHostPort(s.Host, strconv.Itoa(s.Port))}
	if len(s.Standby) > maxStandby {
		return nil, p.wrong(fmt.Sprintf("it names more than %d servers", maxStandby), "")
	}
	for _, address := range s.Standby {
		if _, _, err := net.SplitHostPort(address); err != nil {
			return nil, p.wrong(fmt.Sprintf("%q is no server", address), "Write it as mail2.company.example:587.")
		}
		m.servers = append(m.servers, address)
	}
	if _, err := p.trust(s.Host, s.CA); err != nil {
		return nil, err
	}
	switch {
	case s.SignIn != "" && s.SignIn != "password" && s.SignIn != "xoauth2":
		return nil, p.wrong(fmt.Sprintf("there is no sign-in %q", s.SignIn), "Choose password or xoauth2.")
	case s.SignIn == "xoauth2" && s.TokenURL != "":
		if err := outgoing.CheckURL(s.TokenURL); err != nil {
			return nil, p.wrong(err.Error(), "")
		}
		grant := clientcredentials.Config{ClientID: s.ClientID, ClientSecret: p.Secret, TokenURL: s.TokenURL}
		if s.TokenScope != "" {
			grant.Scopes = []string{s.TokenScope}
		}
		client := &http.Client{Transport: a.Guard.Transport(nil), Timeout: commandLimit}
		m.tokens = grant.TokenSource(context.WithValue(context.Background(), oauth2.HTTPClient, client))
	}
	return m, nil
}

// Largest implements Mailer.
func (m *mailServer) Largest() int64 {
	said := m.largest.Load()
	if m.settings.MaxSize > 0 && (said == 0 || m.settings.MaxSize < said) {
		return m.settings.MaxSize
	}
	return said
}

// Pause implements Mailer.
func (m *mailServer) Pause() time.Duration {
	if m.settings.PerMinute == 0 {
		return 0
	}
	return time.Minute / time.Duration(m.settings.PerMinute)
}

// From implements Mailer.
func (m *mailServer) From() string { return m.from.String() }

// ReturnPath puts the tag behind a plus (RFC 5233) of the mailbox for bounces.
func (m *mailServer) ReturnPath(tag string) string {
	box := m.settings.ReturnPath
	if box == "" {
		box = m.from.Address
	}
	at := strings.LastIndexByte(box, '@')
	if at < 0 {
		return box
	}
	return box[:at] + "+" + tag + box[at:]
}

// Test implements Destination. It sends nothing.
func (m *mailServer) Test(ctx context.Context) (Tested, error) {
	var out Tested
	for i, server := range m.servers {
		line, err := m.openAt(ctx, server)
		if err != nil {
			if i == 0 {
				return out, err
			}
			out.Said = append(out.Said, fmt.Sprintf("standby %s: %s", server, fault.Of(err)))
			continue
		}
		err = line.client.Noop()
		line.Close()
		if err != nil {
			return out, line.explain(err, "ask the server", fault.Destination)
		}
		out.Said = append(out.Said, fmt.Sprintf("%s answers, security %s, sign-in %s", server, m.settings.Security, map[bool]string{true: "accepted", false: "none"}[m.settings.User != ""]))
		if size := m.Largest(); size > 0 && i == 0 {
			out.Said = append(out.Said, fmt.Sprintf("messages of up to %d bytes", size))
		}
	}
	return out, nil
}

// Open implements Destination. The servers are tried in their order; one that
// refuses the sign-in or shows a wrong certificate ends the search.
func (m *mailServer) Open(ctx context.Context) (Line, error) {
	var first error
	for _, server := range m.servers {
		l, err := m.openAt(ctx, server)
		if err == nil {
			return l, nil
		}
		if first == nil {
			first = err
		}
		if fault.Of(err).Class == fault.Lasting || ctx.Err() != nil {
			return nil, err
		}
	}
	return nil, first
}

func (m *mailServer) openAt(ctx context.Context, address string) (*mailLine, error) {
	doing := fmt.Sprintf("connect to mail server %q at %s", m.Name, address)
	host, _, err := net.SplitHostPort(address)
	if err != nil {
		return nil, m.wrong(err.Error(), "")
	}
	trust, err := m.trust(host, m.settings.CA)
	if err != nil {
		return nil, err
	}
	raw, err := dial(ctx, address, doing)
	if err != nil {
		return nil, err
	}
	// Whatever waits on the line ends when ctx does.
	l := &mailLine{server: m, cut: func() { _ = raw.Close() }, unwatch: context.AfterFunc(ctx, func() { _ = raw.Close() })}
	limited := hasty(raw)
	limited.idle.Store(true) // the library limits commands and answers, but not what goes out
	var conn net.Conn = limited
	switch m.settings.Security {
	case "tls":
		l.client = smtp.NewClient(tls.Client(conn, trust))
	case "none":
		l.client = smtp.NewClient(conn)
	default:
		if l.client, err = smtp.NewClientStartTLS(conn, trust); err != nil {
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
		if err := l.signIn(); err != nil {
			l.Close()
			return nil, err
		}
	}
	if size, ok := l.client.MaxMessageSize(); ok {
		m.largest.Store(int64(size))
	}
	return l, nil
}

// signIn signs in as the settings say.
func (l *mailLine) signIn() error {
	m := l.server
	doing := fmt.Sprintf("sign in to mail server %q as %s", m.Name, m.settings.User)
	way := sasl.NewPlainClient("", m.settings.User, m.Secret)
	advice := "Check user and password of the destination."
	if m.settings.SignIn == "xoauth2" {
		token := m.Secret
		advice = "Check user and token of the destination."
		if m.tokens != nil {
			t, err := m.tokens.Token()
			if err != nil {
				var said *oauth2.RetrieveError
				class := fault.Passing
				if errors.As(err, &said) && said.Response != nil && said.Response.StatusCode < 500 {
					class = fault.Lasting
				}
				return fault.Wrap(err, class, fault.Destination, doing+": get a token from "+m.settings.TokenURL, "Check token_url, client_id and password of the destination.")
			}
			token = t.AccessToken
		}
		way = &xoauth2{m.settings.User, token}
	}
	if err := l.client.Auth(way); err != nil {
		f := l.explain(err, doing, fault.Destination)
		f.Advice = advice
		return f
	}
	return nil
}

// xoauth2 signs in with a bearer token, as large mail providers have it.
type xoauth2 struct{ user, token string }

// Start implements sasl.Client.
func (x *xoauth2) Start() (string, []byte, error) {
	return "XOAUTH2", []byte("user=" + x.user + "\x01auth=Bearer " + x.token + "\x01\x01"), nil
}

// Next implements sasl.Client. A challenge tells why the server refuses, and
// wants an empty answer.
func (x *xoauth2) Next([]byte) ([]byte, error) { return []byte{}, nil }

// mailLine is one connection; several messages go over it one after another.
type mailLine struct {
	server  *mailServer
	client  *smtp.Client
	unwatch func() bool
	cut     func() // breaks it off
	gone    bool   // of no further use
	in      *bufio.Reader
}

// Fit implements Line: it asks whether the server is still there.
func (l *mailLine) Fit() bool { return !l.gone && l.client.Noop() == nil }

func (l *mailLine) Close() {
	if err := l.client.Quit(); err != nil {
		_ = l.client.Close() // it is gone already
	}
	l.unwatch()
}

// Send implements Line.
func (l *mailLine) Send(ctx context.Context, h Handover, offer func(context.Context) error) (Result, error) {
	about := fmt.Sprintf("hand over to %s at mail server %q", h.To, l.server.Name)
	var res Result
	defer context.AfterFunc(ctx, l.cut)()
	options := &smtp.MailOptions{Size: h.Size}
	if _, says := l.client.MaxMessageSize(); !says {
		options.Size = 0
	}
	if !ascii(h.To) { // RFC 6531
		if ok, _ := l.client.Extension("SMTPUTF8"); !ok {
			return res, fault.New(fault.Recipient, about, "the mail server takes no addresses with letters beyond ASCII", "Use another address of theirs.")
		}
		options.UTF8 = true
	}
	if err := l.client.Mail(h.From, options); err != nil {
		return res, l.refused(err, about+": sender", fault.Message)
	}
	if err := l.client.Rcpt(h.To, &smtp.RcptOptions{}); err != nil {
		return res, l.refused(err, about, fault.Recipient)
	}
	data, err := l.client.Data()
	if err != nil {
		return res, l.refused(err, about, fault.Message)
	}
	o := early{ctx: ctx, offer: offer, out: data, left: h.Size}
	if err := l.copyMessage(&o, h); err != nil {
		// Without the final dot nothing is accepted; the line is of no use now.
		_ = o.wait() // it did not go out, whatever was recorded
		l.gone = true
		_ = l.client.Close()
		return res, fault.Wrap(err, fault.Passing, fault.Destination, about, "")
	}
	if err := o.holds(); err != nil {
		l.gone = true
		_ = l.client.Close() // the final dot must not go out
		return res, err
	}
	res.Offered = true
	reply, err := data.CloseWithResponse()
	if err != nil {
		var said *smtp.SMTPError
		if !errors.As(err, &said) {
			l.gone = true
			return res, fault.Wrap(errors.New(fault.Reason(err)), fault.Passing, fault.Message, about+": the answer was lost", "")
		}
		f := l.refused(err, about, fault.Message)
		switch said.Code / 100 {
		case 4, 5:
			res.Answered = true
			return res, f
		case 2: // another word for yes (RFC 5321 section 4.3.2)
			res.Answered, res.Answer = true, fmt.Sprintf("%d %s", said.Code, oneLine(said.Message))
			return res, nil
		}
		// A code that no standard knows says neither yes nor no.
		l.gone = true
		return res, f
	}
	res.Answered = true
	res.Answer = "250 " + strings.TrimSpace(reply.StatusText)
	return res, nil
}

func ascii(text string) bool {
	for i := range len(text) {
		if text[i] >= 0x80 {
			return false
		}
	}
	return true
}

func oneLine(text string) string { return strings.Join(strings.Fields(text), " ") }

// refused explains an error and readies the line for the next message.
func (l *mailLine) refused(err error, doing string, scope fault.Scope) *fault.Fault {
	var said *smtp.SMTPError
	if !errors.As(err, &said) || l.client.Reset() != nil {
		l.gone = true
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
	text += " " + oneLine(said.Message)
	class, advice := fault.Lasting, "Ask the administrator of the mail server what it means."
	switch {
	case said.Code == 530 || said.Code == 534 || said.Code == 535 || said.Code == 538: // RFC 4954 section 6
		scope, advice = fault.Destination, "Check user and password of the destination."
	case said.Code/100 != 5:
		// A code that no standard knows may be another one the next time.
		class, advice = fault.Passing, ""
	case said.Code == 552 && scope == fault.Message, said.EnhancedCode == smtp.EnhancedCode{5, 3, 4}:
		scope, advice = fault.Message, "The message is too large for the server: let the job split it, or send a link."
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
		return untrusted(err, doing)
	case errors.As(err, &said):
		return l.explain(err, doing, fault.Destination)
	case strings.Contains(err.Error(), "doesn't support STARTTLS"):
		return fault.Wrap(err, fault.Lasting, fault.Destination, doing, "The server offers no STARTTLS: choose the security that it has.")
	}
	return fault.Wrap(errors.New(fault.Reason(err)), fault.Passing, fault.Destination, doing, "Check that the mail server runs and can be reached.")
}

const (
	chunk      = 16 << 10  // bytes of a message that are written at a time
	earlyBytes = 2 * chunk // how many are still to go out when the offer is asked for
)

// early passes a message on, and asks for the offer while its last bytes go out:
// recording it takes as long as they do.
type early struct {
	ctx   context.Context //nolint:containedctx // of one hand-over, as it is itself
	offer func(context.Context) error
	out   io.Writer
	left  int64
	asked chan error
}

// Write implements io.Writer.
func (o *early) Write(b []byte) (int, error) {
	if o.asked == nil && o.left <= earlyBytes {
		o.asked = make(chan error, 1)
		go func() { o.asked <- o.offer(o.ctx) }()
	}
	o.left -= int64(len(b))
	return o.out.Write(b)
}

// wait lets an offer that is under way come to its end.
func (o *early) wait() error {
	if o.asked == nil {
		return nil
	}
	return <-o.asked
}

// holds tells whether the offer is recorded, and still holds.
func (o *early) holds() error {
	if err := o.wait(); err != nil {
		return err
	}
	return o.offer(o.ctx)
}

// copyMessage copies a stored message and puts its own id in its header in place
// of the one that it was stored with, with what this copy has beside.
func (l *mailLine) copyMessage(w io.Writer, h Handover) error {
	if l.in == nil {
		l.in = bufio.NewReaderSize(nil, chunk)
	}
	l.in.Reset(h.Content)
	for {
		line, err := l.in.ReadBytes('\n')
		if err != nil && !errors.Is(err, io.EOF) {
			return fmt.Errorf("read the message: %w", err)
		}
		if len(line) > 11 && strings.EqualFold(string(line[:11]), "message-id:") {
			line = []byte("Message-ID: " + h.MessageID + "\r\n")
			for _, header := range h.Headers {
				line = append(line, header+"\r\n"...)
			}
		}
		if _, err := w.Write(line); err != nil {
			return fmt.Errorf("write the message: %w", err)
		}
		if len(bytes.TrimSpace(line)) == 0 || err != nil {
			break
		}
	}
	for {
		_, err := l.in.Peek(1) // fills it
		if errors.Is(err, io.EOF) {
			return nil
		}
		if err != nil {
			return fmt.Errorf("read the message: %w", err)
		}
		part, _ := l.in.Peek(l.in.Buffered()) // it is there
		if _, err := w.Write(part); err != nil {
			return fmt.Errorf("write the message: %w", err)
		}
		_, _ = l.in.Discard(len(part)) // likewise
	}
}
