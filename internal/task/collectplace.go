package task

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"path"
	"slices"
	"strings"
	"time"

	"ironbell/internal/core/expr"
	"ironbell/internal/core/fault"
	"ironbell/internal/core/job"
	"ironbell/internal/core/phrase"
	"ironbell/internal/deliver"
	"ironbell/internal/store/history"
	"ironbell/internal/store/records"
)

// mostCollected bounds how many files one task takes.
const mostCollected = 10_000

// checkDestination tells what is wrong with a task that collects from a destination.
func (k *Collect) checkDestination(ctx context.Context, c *Checking, where string, t job.CollectTask) error {
	if t.Source != "" {
		c.V.Add(where, "name either a source or a destination")
	}
	if strings.HasPrefix(t.Pattern, "/") || strings.Contains(t.Pattern, `\`) || slices.Contains(strings.Split(t.Pattern, "/"), "..") {
		c.V.Add(where+".pattern", "it is a path below the destination's root: write it without a / at its beginning and without ..")
	}
	moves := t.Afterwards == job.AfterwardsMove || t.Afterwards == job.AfterwardsRemove
	switch {
	case !slices.Contains([]job.Afterwards{"", job.AfterwardsLeave, job.AfterwardsMove, job.AfterwardsRemove}, t.Afterwards):
		c.V.Add(where+".afterwards", "%q is nothing that becomes of files; use leave, move or remove", t.Afterwards)
	case t.Afterwards == job.AfterwardsMove && strings.TrimSpace(t.Folder) == "":
		c.V.Add(where+".folder", "say to which folder the files are moved, such as done/{date:%%Y-%%m}")
	case t.Afterwards != job.AfterwardsMove && t.Folder != "":
		c.V.Add(where+".folder", "say afterwards: move, too, or take it out")
	}
	c.text(where+".folder", t.Folder)
	return c.Files(ctx, k.Destinations, where+".destination", t.Destination, moves)
}

// Files checks a destination whose files are to be looked at, or moved.
func (c *Checking) Files(ctx context.Context, d *deliver.Destinations, where, name string, moves bool) error {
	p, ok, err := c.place(ctx, records.Destination, where, name)
	if err != nil || !ok {
		return err
	}
	return mayTake(ctx, d, c.V, where, p.Name, moves)
}

// mayTake tells whether the settings of a destination let jobs take its files, and move them.
func mayTake(ctx context.Context, d *deliver.Destinations, v *fault.Invalid, where, name string, moves bool) error {
	_, at, err := d.ByName(ctx, name)
	if err != nil {
		return nil //nolint:nilerr // its own settings are wrong, which whoever saves a job cannot mend
	}
	l, ok := deliver.LookerOf(at)
	switch {
	case !ok:
		v.Add(where, "at the destination %q lie no files that could be looked at", name)
	case l.Taking() == deliver.TakingNo:
		v.Add(where, "the destination %q lets no job take its files; an administrator can let them: taking in its settings",
			name)
	case moves && l.Taking() != deliver.TakingMove:
		v.Add(where, "the destination %q lets no job move or remove its files; an administrator can let them: taking: move",
			name)
	}
	return nil
}

// fromDestination collects files from a destination.
func (k *Collect) fromDestination(ctx context.Context, w Work, t job.Task) (Result, error) {
	at := t.Collect.Destination
	doing := fmt.Sprintf("collect files from destination %q", at)
	id, d, err := k.Destinations.ByName(ctx, at)
	if err != nil {
		return Result{}, err
	}
	l, ok := deliver.LookerOf(d)
	moves := t.Collect.Afterwards == job.AfterwardsMove || t.Collect.Afterwards == job.AfterwardsRemove
	if !ok || l.Taking() == deliver.TakingNo || moves && l.Taking() != deliver.TakingMove {
		return Result{}, fault.New(fault.Task, doing, "its settings do not let jobs do so any more",
			"Ask an administrator to set taking of the destination to copy or move.")
	}
	pattern, err := w.fill(ctx, "the pattern", t.Collect.Pattern, nil)
	if err != nil {
		return Result{}, err
	}
	folder, err := w.fill(ctx, "the folder", t.Collect.Folder, nil)
	if err != nil {
		return Result{}, err
	}
	for _, text := range []string{pattern, folder} {
		if text == "" {
			continue
		}
		if err := deliver.CheckPath(text); err != nil {
			return Result{}, fault.Wrap(err, fault.Lasting, fault.Task, doing, "Correct the pattern or the folder of the task.")
		}
	}
	look, err := l.Look(ctx)
	if err != nil {
		return Result{}, err
	}
	defer look.Close()
	files, err := k.settledAt(ctx, look, w, t, id, pattern)
	if err != nil {
		return Result{}, err
	}
	if t.Collect.Take == job.TakeOne && len(files) > 1 {
		return Result{}, fault.New(fault.Task, doing,
			fmt.Sprintf("%d files match %q, and the task takes exactly one", len(files), pattern),
			"Clear the folder, or let the task take the newest.")
	}
	res := Result{Note: fmt.Sprintf("no file matches %q", pattern), Blank: true}
	if t.Collect.OnlyNew && len(files) == 0 {
		res.Note = fmt.Sprintf("no new file matches %q", pattern)
	}
	taken := map[string]bool{}
	noted := make([]history.Collected, 0, len(files))
	for _, f := range files {
		a, err := k.copyOf(ctx, look, f, unlike(expr.FileName(path.Base(f.Path), "file"), taken), t)
		if err != nil {
			return Result{}, err
		}
		a.Part, a.Task = w.Part, t.Name
		res.Files = append(res.Files, a)
		res.Blank = res.Blank && a.Size == 0
		res.Note = fmt.Sprintf("%s from %q", phrase.Count(len(res.Files), "file"), at)
		noted = append(noted, history.Collected{
			JobID: w.JobID, DestinationID: id, Path: f.Path, Size: f.Size, Changed: micro(f.Changed), Sum: a.SHA256,
			Afterwards: orLeave(t.Collect.Afterwards), Folder: folder,
		})
	}
	if w.Rehearsal != nil {
		return res, nil // what is rehearsed is neither moved nor counts as collected
	}
	return res, k.Store.Collect(ctx, w.RunID, w.Part, t.Name, noted)
}

// micro is an instant as our database keeps it.
func micro(t time.Time) time.Time { return t.UTC().Truncate(time.Microsecond) }

func orLeave(a job.Afterwards) job.Afterwards {
	if a == "" {
		return job.AfterwardsLeave
	}
	return a
}

// copyOf keeps a copy of a file, of which no byte is of another state than the others.
func (k *Collect) copyOf(ctx context.Context, look deliver.Look, f deliver.Entry, name string, t job.Task) (job.Artifact,
	error,
) {
	largest := t.Collect.Largest
	if largest == 0 {
		largest = largestCollect
	}
	doing := "collect " + f.Path
	in, err := look.Open(f.Path)
	if err != nil {
		return job.Artifact{}, err
	}
	a, err := keep(ctx, k.Files, in, name, largest)
	_ = in.Close() // only read from
	if err != nil {
		return job.Artifact{}, fault.Wrap(err, fault.Passing, fault.Task, doing, "")
	}
	now, err := look.Stat(f.Path)
	if errors.Is(err, fs.ErrNotExist) {
		return a, nil // it was read whole, and is gone now
	}
	if err != nil {
		return job.Artifact{}, err
	}
	if now.Size != f.Size || !now.Changed.Equal(f.Changed) || a.Size != f.Size {
		return job.Artifact{}, fault.Wrap(fmt.Errorf("%s was replaced or written to while it was read", f.Path),
			fault.Passing, fault.Task, doing, "Let it be tried again, or ask those who write it.")
	}
	return a, nil
}

// settledAt lists the files to take, once none of them has changed for a while, the newest first.
func (k *Collect) settledAt(ctx context.Context, look deliver.Look, w Work, t job.Task, id int64, pattern string) (
	[]deliver.Entry, error,
) {
	settled := time.Duration(t.Collect.Settled)
	if settled == 0 {
		settled = defaultSettled
	}
	var before []deliver.Entry
	for since := time.Now(); ; {
		files, err := k.listed(ctx, look, w, t, id, pattern)
		if err != nil {
			return nil, err
		}
		if !slices.Equal(files, before) {
			since = time.Now()
		}
		// A file that is old by the clock of its place is not waited for.
		young := slices.ContainsFunc(files, func(f deliver.Entry) bool { return time.Since(f.Changed) < settled+time.Minute })
		if !young || before != nil && time.Since(since) >= settled || len(files) == 0 {
			return files, nil
		}
		before = files
		select {
		case <-ctx.Done():
			return nil, fault.Wrap(fmt.Errorf("files that match %q still change", pattern), fault.Passing, fault.Task,
				"wait until the files are complete", "Give the task more time, or ask those who write the files.")
		case <-time.After(min(settled/4+10*time.Millisecond, time.Second)):
		}
	}
}

func (k *Collect) listed(ctx context.Context, look deliver.Look, w Work, t job.Task, id int64, pattern string) (
	files []deliver.Entry, err error,
) {
	_, err = deliver.Find(look, pattern, func(string) bool { return false }, func(e deliver.Entry, _ bool) error {
		files = append(files, e)
		return nil
	})
	if err != nil {
		return nil, err
	}
	if t.Collect.OnlyNew {
		if files, err = k.onlyNew(ctx, w, t.Name, id, files); err != nil {
			return nil, err
		}
	}
	slices.SortFunc(files, func(a, b deliver.Entry) int {
		if c := b.Changed.Compare(a.Changed); c != 0 {
			return c
		}
		return strings.Compare(a.Path, b.Path)
	})
	if t.Collect.Take == "" || t.Collect.Take == job.TakeNewest {
		files = files[:min(len(files), 1)]
	}
	if len(files) > mostCollected {
		return nil, fault.New(fault.Task, "collect files", fmt.Sprintf("%d files match %q, and one task takes at most %d",
			len(files), pattern, mostCollected), "Let the pattern mean fewer of them.")
	}
	return files, nil
}

// onlyNew leaves out what good runs of the job collected before.
func (k *Collect) onlyNew(ctx context.Context, w Work, task string, id int64, files []deliver.Entry) (
	fresh []deliver.Entry, err error,
) {
	const at = 5000 // that are asked for at once
	for part := range slices.Chunk(files, at) {
		paths := make([]string, len(part))
		for i, f := range part {
			paths[i] = f.Path
		}
		had, err := k.Store.CollectedBefore(ctx, w.JobID, task, id, paths)
		if err != nil {
			return nil, fault.Wrap(err, fault.Passing, fault.Task, "see what was collected before", "")
		}
		for _, f := range part {
			c, was := had[f.Path]
			if !was || c.Size != f.Size || !c.Changed.Equal(micro(f.Changed)) {
				fresh = append(fresh, f)
			}
		}
	}
	return fresh, nil
}
