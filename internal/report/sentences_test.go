package report_test

import (
	"context"
	"crypto/tls"
	"encoding/binary"
	"io"
	"net"
	"net/http"
	"net/http/httptest"
	"strconv"
	"testing"
	"time"

	"ironbell/internal/core/fault"
	"ironbell/internal/outgoing"
	"ironbell/internal/report"
	"ironbell/standin/gate"

	"github.com/jackc/pgx/v5/pgproto3"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// listening serves connections on a port until the test ends.
func listening(t *testing.T, serve func(net.Conn)) string {
	t.Helper()
	g, err := gate.Open("rude", "127.0.0.1:0", gate.Each(10*time.Second, serve))
	require.NoError(t, err)
	t.Cleanup(g.Close)
	return g.Address()
}

// secured takes TLS with a certificate, and then says nothing.
func secured(c net.Conn, with tls.Certificate) {
	_, _ = io.Copy(io.Discard,
		tls.Server(c, &tls.Config{Certificates: []tls.Certificate{with}, MinVersion: tls.VersionTLS12}))
}

// postgresTLS is PostgreSQL that goes over to TLS (protocol 3.0, SSLRequest).
func postgresTLS(with tls.Certificate) func(net.Conn) {
	return func(c net.Conn) {
		if _, err := io.ReadFull(c, make([]byte, 8)); err == nil {
			_, _ = io.WriteString(c, "S")
			secured(c, with)
		}
	}
}

// packet is one of MariaDB's protocol.
func packet(c net.Conn, n byte, payload string) {
	head := binary.LittleEndian.AppendUint32(nil, uint32(len(payload)))
	head[3] = n
	_, _ = c.Write(append(head, payload...))
}

// greetMariaDB greets as MariaDB does, with TLS or without.
func greetMariaDB(c net.Conn, secure bool) {
	flags := "\x00\x82"
	if secure {
		flags = "\x00\x8a"
	}
	packet(c, 0,
		"\x0a11.4.2-MariaDB\x00\x01\x00\x00\x00saltsalt\x00"+flags+
			"\x21\x02\x00\x08\x00\x15\x00\x00\x00\x00\x00\x00\x00\x00\x00\x00saltsaltsalt\x00mysql_native_password\x00")
}

func mariaDBTLS(with tls.Certificate) func(net.Conn) {
	return func(c net.Conn) {
		greetMariaDB(c, true)
		if _, err := io.ReadFull(c, make([]byte, 36)); err == nil { // the wish for TLS
			secured(c, with)
		}
	}
}

// Of each fault that keepers of sources meet, the sentence names the cause and the next step.
func TestSentencesOfSources(t *testing.T) {
	issue := func(ends time.Time, name string) (tls.Certificate, string) {
		cert, ca, err := gate.CertificateOf(ends, name)
		require.NoError(t, err)
		return cert, ca
	}
	old, oldCA := issue(time.Now().AddDate(0, 0, -1), "127.0.0.1")
	good, _ := issue(time.Now().AddDate(1, 0, 0), "127.0.0.1")
	other, otherCA := issue(time.Now().AddDate(1, 0, 0), "records.harbour.example")
	dies := listening(t, func(c net.Conn) { // once it is asked something
		server := pgproto3.NewBackend(c, c)
		if _, err := server.ReceiveStartupMessage(); err == nil {
			server.Send(&pgproto3.AuthenticationOk{})
			server.Send(&pgproto3.ReadyForQuery{TxStatus: 'I'})
			if server.Flush() == nil {
				_, _ = server.Receive()
			}
		}
	})
	rude := listening(t, func(c net.Conn) { // an error without a code
		server := pgproto3.NewBackend(c, c)
		if _, err := server.ReceiveStartupMessage(); err == nil {
			server.Send(&pgproto3.ErrorResponse{Severity: "FATAL", Message: "closed for the night"})
			_ = server.Flush()
		}
	})
	diesToo := listening(t, func(c net.Conn) {
		greetMariaDB(c, false)
		if n, err := c.Read(make([]byte, 1<<12)); err == nil && n > 4 {
			packet(c, 2, "\x00\x00\x00\x02\x00\x00\x00")
			_, _ = c.Read(make([]byte, 1<<12))
		}
	})
	web := func(with tls.Certificate) string {
		s := httptest.NewUnstartedServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) { _, _ = io.WriteString(w, "code\nPEN\n") }))
		s.TLS = &tls.Config{Certificates: []tls.Certificate{with}, MinVersion: tls.VersionTLS12}
		s.StartTLS()
		t.Cleanup(s.Close)
		return s.Listener.Addr().String()
	}
	type set = map[string]any
	server := func(at, tls, ca string) set {
		host, port, err := net.SplitHostPort(at)
		require.NoError(t, err)
		n, err := strconv.Atoi(port)
		require.NoError(t, err)
		s := set{"host": host, "port": n, "database": "tarnwick", "user": "reader", "tls": tls}
		if ca != "" {
			s["ca"] = ca
		}
		return s
	}
	files := func(at, ca string) set {
		return set{"url": "https://" + at + "/", "ca": ca, "tables": set{"tides": set{"file": "tides.csv"}}}
	}
	webOld, webGood, webOther := web(old), web(good), web(other)
	for _, c := range []struct {
		fault, driver    string
		settings         set
		sentence, advice string
		class            fault.Class
	}{
		{
			"certificate ran out", "postgres", server(listening(t, postgresTLS(old)), "verify-full", oldCA),
			"the certificate of the server ran out on", "must renew", fault.Lasting,
		},
		{
			"another name", "postgres", server(listening(t, postgresTLS(other)), "verify-full", otherCA),
			"is for records.harbour.example and not for 127.0.0.1", "Correct the host", fault.Lasting,
		},
		{
			"authority unknown", "postgres", server(listening(t, postgresTLS(good)), "verify-full", otherCA),
			"an authority that this machine does not trust", "put it into ca", fault.Lasting,
		},
		{
			"not among this machine's", "postgres", server(listening(t, postgresTLS(good)), "verify-full", ""),
			"an authority that this machine does not trust", "put it into ca", fault.Lasting,
		},
		{
			"offers no TLS", "postgres",
			server(listening(t, func(c net.Conn) { _, _ = io.WriteString(c, "N"); _, _ = io.Copy(io.Discard, c) }),
				"verify-full", ""), "the server offers no TLS", "switch TLS on", fault.Lasting,
		},
		{
			"killed in the middle", "postgres", server(dies, "disable", ""), "the other side ended the line in the middle",
			"ask who keeps it whether it stopped", fault.Passing,
		},
		{"an error without a code", "postgres", server(rude, "disable", ""), "closed for the night", "", fault.Passing},
		{
			"certificate ran out", "mysql", server(listening(t, mariaDBTLS(old)), "verify-full", oldCA),
			"the certificate of the server ran out on", "must renew", fault.Lasting,
		},
		{
			"another name", "mysql", server(listening(t, mariaDBTLS(other)), "verify-full", otherCA),
			"is for records.harbour.example and not for 127.0.0.1", "Correct the host", fault.Lasting,
		},
		{
			"authority unknown", "mysql", server(listening(t, mariaDBTLS(good)), "verify-full", otherCA),
			"an authority that this machine does not trust", "put it into ca", fault.Lasting,
		},
		{
			"killed in the middle", "mysql", server(diesToo, "disable", ""), "the other side ended the line in the middle",
			"ask who keeps it whether it stopped", fault.Passing,
		},
		{
			"certificate ran out", "http", files(webOld, oldCA), "the certificate of the server ran out on", "must renew",
			fault.Lasting,
		},
		{
			"another name", "http", files(webOther, otherCA), "is for records.harbour.example and not for 127.0.0.1",
			"Correct the host", fault.Lasting,
		},
		{
			"authority unknown", "http", files(webGood, otherCA), "an authority that this machine does not trust",
			"put it into ca", fault.Lasting,
		},
	} {
		t.Run(c.driver+": "+c.fault, func(t *testing.T) {
			s, err := opened(t, c.driver, c.settings, "reader",
				report.Allowed{Guard: outgoing.New([]string{webOld, webGood, webOther})})
			require.NoError(t, err)
			_, err = s.Test(context.Background())
			f := fault.Of(err)
			require.NotNil(t, f)
			assert.Contains(t, f.Error(), c.sentence)
			assert.Contains(t, f.Advice, c.advice)
			assert.Equal(t, []any{c.class, fault.Source}, []any{f.Class, f.Scope}, "%v", err)
		})
	}
	_, err := opened(t, "postgres", server("127.0.0.1:1", "require", oldCA), "reader", report.Allowed{})
	assert.ErrorContains(t, err, "checks no certificate")
	_, err = opened(t, "postgres", server("127.0.0.1:1", "verify-full", "no PEM"), "reader", report.Allowed{})
	assert.ErrorContains(t, err, "holds no certificate")
}
