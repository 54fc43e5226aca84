package worker

import (
	"context"
	"fmt"

	"ironbell/internal/core/job"
	"ironbell/internal/core/phrase"
	"ironbell/internal/store"
	"ironbell/internal/store/sending"
	"ironbell/internal/task"
)

// split divides the run of a split job over its parts, when that is not done yet:
// the part at hand becomes the first one.
func (p *performance) split(ctx context.Context) error {
	s := p.plan.Split
	if s.Each == "" || p.c.Name != "" {
		return nil
	}
	rows, err := task.PartsOf(ctx, p.w.sources, s, p.base)
	if err != nil {
		return err
	}
	if len(rows) == 0 {
		return task.ErrNoParts
	}
	if err := p.w.store.Do(ctx, func(t *store.Tx) error {
		if err := t.SplitRun(ctx, p.c, rows); err != nil {
			return err
		}
		return t.Log(ctx,
			job.LogLine{Text: fmt.Sprintf("divided over %d %s, one for each %s", len(rows),
				phrase.Plural(len(rows), "part", "parts"), s.Each)}, p.c.RunID)
	}); err != nil {
		return err
	}
	p.c.Name, p.c.Own.V, p.c.Alone = rows[0].Name, rows[0].Given, false
	run := p.c.RunID
	p.base.Siblings = func(ctx context.Context) ([]sending.Sibling, error) { return p.w.store.Siblings(ctx, run) }
	p.own()
	return nil
}

// own gives the tasks the part's own values.
func (p *performance) own() {
	p.base.PartName = p.c.Name
	p.base.Values = p.c.Own.V.Over(p.c.Given.V.Over(p.plan.Values))
	p.base.Row = task.RowOf(p.c.Own.V)
}
