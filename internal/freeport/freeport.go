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
)

const (
	first = 20_000
	last  = 31_999
	tries = 200
)

// Listen listens on a free port of 127.0.0.1.
func Listen(ctx context.Context) (net.Listener, error) {
	var err error
	for range tries {
		address := fmt.Sprintf("127.0.0.1:%d", first+rand.IntN(last-first+1)) //nolint:gosec // no secret
		var l net.Listener
		if l, err = (&net.ListenConfig{}).Listen(ctx, "tcp", address); err == nil {
			return l, nil
		}
	}
	return nil, fmt.Errorf("find a free port: %w", err)
}

// Find gives the number of a port that nothing listens on.
func Find(ctx context.Context) (int, error) {
	l, err := Listen(ctx)
	if err != nil {
		return 0, err
	}
	defer func() { _ = l.Close() }() // it only lent its number
	address, ok := l.Addr().(*net.TCPAddr)
	if !ok {
		return 0, fmt.Errorf("find a free port: %s is no address of TCP", l.Addr())
	}
	return address.Port, nil
}
