package task

import (
	"context"
	"errors"
	"fmt"
	"mime"
	"net/http"
	"net/url"
	"path"
	"regexp"
	"slices"
	"strings"

	"ironbell/internal/artifact"
	"ironbell/internal/core/expr"
	"ironbell/internal/core/fault"
	"ironbell/internal/core/job"
	"ironbell/internal/outgoing"
	"ironbell/internal/report"
	"ironbell/internal/store/db"
	"ironbell/internal/store/records"
)

const largestFetch = 100 << 20 // bytes, when the task sets none

// movingPart is what stands for something else in an address, for its check.
var movingPart = regexp.MustCompile(`\{[^{}]*\}`)

// Fetch is the task kind that downloads a file.
type Fetch struct {
	Guard   *outgoing.Guard
	Sources *report.Sources
	Files   *artifact.Folder
}

// signIn are the headers by which somebody signs in.
var signIn = []string{"Authorization", "Proxy-Authorization", "Cookie", "X-Api-Key"}

// Help implements Kind.
func (k *Fetch) Help() Help {
	return Help{
		Kind: job.KindFetch, Summary: "download a file over HTTP",
		Text: "Asks an address with GET and keeps the answer as a file. Answers 408, 425, 429 and 5xx, refused " +
			"connections and time-outs are passing failures; other " +
			"refusals are lasting. An answer without content is blank. Internal addresses are refused unless the " +
			"operator allowed them.",
		Example: job.Task{
			Name: "forecast", Kind: job.KindFetch,
			Fetch: &job.FetchTask{
				URL: "https://weather.example/sound/{date:%Y-%m-%d}.json", Name: "weather {date:%Y-%m-%d}.json",
			},
		},
	}
}

// Check implements Kind.
func (k *Fetch) Check(ctx context.Context, c *Checking, where string, t job.Task) error {
	c.text(where+".url", t.Fetch.URL)
	c.text(where+".name", t.Fetch.Name)
	for name := range t.Fetch.Headers {
		if slices.Contains(signIn, http.CanonicalHeaderKey(name)) {
			c.V.Add(where+".headers."+name,
				"what signs in does not belong in a job, which everybody can read; name a source of the driver http, "+
					"which keeps its token sealed")
		}
	}
	if t.Fetch.Source != "" {
		p, err := c.Store.Place(ctx, records.Source, t.Fetch.Source)
		var missing *db.NotFound
		switch {
		case errors.As(err, &missing) || err == nil && p.Protocol != "http":
			c.V.Add(where+".source", "there is no source %q of the driver http", t.Fetch.Source)
		case err != nil:
			return err
		}
		if strings.Contains(t.Fetch.URL, "://") || strings.HasPrefix(t.Fetch.URL, "/") {
			c.V.Add(where+".url", "with a source it is a path below the source's address, such as tides/today.csv")
		}
		return nil
	}
	if err := outgoing.CheckURL(movingPart.ReplaceAllString(t.Fetch.URL, "x")); err != nil {
		c.V.Add(where+".url", "%s", err)
	}
	return nil
}

// Run downloads the file.
func (k *Fetch) Run(ctx context.Context, w Work, t job.Task) (Result, error) {
	address, err := w.fill(ctx, "the address", t.Fetch.URL, func(f *expr.Facts) {
		for name, value := range f.Values {
			f.Values[name] = url.PathEscape(value)
		}
	})
	if err != nil {
		return Result{}, err
	}
	doing := "fetch " + outgoing.Shown(address)
	res, err := k.ask(ctx, doing, address, t.Fetch)
	if err != nil {
		return Result{}, outgoing.Query(address).Err(err)
	}
	defer func() { _ = res.Body.Close() }() // only read from
	name := path.Base(res.Request.URL.Path)
	if _, params, err := mime.ParseMediaType(res.Header.Get("Content-Disposition")); err == nil &&
		params["filename"] != "" {
		name = params["filename"]
	}
	if t.Fetch.Name != "" {
		if name, err = w.fill(ctx, "the file name", t.Fetch.Name, nil); err != nil {
			return Result{}, err
		}
	}
	largest := t.Fetch.Largest
	if largest == 0 {
		largest = largestFetch
	}
	a, err := keep(ctx, k.Files, res.Body, expr.FileName(name, "file"), largest)
	if err != nil {
		return Result{}, fault.Wrap(err, fault.Passing, fault.Task, doing, "")
	}
	if media, _, err := mime.ParseMediaType(res.Header.Get("Content-Type")); err == nil {
		a.MediaType = media
	}
	a.Part, a.Task = w.Part, t.Name
	return Result{
		Files: []job.Artifact{a}, Blank: a.Size == 0, Note: fmt.Sprintf("%s: %s, %d bytes", res.Status, a.Name, a.Size),
	}, nil
}

// ask asks for the file.
func (k *Fetch) ask(ctx context.Context, doing, address string, f *job.FetchTask) (*http.Response, error) {
	if f.Source != "" {
		source, err := k.Sources.Get(ctx, f.Source, "")
		if err != nil {
			return nil, err
		}
		web, ok := source.(report.Web)
		if !ok {
			return nil,
				fault.New(fault.Task, doing, fmt.Sprintf("the source %q is no source of addresses", f.Source),
					"Name a source of the driver http in the job.")
		}
		return web.Fetch(ctx, address, f.Headers)
	}
	r, err := http.NewRequestWithContext(ctx, http.MethodGet, address, http.NoBody)
	if err != nil {
		return nil, fault.New(fault.Task, doing, "it is no address", "Check the address in the job.")
	}
	for name, value := range f.Headers {
		r.Header.Set(name, value)
	}
	res, err := k.Guard.Follow(r, doing)
	if err != nil {
		return nil, err
	}
	if err := outgoing.Refusal(res, doing); err != nil {
		_ = res.Body.Close() // it is not wanted
		return nil, err
	}
	return res, nil
}
