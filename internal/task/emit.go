package task

import (
	"context"
	"encoding/json"
	"fmt"
	"net/url"
	"time"

	"ironbell/internal/core/job"
)

// Emit is the task kind that raises an event.
type Emit struct{ Now func() time.Time }

// Help implements Kind.
func (k *Emit) Help() Help {
	return Help{
		Kind: job.KindEmit, Summary: "raise an event that jobs may wait for",
		Text: "Raises an event of a type, with a subject and data, as if it had been reported from outside: the jobs " +
			"that wait for it start in the same instant. Its source " +
			"is the job. In a rehearsal nothing is raised.",
		Example: job.Task{
			Name: "loaded", Kind: job.KindEmit,
			Emit: &job.EmitTask{
				Type: "example.tarnwick.tides.loaded",
				Data: map[string]string{"day": "{date:%Y-%m-%d}", "rows": "{rows}"},
			},
		},
	}
}

// Check implements Kind.
func (k *Emit) Check(_ context.Context, c *Checking, where string, t job.Task) error {
	c.text(where+".subject", t.Emit.Subject)
	for name, text := range t.Emit.Data {
		c.text(where+".data."+name, text)
	}
	c.Uses.Emits = append(c.Uses.Emits, t.Emit.Type)
	return nil
}

// Run makes the event; the engine raises it when it writes that the task is done.
func (k *Emit) Run(ctx context.Context, w Work, t job.Task) (Result, error) {
	if w.Rehearsal != nil {
		return rehearsed(fmt.Sprintf("the event %s was not raised", t.Emit.Type)), nil
	}
	e := &job.Event{
		ID: fmt.Sprintf("%s-%d-%s", w.RunID, w.Part, t.Name), Source: job.JobSource + url.PathEscape(w.Job),
		Type: t.Emit.Type, Time: k.Now(),
	}
	var err error
	if e.Subject, err = w.fill(ctx, "the subject", t.Emit.Subject, nil); err != nil {
		return Result{}, err
	}
	data := map[string]string{}
	for name, text := range t.Emit.Data {
		if data[name], err = w.fill(ctx, "the data "+name, text, nil); err != nil {
			return Result{}, err
		}
	}
	if e.Data, err = json.Marshal(data); err != nil {
		return Result{}, fmt.Errorf("write the event's data: %w", err)
	}
	return Result{Event: e, Note: "raised the event " + e.Type}, nil
}
