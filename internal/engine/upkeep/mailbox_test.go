package upkeep_test

import (
	"fmt"
	"net"
	"net/http"
	"net/http/httptest"
	"sync/atomic"
	"testing"

	"ironbell/internal/engine"
	"ironbell/internal/engine/enginetest"
	"ironbell/internal/outgoing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// A mailbox for bounces that cannot be read is told to administrators.
func TestAMailboxThatCannotBeRead(t *testing.T) {
	o := enginetest.Open(t)
	e := o.Engine(nil)
	port := freeNowhere(t)
	o.Exec(fmt.Sprintf(`INSERT INTO settings (key, value) VALUES ('bounces', '{"host": "127.0.0.1", "port": %d, "user": "x", "every": "100ms"}')`, port))
	for range 3 {
		_, err := e.Upkeep.Bounces(o.Ctx)
		require.NoError(t, err)
		o.Exec(`UPDATE turns SET due = now() - interval '1 second'`)
	}
	assert.Equal(t, 1, o.Number(`SELECT count(*) FROM alerts WHERE cause = 'mailbox' AND state = 'open'`))
}

// freeNowhere is a port at which nobody listens.
func freeNowhere(t *testing.T) int {
	t.Helper()
	l, err := (&net.ListenConfig{}).Listen(t.Context(), "tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer func() { _ = l.Close() }()
	return l.Addr().(*net.TCPAddr).Port
}

// A mailbox that hangs does not keep the sign of life back: whoever watches would think
// that all is dead.
func TestAMailboxThatHangsKeepsNoSignOfLifeBack(t *testing.T) {
	o := enginetest.Open(t)
	port, asked := enginetest.Silent(t)
	var beats atomic.Int64
	watch := httptest.NewServer(http.HandlerFunc(func(http.ResponseWriter, *http.Request) { beats.Add(1) }))
	t.Cleanup(watch.Close)
	e := o.Engine(nil, func(p *engine.Options) { p.Guard = outgoing.New([]string{watch.Listener.Addr().String()}) })
	o.Exec(fmt.Sprintf(`INSERT INTO settings (key, value) VALUES ('bounces', '{"host": "127.0.0.1", "port": %d, "user": "x", "security": "none", "every": "100ms"}'), ('heartbeat', '{"url": %q, "every": "100ms"}')`, port, watch.URL))
	o.Run(e)
	o.Until("the mailbox hangs", func() bool { return asked.Load() > 0 })
	before := beats.Load()
	o.Until("signs of life go on", func() bool { return beats.Load() > before+3 })
	assert.EqualValues(t, 1, asked.Load(), "it still hangs")
}
