package world

import (
	"bufio"
	"crypto/ed25519"
	"crypto/rand"
	"encoding/base64"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"maps"
	"net"
	"net/http"
	"net/url"
	"slices"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"ironbell/standin/gate"

	"github.com/jackc/pgx/v5/pgproto3"
	"github.com/stretchr/testify/require"
	"golang.org/x/crypto/ssh"
)

// Echo is a server that refuses everybody, and gives back all that it was told while it does.
type Echo struct {
	address string
	heard   atomic.Int64 // sign-ins and requests
}

// StartEcho serves at an address, or at a free one, until the test ends. Serve speaks the
// protocol on one connection.
func StartEcho(t *testing.T, address string, serve func(e *Echo, c net.Conn)) *Echo {
	t.Helper()
	e := &Echo{}
	g, err := gate.Open("echo", address, gate.Each(10*time.Second, func(c net.Conn) { serve(e, c) }))
	require.NoError(t, err)
	t.Cleanup(g.Close)
	e.address = g.Address()
	return e
}

// repeat writes what was heard in the forms in which servers give things back.
func (e *Echo) repeat(heard ...string) string {
	e.heard.Add(1)
	var forms []string
	for _, h := range heard {
		h = strings.Join(strings.FieldsFunc(h, func(r rune) bool { return r < ' ' }), " ")
		forms = append(forms, h, url.QueryEscape(h), hex.EncodeToString([]byte(h)),
			base64.StdEncoding.EncodeToString([]byte(h)))
	}
	return "not with " + strings.Join(forms, " ")
}

// GrantedToken is an access token that whoever asks is granted.
const GrantedToken = "planted+access/token=1"

// EchoHTTP repeats the headers in the status, in a header and in the body, but at /grant.
func EchoHTTP(e *Echo, c net.Conn) {
	r, err := http.ReadRequest(bufio.NewReader(c))
	if err != nil {
		return
	}
	body, _ := io.ReadAll(io.LimitReader(r.Body, min(r.ContentLength, 1<<20)))
	if r.URL.Path == "/grant" { // RFC 6749 section 5.1
		text := fmt.Sprintf(`{"access_token":%q,"token_type":"bearer","expires_in":3600}`, GrantedToken)
		fmt.Fprintf(c,
			"HTTP/1.1 200 OK\r\nContent-Type: application/json\r\nContent-Length: %d\r\nConnection: close\r\n\r\n%s",
			len(text), text)
		return
	}
	said := []string{r.URL.RawQuery, strings.TrimPrefix(r.Header.Get("Authorization"), "Bearer ")}
	said = append(said, slices.Collect(maps.Keys(r.Header))...)
	said = append(said, slices.Concat(slices.Collect(maps.Values(r.Header))...)...)
	if user, password, ok := r.BasicAuth(); ok {
		said = append(said, user, password)
	}
	if r.URL.Path == "/token" {
		said = append(said, string(body))
	}
	text := e.repeat(said...)
	fmt.Fprintf(c, "HTTP/1.1 403 %s\r\nLocation: /?%s\r\nContent-Length: %d\r\nConnection: close\r\n\r\n%s", text,
		url.QueryEscape(text), len(text), text)
}

// byLine answers each line.
func byLine(greeting string, answer func(e *Echo, line string) string) func(e *Echo, c net.Conn) {
	return func(e *Echo, c net.Conn) {
		in := bufio.NewReader(c)
		_, err := io.WriteString(c, greeting+"\r\n")
		for err == nil {
			var line string
			if line, err = in.ReadString('\n'); err == nil {
				_, err = io.WriteString(c, answer(e, strings.TrimSpace(line))+"\r\n")
			}
		}
	}
}

// decoded are the words of a line, and those among them that base64 hides.
func decoded(line string) []string {
	words := strings.Fields(line)
	for _, word := range words {
		if plain, err := base64.StdEncoding.DecodeString(word); err == nil {
			words = append(words, string(plain))
			words = append(words, strings.Split(string(plain), "\x00")...)
		}
	}
	return words
}

// EchoMail speaks SMTP and says back what it was told.
var EchoMail = byLine("220 mail", func(e *Echo, line string) string {
	switch verb, _, _ := strings.Cut(strings.ToUpper(line), " "); verb {
	case "EHLO":
		return "250-mail\r\n250 AUTH PLAIN XOAUTH2"
	case "AUTH":
		return "535 5.7.8 " + e.repeat(decoded(line)...)
	}
	return "250 2.0.0 ok"
})

// EchoFTP does so by FTP.
var EchoFTP = byLine("220 files", func(e *Echo, line string) string {
	switch verb, _, _ := strings.Cut(strings.ToUpper(line), " "); verb {
	case "USER":
		return "331 and the password"
	case "PASS":
		return "530 " + e.repeat(decoded(line)...)
	}
	return "500 " + line
})

// EchoMailbox does so by IMAP.
var EchoMailbox = byLine("* OK [CAPABILITY IMAP4rev1] mailbox", func(e *Echo, line string) string {
	tag, command, _ := strings.Cut(line, " ")
	switch verb, _, _ := strings.Cut(strings.ToUpper(command), " "); verb {
	case "CAPABILITY":
		return "* CAPABILITY IMAP4rev1\r\n" + tag + " OK done"
	case "LOGIN", "AUTHENTICATE":
		return tag + " NO " + e.repeat(append(decoded(line), strings.Split(line, `"`)...)...)
	}
	return tag + " OK done"
})

// EchoSFTP repeats the password in its banner and in what it asks next (RFC 4252 section
// 5.4, RFC 4256 section 3.2).
func EchoSFTP(t *testing.T) func(e *Echo, c net.Conn) {
	t.Helper()
	_, key, err := ed25519.GenerateKey(rand.Reader)
	require.NoError(t, err)
	signer, err := ssh.NewSignerFromKey(key)
	require.NoError(t, err)
	return func(e *Echo, c net.Conn) {
		config := &ssh.ServerConfig{
			PasswordCallback: func(_ ssh.ConnMetadata, password []byte) (*ssh.Permissions, error) {
				return nil, &ssh.BannerError{Err: errors.New("not so"), Message: e.repeat(string(password))}
			},
			KeyboardInteractiveCallback: func(_ ssh.ConnMetadata, ask ssh.KeyboardInteractiveChallenge) (*ssh.Permissions, error) {
				answers, err := ask("", "", []string{"Password: "}, []bool{false})
				if err != nil {
					return nil, err
				}
				said := e.repeat(answers...)
				_, err = ask(said, said, []string{said}, []bool{true})
				return nil, errors.Join(errors.New("not so"), err)
			},
			PublicKeyCallback: func(_ ssh.ConnMetadata, key ssh.PublicKey) (*ssh.Permissions, error) {
				return nil, &ssh.BannerError{Err: errors.New("not so"), Message: e.repeat(string(key.Marshal()))}
			},
		}
		config.AddHostKey(signer)
		_, _, _, err := ssh.NewServerConn(c, config)
		_ = err // it refuses everybody
	}
}

// EchoPostgres asks for the password as it is.
func EchoPostgres(e *Echo, c net.Conn) {
	server := pgproto3.NewBackend(c, c)
	if _, err := server.ReceiveStartupMessage(); err != nil {
		return
	}
	server.Send(&pgproto3.AuthenticationCleartextPassword{})
	if server.Flush() != nil || server.SetAuthType(pgproto3.AuthTypeCleartextPassword) != nil {
		return
	}
	m, err := server.Receive()
	if err != nil {
		return
	}
	if p, ok := m.(*pgproto3.PasswordMessage); ok {
		said := e.repeat(p.Password)
		server.Send(&pgproto3.ErrorResponse{Severity: "FATAL", Code: "28P01", Message: said, Detail: said, Hint: said})
		_ = server.Flush() // it ends either way
	}
}

// EchoRaw greets as MariaDB does, and gives back the bytes that it was sent, in an error:
// to the protocols that never send a password it is a server of bad manners.
func EchoRaw(e *Echo, c net.Conn) {
	packet := func(n byte, payload string) {
		_, _ = c.Write(append([]byte{byte(len(payload)), byte(len(payload) >> 8), 0, n}, payload...))
	}
	packet(0,
		"\x0a11.4.2-MariaDB\x00\x01\x00\x00\x00saltsalt\x00\x00\x82\x21\x02\x00\x08\x00\x15"+strings.Repeat("\x00", 10)+
			"saltsaltsalt\x00mysql_native_password\x00")
	heard := make([]byte, 4096)
	n, err := c.Read(heard)
	if err != nil {
		return
	}
	packet(2, "\xff\x15\x04#28000"+e.repeat(string(heard[:n])))
}
