// Package outgoing makes HTTP requests to addresses that people wrote into jobs
// and destinations. It keeps them away from the machine itself and from the
// house's own networks, unless the operator allowed an address, so that nobody
// reaches through the service what they may not reach themselves.
package outgoing

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/netip"
	"net/url"
	"slices"
	"strings"
	"syscall"
	"time"

	"ironbell/internal/core/fault"
	"ironbell/internal/release"

	"code.dny.dev/ssrf"
)

// maxRedirects is how many times a request may be sent on.
const maxRedirects = 5

// Guard makes requests. It may be used by several goroutines.
type Guard struct {
	allowed []string // host:port
	follows *http.Client
	stays   *http.Client
	dial    func(ctx context.Context, network, address string) (net.Conn, error)
}

// Transport is a way for the requests of a library, with the same guard. Roots
// are certificates to trust; those of the machine when nil. Whoever asks for it
// closes its idle connections.
func (g *Guard) Transport(roots *x509.CertPool) *http.Transport {
	t := &http.Transport{
		DialContext: g.dial, TLSHandshakeTimeout: 10 * time.Second, ResponseHeaderTimeout: 2 * time.Minute,
		MaxIdleConnsPerHost: 4, IdleConnTimeout: time.Minute, MaxResponseHeaderBytes: 64 << 10,
	}
	if roots != nil {
		t.TLSClientConfig = &tls.Config{RootCAs: roots, MinVersion: tls.VersionTLS12}
	}
	return t
}

// Explain makes a fault of what a request of such a library met on its way.
func (g *Guard) Explain(err error, doing string) *fault.Fault {
	var no *refused
	if errors.As(err, &no) {
		return fault.Wrap(no, fault.Lasting, fault.Destination, doing,
			"An operator can allow it with the flag -allow-internal of ironbell serve.")
	}
	if no := Insecure(err, fault.Destination, doing); no != nil {
		return no
	}
	var wrapped *url.Error
	if errors.As(err, &wrapped) {
		err = wrapped.Err
	}
	class := fault.Lasting
	var name *net.DNSError
	if fault.ByNetwork(err) || errors.As(err, &name) || errors.Is(err, io.EOF) || errors.Is(err, io.ErrUnexpectedEOF) {
		class = fault.Passing
	}
	advice := "Check the address, and that its server can be reached from this machine."
	if fault.Broken(err) {
		advice = fault.AfterBroken
	}
	return fault.Wrap(errors.New(fault.Reason(err)), class, fault.Destination, doing, advice)
}

// refused says that an address is an internal one.
type refused struct{ address string }

func (e *refused) Error() string {
	return fmt.Sprintf("%s is an address of this machine or its own networks, which is not allowed", e.address)
}

// New makes a guard that lets through to public addresses, and to the internal
// ones that are named as host:port.
func New(allowed []string) *Guard {
	g := &Guard{allowed: allowed}
	public := ssrf.New(ssrf.WithAnyPort())
	control := func(ctx context.Context, network, address string, c syscall.RawConn) error {
		if err := public.Safe(network, address, c); err != nil && !g.permits(ctx, address) {
			return &refused{address}
		}
		return nil
	}
	dialer := &net.Dialer{Timeout: 10 * time.Second, ControlContext: control}
	g.dial = dialer.DialContext
	return g.Trusting(nil)
}

// Trusting is a guard with the same addresses that trusts other certificates than those of
// the machine; these when roots are nil. Its connections are its own.
func (g *Guard) Trusting(roots *x509.CertPool) *Guard {
	g = &Guard{allowed: g.allowed, dial: g.dial}
	transport := g.Transport(roots)
	g.stays = &http.Client{Transport: transport, CheckRedirect: Stay}
	g.follows = &http.Client{
		Transport: transport,
		CheckRedirect: func(_ *http.Request, via []*http.Request) error {
			if len(via) >= maxRedirects {
				return fmt.Errorf("it was sent on more than %d times", maxRedirects)
			}
			return nil
		},
	}
	return g
}

// permits tells whether the operator allowed an internal address. Names are
// looked up, so that what is allowed by name is allowed at its address only.
func (g *Guard) permits(ctx context.Context, address string) bool {
	if slices.Contains(g.allowed, address) {
		return true
	}
	at, err := netip.ParseAddrPort(address)
	if err != nil {
		return false
	}
	for _, a := range g.allowed {
		host, port, err := net.SplitHostPort(a)
		if err != nil || port != fmt.Sprint(at.Port()) {
			continue
		}
		looking, stop := context.WithTimeout(ctx, 5*time.Second)
		ips, err := net.DefaultResolver.LookupNetIP(looking, "ip", host)
		stop()
		if err == nil && slices.ContainsFunc(ips, func(ip netip.Addr) bool { return ip.Unmap() == at.Addr().Unmap() }) {
			return true
		}
	}
	return false
}

// CheckURL tells what is wrong with an address.
func CheckURL(text string) error {
	u, err := url.Parse(text)
	switch {
	case err != nil || u.Host == "":
		return fmt.Errorf("%q is no address; write it as https://host/path", text)
	case u.Scheme != "http" && u.Scheme != "https":
		return fmt.Errorf("%q does not begin with http:// or https://", text)
	case u.User != nil:
		return errors.New("the address holds a name or password; they belong into the credentials of a source or " +
			"destination")
	}
	return nil
}

// Stay lets a client follow nobody who sends it on: what it carries is for whom it was
// given, and a page that answers instead is no success.
func Stay(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }

// Moved says where an answer sends its asker on to, without what stands behind the path;
// empty when it does not.
func Moved(res *http.Response) string {
	if res.StatusCode < 300 || res.StatusCode >= 400 {
		return ""
	}
	to, err := res.Location()
	if err != nil {
		return ""
	}
	return Shown(to.String())
}

// Shown is an address as it may be shown, kept and logged: without its query, in which keys
// are handed over, and without whom it signs in.
func Shown(address string) string {
	u, err := url.Parse(address)
	if err != nil {
		head, _, _ := strings.Cut(address, "?")
		return head
	}
	return (&url.URL{Scheme: u.Scheme, Host: u.Host, Path: u.Path}).String()
}

// keyLength is from how many signs on a value in a query may be a key.
const keyLength = 16

// Query is a blotter of what stands behind the path of an address: as a whole, and of what
// may be a key in it. A server that refuses an address likes to repeat it.
func Query(address string) fault.Blotter {
	u, err := url.Parse(address)
	if err != nil {
		return fault.Blotter{}
	}
	secrets := []string{u.RawQuery}
	for _, values := range u.Query() {
		for _, v := range values {
			if len(v) >= keyLength {
				secrets = append(secrets, v)
			}
		}
	}
	return fault.NewBlotter(secrets...)
}

// Do makes a request and follows nobody who sends it on. Its fault says whether trying
// again may help; doing says what was tried.
func (g *Guard) Do(r *http.Request, doing string) (*http.Response, error) {
	return g.do(g.stays, r, doing)
}

// Follow is Do, and goes where it is sent on to: for requests that carry nothing of ours
// and change nothing.
func (g *Guard) Follow(r *http.Request, doing string) (*http.Response, error) {
	return g.do(g.follows, r, doing)
}

func (g *Guard) do(client *http.Client, r *http.Request, doing string) (*http.Response, error) {
	r.Header.Set("User-Agent", release.Agent())
	res, err := client.Do(r) //nolint:gosec // the dialer checks where it leads
	if err == nil {
		return res, nil
	}
	if cause := context.Cause(r.Context()); cause != nil {
		if errors.Is(cause, context.DeadlineExceeded) {
			return nil,
				fault.Wrap(errors.New("it took longer than its time limit"), fault.Passing, fault.Task, doing,
					"Make the task's time limit longer, or the other side faster.")
		}
		return nil, cause
	}
	f := g.Explain(err, doing)
	f.Scope = fault.Task
	return nil, f
}

// Refusal reads the status of an answer that is no success: what the server
// said, and whether it may change its mind (RFC 9110 section 15).
func Refusal(res *http.Response, doing string) error {
	if res.StatusCode < 400 {
		return nil
	}
	class := fault.Lasting
	switch res.StatusCode {
	case http.StatusRequestTimeout, http.StatusTooEarly, http.StatusTooManyRequests, http.StatusInternalServerError,
		http.StatusBadGateway, http.StatusServiceUnavailable, http.StatusGatewayTimeout:
		class = fault.Passing
	}
	return fault.Wrap(fmt.Errorf("the server answered %s", res.Status), class, fault.Task, doing, "")
}
