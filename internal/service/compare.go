package service

import (
	"compress/gzip"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"slices"

	"ironbell/internal/core/compare"
	"ironbell/internal/core/fault"
	"ironbell/internal/core/job"
	"ironbell/internal/render"
)

// Compared is how two runs of a job differ.
type Compared struct {
	Before   job.Run              `json:"before"`
	After    job.Run              `json:"after"`
	Task     string               `json:"task"`
	Sections []compare.Difference `json:"sections"`
}

// Compare compares the rows of a task in two runs of one job. Without an earlier
// run it takes the last good one before the later; without a task the first that
// kept its rows.
func (rs *Runs) Compare(ctx context.Context, who job.Person, after, before job.RunID, task string) (Compared, error) {
	var c Compared
	var err error
	v := &fault.Invalid{What: "comparison"}
	if c.After, err = rs.store.Run(ctx, after); err != nil {
		return c, err
	}
	if before == 0 {
		if before, err = rs.store.GoodRunBefore(ctx, c.After.JobID, after); err != nil {
			return c, err
		}
		if before == 0 {
			v.Add("before", "no good run of %s came before this one", c.After.Job)
			return c, v.Err()
		}
	}
	if c.Before, err = rs.store.Run(ctx, before); err != nil {
		return c, err
	}
	if c.Before.JobID != c.After.JobID {
		v.Add("before", "the runs belong to two jobs: %s and %s", c.Before.Job, c.After.Job)
		return c, v.Err()
	}
	for _, id := range []job.RunID{after, before} {
		if err := rs.MayFetch(ctx, who, id, ""); err != nil {
			return c, err
		}
	}
	late, err := rs.keptRows(ctx, c.After, task)
	if err != nil {
		return c, err
	}
	c.Task = late.Task
	early, err := rs.keptRows(ctx, c.Before, late.Task)
	if err != nil {
		return c, err
	}
	was, err := rs.readRows(ctx, early)
	if err != nil {
		return c, err
	}
	is, err := rs.readRows(ctx, late)
	if err != nil {
		return c, err
	}
	c.Sections = compare.Sections(was, is)
	return c, nil
}

// keptRows finds the file in which a run kept the rows of a task.
func (rs *Runs) keptRows(ctx context.Context, r job.Run, task string) (job.Artifact, error) {
	files, err := rs.store.Artifacts(ctx, r.ID, 0)
	if err != nil {
		return job.Artifact{}, err
	}
	slices.Reverse(files) // of several tries the last one counts
	at := slices.IndexFunc(files, func(f job.Artifact) bool {
		return f.Format == render.RowsKept && f.RemovedAt == nil && (task == "" || f.Task == task)
	})
	if at < 0 {
		v := &fault.Invalid{What: "comparison"}
		v.Add("run",
			"run %s kept no rows to compare: it had more than %d, was made without, or they were removed by their age",
			r.ID, render.MaxRowsKept)
		return job.Artifact{}, v.Err()
	}
	return files[at], nil
}

func (rs *Runs) readRows(ctx context.Context, f job.Artifact) ([]compare.Section, error) {
	in, err := rs.files.Open(ctx, f.Key)
	if err != nil {
		return nil, err
	}
	defer func() { _ = in.Close() }() // only read from
	unpacked, err := gzip.NewReader(in)
	if err != nil {
		return nil, fmt.Errorf("read the kept rows: %w", err)
	}
	var kept struct {
		Sections []compare.Section `json:"sections"`
	}
	const most = 256 << 20
	if err := json.NewDecoder(io.LimitReader(unpacked, most)).Decode(&kept); err != nil {
		return nil, fmt.Errorf("read the kept rows: %w", err)
	}
	return kept.Sections, nil
}
