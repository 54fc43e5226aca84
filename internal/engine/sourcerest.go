package engine

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"ironbell/internal/core/fault"
	"ironbell/internal/core/job"
	"ironbell/internal/core/phrase"
	"ironbell/internal/store"
)

// A source that fails as a whole is noticed once, and so is the store of artifacts: it
// rests, the runs that need it are kept back, and one look after another tells whether
// it is mended. Deadlines and give_up_after go on counting.

const lookLonger = 2 // how often a refused password is tried: once more, and then only after its record has changed

// needs is the label of what a fault of a task is about, when that may have failed as
// a whole; empty when it is the task's own.
func needs(t job.Task, f *fault.Fault, report job.Report) string {
	switch {
	case f.Scope == fault.Store:
		return store.StoreLabel
	case f.Scope != fault.Source:
		return ""
	case t.Query != nil:
		return "source:" + t.Query.Source
	case t.Collect != nil:
		return "source:" + t.Collect.Source
	case t.Report != nil && report.Source != "":
		return "source:" + report.Source
	}
	return ""
}

// rests lets what a task needs rest, when it does not pass a test, and tells whether
// it rests. A task's own fault, such as a query or an identity, is no reason.
func (p *performance) rests(ctx context.Context, t job.Task, f *fault.Fault) (label string, err error) {
	if p.c.Rehearsal || p.e.node.Now().Sub(p.since) > time.Duration(p.plan.GiveUpAfter) {
		return "", nil // whoever rehearses wants to know, and what waited long enough ends
	}
	var rep job.Report
	if t.Report != nil && f.Scope == fault.Source {
		if rep, err = p.base.Report(ctx, t.Report.Report); err != nil {
			return "", nil //nolint:nilerr // the task's own failure says more
		}
	}
	label = needs(t, f, rep)
	if label == "" {
		return "", nil
	}
	said := p.e.lookAtLabel(ctx, label)
	if said == nil || ctx.Err() != nil {
		return "", nil //nolint:nilerr // it works: the fault is the task's own
	}
	return label, p.e.letRest(ctx, label, said)
}

// letRest lets a source, or the store of artifacts, rest, and tells who must know.
func (e *Engine) letRest(ctx context.Context, label string, said *fault.Fault) error {
	err := e.store.Do(ctx, func(t *store.Tx) error {
		rested, err := t.RestLabel(ctx, label, said, e.node.FirstProbe)
		if err != nil || rested {
			return err
		}
		e.node.Log.Warn("a source or the store of artifacts fails; it rests until it is mended", "which", label, "error", said)
		return e.restAlert(ctx, t, store.RestOf{Label: label, Answer: said.Error(), Advice: said.Advice, Class: string(said.Class)})
	})
	e.node.Probe.Wake()
	return err
}

// lookAtLabel looks whether a source, or the store of artifacts, works; nil when it does.
func (e *Engine) lookAtLabel(ctx context.Context, label string) *fault.Fault {
	ctx, stop := context.WithTimeout(ctx, LookLimit)
	defer stop()
	if label == store.StoreLabel {
		if err := e.tryStore(); err != nil {
			return fault.Of(err)
		}
		return nil
	}
	source, err := e.sources.Get(ctx, strings.TrimPrefix(label, "source:"), "")
	if err == nil {
		_, err = source.Test(ctx)
	}
	if err == nil || store.IsMissing(err) {
		return nil
	}
	if f := fault.Of(err); f.Scope == fault.Source {
		return f
	}
	return nil
}

// tryStore writes a little to the store of artifacts, and removes it.
func (e *Engine) tryStore() error {
	file, err := e.files.Create()
	if err != nil {
		return err
	}
	if _, err := file.Write(make([]byte, 64<<10)); err != nil {
		file.Drop()
		return err
	}
	kept, err := file.Keep()
	if err != nil {
		return err
	}
	return e.files.Remove(kept.Key)
}

func restCause(label string) string { return "rest:" + label }

// restAlert tells that a source or the store of artifacts does not work: one alert for
// all runs that need it.
func (e *Engine) restAlert(ctx context.Context, t *store.Tx, r store.RestOf) error {
	what, name := "The store of artifacts does not work", "Store of artifacts"
	advice := r.Advice
	if source, ok := strings.CutPrefix(r.Label, "source:"); ok {
		what, name = fmt.Sprintf("The source %q does not work", source), "Source "+source
		if advice == "" {
			advice = "See whether it runs and can be reached."
		}
	}
	n, jobs, err := t.WaitingOn(ctx, r.Label)
	if err != nil {
		return err
	}
	whom := "no run waits for it yet"
	if n > 0 {
		whom = fmt.Sprintf("%d %s for it: %s", n, map[bool]string{true: "run waits", false: "runs wait"}[n == 1], strings.Join(jobs, ", "))
	}
	next := "It is looked at again and again; what waits goes on by itself when it works."
	if r.Class == string(fault.Lasting) && r.Probes >= lookLonger {
		next = "It is not tried again by itself, so that no account is locked: it is when its settings are saved, or when somebody tests it."
	}
	return t.OpenAlert(ctx, job.Alert{Kind: job.AlertDown, Cause: restCause(r.Label), Job: name, Happened: what + ". " + phrase.Upper(r.Answer) + ".", ForWhom: whom, Tried: fmt.Sprintf("It was looked at %d times since.", r.Probes), Advice: advice, Next: next})
}

// lookAtRests looks at what rests and whose time has come.
func (e *Engine) lookAtRests(ctx context.Context) error {
	for ctx.Err() == nil && e.asking.free() {
		r, ok, err := e.store.TakeLook(ctx)
		if err != nil || !ok {
			return err
		}
		e.ask(ctx, r.Label, "look at what rests", func() error { return e.lookAtRest(ctx, r) })
	}
	return nil
}

// lookAtRest looks at one source, or the store of artifacts.
func (e *Engine) lookAtRest(ctx context.Context, r store.RestOf) error {
	f := e.lookAtLabel(ctx, r.Label)
	if ctx.Err() != nil {
		return ctx.Err()
	}
	if f == nil {
		return e.endRest(ctx, r.Label, "it works again")
	}
	next := e.probeWait(r.Probes)
	if f.Class == fault.Lasting && r.Label != store.StoreLabel && r.Probes >= lookLonger {
		next = 0
	}
	r.Answer, r.Advice, r.Class = f.Error(), f.Advice, string(f.Class)
	return e.store.Do(ctx, func(t *store.Tx) error {
		if err := t.LookAgain(ctx, r.Label, f, next); err != nil {
			return err
		}
		return e.restAlert(ctx, t, r)
	})
}

// endRest lets the runs go on that waited for what works again, and closes its alert.
func (e *Engine) endRest(ctx context.Context, label, why string) error {
	return e.store.Do(ctx, func(t *store.Tx) error {
		ended, err := t.EndRest(ctx, label)
		if err != nil || !ended {
			return err
		}
		e.node.Log.Info("what rested works again", "which", label, "why", why)
		return t.CloseAlertsOf(ctx, []string{restCause(label)})
	})
}

// keptBatch is how many parts that wait for a source are looked at in one transaction.
const keptBatch = 200

// giveUpKept ends the parts that waited for what rests for as long as their jobs say.
func (e *Engine) giveUpKept(ctx context.Context) error {
	all, err := e.store.Rests(ctx)
	if err != nil {
		return err
	}
	for _, r := range all {
		if err := e.store.Do(ctx, func(t *store.Tx) error {
			kept, err := t.KeptParts(ctx, r.Label, keptBatch)
			if err != nil {
				return err
			}
			versions := make([]store.Version, len(kept))
			for i, p := range kept {
				versions[i] = store.Version{JobID: p.JobID, Version: p.JobVersion}
			}
			jobs, err := t.JobsAt(ctx, versions)
			if err != nil {
				return err
			}
			var runs []job.RunID
			for i, p := range kept {
				giveUpAfter := jobs[versions[i]].WithDefaults().GiveUpAfter
				if e.node.Now().Sub(p.MadeAt) <= time.Duration(giveUpAfter) {
					continue
				}
				f := &fault.Fault{Class: fault.Class(r.Class), Scope: fault.Source, Cause: fmt.Errorf("it waited %s for what it needs, as its job says: %s", giveUpAfter, r.Answer), Advice: r.Advice}
				if err := t.FailPart(ctx, p, f.Error()); err != nil {
					return err
				}
				c := store.Claim{RunID: p.RunID, Part: p.Part, Name: p.Name, JobID: p.JobID, Job: p.Job, Rehearsal: p.Rehearsal}
				if err := e.failureAlert(ctx, t, c, &failure{fault: f, tried: 1, reason: "it was looked at again and again meanwhile"}); err != nil {
					return err
				}
				runs = append(runs, p.RunID)
			}
			return e.settleRuns(ctx, t, slices.Compact(runs))
		}); err != nil {
			return err
		}
	}
	return nil
}
