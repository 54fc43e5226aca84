// Package freeport finds ports of loopback that stay free until they are used.
// The system lends ports from 32768 on to any connection that goes out (RFC 6056,
// section 2), so that one that was free a moment ago may be in use: these lie
// below.
package freeport

import (
	"context"
	"fmt"
	"math/rand/v2"
	"net"
	"sync"
)

const (
	first = 20_000
	last  = 31_999
	tries = 200
)

// kept are the ports that were given away, each with what keeps others from it.
var kept struct {
	sync.Mutex
	by []net.PacketConn
}

// Listen listens on a free port of 127.0.0.1, which is kept as those of Find are: who stops to listen for a while
// finds it free.
func Listen(ctx context.Context) (net.Listener, error) {
	l, keeps, err := take(ctx)
	if err != nil {
		return nil, err
	}
	keep(keeps)
	return l, nil
}

func keep(what net.PacketConn) {
	kept.Lock()
	defer kept.Unlock()
	kept.by = append(kept.by, what)
}

// Find gives the number of a port that nothing listens on, and that no other Find or Listen gives away as
// long as this process lives, also while nobody listens.
func Find(ctx context.Context) (int, error) {
	l, keeps, err := take(ctx)
	if err != nil {
		return 0, err
	}
	defer func() { _ = l.Close() }() // it only lent its number
	address, ok := l.Addr().(*net.TCPAddr)
	if !ok {
		_ = keeps.Close()
		return 0, fmt.Errorf("find a free port: %s is no address of TCP", l.Addr())
	}
	keep(keeps)
	return address.Port, nil
}

// take listens on a free port. It is kept by its namesake of UDP, over which nothing of ours goes: whoever
// takes a port asks for that one first.
func take(ctx context.Context) (net.Listener, net.PacketConn, error) {
	var err error
	for range tries {
		address := fmt.Sprintf("127.0.0.1:%d", first+rand.IntN(last-first+1)) //nolint:gosec // no secret
		var keeps net.PacketConn
		if keeps, err = (&net.ListenConfig{}).ListenPacket(ctx, "udp", address); err != nil {
			continue
		}
		var l net.Listener
		if l, err = (&net.ListenConfig{}).Listen(ctx, "tcp", address); err == nil {
			return l, keeps, nil
		}
		_ = keeps.Close()
	}
	return nil, nil, fmt.Errorf("find a free port: %w", err)
}
