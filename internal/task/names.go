package task

import (
	"context"
	"fmt"
	"path"
	"slices"
	"strings"
	"sync"

	"ironbell/internal/core/expr"
	"ironbell/internal/core/fault"
	"ironbell/internal/core/job"
)

// Parts of one run that would write one name in one place never overwrite each other:
// all that share a name get their part's name appended. Which do is reckoned from the
// names as they stand in the job, for all parts at once, so that it does not matter
// which of them comes first. What shows only when the files are there, such as two
// programs' files of one name, is noticed by whoever comes second.

// shared counts how many parts of a run come to each path of one file.
type shared struct {
	mu    sync.Mutex
	known map[string]map[string]int
}

// maxShared bounds for how many files that is kept.
const maxShared = 200

func (s *shared) of(key string, count func() (map[string]int, error)) (map[string]int, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if found, ok := s.known[key]; ok {
		return found, nil
	}
	counts, err := count()
	if err != nil {
		return nil, err
	}
	if s.known == nil || len(s.known) >= maxShared {
		s.known = map[string]map[string]int{}
	}
	s.known[key] = counts
	return counts, nil
}

// sharedBy tells how many parts of the run would write a file to a path.
func (k *Deliver) sharedBy(ctx context.Context, w Work, t job.Task, f job.Artifact, to string) (int, error) {
	if w.PartName == "" || w.Siblings == nil {
		return 1, nil
	}
	output, rep, ok, err := k.outputOf(ctx, w, f)
	if err != nil {
		return 0, err
	}
	if !ok && t.Deliver.Name == "" {
		return 1, nil // its name came with it
	}
	reckon := func() (map[string]int, error) {
		parts, err := w.Siblings(ctx)
		if err != nil {
			return nil, err
		}
		counts := map[string]int{}
		for _, p := range parts {
			other := w
			other.PartName, other.Values, other.Row = p.Name, p.Given.Over(w.Values), rowTexts(p.Given)
			name := f
			if ok {
				bound, _ := job.Bind(rep.Parameters, other.Values, w.Nominal, w.Frame)
				if name.Name, name.Folder, err = fileName(output, "", other.names(rep.Parameters),
					other.facts(rep.Name, f.Rows, bound)); err != nil {
					return nil, err
				}
			}
			at, err := other.pathOf(ctx, t.Deliver, name)
			if err != nil {
				return nil, err
			}
			counts[strings.ToLower(at)]++
		}
		return counts, nil
	}
	if w.RunID == 0 { // it is looked at ahead
		counts, err := reckon()
		return counts[strings.ToLower(to)], err
	}
	counts, err := k.shared.of(fmt.Sprintf("%d %s %s %s", w.RunID, t.Name, f.Task, f.Format), reckon)
	return counts[strings.ToLower(to)], err
}

// rowTexts are the texts of a part's own values.
func rowTexts(given job.Values) map[string]string {
	row := map[string]string{}
	for name, value := range given {
		if text, ok := value.(string); ok {
			row[name] = text
		}
	}
	return row
}

// outputOf finds the output of a report that a file is of.
func (k *Deliver) outputOf(ctx context.Context, w Work, f job.Artifact) (job.Output, job.Report, bool, error) {
	for _, t := range w.Def.Tasks {
		if t.Name != f.Task || t.Report == nil {
			continue
		}
		find := w.Report
		if find == nil {
			find = k.Store.Report
		}
		rep, err := find(ctx, t.Report.Report)
		if err != nil {
			return job.Output{}, rep, false, err
		}
		at := slices.IndexFunc(t.Report.Outputs, func(o job.Output) bool { return o.Format == f.Format })
		if at >= 0 {
			return t.Report.Outputs[at], rep, true, nil
		}
	}
	return job.Output{}, job.Report{}, false, nil
}

// withPart appends the name of a part, or of a task, to the name of a file.
func withPart(to, name string) string {
	return path.Join(path.Dir(to), expr.BeforeEnding(path.Base(to), " ("+expr.FileName(name, "part")+")"))
}

// ownName makes sure that nobody else of this run writes a name that is to be written
// over: another task of the part gets its own name appended, and another part's file
// fails. A retry keeps its name.
func (k *Deliver) ownName(ctx context.Context, w Work, t job.Task, destination int64, to string,
	exists job.IfExists,
) (string, error) {
	if exists != job.ExistsOverwrite && exists != job.ExistsStamp || w.RunID == 0 || w.Rehearsal != nil {
		return to, nil
	}
	for range 2 {
		part, task, err := k.Store.ClaimName(ctx, w.RunID, destination, to, w.Part, t.Name)
		if err != nil {
			return "", err
		}
		if part == w.Part && task == t.Name {
			return to, nil
		}
		if part != w.Part {
			return "",
				fault.New(fault.Task, "bring files to "+t.Deliver.Destination,
					fmt.Sprintf("another part of this run writes %q there", to),
					"Let the name hold what tells the parts apart, such as {value.port}.")
		}
		to = withPart(to, t.Name)
	}
	return "",
		fault.New(fault.Task, "bring files to "+t.Deliver.Destination,
			fmt.Sprintf("another task of this run writes %q there", to), "Give the files of one of them another name.")
}
