package rests

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"ironbell/internal/core/fault"
	"ironbell/internal/core/job"
	"ironbell/internal/core/phrase"
	"ironbell/internal/engine/settle"
	"ironbell/internal/store"
	"ironbell/internal/store/db"
	"ironbell/internal/store/queue"
	"ironbell/internal/store/records"
)

// A source that fails as a whole is noticed once, and so is the store of artifacts: it
// rests, the runs that need it are kept back, and one look after another tells whether
// it is mended. Deadlines and give_up_after go on counting.

// LookLonger is how often a refused password is tried: once more, and then only after its record
// has changed.
const LookLonger = 2

// LetRest lets a source, or the store of artifacts, rest, and tells who must know.
func (rt *Rests) LetRest(ctx context.Context, label string, said *fault.Fault) error {
	err := rt.store.Do(ctx, func(t *store.Tx) error {
		rested, err := t.RestLabel(ctx, label, said, rt.node.FirstProbe)
		if err != nil || rested {
			return err
		}
		rt.node.Log.Warn("a source or the store of artifacts fails; it rests until it is mended", "which", label,
			"error", said)
		return rt.RestAlert(ctx, t, queue.RestOf{
			Label: label, Answer: said.Error(), Advice: said.Advice, Class: string(said.Class),
		})
	})
	rt.node.Probe.Wake()
	return err
}

// LookAtLabel looks whether a source, or the store of artifacts, works; nil when it does.
func (rt *Rests) LookAtLabel(ctx context.Context, label string) *fault.Fault {
	ctx, stop := context.WithTimeout(ctx, LookLimit)
	defer stop()
	if label == queue.StoreLabel {
		if err := rt.tryStore(); err != nil {
			return fault.Of(err)
		}
		return nil
	}
	source, err := rt.sources.Get(ctx, strings.TrimPrefix(label, "source:"), "")
	if err == nil {
		_, err = source.Test(ctx)
	}
	if err == nil || db.IsMissing(err) {
		return nil
	}
	if f := fault.Of(err); f.Scope == fault.Source {
		return f
	}
	return nil
}

// tryStore writes a little to the store of artifacts, and removes it.
func (rt *Rests) tryStore() error {
	file, err := rt.files.Create()
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
	return rt.files.Remove(kept.Key)
}

func restCause(label string) string { return "rest:" + label }

// RestAlert tells that a source or the store of artifacts does not work: one alert for
// all runs that need it.
func (rt *Rests) RestAlert(ctx context.Context, t *store.Tx, r queue.RestOf) error {
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
		whom = fmt.Sprintf("%d %s for it: %s", n, map[bool]string{true: "run waits", false: "runs wait"}[n == 1],
			strings.Join(jobs, ", "))
	}
	next := "It is looked at again and again; what waits goes on by itself when it works."
	if r.Class == string(fault.Lasting) && r.Probes >= LookLonger {
		next = "It is not tried again by itself, so that no account is locked: it is when its settings are saved, or " +
			"when somebody tests it."
	}
	return t.OpenAlert(ctx, job.Alert{
		Kind: job.AlertDown, Cause: restCause(r.Label), Job: name, Happened: what + ". " + phrase.Upper(r.Answer) + ".",
		ForWhom: whom, Tried: fmt.Sprintf("It was looked at %d times since.", r.Probes), Advice: advice, Next: next,
	})
}

// EndRest lets the runs go on that waited for what works again, and closes its alert.
func (rt *Rests) EndRest(ctx context.Context, label, why string) error {
	return rt.store.Do(ctx, func(t *store.Tx) error {
		ended, err := t.EndRest(ctx, label)
		if err != nil || !ended {
			return err
		}
		rt.node.Log.Info("what rested works again", "which", label, "why", why)
		return t.CloseAlertsOf(ctx, []string{restCause(label)})
	})
}

// keptBatch is how many parts that wait for a source are looked at in one transaction.
const keptBatch = 200

// GiveUpKept ends the parts that waited for what rests for as long as their jobs say.
func (rt *Rests) GiveUpKept(ctx context.Context) error {
	all, err := rt.store.Rests(ctx)
	if err != nil {
		return err
	}
	for _, r := range all {
		if err := rt.store.Do(ctx, func(t *store.Tx) error {
			kept, err := t.KeptParts(ctx, r.Label, keptBatch)
			if err != nil {
				return err
			}
			versions := make([]records.Version, len(kept))
			for i, p := range kept {
				versions[i] = records.Version{JobID: p.JobID, Version: p.JobVersion}
			}
			jobs, err := t.JobsAt(ctx, versions)
			if err != nil {
				return err
			}
			var runs []job.RunID
			for i, p := range kept {
				giveUpAfter := jobs[versions[i]].WithDefaults().GiveUpAfter
				if rt.node.Now().Sub(p.MadeAt) <= time.Duration(giveUpAfter) {
					continue
				}
				f := &fault.Fault{
					Class: fault.Class(r.Class), Scope: fault.Source,
					Cause:  fmt.Errorf("it waited %s for what it needs, as its job says: %s", giveUpAfter, r.Answer),
					Advice: r.Advice,
				}
				if err := t.FailPart(ctx, p, f.Error()); err != nil {
					return err
				}
				c := queue.Claim{
					RunID: p.RunID, Part: p.Part, Name: p.Name, JobID: p.JobID, Job: p.Job, Rehearsal: p.Rehearsal,
				}
				if err := rt.settle.FailureAlert(ctx, t, c, &settle.Failure{
					Fault: f, Tried: 1, Reason: "it was looked at again and again meanwhile",
				}); err != nil {
					return err
				}
				runs = append(runs, p.RunID)
			}
			return rt.settle.Settle(ctx, t, slices.Compact(runs))
		}); err != nil {
			return err
		}
	}
	return nil
}
