package upkeep_test

import (
	"net/http"
	"net/http/httptest"
	"sync/atomic"
	"testing"
	"time"

	"ironbell/internal/core/job"
	"ironbell/internal/deliver"
	"ironbell/internal/engine"
	"ironbell/internal/engine/enginetest"
	"ironbell/internal/outgoing"

	"github.com/stretchr/testify/require"
)

// What is saved on one node is done at once on another, which would have slept for an hour.
func TestWhatIsSavedOnOneNodeWakesAnother(t *testing.T) {
	o := enginetest.Open(t)
	var beats atomic.Int64
	watch := httptest.NewServer(http.HandlerFunc(func(http.ResponseWriter, *http.Request) { beats.Add(1) }))
	t.Cleanup(watch.Close)
	sleepy := func(p *engine.Options) {
		p.Poll, p.Lease = time.Hour, time.Hour
		p.Guard = outgoing.New([]string{watch.Listener.Addr().String()})
	}
	asked, works := o.Engine(nil, sleepy), o.Engine(nil, sleepy)
	o.Run(works)
	o.Until("the other lives", func() bool { return o.Number(`SELECT count(*) FROM nodes`) == 1 })
	require.NoError(t, asked.Settings.SaveHeartbeat(o.Ctx, o.Sefa, job.Heartbeat{URL: watch.URL}))
	o.Until("it gives a sign of life", func() bool { return beats.Load() > 0 })

	port, mailbox := enginetest.Silent(t)
	require.NoError(t, asked.Settings.SaveBounces(o.Ctx, o.Sefa, deliver.Bounces{Mailbox: deliver.Mailbox{
		Host: "127.0.0.1", Port: port, User: "bounces", Security: "none",
	}}, nil, nil))
	o.Until("it looks into the mailbox", func() bool { return mailbox.Load() > 0 })
}
