package task

import (
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"time"

	"ironbell/internal/core/fault"
	"ironbell/internal/core/job"
	"ironbell/internal/deliver"
	"ironbell/internal/store/records"
)

// Call is the task kind that sends an HTTP request.
type Call struct {
	Destinations *deliver.Destinations
	Now          func() time.Time
}

// Help implements Kind.
func (k *Call) Help() Help {
	return Help{
		Kind: job.KindCall, Summary: "send a signed HTTP request",
		Text: "Sends a POST or PUT to a destination of the protocol http, signed with its key as the Standard " +
			"Webhooks specification says, and with an id that stays the " +
			"same over retries (Idempotency-Key, webhook-id). Without a body it sends the facts of the run as JSON. " +
			"One whose node died before the answer came is unknown, " +
			"unless the task is repeatable. In a rehearsal nothing is sent.",
		Example: job.Task{
			Name: "tell ledger", Kind: job.KindCall,
			Call: &job.CallTask{Destination: "ledger office", Path: "loads/{date:%Y-%m-%d}"},
		},
	}
}

// Check implements Kind.
func (k *Call) Check(ctx context.Context, c *Checking, where string, t job.Task) error {
	c.text(where+".path", t.Call.Path)
	c.text(where+".body", t.Call.Body)
	p, ok, err := c.place(ctx, records.Destination, where+".destination", t.Call.Destination)
	if ok && p.Protocol != "http" {
		c.V.Add(where+".destination", "the destination %q is a %s, and calls go to one of the protocol http", p.Name,
			p.Protocol)
	}
	return err
}

// Run sends the request.
func (k *Call) Run(ctx context.Context, w Work, t job.Task) (Result, error) {
	if w.Rehearsal != nil {
		return rehearsed(fmt.Sprintf("%q was not called", t.Call.Destination)), nil
	}
	_, destination, err := k.Destinations.ByName(ctx, t.Call.Destination)
	if err != nil {
		return Result{}, err
	}
	caller, ok := destination.(deliver.Caller)
	if !ok {
		return Result{},
			fault.New(fault.Destination, fmt.Sprintf("call destination %q", t.Call.Destination), "it takes no calls",
				"Name a destination of the protocol http.")
	}
	c := deliver.Call{
		ID: fmt.Sprintf("%s-%d-%s", w.RunID, w.Part, t.Name), Method: orElse(t.Call.Method, http.MethodPost),
		MediaType: orElse(t.Call.MediaType, "application/json"), Now: k.Now(),
	}
	if c.Path, err = w.fill(ctx, "the path", t.Call.Path, nil); err != nil {
		return Result{}, err
	}
	body, err := w.fill(ctx, "the body", t.Call.Body, nil)
	if err != nil {
		return Result{}, err
	}
	c.Body = []byte(body)
	if t.Call.Body == "" {
		if c.Body, err = json.Marshal(w.summary()); err != nil {
			return Result{}, fmt.Errorf("write the facts of the run: %w", err)
		}
	}
	answer, err := caller.Call(ctx, c)
	if err != nil {
		return Result{}, err
	}
	return Result{Note: "answered " + answer}, nil
}

// summary is what a call says of the run when the job gives no body.
func (w Work) summary() map[string]any {
	files := []map[string]any{}
	for _, f := range w.Files {
		files = append(files, map[string]any{"name": f.Name, "task": f.Task, "size": f.Size, "sha256": f.SHA256})
	}
	return map[string]any{
		"run": w.RunID, "job": w.Job, "nominal": w.Nominal, "due": w.Due, "rows": w.Rows(), "outcomes": w.Outcomes,
		"files": files,
	}
}
