package client

import (
	"context"
	"fmt"
	"net/http"
	"net/url"
	"time"

	"ironbell/internal/core/job"
)

// Subscriptions lists the addresses that the service's own events go to.
func (c *Client) Subscriptions(ctx context.Context) (all []job.Subscription, err error) {
	return all, c.do(ctx, http.MethodGet, "/api/subscriptions", nil, &all)
}

// Subscription shows a subscription.
func (c *Client) Subscription(ctx context.Context, name string) (s job.Subscription, err error) {
	return s, c.do(ctx, http.MethodGet, "/api/subscriptions/"+segment(name), nil, &s)
}

// SaveSubscription adds or changes a subscription. A new one begins with what is published from then on.
func (c *Client) SaveSubscription(ctx context.Context, name string, d job.SubscriptionDefinition) (s job.Subscription, err error) {
	return s, c.do(ctx, http.MethodPut, "/api/subscriptions/"+segment(name), d, &s)
}

// Replay hands events of ours on again, from the first that was published at an instant or later; or from a
// number on, when that is not 0.
func (c *Client) Replay(ctx context.Context, name string, since time.Time, no int64) (r job.Replayed, err error) {
	point := map[string]any{"no": no}
	if no == 0 {
		point = map[string]any{"since": since}
	}
	return r, c.do(ctx, http.MethodPost, "/api/subscriptions/"+segment(name)+"/replay", point, &r)
}

// Published lists events of ours, the newest first, at most a hundred; of one type when it is given, and before
// a number when it is not 0.
func (c *Client) Published(ctx context.Context, kind string, before int64) (all []job.Published, err error) {
	q := url.Values{"type": {kind}, "before": {fmt.Sprint(before)}}
	return all, c.do(ctx, http.MethodGet, "/api/published?"+q.Encode(), nil, &all)
}
