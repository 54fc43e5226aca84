// Package mail is a stand-in for a mail server: it speaks SMTP with STARTTLS and
// sign-in, keeps what it accepts in an inbox that people and programs can read,
// and misbehaves when it is told to.
package mail

import (
	"crypto/tls"
	"errors"
	"fmt"
	"io"
	"net"
	"sync"
	"time"

	"ironbell/standin/gate"

	"github.com/emersion/go-sasl"
	"github.com/emersion/go-smtp"
)

// Server is one mail server. Its methods may be called by several goroutines.
type Server struct {
	*gate.Gate
	user     string
	password string
	inbox    *Inbox
	tls      *tls.Config

	mu      sync.Mutex
	greyed  map[string]bool
	dropped int
	back    func(Return) // where returned mail goes; nil when nothing is returned
}

// maxMessage is the largest message that is taken, in bytes.
const maxMessage = 100 << 20

// Start starts a server on a free port of loopback (port 0) or on a given one.
// Whoever signs in must do it with user and password; without a user nobody needs to.
func Start(name, address, user, password string, inbox *Inbox, cert tls.Certificate) (*Server, error) {
	s := &Server{
		user: user, password: password, inbox: inbox, greyed: map[string]bool{},
		tls: &tls.Config{Certificates: []tls.Certificate{cert}, MinVersion: tls.VersionTLS12},
	}
	var err error
	s.Gate, err = gate.Open(name, address, s.serve)
	return s, err
}

// Modes are the ways in which it can behave.
func (s *Server) Modes() []gate.Mode {
	return []gate.Mode{
		gate.Accept, gate.Slow, gate.Refuse, gate.Full, gate.Busy, gate.Greylist, gate.Expired,
		gate.Drop, gate.Strange, gate.Older, gate.Shut, gate.Bounce, gate.Stripped, gate.Absent, gate.Away,
	}
}

// Returns says where mail goes that is returned.
func (s *Server) Returns(back func(Return)) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.back = back
}

func (s *Server) serve(l net.Listener) {
	server := smtp.NewServer(backend{s})
	server.Domain = "mail.standin.test"
	server.TLSConfig = s.tls
	server.MaxMessageBytes = maxMessage
	server.MaxRecipients = 100
	server.ReadTimeout, server.WriteTimeout = time.Minute, time.Minute
	server.AllowInsecureAuth = false
	server.ErrorLog = silent{}
	_ = server.Serve(l) // ends when it is closed
}

// Behave changes how it behaves, at once.
func (s *Server) Behave(b gate.Behaviour) error {
	s.mu.Lock()
	clear(s.greyed)
	s.mu.Unlock()
	return s.Gate.Behave(b)
}

// Dropped is how many messages it took without an answer.
func (s *Server) Dropped() int {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.dropped
}

// decide tells what to do with a recipient.
func (s *Server) decide(from, to string) gate.Behaviour {
	b := s.Behaviour()
	if b.Only != "" && b.Only != to {
		return gate.Behaviour{Mode: gate.Accept}
	}
	if b.Mode == gate.Greylist {
		s.mu.Lock()
		defer s.mu.Unlock()
		key := from + " " + to
		if s.greyed[key] {
			return gate.Behaviour{Mode: gate.Accept}
		}
		s.greyed[key] = true
	}
	return b
}

type backend struct{ *Server }

func (b backend) NewSession(c *smtp.Conn) (smtp.Session, error) {
	return &session{server: b.Server, conn: c, signedIn: b.user == ""}, nil
}

type session struct {
	server   *Server
	conn     *smtp.Conn
	signedIn bool
	from     string
	to       []string
	last     gate.Behaviour
}

func (s *session) AuthMechanisms() []string {
	if s.server.Behaviour().Mode == gate.Older {
		return []string{sasl.Login, "NTLM"}
	}
	return []string{sasl.Plain, "XOAUTH2"}
}

// login asks for name and password one after the other.
type login struct {
	check  func(user, password string) error
	answer []string
}

// Next implements sasl.Server.
func (a *login) Next(response []byte) ([]byte, bool, error) {
	if response != nil {
		a.answer = append(a.answer, string(response))
	}
	if len(a.answer) < 2 {
		return []byte([]string{"User Name:", "password"}[len(a.answer)]), false, nil // in words of its own
	}
	return nil, true, a.check(a.answer[0], a.answer[1])
}

// bearer takes a token, as large mail providers have it. What stands for the
// password is the token.
type bearer struct{ *session }

// Next implements sasl.Server.
func (b bearer) Next(response []byte) ([]byte, bool, error) {
	if response == nil {
		return []byte{}, false, nil
	}
	if string(response) != "user="+b.server.user+"\x01auth=Bearer "+b.server.password+"\x01\x01" ||
		b.server.Behaviour().Mode == gate.Expired {
		return nil, false,
			&smtp.SMTPError{Code: 535, EnhancedCode: smtp.EnhancedCode{5, 7, 8}, Message: "The token is not accepted"}
	}
	b.signedIn = true
	return nil, true, nil
}

func (s *session) Auth(mechanism string) (sasl.Server, error) {
	if mechanism == "XOAUTH2" {
		return bearer{s}, nil
	}
	check := func(user, password string) error {
		if user != s.server.user || password != s.server.password || s.server.Behaviour().Mode == gate.Expired {
			return &smtp.SMTPError{
				Code: 535, EnhancedCode: smtp.EnhancedCode{5, 7, 8}, Message: "Authentication credentials invalid",
			}
		}
		s.signedIn = true
		return nil
	}
	if mechanism == sasl.Login {
		return &login{check: check}, nil
	}
	return sasl.NewPlainServer(func(_, user, password string) error { return check(user, password) }), nil
}

func (s *session) Mail(from string, _ *smtp.MailOptions) error {
	if !s.signedIn {
		return &smtp.SMTPError{Code: 530, EnhancedCode: smtp.EnhancedCode{5, 7, 0}, Message: "Authentication required"}
	}
	if s.server.Behaviour().Mode == gate.Expired {
		s.signedIn = false
		return &smtp.SMTPError{Code: 535, EnhancedCode: smtp.EnhancedCode{5, 7, 8}, Message: "The password has expired"}
	}
	if s.server.Behaviour().Mode == gate.Shut {
		return &smtp.SMTPError{
			Code: 452, EnhancedCode: smtp.EnhancedCode{4, 3, 1}, Message: "Insufficient system storage",
		}
	}
	s.from = from
	return nil
}

func (s *session) Rcpt(to string, _ *smtp.RcptOptions) error {
	s.last = s.server.decide(s.from, to)
	switch s.last.Mode {
	case gate.Full:
		return &smtp.SMTPError{
			Code: 552, EnhancedCode: smtp.EnhancedCode{5, 2, 2}, Message: "The mailbox is over its quota",
		}
	case gate.Refuse:
		return &smtp.SMTPError{Code: 550, EnhancedCode: smtp.EnhancedCode{5, 1, 1}, Message: "No such mailbox"}
	case gate.Busy:
		return &smtp.SMTPError{Code: 451, EnhancedCode: smtp.EnhancedCode{4, 3, 2}, Message: "Not now, try again later"}
	case gate.Greylist:
		return &smtp.SMTPError{
			Code: 451, EnhancedCode: smtp.EnhancedCode{4, 7, 1}, Message: "Greylisted, try again later",
		}
	}
	s.to = append(s.to, to)
	return nil
}

func (s *session) Data(r io.Reader) error {
	raw, err := io.ReadAll(r)
	if err != nil {
		return fmt.Errorf("read the message: %w", err)
	}
	s.last.Pause()
	if err := s.server.inbox.add(s.server.Name(), s.from, s.to, raw); err != nil {
		return &smtp.SMTPError{
			Code: 554, EnhancedCode: smtp.EnhancedCode{5, 6, 0}, Message: "This is no message: " + err.Error(),
		}
	}
	switch s.last.Mode {
	case gate.Strange:
		return &smtp.SMTPError{Code: 299 + 400, EnhancedCode: smtp.NoEnhancedCode, Message: "Perhaps"}
	case gate.Bounce, gate.Stripped, gate.Absent:
		s.server.sendBack(s.from, s.to[0], raw, s.last)
	case gate.Drop:
		s.server.mu.Lock()
		s.server.dropped++
		s.server.mu.Unlock()
		_ = s.conn.Conn().Close() // the point of it
		return errors.New("dropped")
	}
	return nil
}

func (s *session) Reset() { s.from, s.to, s.last = "", nil, gate.Behaviour{} }

func (s *session) Logout() error { return nil }

// silent keeps the library's complaints about broken lines from the log.
type silent struct{}

func (silent) Printf(string, ...any) {}
func (silent) Println(...any)        {}
