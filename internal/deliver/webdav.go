package deliver

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net/http"
	"os"
	"path"
	"strings"
	"time"

	"ironbell/internal/core/fault"
	"ironbell/internal/outgoing"
	"ironbell/internal/release"

	"github.com/studio-b12/gowebdav"
)

// WebDAVSettings are the settings of a destination of the protocol webdav (RFC
// 4918), signed in to by HTTP's basic scheme.
type WebDAVSettings struct {
	URL  string `json:"url" doc:"of the folder"`
	User string `json:"user,omitempty" doc:"sign-in name; nobody signs in when left out"`
	CA   string `json:"ca,omitempty" form:"block" doc:"certificates to trust, in PEM; those of the machine when left out" few:"y"`
	FileTaking
}

type webdavPlace struct {
	left leftovers
	Place
	settings  WebDAVSettings
	guard     *outgoing.Guard
	transport *http.Transport
}

func openWebDAV(p Place, a Allowed) (Destination, error) {
	w := &webdavPlace{Place: p, guard: a.Guard}
	if err := p.read(&w.settings); err != nil {
		return nil, err
	}
	if err := outgoing.CheckURL(w.settings.URL); err != nil {
		return nil, p.wrong(err.Error(), "")
	}
	var err error
	w.transport, err = p.transport(a.Guard, w.settings.CA)
	return w, err
}

// transport is the guarded way for requests, which trusts the given certificates.
func (p Place) transport(g *outgoing.Guard, ca string) (*http.Transport, error) {
	trust, err := p.trust("", ca)
	if err != nil {
		return nil, err
	}
	return g.Transport(trust.RootCAs), nil
}

// bound makes the requests of a library that knows no context end with one.
type bound struct {
	ctx       context.Context //nolint:containedctx // it lives as long as one line
	transport http.RoundTripper
}

// RoundTrip implements http.RoundTripper.
func (b *bound) RoundTrip(r *http.Request) (*http.Response, error) {
	res, err := b.transport.RoundTrip(r.WithContext(b.ctx))
	if err == nil && res.StatusCode >= 300 && res.StatusCode < 400 {
		_ = res.Body.Close() // the library would follow
		return nil, moved(res, "")
	}
	return res, err
}

// yielding asks again for a folder that is locked, which it is while another line
// makes it. The library makes folders before each file.
type yielding struct{ transport http.RoundTripper }

// RoundTrip implements http.RoundTripper.
func (y *yielding) RoundTrip(r *http.Request) (*http.Response, error) {
	const tries, pause = 20, 50 * time.Millisecond
	for try := 1; ; try++ {
		res, err := y.transport.RoundTrip(r)
		if err != nil || res.StatusCode != http.StatusLocked || r.Method != "MKCOL" || try == tries {
			return res, err
		}
		_ = res.Body.Close() // another answer takes its place
		select {
		case <-r.Context().Done():
			return nil, r.Context().Err()
		case <-time.After(pause):
		}
	}
}

// Open implements Destination. There is no line yet: the first request makes it.
func (w *webdavPlace) Open(ctx context.Context) (Line, error) { return w.open(ctx), nil }

func (w *webdavPlace) open(ctx context.Context) *treeLine {
	ctx, cancel := context.WithCancel(ctx)
	c := gowebdav.NewAuthClient(w.settings.URL, gowebdav.NewEmptyAuth())
	if w.settings.User != "" {
		c.SetInterceptor(func(_ string, r *http.Request) { r.SetBasicAuth(w.settings.User, w.Secret) })
	}
	c.SetHeader("User-Agent", release.Agent())
	c.SetTransport(&bound{ctx, &yielding{w.transport}})
	return newTreeLine("WebDAV folder "+outgoing.Shown(w.settings.URL),
		&webdavTree{url: w.settings.URL, client: c, guard: w.guard, cancel: cancel}, &w.left, nil)
}

// Test implements Destination.
func (w *webdavPlace) Test(ctx context.Context) (Tested, error) {
	l := w.open(ctx)
	defer l.Close()
	if _, err := l.tree.size(""); errors.Is(err, fs.ErrNotExist) {
		return Tested{},
			fault.New(fault.Destination, "open "+l.place, "there is no folder at this address",
				"Make it there, or correct the url of the destination.")
	} else if err != nil {
		return Tested{}, l.fault(err, "open "+l.place)
	}
	return testTree(ctx, l, []string{"opened " + outgoing.Shown(w.settings.URL)})
}

type webdavTree struct {
	url    string
	client *gowebdav.Client
	guard  *outgoing.Guard
	cancel context.CancelFunc
}

// statusOf is the status of an answer that the library made an error of.
func statusOf(err error) int {
	var said gowebdav.StatusError
	if errors.As(err, &said) {
		return said.Status
	}
	return 0
}

// known gives the errors of file systems where there is one.
func known(err error) error {
	if statusOf(err) == http.StatusNotFound {
		return fs.ErrNotExist
	}
	return err
}

func (t *webdavTree) mkdir(dir string) error {
	// The library takes 405, which is said of a folder that is there, for done.
	return known(t.client.Mkdir(dir, 0))
}

func (t *webdavTree) size(file string) (int64, error) {
	info, err := t.client.Stat(file)
	if err != nil {
		return 0, known(err)
	}
	return info.Size(), nil
}

func (t *webdavTree) put(file string, content io.Reader, size int64) (int64, error) {
	// Only a reader: the library would close and seek what can be.
	if err := t.client.WriteStreamWithLength(file, struct{ io.Reader }{content}, size, 0); err != nil {
		return 0, known(err)
	}
	return size, nil
}

func (t *webdavTree) rename(from, to string, over bool) error {
	err := t.client.Rename(from, to, over)
	if statusOf(err) == http.StatusPreconditionFailed { // RFC 4918 section 9.9.4
		return fs.ErrExist
	}
	return known(err)
}

func (t *webdavTree) remove(file string) error { return known(t.client.Remove(file)) }

func (t *webdavTree) read(file string) (io.ReadCloser, error) { return t.client.ReadStream(file) }

func (t *webdavTree) explain(err error, doing string) (*fault.Fault, bool) {
	status := statusOf(err)
	if status == 0 {
		var named *os.PathError
		if errors.As(err, &named) {
			err = named.Err
		}
		if errors.Is(err, fs.ErrNotExist) {
			return fault.Wrap(errors.New("the server answered 404 Not Found"), fault.Lasting, fault.Recipient, doing,
				noFolder), false
		}
		if errors.Is(err, fs.ErrExist) {
			return explainFile(err, doing)
		}
		f := t.guard.Explain(err, doing)
		return f, true
	}
	f := refusedByStatus(t.url, status, doing)
	if status == http.StatusConflict { // RFC 4918 sections 9.3.1 and 9.7.1
		f.Advice = noFolder
	}
	return f, false
}

const noFolder = "The folder above it is not there: check the url of the destination and the folder in the job."

func (t *webdavTree) close() { t.cancel() }

// refusedByStatus tells what an HTTP status means for a file that went to an address.
func refusedByStatus(address string, status int, doing string) *fault.Fault {
	said := fmt.Errorf("the server answered %d %s", status, http.StatusText(status))
	switch status {
	case http.StatusBadRequest:
		if strings.HasPrefix(address, "http:") || strings.HasPrefix(address, "ipp:") {
			return fault.Wrap(said, fault.Lasting, fault.Destination, doing,
				"A port for TLS answers so when it is asked without: if it is one, write the address with https "+
					"(ipps for a printer). Otherwise ask who keeps the server.")
		}
	case http.StatusForbidden:
		return fault.Wrap(said, fault.Lasting, fault.Recipient, doing, "Let the login of the destination write there.")
	case http.StatusRequestEntityTooLarge:
		return fault.Wrap(said, fault.Lasting, fault.Recipient, doing,
			"The file is larger than the server takes: pack or split it, or ask who keeps the server for a "+
				"higher limit.")
	case http.StatusMethodNotAllowed, http.StatusNotImplemented:
		return fault.Wrap(said, fault.Lasting, fault.Destination, doing,
			"This address does not take files this way: check it, the protocol and the method of the destination.")
	case http.StatusUnauthorized:
		return fault.Wrap(said, fault.Lasting, fault.Destination, doing, "Check user and password of the destination.")
	case http.StatusInsufficientStorage:
		return fault.Wrap(said, fault.Passing, fault.Destination, doing, "The server has no room left: make some.")
	case http.StatusRequestTimeout, http.StatusLocked, http.StatusTooEarly:
		return fault.Wrap(said, fault.Passing, fault.Recipient, doing, "")
	case http.StatusTooManyRequests, http.StatusInternalServerError, http.StatusBadGateway,
		http.StatusServiceUnavailable, http.StatusGatewayTimeout:
		return fault.Wrap(said, fault.Passing, fault.Destination, doing, "Ask who keeps the server when it goes on.")
	}
	return fault.Wrap(said, fault.Lasting, fault.Recipient, doing,
		"Check the folder and the name, and what the login may do there.")
}

// below joins a path to an address, each piece escaped.
func below(address, file string) string {
	return strings.TrimRight(address, "/") + "/" + gowebdav.PathEscape(path.Clean(file))
}
