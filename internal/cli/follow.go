package cli

import (
	"context"
	"fmt"
	"time"

	"ironbell/client"
	"ironbell/internal/api/wire"
	"ironbell/internal/core/job"
)

// exitHelp says what the exit status of follow means.
const exitHelp = "The exit status: 0 done, 3 blank, 4 partly, 5 failed, 6 cancelled, 7 passed over."

func exitOf(s job.RunState) int {
	switch s {
	case job.RunDone:
		return exitOK
	case job.RunBlank:
		return 3
	case job.RunPartly:
		return 4
	case job.RunFailed:
		return 5
	case job.RunCancelled:
		return 6
	case job.RunPassedOver:
		return 7
	}
	return exitError
}

// followRun prints a run's log as it comes and, on a terminal, a line of
// progress below it; then the outcome.
func followRun(ctx context.Context, i IO, c *client.Client, id job.RunID, asJSON bool) (int, error) {
	var last int64
	began := time.Now()
	terminal := i.Terminal() && !asJSON
	page, err := c.Follow(ctx, id, func(p wire.RunPage) error {
		if asJSON {
			return nil
		}
		lines, err := c.Log(ctx, id, last)
		if err != nil {
			return err
		}
		if terminal {
			fmt.Fprint(i.raw, "\r\033[K")
		}
		for _, l := range lines {
			printLine(i, l, zoneOf(p.Zone))
			last = l.N
		}
		if terminal && !p.State.Ended() {
			fmt.Fprint(i.Out, progress(p, time.Since(began)))
		}
		return nil
	})
	if err != nil {
		return 0, err
	}
	if asJSON {
		return exitOf(page.State), printJSON(i.Out, page)
	}
	mark := ""
	if page.Rehearsal {
		mark = " (rehearsal)"
	}
	fmt.Fprintf(i.Out, "%s %s%s, run %s: %s\n", glyph(string(page.State)), page.Job, mark, page.ID,
		outcome(page.State, page.Reason))
	return exitOf(page.State), nil
}

// progress is one line on how a run stands.
func progress(p wire.RunPage, waited time.Duration) string {
	text := fmt.Sprintf("%s %s", glyph(string(p.State)), p.State)
	if p.StartedAt != nil {
		waited = time.Since(*p.StartedAt)
	}
	text += fmt.Sprintf(" for %s", waited.Round(time.Second))
	if p.Usual != nil {
		text += fmt.Sprintf("; usually %s", seconds(*p.Usual))
	}
	ended := map[string]bool{}
	for _, a := range p.Attempts {
		if a.State == job.AttemptDone || a.State == job.AttemptBlank {
			ended[a.Task] = true
		}
	}
	if len(p.Tasks) > 0 {
		text += fmt.Sprintf("; %d of %d tasks", len(ended), len(p.Tasks))
	}
	return text
}
