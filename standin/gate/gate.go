// Package gate lets a stand-in misbehave: it does not listen, breaks its lines,
// thinks long, or refuses. Each stand-in has one.
package gate

import (
	"context"
	"fmt"
	"net"
	"sync"
	"time"

	"ironbell/internal/freeport"
)

// Mode is how a stand-in behaves.
type Mode string

// The modes. Not every stand-in knows each of them.
const (
	Accept   Mode = "accept"   // takes everything
	Slow     Mode = "slow"     // thinks for a while before its last answer
	Refuse   Mode = "refuse"   // refuses for good
	Busy     Mode = "busy"     // not now
	Full     Mode = "full"     // no room left
	Greylist Mode = "greylist" // not the first time
	Expired  Mode = "expired"  // the password is good no more
	Drop     Mode = "drop"     // takes it and breaks the line before it answers
	Bounce   Mode = "bounce"   // takes it, and sends it back a moment later
	Stripped Mode = "stripped" // as bounce, to the sender without what stands behind its plus
	Absent   Mode = "absent"   // takes it, and answers that somebody is on holiday
	Strange  Mode = "strange"  // answers in a code that nobody knows
	Hold     Mode = "hold"     // takes it and lets it stand still
	Abort    Mode = "abort"    // takes it and breaks it off a moment later
	Closed   Mode = "closed"   // takes no jobs, and says so
	Shut     Mode = "shut"     // answers whoever looks, and takes nothing
	Asks     Mode = "asks"     // takes a password only as the answer to a question
	Older    Mode = "older"    // takes a password by LOGIN alone
	Newer    Mode = "newer"    // speaks TLS 1.3 alone
	Away     Mode = "away"     // does not listen
)

// Behaviour tells a stand-in what to do. Only restricts it to one recipient, or to
// files whose name holds it.
type Behaviour struct {
	Mode  Mode   `json:"mode"`
	Only  string `json:"only,omitempty"`
	Delay int    `json:"delay_ms,omitempty"` // for slow and bounce
}

// Gate is a listener that can be shut, and the behaviour behind it. Its methods
// may be called by several goroutines.
type Gate struct {
	name  string
	serve func(net.Listener)

	mu        sync.Mutex
	address   string
	behaviour Behaviour
	listener  *tracked
	ended     chan struct{}
}

// Open listens at an address (port 0 for a free one) and serves there: serve
// returns when the listener is closed.
func Open(name, address string, serve func(net.Listener)) (*Gate, error) {
	g := &Gate{name: name, address: address, serve: serve, behaviour: Behaviour{Mode: Accept}}
	return g, g.listen()
}

// Each serves every connection by itself, for at most so long, and closes it: for servers
// of bad manners that are told in a few lines.
func Each(limit time.Duration, serve func(net.Conn)) func(net.Listener) {
	return func(l net.Listener) {
		for {
			c, err := l.Accept()
			if err != nil {
				return
			}
			go func() {
				defer func() { _ = c.Close() }()
				if c.SetDeadline(time.Now().Add(limit)) == nil {
					serve(c)
				}
			}()
		}
	}
}

func (g *Gate) listen() error {
	var l net.Listener
	var err error
	if g.address == "127.0.0.1:0" {
		// It is to find its port free again when it was shut.
		l, err = freeport.Listen(context.Background())
	} else {
		l, err = net.Listen("tcp", g.address) //nolint:noctx // it waits for nothing
	}
	if err != nil {
		return fmt.Errorf("listen as %s: %w", g.name, err)
	}
	g.address = l.Addr().String()
	g.listener, g.ended = &tracked{Listener: l, open: map[net.Conn]bool{}}, make(chan struct{})
	go func(l net.Listener, ended chan struct{}) {
		defer close(ended)
		g.serve(l)
	}(g.listener, g.ended)
	return nil
}

// Name is its name.
func (g *Gate) Name() string { return g.name }

// Address is where it listens.
func (g *Gate) Address() string {
	g.mu.Lock()
	defer g.mu.Unlock()
	return g.address
}

// Behave changes how it behaves, at once.
func (g *Gate) Behave(b Behaviour) error {
	g.mu.Lock()
	defer g.mu.Unlock()
	was := g.behaviour.Mode
	switch {
	case b.Mode == Away && was != Away:
		g.shut()
	case b.Mode != Away && was == Away:
		if err := g.listen(); err != nil {
			return err
		}
	}
	g.behaviour = b
	return nil
}

// Behaviour is how it behaves.
func (g *Gate) Behaviour() Behaviour {
	g.mu.Lock()
	defer g.mu.Unlock()
	return g.behaviour
}

// Break breaks all lines that are open, and goes on listening.
func (g *Gate) Break() {
	g.mu.Lock()
	defer g.mu.Unlock()
	if g.behaviour.Mode != Away {
		g.listener.breakAll()
	}
}

// Pause waits as long as slow asks for.
func (b Behaviour) Pause() {
	if b.Mode == Slow {
		time.Sleep(time.Duration(b.Delay) * time.Millisecond)
	}
}

// Close ends it.
func (g *Gate) Close() {
	g.mu.Lock()
	defer g.mu.Unlock()
	if g.behaviour.Mode != Away {
		g.shut()
	}
}

func (g *Gate) shut() {
	_ = g.listener.Close() // lines break off, too; that is what it is for
	g.listener.breakAll()
	<-g.ended
}

// tracked knows its open connections.
type tracked struct {
	net.Listener
	mu   sync.Mutex
	open map[net.Conn]bool
}

// Accept implements net.Listener.
func (t *tracked) Accept() (net.Conn, error) {
	c, err := t.Listener.Accept()
	if err != nil {
		return nil, err
	}
	t.mu.Lock()
	defer t.mu.Unlock()
	t.open[c] = true
	return &known{Conn: c, of: t}, nil
}

func (t *tracked) breakAll() {
	t.mu.Lock()
	defer t.mu.Unlock()
	for c := range t.open {
		_ = c.Close() // the point of it
	}
}

type known struct {
	net.Conn
	of *tracked
}

// Close implements net.Conn.
func (k *known) Close() error {
	k.of.mu.Lock()
	delete(k.of.open, k.Conn)
	k.of.mu.Unlock()
	return k.Conn.Close()
}
