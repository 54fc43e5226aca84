package service

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"ironbell/internal/core/fault"
	"ironbell/internal/core/job"
	"ironbell/internal/core/rows"
	"ironbell/internal/event"
	"ironbell/internal/report"
	"ironbell/internal/store/records"
	"ironbell/internal/task"
)

// checkConditions tells what is wrong with what is waited for.
func (ck *checks) checkConditions(ctx context.Context, looks *task.Checking, where, name string, w job.Wait) error {
	return event.Check(ctx, &event.Checking{
		V: looks.V, Store: ck.store, Uses: looks.Uses, Job: name,
		Files: func(ctx context.Context, where string, f job.FileWatch) error {
			return ck.checkFiles(ctx, looks, where, f)
		},
		Answer: func(ctx context.Context, where string, q job.QueryWatch) ([]rows.Column, error) {
			return ck.checkAnswer(ctx, looks, where, q)
		},
	}, where, w)
}

// checkFiles tells what is wrong with a destination whose files a job waits for.
func (ck *checks) checkFiles(ctx context.Context, k *task.Checking, where string, f job.FileWatch) error {
	frees := f.Complete == job.CompleteFree
	if p, err := ck.store.Place(ctx, records.Destination, f.Destination); err == nil && frees &&
		slices.Contains([]string{"folder", "webdav", "s3"}, p.Protocol) {
		k.V.Add(where+".complete", "at a destination of the protocol %s any file can be renamed while it is written; "+
			"use unchanged or marker", p.Protocol)
	}
	return k.Files(ctx, ck.destinations, where+".destination", f.Destination, frees)
}

// checkAnswer lets the source read a statement whose answers a job waits for. A source that cannot be reached
// right now keeps nobody from saving. It gives the columns of the answer, when they can be known.
func (ck *checks) checkAnswer(ctx context.Context, k *task.Checking, where string, q job.QueryWatch) ([]rows.Column, error) {
	before := len(k.V.Wrong)
	err := k.List(ctx, where, job.ListQuery{Source: q.Source, Identity: q.Identity, SQL: q.SQL})
	if err != nil || len(k.V.Wrong) > before {
		return nil, err
	}
	source, err := ck.sources.Get(ctx, q.Source, q.Identity)
	if err != nil {
		if f := fault.Of(err); f.Scope != fault.Source || f.Class != fault.Passing {
			k.V.Add(where+".source", "%s", err)
		}
		return nil, nil
	}
	ctx, stop := context.WithTimeout(ctx, checkLimit)
	defer stop()
	query := report.Query{SQL: q.SQL, Zone: "UTC", Limit: checkLimit}
	if event.AsksMark(q) {
		query.Params = []job.Parameter{event.MarkOf(q.First)}
	}
	columns, err := source.Describe(ctx, query)
	if err != nil {
		if fault.Of(err).Scope != fault.Source {
			k.V.Add(where+".sql", "%s", err)
		}
		return nil, nil
	}
	if q.When != job.QueryNewRows || q.Mark == "" {
		return columns, nil
	}
	names := make([]string, 0, len(columns))
	for _, c := range columns {
		if strings.EqualFold(c.Name, q.Mark) {
			return columns, nil
		}
		names = append(names, c.Name)
	}
	k.V.Add(where+".mark", "the statement gives no column %q; it gives %s", q.Mark, strings.Join(names, ", "))
	return nil, nil
}

// mostGathered is the longest time that a trigger gathers or is quiet.
const mostGathered = 7 * 24 * time.Hour

// checkStart tells what is wrong with when what happens starts a job.
func checkStart(v *fault.Invalid, where string, t job.Trigger) {
	w := *t.Wait
	for name, d := range map[string]job.Duration{
		"gather": w.Gather, "gather_at_most": w.GatherMost, "quiet_after": w.Quiet,
	} {
		if d < 0 || time.Duration(d) > mostGathered {
			v.Add(where+"wait."+name, "%s is no time to wait; use up to 168h", d)
		} else if d != 0 && t.Rule != "" {
			v.Add(where+"wait."+name, "it belongs to a trigger without a rule: one with a rule rings by it")
		}
	}
	switch {
	case w.GatherMost != 0 && w.Gather == 0:
		v.Add(where+"wait.gather_at_most", "say with gather how long nothing more must come")
	case w.GatherMost != 0 && w.GatherMost < w.Gather:
		v.Add(where+"wait.gather_at_most", "it is shorter than gather")
	}
	if w.Outside != "" && w.Outside != job.OutsideWait && w.Outside != job.OutsidePassOver {
		v.Add(where+"wait.outside", "%q is neither wait nor pass over", w.Outside)
	}
	if w.IfLate != "" && w.IfLate != job.LateAlert && w.IfLate != job.LateShow {
		v.Add(where+"wait.if_late", "%q is nothing that becomes of it; use alert or show", w.IfLate)
	}
	if w.InVain != "" && w.InVain != job.VainPassOver && w.InVain != job.VainFail && w.InVain != job.VainGoOn {
		v.Add(where+"wait.in_vain", "%q is nothing that a run does; use pass over, fail or go on", w.InVain)
	}
	if w.Latest != "" && !timeOfDay.MatchString(w.Latest) {
		v.Add(where+"wait.latest", "%q is no time of day; write it as 09:30", w.Latest)
	}
	if t.Rule == "" {
		if w.Latest != "" || w.InVain != "" {
			v.Add(where+"wait", "latest and in_vain belong to runs that a rule rings; this trigger has none")
		}
		if _, err := t.Opens(time.UTC, time.Unix(0, 0)); err != nil {
			v.Add(where+"hours", "%s", err)
		}
	} else if w.Outside != "" {
		v.Add(where+"wait.outside", "it belongs to a trigger without a rule; a rule says itself what it does outside of its hours")
	}
}

// checkOwnFiles tells whether a job would be started by the files that it itself brings, or moves away, as far
// as the texts of its folders say it.
func checkOwnFiles(v *fault.Invalid, where string, d job.Definition, w job.Wait) {
	for i, c := range w.For {
		if c.Files == nil || c.Files.Happens == job.FileGone {
			continue
		}
		at := c.Files.Pattern
		at = at[:strings.LastIndexByte(at, '/')+1] + "*"
		for _, t := range d.Tasks {
			var folder, does string
			switch {
			case t.Deliver != nil && t.Deliver.Destination == c.Files.Destination:
				folder, does = t.Deliver.Folder, "brings files to"
			case t.Collect != nil && t.Collect.Destination == c.Files.Destination && t.Collect.Afterwards == job.AfterwardsMove:
				folder, does = t.Collect.Folder, "moves files to"
			default:
				continue
			}
			if !strings.ContainsAny(folder, "{}") && job.PathMatches(at, strings.TrimPrefix(folder+"/file", "/")) {
				v.Add(fmt.Sprintf("%s.for[%d].files.pattern", where, i),
					"the job would start itself: its task %s %s a folder that the pattern means", t.Name, does)
			}
		}
	}
}
