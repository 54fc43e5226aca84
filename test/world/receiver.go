package world

import (
	"io"
	"net"
	"net/http"
	"sync"
	"time"

	"github.com/stretchr/testify/require"
)

// Receiver is an HTTP server outside, at the address that the service may call.
type Receiver struct {
	mu    sync.Mutex
	calls []HeardCall
	Fail  int // how many requests it still refuses with 503
}

// HeardCall is a call that a Receiver heard.
type HeardCall struct {
	Method, Path, Body string
	Header             http.Header
}

// Heard are the calls that came so far.
func (r *Receiver) Heard() []HeardCall {
	r.mu.Lock()
	defer r.mu.Unlock()
	return append([]HeardCall{}, r.calls...)
}

// Receive starts an HTTP server outside that takes calls, and makes it a destination.
func (w *World) Receive() *Receiver {
	w.T.Helper()
	r := &Receiver{}
	l, err := net.Listen("tcp", w.Outside)
	require.NoError(w.T, err)
	server := &http.Server{
		ReadHeaderTimeout: time.Second,
		Handler: http.HandlerFunc(func(rw http.ResponseWriter, req *http.Request) {
			body, _ := io.ReadAll(req.Body)
			r.mu.Lock()
			defer r.mu.Unlock()
			if r.Fail > 0 {
				r.Fail--
				http.Error(rw, "busy", http.StatusServiceUnavailable)
				return
			}
			r.calls = append(r.calls, HeardCall{req.Method, req.URL.Path, string(body), req.Header})
			_, _ = io.WriteString(rw, "wind 7 from "+req.URL.Path)
		}),
	}
	go func() { _ = server.Serve(l) }()
	w.T.Cleanup(func() { _ = server.Close() })
	return r
}
