package deliver_test

import (
	"bytes"
	"io"
	"testing"

	"ironbell/internal/core/fault"
	"ironbell/internal/core/job"
	"ironbell/internal/deliver"
	"ironbell/standin/files"
	"ironbell/standin/gate"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// deadly is a file whose server is killed while it is in the middle of it.
type deadly struct {
	io.ReadSeeker
	left int
	kill func()
}

func (d *deadly) Read(b []byte) (int, error) {
	n, err := d.ReadSeeker.Read(b[:min(len(b), 16<<10)])
	if d.left -= n; d.left <= 0 && d.kill != nil {
		d.kill()
		d.kill = nil
	}
	return n, err
}

// diesUnder hands a file over to a server that is killed in the middle of it, and looks at
// the sentence.
func diesUnder(t *testing.T, d deliver.Destination, kill func()) {
	t.Helper()
	h := handover(1, "day sheet.csv", "", job.ExistsOverwrite)
	content := bytes.Repeat([]byte("PEN,2026-11-23,104\n"), 200_000)
	h.Size, h.Content = int64(len(content)), &deadly{bytes.NewReader(content), 1 << 20, kill}
	res, err := put(t, d, h)
	f := fault.Of(err)
	require.NotNil(t, f)
	assert.Contains(t, f.Error(), "the other side ended the line in the middle")
	assert.Contains(t, f.Error(), "write day sheet.csv to ")
	assert.Contains(t, f.Advice, "ask who keeps it whether it stopped")
	assert.Equal(t, []any{fault.Passing, fault.Destination}, []any{f.Class, f.Scope})
	assert.False(t, res.Offered, "the file has no name yet, so nobody saw it")
}

func TestServersThatDieInTheMiddle(t *testing.T) {
	cert, ca, err := gate.Certificate()
	require.NoError(t, err)
	t.Run("FTP", func(t *testing.T) {
		server, err := files.StartFTP("ftp", "127.0.0.1:0", t.TempDir(), "ironbell", "slipway", cert)
		require.NoError(t, err)
		t.Cleanup(server.Close)
		host, port := hostPort(t, server.Address())
		d, err := deliver.Open(settings(t, "ftp", "slipway", map[string]any{
			"host": host, "port": port, "user": "ironbell", "ca": ca,
		}), deliver.Allowed{})
		require.NoError(t, err)
		diesUnder(t, d, server.Close)
	})
	t.Run("SFTP", func(t *testing.T) {
		server, err := files.StartSFTP("sftp", "127.0.0.1:0", t.TempDir(), "ironbell", "slipway")
		require.NoError(t, err)
		t.Cleanup(server.Close)
		host, port := hostPort(t, server.Address())
		p := settings(t, "sftp", "slipway", map[string]any{"host": host, "port": port, "user": "ironbell"})
		p.Pin = pinned(t, server)
		d, err := deliver.Open(p, deliver.Allowed{})
		require.NoError(t, err)
		diesUnder(t, d, server.Close)
	})
}
