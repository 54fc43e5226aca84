package freeport

import (
	"context"
	"fmt"
	"net"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// A port that was found is nobody else's, also while nobody listens on it.
func TestAFoundPortIsKept(t *testing.T) {
	ctx := context.Background()
	port, err := Find(ctx)
	require.NoError(t, err)
	_, err = net.ListenPacket("udp", fmt.Sprintf("127.0.0.1:%d", port))
	require.Error(t, err, "another could take it")
	for range 200 {
		other, err := Find(ctx)
		require.NoError(t, err)
		assert.NotEqual(t, port, other)
	}
	l, err := net.Listen("tcp", fmt.Sprintf("127.0.0.1:%d", port))
	require.NoError(t, err, "whoever found it listens on it")
	require.NoError(t, l.Close())
}
