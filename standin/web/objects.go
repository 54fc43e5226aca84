// Package web holds stand-ins that are reached by HTTP: a store of objects, a
// printer that keeps its pages, and a receiver of requests.
package web

import (
	"io"
	"net"
	"net/http"
	"strings"
	"time"

	"ironbell/standin/gate"

	"github.com/johannesboyne/gofakes3"
	"github.com/johannesboyne/gofakes3/backend/s3mem"
)

// serve serves a handler behind a gate.
func serve(handler http.Handler) func(net.Listener) {
	return func(l net.Listener) {
		_ = (&http.Server{Handler: handler, ReadHeaderTimeout: 10 * time.Second}).Serve(l) // ends when it is closed
	}
}

// Objects is a store of objects with one bucket.
type Objects struct {
	*gate.Gate
	store gofakes3.Backend
}

// StartObjects starts a store.
func StartObjects(name, address, bucket string) (*Objects, error) {
	o := &Objects{store: s3mem.New()}
	if err := o.store.CreateBucket(bucket); err != nil {
		return nil, err
	}
	inner := gofakes3.New(o.store, gofakes3.WithLogger(gofakes3.DiscardLog()), gofakes3.WithoutVersioning()).Server()
	handler := http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		b := o.Behaviour()
		refuse := func(status int, code string) {
			w.Header().Set("Content-Type", "application/xml")
			w.WriteHeader(status)
			// a client that left needs no answer
			_, _ = io.WriteString(w, "<Error><Code>"+code+"</Code><Message>as it was told</Message></Error>")
		}
		concerned := b.Only == "" || strings.Contains(r.URL.Path, b.Only)
		switch {
		case b.Mode == gate.Expired:
			refuse(http.StatusForbidden, "InvalidAccessKeyId")
		case concerned && b.Mode == gate.Refuse && r.Method == http.MethodPut:
			refuse(http.StatusForbidden, "AccessDenied")
		case concerned && b.Mode == gate.Busy && r.Method == http.MethodPut:
			refuse(http.StatusServiceUnavailable, "SlowDown")
		case concerned && b.Mode == gate.Drop && r.Method == http.MethodPut:
			inner.ServeHTTP(&unsaid{header: http.Header{}}, r)
			o.Break()
		default:
			b.Pause()
			inner.ServeHTTP(w, r)
		}
	})
	var err error
	o.Gate, err = gate.Open(name, address, serve(handler))
	return o, err
}

// Modes are the ways in which it can behave.
func (o *Objects) Modes() []gate.Mode {
	return []gate.Mode{gate.Accept, gate.Slow, gate.Refuse, gate.Busy, gate.Expired, gate.Drop, gate.Away}
}

// Object is the content of an object, and whether it is there.
func (o *Objects) Object(bucket, key string) ([]byte, bool) {
	found, err := o.store.GetObject(bucket, key, nil)
	if err != nil {
		return nil, false
	}
	defer func() { _ = found.Contents.Close() }() // only read from
	text, err := io.ReadAll(found.Contents)
	return text, err == nil
}

// unsaid swallows an answer.
type unsaid struct{ header http.Header }

func (u *unsaid) Header() http.Header         { return u.header }
func (u *unsaid) Write(p []byte) (int, error) { return len(p), nil }
func (u *unsaid) WriteHeader(int)             {}
