package client

import (
	"context"
	"fmt"
	"io"
	"mime"
	"net/http"
	"net/url"
	"strconv"

	"ironbell/internal/api/wire"
	"ironbell/internal/core/job"
)

// ShowReport shows a report and the jobs that use it.
func (c *Client) ShowReport(ctx context.Context, name string) (page wire.ReportPage, err error) {
	return page, c.do(ctx, http.MethodGet, "/api/reports/"+segment(name), nil, &page)
}

// CheckReport looks at a report before it is saved.
func (c *Client) CheckReport(ctx context.Context, name string,
	r wire.ReportRequest,
) (check wire.ReportCheck, err error) {
	return check, c.do(ctx, http.MethodPost, "/api/reports/"+segment(name)+"/check", r, &check)
}

// Choices lists what a report asks for, with the choices that there are.
func (c *Client) Choices(ctx context.Context, name string, l wire.LookRequest) (offers []job.Offered, err error) {
	return offers, c.do(ctx, http.MethodPost, "/api/reports/"+segment(name)+"/choices", l, &offers)
}

// Preview shows the first rows of a report. When ctx ends, so do its queries.
func (c *Client) Preview(ctx context.Context, name string, r wire.PreviewRequest) (p job.Preview, err error) {
	return p, c.long(ctx, http.MethodPost, "/api/reports/"+segment(name)+"/preview", r, &p)
}

// Cost makes outputs of a report and throws them away.
func (c *Client) Cost(ctx context.Context, name string, r wire.CostRequest) (cost wire.Cost, err error) {
	return cost, c.long(ctx, http.MethodPost, "/api/reports/"+segment(name)+"/cost", r, &cost)
}

// Rendered is a file of a report. Whoever got it closes its Content.
type Rendered struct {
	Name    string
	Rows    int64
	Size    int64
	SHA256  string
	Says    []string // what its readers should know
	Content io.ReadCloser
}

// Render makes one file of a report, without any job.
func (c *Client) Render(ctx context.Context, name string, r wire.RenderRequest) (*Rendered, error) {
	res, err := c.request(ctx, http.MethodPost, "/api/reports/"+segment(name)+"/render", r) //nolint:bodyclose // whoever got it closes its Content
	if err != nil {
		return nil, err
	}
	out := &Rendered{Content: res.Body, Size: res.ContentLength, SHA256: res.Header.Get("Ironbell-SHA256")}
	if out.Rows, err = strconv.ParseInt(res.Header.Get("Ironbell-Rows"), 10, 64); err != nil {
		out.Rows = 0
	}
	if _, params, err := mime.ParseMediaType(res.Header.Get("Content-Disposition")); err == nil {
		out.Name = params["filename"]
	}
	words := &mime.WordDecoder{}
	for _, text := range res.Header.Values("Ironbell-Says") {
		if plain, err := words.DecodeHeader(text); err == nil {
			text = plain
		}
		out.Says = append(out.Says, text)
	}
	return out, nil
}

// Compare compares the rows of a run with those of an earlier one of its job; 0
// is the last good one before it.
func (c *Client) Compare(ctx context.Context, after, before job.RunID, task string) (d wire.Compared, err error) {
	q := url.Values{}
	if before != 0 {
		q.Set("with", before.String())
	}
	if task != "" {
		q.Set("task", task)
	}
	path := fmt.Sprintf("/api/runs/%s/compare", after)
	if len(q) > 0 {
		path += "?" + q.Encode()
	}
	return d, c.do(ctx, http.MethodGet, path, nil, &d)
}

// Sources lists the sources.
func (c *Client) Sources(ctx context.Context) (places []wire.Place, err error) {
	return places, c.do(ctx, http.MethodGet, "/api/sources", nil, &places)
}

// Identities lists the identities of a source.
func (c *Client) Identities(ctx context.Context, source string) (list []wire.Identity, err error) {
	return list, c.do(ctx, http.MethodGet, "/api/sources/"+segment(source)+"/identities", nil, &list)
}

// SaveIdentity adds or changes an identity of a source.
func (c *Client) SaveIdentity(ctx context.Context, source, name string,
	r wire.IdentityRequest,
) (i wire.Identity, err error) {
	return i, c.do(ctx, http.MethodPut, "/api/sources/"+segment(source)+"/identities/"+segment(name), r, &i)
}
