package deliver

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"
	"net"
	"net/http"
	"net/mail"
	"slices"
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
		return nil,
			p.wrong(fmt.Sprintf("%q is no address of a sender", s.From), "Set the sender as name@company.example.")
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
		// It may be another's server than the mail server: this machine's authorities hold, too.
		roots, err := x509.SystemCertPool()
		if err != nil {
			roots = x509.NewCertPool() // this machine has none
		}
		roots.AppendCertsFromPEM([]byte(s.CA)) // looked at above
		client := &http.Client{Transport: a.Guard.Transport(roots), Timeout: commandLimit, CheckRedirect: outgoing.Stay}
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
		out.Said = append(out.Said,
			fmt.Sprintf("%s answers, security %s, sign-in %s", server, m.settings.Security,
				map[bool]string{true: "accepted", false: "none"}[m.settings.User != ""]))
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
	l := &mailLine{
		server: m, cut: func() { _ = raw.Close() }, unwatch: context.AfterFunc(ctx, func() { _ = raw.Close() }),
	}
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
	way, err := l.passwordWay(doing)
	if err != nil && m.settings.SignIn != "xoauth2" {
		return err
	}
	advice := "Check user and password of the destination."
	if m.settings.SignIn == "xoauth2" {
		token := m.Secret
		advice = "Check user and token of the destination."
		if m.tokens != nil {
			t, err := m.tokens.Token()
			if err != nil {
				if no := outgoing.Insecure(err, fault.Destination,
					doing+": get a token from "+m.settings.TokenURL); no != nil {
					return no
				}
				var said *oauth2.RetrieveError
				class := fault.Passing
				if errors.As(err, &said) && said.Response != nil && said.Response.StatusCode < 500 {
					class = fault.Lasting
				}
				return fault.Wrap(err, class, fault.Destination, doing+": get a token from "+m.settings.TokenURL,
					"Check token_url, client_id and password of the destination.")
			}
			token, l.blot = t.AccessToken, fault.NewBlotter(t.AccessToken)
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

// passwordWay is how the server takes a password: PLAIN (RFC 4616), or LOGIN, which older
// servers have instead.
func (l *mailLine) passwordWay(doing string) (sasl.Client, error) {
	m := l.server
	offers, ways := l.client.Extension("AUTH")
	offered := strings.Fields(strings.ToUpper(ways))
	switch {
	case slices.Contains(offered, sasl.Plain):
		return sasl.NewPlainClient("", m.settings.User, m.Secret), nil
	case slices.Contains(offered, sasl.Login):
		return &login{m.settings.User, m.Secret}, nil
	case offers && len(offered) > 0:
		return nil,
			fault.New(fault.Destination, doing,
				"the server takes no password by PLAIN or LOGIN; it offers "+strings.Join(offered, ", "),
				"Ask its administrator for one of these, or for a relay that takes mails from this machine "+
					"without a sign-in.")
	case m.settings.Security == "none":
		return nil,
			fault.New(fault.Destination, doing, "the server offers no sign-in on a line without TLS",
				"Set security to starttls or tls; or leave user and password out, if it takes mails from this "+
					"machine so.")
	}
	return nil,
		fault.New(fault.Destination, doing, "the server offers no sign-in",
			"Leave user and password out, if it takes mails from this machine so; otherwise it may be the wrong "+
				"port: sign-ins are usually taken at 587 or 465.")
}

// login signs in by LOGIN, which no standard describes: the server asks for the name and then
// for the password, in words that differ.
type login struct{ user, password string }

// Start implements sasl.Client. Not every server takes the name with the command.
func (a *login) Start() (string, []byte, error) { return sasl.Login, nil, nil }

// Next implements sasl.Client.
func (a *login) Next([]byte) ([]byte, error) {
	answer := a.user
	a.user = a.password
	return []byte(answer), nil
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
