package watcher

import (
	"context"
	"fmt"
	"slices"

	"ironbell/internal/core/fault"
	"ironbell/internal/core/job"
	"ironbell/internal/core/phrase"
	"ironbell/internal/core/rows"
	"ironbell/internal/deliver"
	"ironbell/internal/event"
	"ironbell/internal/report"
)

// mostShown is how much is shown of what is there.
const mostShown = 20

// FilesNow tells which files a watch means that lie there now.
func (w *Watcher) FilesNow(ctx context.Context, f job.FileWatch) (job.Looked, error) {
	ctx, stop := context.WithTimeoutCause(ctx, lookLimit, errTooLong)
	defer stop()
	id, _, err := w.destinations.ByName(ctx, f.Destination)
	if err != nil {
		return job.Looked{}, err
	}
	look, err := w.lookerFor(ctx, id)
	if err != nil {
		return job.Looked{}, err
	}
	defer look.Close()
	var out job.Looked
	var files []deliver.Entry
	count, marked := 0, map[string]bool{}
	spec := f.WithDefaults()
	odd, err := walk(look, spec, func(e deliver.Entry, marker bool) error {
		if marker {
			marked[e.Path] = true
			return nil
		}
		count++
		files = append(files, e)
		if len(files) > 10*mostShown {
			files = newest(files)
		}
		return nil
	})
	if err != nil {
		return job.Looked{}, err
	}
	whole := 0
	for _, e := range newest(files) {
		out.Files = append(out.Files, job.LookedFile{Path: e.Path, Size: e.Size, Changed: e.Changed})
		if spec.Complete == job.CompleteMarker && marked[spec.MarkerOf(e.Path)] {
			whole++
		}
	}
	out.Sentence = "No file is meant that lies there now; one that comes is."
	if count > 0 {
		out.Sentence = fmt.Sprintf("%s there now. What lies there when the job is saved starts nothing; what comes, or is "+
			"replaced, does.", phrase.Upper(phrase.Count(count, "file")+phrase.Plural(count, " that is meant lies", " that are meant lie")))
		if spec.Complete == job.CompleteMarker {
			out.Sentence += fmt.Sprintf(" Beside %d of the newest %d stands its mark.", whole, len(out.Files))
		}
	}
	if n := odd.Note(); n != "" {
		out.Sentence += " " + phrase.Upper(n) + "."
	}
	return out, nil
}

// newest keeps the newest of some files.
func newest(files []deliver.Entry) []deliver.Entry {
	slices.SortFunc(files, func(a, b deliver.Entry) int { return b.Changed.Compare(a.Changed) })
	return files[:min(len(files), mostShown)]
}

// AnswerNow tells what a statement answers now.
func (w *Watcher) AnswerNow(ctx context.Context, q job.QueryWatch) (job.Looked, error) {
	q = q.WithDefaults()
	answer, err := w.put(ctx, q.Source, q, q.First)
	if err != nil {
		return job.Looked{}, err
	}
	out := job.Looked{Columns: answer.Columns}
	for _, row := range answer.Rows[:min(len(answer.Rows), mostShown)] {
		out.Rows = append(out.Rows, truths(row, answer))
	}
	out.Sentence, err = judged(q, answer)
	return out, err
}

// truths writes yes and no where a column is one of truths: databases have letters of their own for it.
func truths(row []string, answer report.Listing) []string {
	out := slices.Clone(row)
	for i, value := range out {
		if kindOf(answer, i) != rows.YesNo || value == "" {
			continue
		}
		if out[i] = "no"; isYes(value) {
			out[i] = "yes"
		}
	}
	return out
}

// judged says in words what an answer would do.
func judged(q job.QueryWatch, answer report.Listing) (string, error) {
	value, there := first(answer)
	switch q.When {
	case job.QueryReady:
		if isYes(value) {
			return "It answers yes: a run that waits would begin.", nil
		}
		return "It answers no: a run would wait.", nil
	case job.QueryChanged:
		return fmt.Sprintf("It answers %s. The job starts when it answers otherwise.",
			phrase.Count(len(answer.Rows), "row")), nil
	case job.QueryPasses:
		beyond, err := side(q, value, there, no)
		if err != nil {
			return "", err
		}
		if beyond == yes {
			return fmt.Sprintf("It answers %s, which is beyond the limit: the job starts when it has come back and passes it again.",
				shown(value)), nil
		}
		return fmt.Sprintf("It answers %s, which has not passed the limit.", shown(value)), nil
	}
	if !slices.Contains(answer.Columns, q.Mark) && !event.AsksMark(q) {
		return "", fault.New(fault.Task, "look for new rows", fmt.Sprintf("the answer has no column %q", q.Mark), "")
	}
	return fmt.Sprintf("It answers %s.", phrase.Count(len(answer.Rows), "row")), nil
}
