package client

import (
	"context"
	"fmt"
	"net/http"
	"net/url"

	"ironbell/internal/api/wire"
	"ironbell/internal/core/job"
)

// EventFilter chooses events; what is empty chooses all.
type EventFilter struct {
	Type   string
	Sender string // its name
}

// Events lists events, newest first, at most a hundred.
func (c *Client) Events(ctx context.Context, f EventFilter) (all []wire.Event, err error) {
	return all, c.do(ctx, http.MethodGet, "/api/events?"+url.Values{"type": {f.Type}, "sender": {f.Sender}}.Encode(), nil, &all)
}

// PlayEvent plays an event again, by its number.
func (c *Client) PlayEvent(ctx context.Context, number int64) (h wire.Heard, err error) {
	return h, c.do(ctx, http.MethodPost, fmt.Sprintf("/api/events/%d/play", number), nil, &h)
}

// Senders lists the programs outside that report events.
func (c *Client) Senders(ctx context.Context) (all []job.Sender, err error) {
	return all, c.do(ctx, http.MethodGet, "/api/senders", nil, &all)
}

// Sender shows a sender.
func (c *Client) Sender(ctx context.Context, name string) (s job.Sender, err error) {
	return s, c.do(ctx, http.MethodGet, "/api/senders/"+segment(name), nil, &s)
}

// SaveSender adds or changes a sender. What it is known by stays.
func (c *Client) SaveSender(ctx context.Context, name string, d job.SenderDefinition) (s job.Sender, err error) {
	return s, c.do(ctx, http.MethodPut, "/api/senders/"+segment(name), d, &s)
}

// NewSenderKey makes a token for a sender, or a key that it signs with. It is shown this once.
func (c *Client) NewSenderKey(ctx context.Context, name string, r wire.SenderKeyRequest) (s wire.SenderSecret, err error) {
	return s, c.do(ctx, http.MethodPost, "/api/senders/"+segment(name)+"/keys", r, &s)
}

// EndSenderKey ends a token or key of a sender at once.
func (c *Client) EndSenderKey(ctx context.Context, name string, id int64) error {
	return c.do(ctx, http.MethodDelete, fmt.Sprintf("/api/senders/%s/keys/%d", segment(name), id), nil, nil)
}
