// Package lossy is a line to PostgreSQL that loses answers: it hands a commit on to
// the server, waits until the server has done it, and then breaks the line before the
// client hears of it. For fault tests.
package lossy

import (
	"bytes"
	"context"
	"fmt"
	"net"
	"net/url"
	"strings"
	"sync"
	"sync/atomic"
)

// Line is a listener on loopback that hands on what comes to a server. Its methods
// may be called by several goroutines.
type Line struct {
	listener net.Listener
	server   string
	lose     atomic.Int64 // commits to come whose answers are lost
	lost     atomic.Int64
	only     atomic.Pointer[string]
	lines    sync.WaitGroup
	mu       sync.Mutex
	open     map[net.Conn]bool
}

// Open opens a line to the server of a connection string and gives the string by
// which the server is reached over it.
func Open(dsn string) (*Line, string, error) {
	u, err := url.Parse(dsn)
	if err != nil {
		return nil, "", fmt.Errorf("read the connection string: %w", err)
	}
	listener, err := (&net.ListenConfig{}).Listen(context.Background(), "tcp", "127.0.0.1:0")
	if err != nil {
		return nil, "", fmt.Errorf("open the line: %w", err)
	}
	l := &Line{listener: listener, server: u.Host, open: map[net.Conn]bool{}}
	u.Host = listener.Addr().String()
	l.lines.Go(l.accept)
	return l, u.String(), nil
}

// Lose lets the answers to the next n commits be lost.
func (l *Line) Lose(n int) { l.lose.Add(int64(n)) }

// LoseAfter lets the answer to the next commit be lost of a transaction that holds a
// text, such as the name of a table, in letters of either case. A statement's text goes over a
// line once, when it is prepared there.
func (l *Line) LoseAfter(text string) {
	text = strings.ToLower(text)
	l.only.Store(&text)
	l.Lose(1)
}

// Lost is how many answers were lost.
func (l *Line) Lost() int { return int(l.lost.Load()) }

// Close breaks all lines.
func (l *Line) Close() {
	_ = l.listener.Close() // nobody comes any more
	l.mu.Lock()
	for c := range l.open {
		_ = c.Close() // it is broken on purpose
	}
	l.mu.Unlock()
	l.lines.Wait()
}

func (l *Line) accept() {
	for {
		client, err := l.listener.Accept()
		if err != nil {
			return
		}
		server, err := (&net.Dialer{}).DialContext(context.Background(), "tcp", l.server)
		if err != nil {
			_ = client.Close() // the server is away
			continue
		}
		l.keep(client, server)
		l.lines.Go(func() { l.carry(client, server) })
	}
}

func (l *Line) keep(all ...net.Conn) {
	l.mu.Lock()
	defer l.mu.Unlock()
	for _, c := range all {
		l.open[c] = true
	}
}

func (l *Line) drop(all ...net.Conn) {
	l.mu.Lock()
	defer l.mu.Unlock()
	for _, c := range all {
		_ = c.Close() // either side may have gone
		delete(l.open, c)
	}
}

// carry hands on in both directions until one side ends or an answer is lost.
func (l *Line) carry(client, server net.Conn) {
	var deaf atomic.Bool // the client hears nothing any more
	var back sync.WaitGroup
	defer back.Wait()
	// First of all: what a client that died had open must not stay open at the server.
	defer l.drop(client, server)
	back.Go(func() {
		buffer := make([]byte, 64<<10)
		for {
			n, err := server.Read(buffer)
			if deaf.Load() {
				l.lost.Add(1) // the server has answered, so that it is done
				l.drop(client, server)
				return
			}
			if n > 0 {
				if _, err := client.Write(buffer[:n]); err != nil {
					l.drop(client, server)
					return
				}
			}
			if err != nil {
				l.drop(client, server)
				return
			}
		}
	})
	buffer := make([]byte, 64<<10)
	said := false // the text that is waited for
	for {
		n, err := client.Read(buffer)
		if n > 0 {
			piece := bytes.ToLower(buffer[:n])
			only := l.only.Load()
			if bytes.Contains(piece, []byte("begin")) {
				said = false
			}
			said = said || only == nil || bytes.Contains(piece, []byte(*only))
			if bytes.Contains(piece, []byte("commit\x00")) && said && l.take() {
				l.only.Store(nil)
				deaf.Store(true)
			}
			if _, err := server.Write(buffer[:n]); err != nil {
				return
			}
		}
		if err != nil {
			return
		}
	}
}

// take takes one of the answers that are to be lost.
func (l *Line) take() bool {
	for n := l.lose.Load(); n > 0; n = l.lose.Load() {
		if l.lose.CompareAndSwap(n, n-1) {
			return true
		}
	}
	return false
}
