package enginetest

import (
	"net"
	"sync/atomic"
	"testing"

	"github.com/stretchr/testify/require"
)

// Silent is the port of a server that takes every line and says nothing, with how many it
// has taken.
func Silent(t *testing.T) (port int, taken *atomic.Int64) {
	t.Helper()
	l, err := (&net.ListenConfig{}).Listen(t.Context(), "tcp", "127.0.0.1:0")
	require.NoError(t, err)
	t.Cleanup(func() { _ = l.Close() })
	taken = &atomic.Int64{}
	go func() {
		for {
			line, err := l.Accept()
			if err != nil {
				return
			}
			defer func() { _ = line.Close() }()
			taken.Add(1)
		}
	}()
	return l.Addr().(*net.TCPAddr).Port, taken
}
