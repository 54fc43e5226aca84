// Package mail is a stand-in for a mail server: it speaks SMTP with STARTTLS and
// sign-in, keeps what it accepts in an inbox that people and programs can read,
// and misbehaves when it is told to.
package mail

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/pem"
	"errors"
	"fmt"
	"io"
	"math/big"
	"net"
	"sync"
	"time"

	"github.com/emersion/go-sasl"
	"github.com/emersion/go-smtp"
)

// Mode is how a server behaves.
type Mode string

// The modes.
const (
	Accept   Mode = "accept"   // takes everything
	Slow     Mode = "slow"     // thinks for a while before its last answer
	Refuse   Mode = "refuse"   // no such mailbox, for good
	Busy     Mode = "busy"     // not now
	Greylist Mode = "greylist" // not the first time
	Drop     Mode = "drop"     // takes the message and breaks the line before it answers
	Away     Mode = "away"     // does not listen
)

// Behaviour tells a server what to do. Only restricts it to one recipient.
type Behaviour struct {
	Mode  Mode   `json:"mode"`
	Only  string `json:"only,omitempty"`
	Delay int    `json:"delay_ms,omitempty"` // for slow
}

// Server is one mail server. Its methods may be called by several goroutines.
type Server struct {
	name     string
	address  string
	user     string
	password string
	inbox    *Inbox
	tls      *tls.Config

	mu        sync.Mutex
	behaviour Behaviour
	greyed    map[string]bool
	dropped   int
	server    *smtp.Server
	listener  net.Listener
	ended     chan struct{}
}

// maxMessage is the largest message that is taken, in bytes.
const maxMessage = 100 << 20

// Start starts a server on a free port of loopback (port 0) or on a given one.
// Whoever signs in must do it with user and password; without a user nobody needs to.
func Start(name, address, user, password string, inbox *Inbox, cert tls.Certificate) (*Server, error) {
	s := &Server{
		name: name, address: address, user: user, password: password, inbox: inbox, greyed: map[string]bool{}, behaviour: Behaviour{Mode: Accept},
		tls: &tls.Config{Certificates: []tls.Certificate{cert}, MinVersion: tls.VersionTLS12},
	}
	return s, s.listen()
}

func (s *Server) listen() error {
	l, err := net.Listen("tcp", s.address) //nolint:noctx // it waits for nothing
	if err != nil {
		return fmt.Errorf("listen for mail: %w", err)
	}
	s.address = l.Addr().String()
	server := smtp.NewServer(backend{s})
	server.Domain = "mail.standin.test"
	server.TLSConfig = s.tls
	server.MaxMessageBytes = maxMessage
	server.MaxRecipients = 100
	server.ReadTimeout, server.WriteTimeout = time.Minute, time.Minute
	server.AllowInsecureAuth = false
	server.ErrorLog = silent{}
	s.server, s.listener, s.ended = server, l, make(chan struct{})
	go func(ended chan struct{}) {
		defer close(ended)
		_ = server.Serve(l) // ends when it is closed
	}(s.ended)
	return nil
}

// Address is where it listens.
func (s *Server) Address() string { return s.address }

// Name is its name.
func (s *Server) Name() string { return s.name }

// Behave changes how it behaves, at once.
func (s *Server) Behave(b Behaviour) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	was := s.behaviour.Mode
	s.behaviour = b
	clear(s.greyed)
	switch {
	case b.Mode == Away && was != Away:
		s.close()
	case b.Mode != Away && was == Away:
		return s.listen()
	}
	return nil
}

// Behaviour is how it behaves.
func (s *Server) Behaviour() Behaviour {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.behaviour
}

// Dropped is how many messages it took without an answer.
func (s *Server) Dropped() int {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.dropped
}

// Close ends it.
func (s *Server) Close() {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.behaviour.Mode != Away {
		s.close()
	}
}

func (s *Server) close() {
	// The listener, too: the library forgets one that it has not begun to serve.
	_ = s.listener.Close()
	_ = s.server.Close() // lines break off; that is what it is for
	<-s.ended
}

// decide tells what to do with a recipient.
func (s *Server) decide(from, to string) Behaviour {
	s.mu.Lock()
	defer s.mu.Unlock()
	b := s.behaviour
	if b.Only != "" && b.Only != to {
		return Behaviour{Mode: Accept}
	}
	if b.Mode == Greylist {
		key := from + " " + to
		if s.greyed[key] {
			return Behaviour{Mode: Accept}
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
	last     Behaviour
}

func (s *session) AuthMechanisms() []string { return []string{sasl.Plain} }

func (s *session) Auth(string) (sasl.Server, error) {
	return sasl.NewPlainServer(func(_, user, password string) error {
		if user != s.server.user || password != s.server.password {
			return &smtp.SMTPError{Code: 535, EnhancedCode: smtp.EnhancedCode{5, 7, 8}, Message: "Authentication credentials invalid"}
		}
		s.signedIn = true
		return nil
	}), nil
}

func (s *session) Mail(from string, _ *smtp.MailOptions) error {
	if !s.signedIn {
		return &smtp.SMTPError{Code: 530, EnhancedCode: smtp.EnhancedCode{5, 7, 0}, Message: "Authentication required"}
	}
	s.from = from
	return nil
}

func (s *session) Rcpt(to string, _ *smtp.RcptOptions) error {
	s.last = s.server.decide(s.from, to)
	switch s.last.Mode {
	case Refuse:
		return &smtp.SMTPError{Code: 550, EnhancedCode: smtp.EnhancedCode{5, 1, 1}, Message: "No such mailbox"}
	case Busy:
		return &smtp.SMTPError{Code: 451, EnhancedCode: smtp.EnhancedCode{4, 3, 2}, Message: "Not now, try again later"}
	case Greylist:
		return &smtp.SMTPError{Code: 451, EnhancedCode: smtp.EnhancedCode{4, 7, 1}, Message: "Greylisted, try again later"}
	}
	s.to = append(s.to, to)
	return nil
}

func (s *session) Data(r io.Reader) error {
	raw, err := io.ReadAll(r)
	if err != nil {
		return fmt.Errorf("read the message: %w", err)
	}
	if s.last.Mode == Slow {
		time.Sleep(time.Duration(s.last.Delay) * time.Millisecond)
	}
	if err := s.server.inbox.add(s.server.name, s.from, s.to, raw); err != nil {
		return &smtp.SMTPError{Code: 554, EnhancedCode: smtp.EnhancedCode{5, 6, 0}, Message: "This is no message: " + err.Error()}
	}
	if s.last.Mode == Drop {
		s.server.mu.Lock()
		s.server.dropped++
		s.server.mu.Unlock()
		_ = s.conn.Conn().Close() // the point of it
		return errors.New("dropped")
	}
	return nil
}

func (s *session) Reset() { s.from, s.to, s.last = "", nil, Behaviour{} }

func (s *session) Logout() error { return nil }

// silent keeps the library's complaints about broken lines from the log.
type silent struct{}

func (silent) Printf(string, ...any) {}
func (silent) Println(...any)        {}

// Certificate makes a certificate for loopback that signs itself, and its PEM.
func Certificate() (tls.Certificate, string, error) {
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		return tls.Certificate{}, "", fmt.Errorf("make a key: %w", err)
	}
	template := &x509.Certificate{
		SerialNumber: big.NewInt(time.Now().UnixNano()), Subject: pkix.Name{CommonName: "mail.standin.test"},
		NotBefore: time.Now().Add(-time.Hour), NotAfter: time.Now().AddDate(1, 0, 0),
		KeyUsage: x509.KeyUsageDigitalSignature | x509.KeyUsageCertSign, ExtKeyUsage: []x509.ExtKeyUsage{x509.ExtKeyUsageServerAuth},
		IsCA: true, BasicConstraintsValid: true, DNSNames: []string{"localhost", "mail.standin.test"}, IPAddresses: []net.IP{net.IPv4(127, 0, 0, 1)},
	}
	der, err := x509.CreateCertificate(rand.Reader, template, template, &key.PublicKey, key)
	if err != nil {
		return tls.Certificate{}, "", fmt.Errorf("make a certificate: %w", err)
	}
	text := pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: der})
	return tls.Certificate{Certificate: [][]byte{der}, PrivateKey: key}, string(text), nil
}
