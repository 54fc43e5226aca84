package task

import (
	"context"
	"fmt"
	"strings"
	"time"

	"ironbell/internal/artifact"
	"ironbell/internal/core/expr"
	"ironbell/internal/core/fault"
	"ironbell/internal/core/job"
	"ironbell/internal/core/phrase"
	"ironbell/internal/deliver"
	"ironbell/internal/report"
	"ironbell/internal/store/history"
	"ironbell/internal/store/records"
)

const (
	defaultSettled = 5 * time.Second
	largestCollect = 1 << 30 // bytes, when the task sets none
)

// Collect is the task kind that picks files up from a folder.
type Collect struct {
	Sources      *report.Sources
	Destinations *deliver.Destinations
	Store        collects
	Files        *artifact.Folder
}

// collects is what the kind asks of the store.
type collects interface {
	Collect(ctx context.Context, run job.RunID, part int, task string, files []history.Collected) error
	CollectedBefore(ctx context.Context, jobID int64, task string, destination int64, paths []string) (
		map[string]history.Collected, error)
}

// Help implements Kind.
func (k *Collect) Help() Help {
	return Help{
		Kind: job.KindCollect, Summary: "pick files up from a folder or a server",
		Text: "Takes the newest, all, or exactly one of the files whose names match a pattern, from a source that is " +
			"a folder, or from a destination that lets jobs do so. A file counts as complete when it " +
			"has not changed for a while; the task waits for that. When no file is there, or those that are hold " +
			"nothing, the result is blank. Of a destination it can take only what no good run took before. The files " +
			"stay where they are, or are moved or removed once the run is done and their copies are kept.",
		Example: job.Task{
			Name: "readings", Kind: job.KindCollect,
			Collect: &job.CollectTask{
				Source: "tide gauges", Pattern: "tide_{date:%Y%m%d}_*.csv", Take: job.TakeAll,
				Settled: job.Duration(10 * time.Second),
			},
		},
	}
}

// Check implements Kind.
func (k *Collect) Check(ctx context.Context, c *Checking, where string, t job.Task) error {
	c.text(where+".pattern", t.Collect.Pattern)
	if t.Collect.Destination != "" {
		return k.checkDestination(ctx, c, where, *t.Collect)
	}
	if t.Collect.OnlyNew || t.Collect.Folder != "" || t.Collect.Afterwards != "" && t.Collect.Afterwards != job.AfterwardsLeave {
		c.V.Add(where, "only_new, afterwards and folder belong to a destination; a source is only read")
	}
	if strings.ContainsAny(t.Collect.Pattern, "/\\") {
		c.V.Add(where+".pattern", "a pattern names files, not folders; take the slashes out")
	}
	p, ok, err := c.place(ctx, records.Source, where+".source", t.Collect.Source)
	if ok && p.Protocol != "folder" {
		c.V.Add(where+".source", "the source %q is a %s, not a folder", p.Name, p.Protocol)
	}
	return err
}

// Run waits until the files are complete and copies them.
func (k *Collect) Run(ctx context.Context, w Work, t job.Task) (Result, error) {
	if t.Collect.Destination != "" {
		return k.fromDestination(ctx, w, t)
	}
	doing := fmt.Sprintf("collect files from source %q", t.Collect.Source)
	source, err := k.Sources.Get(ctx, t.Collect.Source, "")
	if err != nil {
		return Result{}, err
	}
	folder, ok := source.(report.Folder)
	if !ok {
		return Result{}, fault.New(fault.Task, doing, "it is no folder", "Name a source that is a folder.")
	}
	pattern, err := w.fill(ctx, "the pattern", t.Collect.Pattern, nil)
	if err != nil {
		return Result{}, err
	}
	settled, largest := time.Duration(t.Collect.Settled), t.Collect.Largest
	if settled == 0 {
		settled = defaultSettled
	}
	if largest == 0 {
		largest = largestCollect
	}
	files, err := k.complete(ctx, folder, pattern, t.Collect.Take, settled)
	if err != nil {
		return Result{}, err
	}
	if t.Collect.Take == job.TakeOne && len(files) > 1 {
		return Result{},
			fault.New(fault.Task, doing,
				fmt.Sprintf("%d files match %q, and the task takes exactly one", len(files), pattern),
				"Clear the folder, or let the task take the newest.")
	}
	res := Result{Note: fmt.Sprintf("no file matches %q", pattern), Blank: true}
	taken := map[string]bool{}
	for _, f := range files {
		in, err := folder.OpenFile(ctx, f.Name)
		if err != nil {
			return Result{}, err
		}
		a, err := keep(ctx, k.Files, in, unlike(expr.FileName(f.Name, "file"), taken), largest)
		_ = in.Close() // only read from
		if err != nil {
			return Result{}, fault.Wrap(err, fault.Passing, fault.Task, doing, "")
		}
		a.Part, a.Task = w.Part, t.Name
		res.Files = append(res.Files, a)
		res.Blank = res.Blank && a.Size == 0
		res.Note = fmt.Sprintf("%s from %q", phrase.Count(len(res.Files), "file"), t.Collect.Source)
	}
	return res, nil
}

// complete lists the files to take once none of them has changed for a while.
func (k *Collect) complete(ctx context.Context, folder report.Folder, pattern string, take job.Take,
	settled time.Duration,
) ([]report.FolderFile, error) {
	var before []report.FolderFile
	for looked := time.Now(); ; {
		files, err := folder.Files(ctx, pattern)
		if err != nil {
			return nil, err
		}
		if take == "" || take == job.TakeNewest {
			files = files[:min(len(files), 1)]
		}
		young := false
		for i, f := range files {
			// The clock of the folder may differ from ours, so what we saw
			// ourselves counts, too.
			same := len(before) == len(files) && before[i] == f && time.Since(looked) >= settled
			young = young || !same && time.Since(f.Changed) < settled
		}
		if !young {
			return files, nil
		}
		if len(before) != len(files) {
			looked = time.Now()
		}
		for i := range files {
			if i < len(before) && before[i] != files[i] {
				looked = time.Now()
			}
		}
		before = files
		select {
		case <-ctx.Done():
			return nil,
				fault.Wrap(fmt.Errorf("files that match %q still change", pattern), fault.Passing, fault.Task,
					"wait until the files are complete", "Give the task more time, or ask those who write the files.")
		case <-time.After(min(settled/4+10*time.Millisecond, time.Second)):
		}
	}
}
