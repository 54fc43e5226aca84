package report

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"path"
	"strings"

	"ironbell/internal/core/fault"
	"ironbell/internal/outgoing"
)

// HTTPSettings are the settings of a source of the driver http. Its password is
// sent as a bearer token (RFC 6750).
type HTTPSettings struct {
	URL    string           `json:"url" doc:"address, to which the files of tables are added"`
	Tables map[string]Table `json:"tables,omitempty" form:"tables" doc:"answers that queries read as tables, by the name of the table"`
	CA     string           `json:"ca,omitempty" form:"block" few:"yes" doc:"certificates of the authority that signed the server's, as PEM; those of this machine when left out"`
	Limits
}

type web struct {
	files
	base  *url.URL
	token string
	guard *outgoing.Guard
	blot  fault.Blotter // of what the server says
}

// Web is a source of addresses. It may be used by several goroutines.
type Web interface {
	// Fetch asks for what lies at a path below the source's address, with the source's
	// token. Nobody who sends it on is followed. Whoever asks closes the answer's body.
	Fetch(ctx context.Context, path string, headers map[string]string) (*http.Response, error)
}

func openHTTP(name string, settings json.RawMessage, token string, guard *outgoing.Guard) (Source, error) {
	doing := "open source " + quote(name)
	var s HTTPSettings
	if err := readSettings(name, settings, &s); err != nil {
		return nil, err
	}
	base, err := url.Parse(s.URL)
	if err != nil || base.Scheme != "http" && base.Scheme != "https" || base.Host == "" || base.User != nil {
		return nil,
			fault.New(fault.Source, doing, fmt.Sprintf("%q is no address of http or https", s.URL),
				"Write it as https://data.tarnwick.example/tides/; a password goes with the source.")
	}
	if guard == nil {
		guard = outgoing.New(nil)
	}
	if s.CA != "" {
		c, err := trust(name, base.Hostname(), s.CA)
		if err != nil {
			return nil, err
		}
		guard = guard.Trusting(c.RootCAs)
	}
	w := &web{base: base, token: token, guard: guard, blot: fault.NewBlotter(token)}
	w.files = files{name: name, limits: s.Limits, tables: s.Tables, open: w.get}
	return w, w.check(doing)
}

func (w *web) Close() {}

// Test fetches the head of each table's file.
func (w *web) Test(ctx context.Context) (string, error) {
	if len(w.tables) == 0 {
		return "",
			fault.New(fault.Source, "ask source "+quote(w.name), "it names no files as tables yet",
				"Add one to its settings.")
	}
	var said []string
	for name, t := range w.tables {
		in, _, err := w.get(ctx, t)
		if err != nil {
			return "", err
		}
		_ = in.Close() // only asked for
		said = append(said, name+" is there")
	}
	return strings.Join(said, "; "), nil
}

// Fetch implements Web.
func (w *web) Fetch(ctx context.Context, file string, headers map[string]string) (*http.Response, error) {
	shown, _, _ := strings.Cut(file, "?")
	doing := fmt.Sprintf("read %q from source %q", shown, w.name)
	ref, err := url.Parse(file)
	if err != nil || ref.IsAbs() || ref.Host != "" {
		return nil,
			fault.New(fault.Source, doing, "it is no path below the address of the source",
				"Write a path, such as tides/today.csv.")
	}
	at := w.base.ResolveReference(ref)
	root := strings.TrimSuffix(path.Dir(path.Clean("/"+w.base.Path+"x")), "/") + "/"
	if at.Host != w.base.Host || !strings.HasPrefix(path.Clean("/"+at.Path)+"/", root) {
		return nil,
			fault.New(fault.Source, doing, "it leads out of the address of the source", "Write a path below it.")
	}
	request, err := http.NewRequestWithContext(ctx, http.MethodGet, at.String(), nil)
	if err != nil {
		return nil, w.blot.Err(fault.Wrap(err, fault.Lasting, fault.Source, doing, ""))
	}
	for name, value := range headers {
		request.Header.Set(name, value)
	}
	if w.token != "" {
		request.Header.Set("Authorization", "Bearer "+w.token)
	}
	answer, err := w.guard.Do(request, doing)
	if f := (*fault.Fault)(nil); errors.As(err, &f) && ctx.Err() == nil {
		f.Scope = fault.Source
	}
	if err != nil {
		return nil, w.blot.Err(err)
	}
	if answer.StatusCode == http.StatusOK {
		return answer, nil
	}
	_ = answer.Body.Close() // it is not wanted
	class := fault.Lasting
	if answer.StatusCode >= 500 || answer.StatusCode == http.StatusTooManyRequests {
		class = fault.Passing
	}
	said := "the server answered " + answer.Status
	if to := outgoing.Moved(answer); to != "" {
		said += " and sends on to " + to + ", where nothing is asked"
	}
	return nil,
		w.blot.Err(fault.Wrap(errors.New(said), class, fault.Source, doing,
			"Check the address and the token of the source."))
}

func (w *web) get(ctx context.Context, t Table) (io.ReadCloser, string, error) {
	answer, err := w.Fetch(ctx, t.File, map[string]string{"Accept": "text/csv, application/json"})
	if err != nil {
		return nil, "", err
	}
	name := path.Base(answer.Request.URL.Path)
	if strings.Contains(answer.Header.Get("Content-Type"), "json") && !strings.HasSuffix(name, ".json") {
		name += ".json"
	}
	return answer.Body, name, nil
}
