package client

import (
	"context"
	"fmt"
	"net/url"

	"ironbell/internal/api/wire"
	"ironbell/internal/core/job"
)

// Rehearse makes a run whose results go only to the one who asks.
func (c *Client) Rehearse(ctx context.Context, name string, values job.Values) (r job.Run, err error) {
	err = c.do(ctx, "POST", "/api/jobs/"+segment(name)+"/ring", wire.RingRequest{Values: values, Rehearse: true}, &r)
	return r, err
}

// Past runs a job for past dates, as if it had rung then.
func (c *Client) Past(ctx context.Context, name string, r wire.PastRequest) (runs []job.Run, err error) {
	err = c.do(ctx, "POST", "/api/jobs/"+segment(name)+"/past", r, &runs)
	return runs, err
}

// Why asks why a job ran, or did not, at a date or time in its zone; around now
// when at is empty.
func (c *Client) Why(ctx context.Context, name, at string) (w wire.Why, err error) {
	err = c.do(ctx, "GET", "/api/jobs/"+segment(name)+"/why?"+url.Values{"at": {at}}.Encode(), nil, &w)
	return w, err
}

// Again lets a run go on, or makes it again as a whole.
func (c *Client) Again(ctx context.Context, id job.RunID, r wire.AgainRequest) (run job.Run, err error) {
	err = c.do(ctx, "POST", "/api/runs/"+id.String()+"/again", r, &run)
	return run, err
}

// Cancel ends a run.
func (c *Client) Cancel(ctx context.Context, id job.RunID) (run job.Run, err error) {
	err = c.do(ctx, "POST", "/api/runs/"+id.String()+"/cancel", nil, &run)
	return run, err
}

// Queue shows what works and what waits.
func (c *Client) Queue(ctx context.Context) (q wire.Queue, err error) {
	err = c.do(ctx, "GET", "/api/queue", nil, &q)
	return q, err
}

// Freeze holds back what carries a label.
func (c *Client) Freeze(ctx context.Context, r wire.FreezeRequest) (f job.Freeze, err error) {
	err = c.do(ctx, "POST", "/api/freezes", r, &f)
	return f, err
}

// Freezes lists the freezes that hold or are to come; with past, all.
func (c *Client) Freezes(ctx context.Context, past bool) (all []job.Freeze, err error) {
	err = c.do(ctx, "GET", fmt.Sprintf("/api/freezes?past=%t", past), nil, &all)
	return all, err
}

// Lift ends a freeze.
func (c *Client) Lift(ctx context.Context, id int64) (f job.Freeze, err error) {
	err = c.do(ctx, "POST", fmt.Sprintf("/api/freezes/%d/lift", id), nil, &f)
	return f, err
}

// Limits shows how much may work at once, by label.
func (c *Client) Limits(ctx context.Context) (limits map[string]int, err error) {
	err = c.do(ctx, "GET", "/api/limits", nil, &limits)
	return limits, err
}

// SaveLimits replaces all limits.
func (c *Client) SaveLimits(ctx context.Context, limits map[string]int) error {
	return c.do(ctx, "PUT", "/api/limits", limits, nil)
}

// Report reports an event, as CloudEvents 1.0 has it: a map of its attributes.
func (c *Client) Report(ctx context.Context, event map[string]any) (h wire.Heard, err error) {
	err = c.do(ctx, "POST", "/api/events", event, &h)
	return h, err
}

// TaskKinds says what each kind of task is for.
func (c *Client) TaskKinds(ctx context.Context) (kinds []wire.TaskKind, err error) {
	err = c.do(ctx, "GET", "/api/task-kinds", nil, &kinds)
	return kinds, err
}
