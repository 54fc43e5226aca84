package worker

import (
	"context"
	"slices"

	"ironbell/internal/core/chain"
	"ironbell/internal/core/fault"
	"ironbell/internal/core/job"
	"ironbell/internal/store/db"
	"ironbell/internal/store/queue"
	"ironbell/internal/store/records"
	"ironbell/internal/task"
)

// plan is a version of a job as it is carried out. It never changes.
type plan struct {
	job.Definition
	chain  chain.Chain
	first  []string // tasks that a fresh part begins with at once
	totals []string // columns whose totals its conditions ask for
	cells  []string // columns of whose first cells its texts speak
	sends  bool     // it has tasks that make deliveries
}

const maxPlans = 5000

// planOf gives a version of a job. Versions never change, so they are kept.
func (w *Worker) planOf(ctx context.Context, jobID int64, n int) (*plan, error) {
	key := records.Version{JobID: jobID, Version: n}
	w.mu.Lock()
	p, ok := w.plans[key]
	w.mu.Unlock()
	if ok {
		return p, nil
	}
	def, err := w.store.JobAt(ctx, jobID, n)
	if err != nil {
		return nil, err
	}
	return w.planned(key, def)
}

// planned reads a version of a job and keeps it.
func (w *Worker) planned(key records.Version, def job.Definition) (*plan, error) {
	p := &plan{Definition: def.WithDefaults()}
	wrong := fault.Invalid{What: "the tasks of the job"}
	p.chain = chain.Read(p.Tasks, &wrong)
	if err := wrong.Err(); err != nil {
		return nil, err
	}
	for _, m := range p.chain.Next(nil, nil) {
		if m.Over == "" && m.Task.OnlyIf == "" && len(p.first) < p.SideBySide {
			p.first = append(p.first, m.Task.Name)
		}
	}
	p.totals, p.cells = task.WantedTotals(p.Tasks), task.WantedCells(p.Tasks)
	p.sends = slices.ContainsFunc(p.Tasks, func(t job.Task) bool { return t.Kind == job.KindDeliver })
	w.mu.Lock()
	defer w.mu.Unlock()
	if len(w.plans) >= maxPlans {
		clear(w.plans)
	}
	w.plans[key] = p
	return p, nil
}

// FirstTasks names the tasks that claimed parts begin with. A job that cannot be
// read is told of when its part is worked on.
func (w *Worker) FirstTasks(ctx context.Context, b db.Base, claims []queue.Claim) ([][]string, error) {
	begin := make([][]string, len(claims))
	plans := make([]*plan, len(claims))
	var unread []records.Version
	w.mu.Lock()
	for i, c := range claims {
		key := records.Version{JobID: c.JobID, Version: c.JobVersion}
		if plans[i] = w.plans[key]; plans[i] == nil {
			unread = append(unread, key)
		}
	}
	w.mu.Unlock()
	if len(unread) > 0 {
		found, err := records.In(b).JobsAt(ctx, unread)
		if err != nil {
			return nil, err
		}
		for i, c := range claims {
			key := records.Version{JobID: c.JobID, Version: c.JobVersion}
			if def, ok := found[key]; ok && plans[i] == nil {
				plans[i], _ = w.planned(key, def) // told of when it is worked on
			}
		}
	}
	for i, p := range plans {
		// A run that is still to be divided begins with that.
		if p != nil && claims[i].Fresh() && (p.Split.Each == "" || claims[i].Name != "") {
			begin[i] = p.first
		}
	}
	return begin, nil
}
