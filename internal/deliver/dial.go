package deliver

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"
	"io"
	"net"
	"sync/atomic"
	"time"

	"ironbell/internal/core/fault"
)

const (
	dialLimit    = 10 * time.Second
	commandLimit = 30 * time.Second
)

// dial connects to a server.
func dial(ctx context.Context, address, doing string) (net.Conn, error) {
	dialing, stop := context.WithTimeout(ctx, dialLimit)
	defer stop()
	conn, err := (&net.Dialer{}).DialContext(dialing, "tcp", address)
	if err != nil {
		return nil,
			fault.Wrap(errors.New(fault.Reason(err)), fault.Passing, fault.Destination, doing,
				"Check that the server runs and can be reached from this machine.")
	}
	return conn, nil
}

// broken says that a line broke.
func broken(err error, doing string) *fault.Fault {
	advice, reason := "Check that the server runs and can be reached.", fault.Reason(err)
	if fault.Broken(err) || reason == io.EOF.Error() { // libraries wrap it, and some hide it
		advice, reason = fault.AfterBroken, fault.Reason(io.ErrUnexpectedEOF)
	}
	return fault.Wrap(fmt.Errorf("the line broke: %s", reason), fault.Passing, fault.Destination, doing, advice)
}

// trust makes the settings of TLS for a server. ca are certificates to trust, in
// PEM; those of the machine when empty.
func (p Place) trust(host, ca string) (*tls.Config, error) {
	c := &tls.Config{ServerName: host, MinVersion: tls.VersionTLS12}
	if ca != "" {
		c.RootCAs = x509.NewCertPool()
		if !c.RootCAs.AppendCertsFromPEM([]byte(ca)) {
			return nil, p.wrong("its certificates to trust are no PEM", "Paste them with their BEGIN and END lines.")
		}
	}
	return c, nil
}

// hurried is a connection each of whose reads and writes has a limit, until it is
// told to be calm: then only writes have one.
type hurried struct {
	net.Conn
	idle atomic.Bool // reads may wait as long as they like
}

func hasty(c net.Conn) *hurried { return &hurried{Conn: c} }

// calm lets reads wait from now on.
func (h *hurried) calm() error {
	h.idle.Store(true)
	return h.SetReadDeadline(time.Time{})
}

// Read implements net.Conn.
func (h *hurried) Read(b []byte) (int, error) {
	if !h.idle.Load() {
		if err := h.SetReadDeadline(time.Now().Add(commandLimit)); err != nil {
			return 0, fmt.Errorf("limit the read: %w", err)
		}
		if h.idle.Load() { // calmed between
			if err := h.SetReadDeadline(time.Time{}); err != nil {
				return 0, fmt.Errorf("free the read: %w", err)
			}
		}
	}
	return h.Conn.Read(b)
}

// Write implements net.Conn.
func (h *hurried) Write(b []byte) (int, error) {
	if err := h.SetWriteDeadline(time.Now().Add(commandLimit)); err != nil {
		return 0, fmt.Errorf("limit the write: %w", err)
	}
	return h.Conn.Write(b)
}
