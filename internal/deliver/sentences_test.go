package deliver_test

import (
	"bufio"
	"context"
	"crypto/tls"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"
	"time"

	"ironbell/internal/core/fault"
	"ironbell/internal/deliver"
	"ironbell/internal/outgoing"
	"ironbell/standin/files"
	"ironbell/standin/gate"
	standin "ironbell/standin/mail"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// issue makes a certificate that signs itself, for a name and until an instant, and its PEM.
func issue(t *testing.T, name string, ends time.Time) (tls.Certificate, string) {
	t.Helper()
	cert, ca, err := gate.CertificateOf(ends, name)
	require.NoError(t, err)
	return cert, ca
}

// listening answers each line on a port as it is told.
func listening(t *testing.T, serve func(net.Conn)) string {
	t.Helper()
	g, err := gate.Open("rude", "127.0.0.1:0", gate.Each(10*time.Second, serve))
	require.NoError(t, err)
	t.Cleanup(g.Close)
	return g.Address()
}

// Of each fault that administrators meet, the sentence names the cause and the right next step.
func TestSentencesNameTheCauseAndTheNextStep(t *testing.T) {
	good, ca := issue(t, "127.0.0.1", time.Now().AddDate(1, 0, 0))
	old, oldCA := issue(t, "127.0.0.1", time.Now().AddDate(0, 0, -1))
	early, earlyCA := issue(t, "127.0.0.1", time.Now().AddDate(1, 0, 3))
	other, otherCA := issue(t, "files.harbour.example", time.Now().AddDate(1, 0, 0))
	secure := func(c tls.Certificate) string { // speaks TLS from the start, and then nothing
		return listening(t, func(conn net.Conn) {
			s := tls.Server(conn, &tls.Config{Certificates: []tls.Certificate{c}, MinVersion: tls.VersionTLS12})
			_, _ = io.Copy(io.Discard, s)
		})
	}
	web := func(handler http.HandlerFunc) string {
		s := httptest.NewServer(handler)
		t.Cleanup(s.Close)
		return s.Listener.Addr().String()
	}
	answers := func(status int, body string) string {
		return web(func(w http.ResponseWriter, r *http.Request) {
			_, _ = io.Copy(io.Discard, r.Body)
			if r.Method == "PROPFIND" || r.Method == http.MethodHead {
				w.WriteHeader(http.StatusNotFound)
				return
			}
			w.Header().Set("Content-Type", "application/xml")
			w.WriteHeader(status)
			_, _ = io.WriteString(w, body)
		})
	}
	httpsPort := listening(t, func(c net.Conn) { // of a server that says so, as most do
		if r, err := http.ReadRequest(bufio.NewReader(c)); err == nil {
			_, _ = io.Copy(io.Discard, r.Body)
			_, _ = io.WriteString(c,
				"HTTP/1.0 400 Bad Request\r\n\r\nThe plain HTTP request was sent to an HTTPS port.\n")
		}
	})
	killed := func() string { // takes the whole file, and dies before it answers
		return listening(t, func(c net.Conn) {
			in := bufio.NewReader(c)
			for {
				r, err := http.ReadRequest(in)
				if err != nil {
					return
				}
				_, _ = io.Copy(io.Discard, r.Body)
				switch r.Method {
				case "PROPFIND", http.MethodHead:
					_, _ = io.WriteString(c, "HTTP/1.1 404 Not Found\r\nContent-Length: 0\r\n\r\n")
				case "MKCOL":
					_, _ = io.WriteString(c, "HTTP/1.1 201 Created\r\nContent-Length: 0\r\n\r\n")
				default:
					return
				}
			}
		})
	}()
	inbox := &standin.Inbox{}
	post, err := standin.Start("mail", "127.0.0.1:0", "bell", "slipway", inbox, good)
	require.NoError(t, err)
	t.Cleanup(post.Close)
	free, err := standin.Start("mail", "127.0.0.1:0", "", "", inbox, good)
	require.NoError(t, err)
	t.Cleanup(free.Close)
	ntlm := listening(t, func(c net.Conn) { says(c, "220 mail\r\n", "250-mail\r\n250 AUTH NTLM GSSAPI\r\n") })
	wantsTLS := listening(t, func(c net.Conn) {
		says(c, "220 mail\r\n", "250 mail\r\n", "530 5.7.0 Must issue a STARTTLS command first\r\n")
	})
	// hangs up without a word, as at a port for TLS
	shy := listening(t, func(c net.Conn) { time.Sleep(100 * time.Millisecond) })
	ftp, err := files.StartFTP("ftp", "127.0.0.1:0", t.TempDir(), "ironbell", "slipway", old)
	require.NoError(t, err)
	t.Cleanup(ftp.Close)
	sftp, err := files.StartSFTP("sftp", "127.0.0.1:0", t.TempDir(), "ironbell", "slipway")
	require.NoError(t, err)
	t.Cleanup(sftp.Close)

	type set map[string]any
	mail := func(at string, more set) set {
		host, port := hostPort(t, at)
		s := set{"host": host, "port": port, "from": "bell@tarnwick.example", "user": "bell", "ca": ca}
		for name, value := range more {
			s[name] = value
		}
		return s
	}
	server := func(at string, more set) set {
		host, port := hostPort(t, at)
		s := set{"host": host, "port": port, "user": "ironbell"}
		for name, value := range more {
			s[name] = value
		}
		return s
	}
	store := func(at string) set { return set{"url": at, "bucket": "reports", "user": "bell"} }
	wrongRegion := `<?xml version="1.0"?><Error><Code>AuthorizationHeaderMalformed</Code><Message>The region 'us-east-1' is wrong</Message><Region>eu-north-7</Region></Error>`
	for _, c := range []struct {
		server, fault, protocol string
		settings                set
		secret                  string
		sentence, advice        string
		class                   fault.Class
		unknown                 bool
	}{
		{
			"mail, TLS", "certificate ran out", "smtp", mail(secure(old), set{"security": "tls", "ca": oldCA}), "slipway",
			"the certificate of the server ran out on", "must renew its certificate", fault.Lasting, false,
		},
		{
			"mail, TLS", "certificate too early", "smtp", mail(secure(early), set{"security": "tls", "ca": earlyCA}),
			"slipway", "holds only from", "Check the clock of this machine", fault.Lasting, false,
		},
		{
			"mail, TLS", "certificate of another name", "smtp", mail(secure(other), set{"security": "tls", "ca": otherCA}),
			"slipway", "is for files.harbour.example and not for 127.0.0.1", "Correct the host", fault.Lasting, false,
		},
		{
			"mail, TLS", "authority unknown", "smtp", mail(secure(good), set{"security": "tls", "ca": otherCA}), "slipway",
			`comes from "CN=Harbour authority root", which signed it itself, an authority that this machine does not trust`, "put it into ca", fault.Lasting, false,
		},
		{
			"mail, STARTTLS", "authority unknown", "smtp", mail(post.Address(), set{"ca": otherCA}), "slipway",
			"does not trust", "put it into ca", fault.Lasting, false,
		},
		{
			"mail, STARTTLS", "asked with TLS at once", "smtp", mail(post.Address(), set{"security": "tls"}), "slipway",
			"the server speaks no TLS at this port", "set security to starttls", fault.Lasting, false,
		},
		{
			"mail, TLS", "asked for STARTTLS", "smtp", mail(shy, nil), "slipway", "the server did not greet",
			"set security to tls", fault.Passing, false,
		},
		{
			"mail, TLS", "asked without", "smtp", mail(shy, set{"security": "none"}), "slipway",
			"the server did not greet", "set security to tls", fault.Passing, false,
		},
		{
			"mail, STARTTLS", "sign-in asked without", "smtp", mail(post.Address(), set{"security": "none"}), "slipway",
			"offers no sign-in on a line without TLS", "Set security to starttls or tls", fault.Lasting, false,
		},
		{
			"mail, STARTTLS", "nobody signs in, without", "smtp", mail(wantsTLS, set{"security": "none", "user": ""}),
			"slipway", "530 5.7.0 Must issue a STARTTLS command first", "set security to starttls", fault.Lasting,
			false,
		},
		{
			"mail, STARTTLS", "nobody signs in", "smtp", mail(post.Address(), set{"user": ""}), "slipway",
			"530 5.7.0 Authentication required", "set user and password", fault.Lasting, false,
		},
		{
			"mail", "other ways to sign in", "smtp", mail(ntlm, set{"security": "none"}), "slipway",
			"it offers NTLM, GSSAPI", "Ask its administrator", fault.Lasting, false,
		},
		{
			"mail, STARTTLS", "wrong password", "smtp", mail(post.Address(), nil), "wrong", "535 5.7.8",
			"Check user and password", fault.Lasting, false,
		},
		{
			"mail", "no STARTTLS", "smtp", mail(ntlm, nil), "slipway", "STARTTLS", "The server offers no STARTTLS",
			fault.Lasting, false,
		},
		{
			"FTP", "certificate ran out", "ftp", server(ftp.Address(), set{"ca": oldCA}), "slipway",
			"the certificate of the server ran out on", "must renew", fault.Lasting, false,
		},
		{
			"FTP", "TLS wanted", "ftp", server(ftp.Address(), set{"security": "none"}), "slipway",
			"the server answered: TLS is required", "may offer no TLS, or want it", fault.Lasting, false,
		},
		{
			"SFTP", "wrong password", "sftp", server(sftp.Address(), nil), "wrong",
			"the server refused to sign us in by password", "Check user and password", fault.Lasting, false,
		},
		{
			"SFTP", "no folder", "sftp", server(sftp.Address(), set{"folder": "/nowhere"}), "slipway",
			"there is no folder /nowhere", "Make it there, or correct", fault.Lasting, false,
		},
		{
			"WebDAV", "certificate ran out", "webdav",
			set{"url": "https://" + secure(old) + "/", "ca": oldCA},
			"",
			"the certificate of the server ran out on", "must renew", fault.Lasting, false,
		},
		{
			"WebDAV", "certificate of another name", "webdav",
			set{"url": "https://" + secure(other) + "/", "ca": otherCA},
			"", "is for files.harbour.example", "Correct the host", fault.Lasting, false,
		},
		{
			"WebDAV, TLS", "asked by http", "webdav",
			set{"url": "http://" + httpsPort + "/"},
			"", "400 Bad Request",
			"write the address with https", fault.Lasting, false,
		},
		{
			"WebDAV", "asked by https", "webdav",
			set{"url": "https://" + answers(201, "") + "/"},
			"",
			"the server speaks no TLS at this port", "http in place of https", fault.Lasting, false,
		},
		{
			"WebDAV", "413", "webdav",
			set{"url": "http://" + answers(413, "") + "/"},
			"", "413 Request Entity Too Large",
			"larger than the server takes", fault.Lasting, false,
		},
		{
			"WebDAV", "no folder in the address", "webdav",
			set{"url": "http://" + answers(409, "") + "/nowhere/"},
			"",
			"409 Conflict", "check the url of the destination", fault.Lasting, false,
		},
		{
			"WebDAV", "sent on", "webdav",
			set{"url": "http://" + web(func(w http.ResponseWriter, r *http.Request) {
				http.Redirect(w, r, "https://elsewhere.harbour.example/sign-in?key=1", http.StatusFound)
			}) + "/"},
			"", "sends on to https://elsewhere.harbour.example/sign-in, where nothing is sent",
			"write its address into the destination", fault.Lasting, false,
		},
		{
			"WebDAV", "killed in the middle", "webdav",
			set{"url": "http://" + killed + "/"},
			"",
			"the other side ended the line in the middle", "ask who keeps it whether it stopped", fault.Passing, false,
		},
		{
			"store", "wrong region", "s3", store("http://" + answers(400, wrongRegion)), "slipway",
			"the store answered 400 AuthorizationHeaderMalformed", "Set region of the destination to eu-north-7",
			fault.Lasting, false,
		},
		{
			"store", "413", "s3",
			store("http://" + answers(413, `<Error><Code>EntityTooLarge</Code><Message>too large</Message></Error>`)),
			"slipway", "413 EntityTooLarge", "larger than the store takes", fault.Lasting, false,
		},
		{
			"store", "certificate ran out", "s3",
			set{"url": "https://" + secure(old), "bucket": "reports", "user": "bell", "ca": oldCA},
			"slipway",
			"the certificate of the server ran out on", "must renew", fault.Lasting, false,
		},
		{
			"store, TLS", "asked by http", "s3", store("http://" + httpsPort), "slipway", "400",
			"write the address with https", fault.Lasting, false,
		},
		{
			"store", "killed in the middle", "s3", store("http://" + killed), "slipway",
			"the other side ended the line in the middle", "ask who keeps it whether it stopped", fault.Passing, true,
		},
		{
			"address", "413", "http",
			set{"url": "http://" + answers(413, "")},
			"", "413 Request Entity Too Large",
			"larger than the server takes", fault.Lasting, false,
		},
		{
			"address, TLS", "asked by http", "http",
			set{"url": "http://" + httpsPort},
			"", "400 Bad Request",
			"write the address with https", fault.Lasting, false,
		},
		{
			"address", "does not take files", "http",
			set{"url": "http://" + answers(405, "")},
			"",
			"405 Method Not Allowed", "does not take files this way", fault.Lasting, false,
		},
		{
			"address", "killed in the middle", "http",
			set{"url": "http://" + killed},
			"",
			"the other side ended the line in the middle", "ask who keeps it whether it stopped", fault.Passing, true,
		},
		{
			"printer", "certificate ran out", "ipp",
			set{"url": "ipps://" + secure(old) + "/ipp/print", "ca": oldCA},
			"",
			"the certificate of the server ran out on", "must renew", fault.Lasting, false,
		},
		{
			"printer", "no printer there", "ipp",
			set{"url": "ipp://" + answers(404, "") + "/ipp/nowhere"},
			"",
			"404 Not Found", "There is no printer at this path", fault.Lasting, false,
		},
	} {
		t.Run(c.server+": "+c.fault, func(t *testing.T) {
			var allowed []string
			if at, ok := c.settings["url"].(string); ok {
				_, rest, _ := strings.Cut(at, "://")
				host, _, _ := strings.Cut(rest, "/")
				allowed = []string{host}
			}
			p := settings(t, c.protocol, c.secret, c.settings)
			if c.protocol == "sftp" {
				p.Pin = pinned(t, sftp)
			}
			d, err := deliver.Open(p, deliver.Allowed{Guard: outgoing.New(allowed)})
			require.NoError(t, err)
			var res deliver.Result
			if m, ok := d.(deliver.Mailer); ok {
				res, err = send(t, m, "x@tarnwick.example", nil)
			} else {
				res, err = put(t, d, handover(1, "day sheet.csv", "code\nPEN\n", "overwrite"))
			}
			f := fault.Of(err)
			require.NotNil(t, f)
			assert.Contains(t, f.Error(), c.sentence)
			assert.Contains(t, f.Advice, c.advice)
			assert.Equal(t, c.class, f.Class, "%v", err)
			assert.Equal(t, c.unknown, res.Offered && !res.Answered, "nobody knows: %v", err)
		})
	}
	imap := listening(t, func(c net.Conn) {
		_, _ = io.WriteString(c, "* OK [CAPABILITY IMAP4rev1 STARTTLS] mailbox\r\n")
		in := bufio.NewReader(c)
		for {
			line, err := in.ReadString('\n')
			if err != nil {
				return
			}
			tag, command, _ := strings.Cut(strings.TrimSpace(line), " ")
			_, _ = io.WriteString(c, tag+" OK done\r\n")
			if command == "STARTTLS" {
				_, _ = io.Copy(io.Discard,
					tls.Server(c, &tls.Config{Certificates: []tls.Certificate{old}, MinVersion: tls.VersionTLS12}))
				return
			}
		}
	})
	// The mailbox for bounces is read by the same words.
	for fault, c := range map[string]struct {
		at       string
		security string
		ca       string
		want     string
	}{
		"ran out": {secure(old), "tls", oldCA, "ran out on"},
		"name":    {secure(other), "tls", otherCA, "is for files.harbour.example"},
		"no TLS":  {ntlm, "tls", ca, "speaks no TLS at this port"}, "upgraded": {imap, "starttls", oldCA, "ran out on"},
	} {
		host, port := hostPort(t, c.at)
		_, err := deliver.Mailbox{
			Host: host, Port: port, Security: c.security, User: "bell", CA: c.ca,
		}.Look(context.Background(), "slipway", nil)
		assert.ErrorContains(t, err, c.want, fault)
	}
	_, err = deliver.Open(settings(t, "s3", "x", set{
		"url": "https://store.tarnwick.example/reports/", "bucket": "reports", "user": "bell",
	}), deliver.Allowed{})
	assert.ErrorContains(t, err, "its url holds the path /reports/")
}

// says answers one line after another, whatever it is asked.
func says(c net.Conn, lines ...string) {
	in := bufio.NewReader(c)
	for i := 0; ; i++ {
		if _, err := io.WriteString(c, lines[min(i, len(lines)-1)]); err != nil {
			return
		}
		if _, err := in.ReadString('\n'); err != nil {
			return
		}
	}
}

func pinned(t *testing.T, s *files.SFTP) string {
	t.Helper()
	host, port := hostPort(t, s.Address())
	d, err := deliver.Open(settings(t, "sftp", "slipway", map[string]any{
		"host": host, "port": port, "user": "ironbell",
	}), deliver.Allowed{})
	require.NoError(t, err)
	tested, err := d.Test(context.Background())
	require.NoError(t, err)
	return tested.Pin
}

// A server may take a password by LOGIN alone, which old ones do.
func TestAPasswordByLogin(t *testing.T) {
	p := start(t, "bell")
	require.NoError(t, p.server.Behave(gate.Behaviour{Mode: gate.Older}))
	signs := func(s map[string]any) { s["user"] = "bell" }
	_, err := send(t, p.destination(t, signs, "slipway"), "x@tarnwick.example", nil)
	require.NoError(t, err)
	assert.Len(t, p.inbox.All(), 1)
	_, err = send(t, p.destination(t, signs, "wrong"), "x@tarnwick.example", nil)
	f := fault.Of(err)
	assert.Contains(t, f.Error(), "535 5.7.8")
	assert.Contains(t, f.Advice, "Check user and password")
}

// Servers that know TLS 1.3 alone are spoken to in it, and data goes over the session of its
// commands in either.
func TestFTPOverEitherTLS(t *testing.T) {
	cert, ca, err := gate.Certificate()
	require.NoError(t, err)
	server, err := files.StartFTP("ftp", "127.0.0.1:0", t.TempDir(), "ironbell", "slipway", cert)
	require.NoError(t, err)
	t.Cleanup(server.Close)
	host, port := hostPort(t, server.Address())
	for _, mode := range []gate.Mode{gate.Accept, gate.Newer, gate.Accept} {
		require.NoError(t, server.Behave(gate.Behaviour{Mode: mode}))
		d, err := deliver.Open(settings(t, "ftp", "slipway", map[string]any{
			"host": host, "port": port, "user": "ironbell", "ca": ca,
		}), deliver.Allowed{})
		require.NoError(t, err)
		for n := range 3 {
			before := server.Resumed()
			_, err = put(t, d, handover(int64(n), fmt.Sprintf("%s %d.csv", mode, n), "code\nPEN\n", "overwrite"))
			require.NoError(t, err, "%s", mode)
			assert.Greater(t, server.Resumed(), before, "%s: the data's line has the session of the commands", mode)
		}
	}
}
