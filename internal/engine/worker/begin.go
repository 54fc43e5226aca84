package worker

import (
	"context"
	"fmt"
	"maps"
	"time"

	"ironbell/internal/core/fault"
	"ironbell/internal/core/job"
	"ironbell/internal/engine/crash"
	"ironbell/internal/engine/node"
	"ironbell/internal/render"
	"ironbell/internal/task"
)

// begin starts a try of a task.
func (p *performance) begin(ctx context.Context, t job.Task, try int) {
	p.working[t.Name] = true
	w := p.work(t)
	w.Try, w.Log = try, p.printer(ctx, t.Name)
	go func() {
		d := done{task: t, try: try}
		began := time.Now()
		defer func() {
			if broken := recover(); broken != nil {
				p.w.node.Log.Error("a task broke", "run", p.c.RunID.String(), "task", t.Name, "panic", broken)
				d.err = fault.New(fault.Task, "carry out the task",
					fmt.Sprintf("the service has a fault of its own: %v", broken),
					"Report it with the log of this time.")
			}
			d.took = time.Since(began)
			p.results <- d
		}()
		kind, ok := p.w.kinds[t.Kind]
		if !ok {
			d.err = fault.New(fault.Task, "carry out the task", fmt.Sprintf("there is no kind %q", t.Kind),
				"Save the job again.")
			return
		}
		ctx, stop := context.WithTimeout(ctx, w.Limit)
		defer stop()
		d.res, d.err = kind.Run(ctx, w, t)
		p.w.node.Crash(crash.Task)
	}()
}

// limit is the longest time of a task.
func (p *performance) limit(t job.Task) time.Duration {
	if t.TimeLimit > 0 {
		return time.Duration(t.TimeLimit)
	}
	return time.Duration(p.plan.TimeLimit)
}

// work is what a task may see now.
func (p *performance) work(t job.Task) task.Work {
	w := p.base
	w.Limit = p.limit(t)
	w.Outcomes, w.RowsOf, w.Totals = map[string]string{}, map[string]int64{}, map[string]float64{}
	w.Cells = job.Cells{}
	for _, name := range p.plan.chain.Before(t.Name) {
		end, ok := p.ends[name]
		if !ok {
			continue
		}
		w.Outcomes[name] = string(end.State)
		w.RowsOf[name] = 0
		if end.Rows != nil {
			w.RowsOf[name] = *end.Rows
		}
		for column, total := range end.Totals {
			w.Totals[column] += total
		}
		maps.Copy(w.Cells, end.Cells)
		if end.Unusual != "" {
			w.Notes = append(w.Notes, fmt.Sprintf("Task %s is %s.", name, end.Unusual))
		}
		if end.State == job.AttemptBlank {
			w.Notes = append(w.Notes, fmt.Sprintf("Nothing was found this time by task %s: %s.", name, end.Note))
		}
	}
	for _, name := range p.plan.chain.Uses(t.Name) {
		for _, f := range p.files[name] {
			if f.Format != render.RowsKept { // they stay with the run
				w.Files = append(w.Files, f)
			}
		}
	}
	return w
}

// printer writes what a try of a task prints to the run's log.
func (p *performance) printer(ctx context.Context, name string) func(level, text string) {
	printed := 0
	return func(level, text string) {
		if printed++; printed > maxPrinted {
			return
		}
		ctx, stop := node.Ending(ctx)
		defer stop()
		if err := p.w.store.Log(ctx, job.LogLine{Part: p.c.Part, Task: name, Level: level, Text: text},
			p.c.RunID); err != nil {
			p.w.node.Log.Warn("could not write to a run's log", "run", p.c.RunID.String(), "error", err)
		}
	}
}

// maxPrinted bounds the lines that one try of a task may log.
const maxPrinted = 1100
