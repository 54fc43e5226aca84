package client

import (
	"context"
	"net/http"
	"net/url"

	"ironbell/internal/core/job"
)

// Waiting lists what jobs wait for, and how far each has come; of one job, or of all when it is empty.
func (c *Client) Waiting(ctx context.Context, name string) (all []job.Waiting, err error) {
	return all, c.do(ctx, http.MethodGet, "/api/waiting?"+url.Values{"job": {name}}.Encode(), nil, &all)
}

// LookNow looks at what a condition waits for, and starts nothing.
func (c *Client) LookNow(ctx context.Context, what job.Condition) (seen job.Looked, err error) {
	return seen, c.do(ctx, http.MethodPost, "/api/look", what, &seen)
}
