package service

import (
	"context"
	"errors"
	"slices"
	"time"

	"ironbell/internal/core/chain"
	"ironbell/internal/core/fault"
	"ironbell/internal/core/job"
	"ironbell/internal/core/zone"
	"ironbell/internal/store/sending"
	"ironbell/internal/task"
)

const (
	aheadRings = 8
	aheadParts = 200
	aheadLimit = 20 * time.Second // for the queries of lists and recipients
)

// Ahead tells what a job would do, before it is saved: its next rings, the names of
// its files, who gets them, and what is missing. It may ask sources for lists, and
// is for those who may save the job.
func (js *Jobs) Ahead(ctx context.Context, who job.Person, name, owner string, on bool,
	d job.Definition,
) (job.Ahead, error) {
	v := &fault.Invalid{}
	c, err := js.check(ctx, v, who, name, owner, on, d)
	if err != nil {
		return job.Ahead{}, err
	}
	out := js.ahead(ctx, v, c.old.ID, name, c.Definition)
	if params, err := js.checks.parameters(ctx, c.Definition); err == nil {
		out.Covered = js.covered(c.Definition, params)
	}
	out.Says = js.inWords(c.Definition, c.owner.Name, out.Tasks)
	if c.old.ID != 0 && !c.old.On {
		out.Says = "It is off; once it is on: " + out.Says
	}
	return out, nil
}

// AheadOf tells the same of a job as it is saved, and what keeps it from being
// switched on when it is off.
func (js *Jobs) AheadOf(ctx context.Context, who job.Person, ref string) (job.Ahead, error) {
	j, err := js.store.Job(ctx, ref)
	if err != nil {
		return job.Ahead{}, err
	}
	return js.Ahead(ctx, who, j.Name, j.Owner, true, j.Definition)
}

func (js *Jobs) ahead(ctx context.Context, v *fault.Invalid, id int64, name string, d job.Definition) job.Ahead {
	ctx, stop := context.WithTimeout(ctx, aheadLimit)
	defer stop()
	out := job.Ahead{Zone: d.Zone, Next: []job.AheadRing{}, Tasks: []job.AheadTask{}, Wrong: []job.AheadWrong{}}
	place, err := zone.Load(d.Zone)
	if err != nil {
		place = time.UTC // it is told of as wrong
	}
	values := js.aheadRings(&out, d)
	w := task.Work{
		Report: js.checks.report, JobID: id, Job: name, Nominal: js.now().In(place), Due: js.now().In(place),
		Frame: js.times.Frame(d.Calendars), Values: values, Def: d, Limit: aheadLimit,
		Params: func(ctx context.Context) ([]job.Parameter, error) { return js.checks.parameters(ctx, d) },
	}
	if len(out.Next) > 0 {
		w.Nominal, w.Due = out.Next[0].Nominal.In(place), out.Next[0].Due.In(place)
	}
	if d.Split.Each != "" {
		switch parts, err := task.PartsOf(ctx, js.sources, d.Split, w); {
		case err != nil:
			v.Add("split", "%s", err)
		case len(parts) == 0:
			v.Add("split", "%s", task.ErrNoParts)
		default:
			out.Parts, out.Part = len(parts), parts[0].Name
			for _, p := range parts[:min(len(parts), aheadParts)] {
				out.Each = append(out.Each, job.AheadPart{Name: p.Name, Values: p.Given})
			}
			w.PartName, w.Values, w.Row = parts[0].Name, parts[0].Given.Over(values), task.RowOf(parts[0].Given)
			w.Siblings = func(context.Context) ([]sending.Sibling, error) {
				all := make([]sending.Sibling, len(parts))
				for i, p := range parts {
					all[i] = sending.Sibling(p)
				}
				return all, nil
			}
		}
	}
	js.aheadTasks(ctx, &out, w, d)
	for _, wrong := range v.Wrong {
		out.Wrong = append(out.Wrong, job.AheadWrong{Where: wrong.Where, Sentence: wrong.Sentence})
	}
	return out
}

// aheadRings finds the next rings of a job, and the values of the first of them.
func (js *Jobs) aheadRings(out *job.Ahead, d job.Definition) job.Values {
	values := d.Values
	var first time.Time
	for _, t := range d.Triggers {
		if t.Rule == "" {
			continue
		}
		r, err := js.times.Rule(t.Timing, d.Zone, d.Calendars)
		if err != nil {
			continue // it is told of as wrong
		}
		after := js.now()
		for range aheadRings {
			due, ok := r.Next(after) // what is passed over does not ring
			if !ok {
				break
			}
			next, _ := r.Step(due.Add(-1)) // the same, with its date
			out.Next = append(out.Next, job.AheadRing{Due: next.Due, Nominal: next.Nominal, Reading: r.Reading()})
			if first.IsZero() || next.Due.Before(first) {
				first, values = next.Due, t.Values.Over(d.Values)
			}
			after = next.Due
		}
	}
	slices.SortStableFunc(out.Next, func(a, b job.AheadRing) int { return a.Due.Compare(b.Due) })
	out.Next = out.Next[:min(len(out.Next), aheadRings)]
	return values
}

// aheadTasks tells of each task in the order in which they would begin.
func (js *Jobs) aheadTasks(ctx context.Context, out *job.Ahead, base task.Work, d job.Definition) {
	plan := chain.Read(d.Tasks, &fault.Invalid{}) // what is wrong with it is told by the check
	made := map[string][]job.Artifact{}
	done := map[string]bool{}
	for range d.Tasks {
		at := slices.IndexFunc(d.Tasks, func(t job.Task) bool {
			return !done[t.Name] && !slices.ContainsFunc(plan.Before(t.Name), func(b string) bool { return !done[b] })
		})
		if at < 0 {
			break // a circle, which is told of
		}
		t := d.Tasks[at]
		done[t.Name] = true
		w := base
		w.Outcomes, w.RowsOf, w.Totals, w.Files = map[string]string{}, map[string]int64{}, map[string]float64{}, nil
		for _, b := range plan.Before(t.Name) {
			w.Outcomes[b], w.RowsOf[b] = string(job.AttemptDone), 0
		}
		for _, u := range plan.Uses(t.Name) {
			w.Files = append(w.Files, made[u]...)
		}
		one := job.AheadTask{}
		seer, sees := js.kinds[t.Kind].(task.Seer)
		if sees && slices.Contains(t.Says(), t.Kind) { // of one whose settings are missing, that is told

			var err error
			if one, made[t.Name], err = seer.Ahead(ctx, w, t); err != nil {
				if errors.Is(ctx.Err(), context.DeadlineExceeded) {
					err = errors.New("nobody knows yet: the source takes longer than 20 seconds to answer")
				}
				one.Wrong = err.Error()
			}
		}
		one.Task, one.Kind = t.Name, t.Kind
		out.Tasks = append(out.Tasks, one)
	}
}
