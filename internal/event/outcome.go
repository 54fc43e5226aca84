package event

import (
	"context"
	"errors"
	"slices"
	"strings"

	"ironbell/internal/core/job"
	"ironbell/internal/store/db"
)

// outcome is the end of another job's run.
type outcome struct{}

func (outcome) Says(c job.Condition) bool { return c.Job != "" }

func (outcome) Check(ctx context.Context, k *Checking, where string, c job.Condition) error {
	if c.OnlyIf != "" {
		k.V.Add(where+".only_if", "what must hold belongs to an event, not to a job; say its outcomes as ends")
	}
	if c.Source != "" || c.Subject != "" {
		k.V.Add(where, "source and subject belong to an event, not to a job")
	}
	for _, s := range c.Ends {
		if !s.Ended() || s == job.RunPassedOver {
			k.V.Add(where+".ends",
				"%q is no outcome that can be waited for; use done, partly, blank, failed or cancelled", s)
		}
	}
	if c.Job == k.Job {
		k.V.Add(where+".job", "the job would wait for itself")
		return nil
	}
	other, err := k.Store.Job(ctx, c.Job)
	var missing *db.NotFound
	if errors.As(err, &missing) {
		k.V.Add(where+".job", "there is no job %q; save it first", c.Job)
		return nil
	}
	if err != nil {
		return err
	}
	if k.Uses.Jobs == nil {
		k.Uses.Jobs = map[string]int64{}
	}
	k.Uses.Jobs[c.Job] = other.ID
	return nil
}

func (outcome) Reading(c job.Condition) string {
	ends := make([]string, 0, len(c.Outcomes()))
	for _, s := range c.Outcomes() {
		ends = append(ends, string(s))
	}
	return c.Job + " is " + strings.Join(ends, " or ")
}

func (outcome) Matches(c job.Condition, h Happening) (matches bool, why string) {
	return h.Run != nil && slices.Contains(c.Outcomes(), h.Run.State), ""
}
