package task

import (
	"context"
	"fmt"
	"io"
	"slices"
	"time"

	"ironbell/internal/core/expr"
	"ironbell/internal/core/fault"
	"ironbell/internal/core/job"
	"ironbell/internal/core/shape"
	"ironbell/internal/render"
	"ironbell/internal/report"
)

// Made is what a report came to outside of any job.
type Made struct {
	Files  []job.Artifact
	Values []job.Bound
	Rows   int64
	Took   time.Duration
	Says   []string
	keys   interface{ Remove(key string) error }
	open   func(ctx context.Context, key string) (io.ReadSeekCloser, error)
}

// Open reads one of the files.
func (m Made) Open(ctx context.Context, f job.Artifact) (io.ReadSeekCloser, error) {
	return m.open(ctx, f.Key)
}

// Remove removes the files.
func (m Made) Remove() {
	for _, f := range m.Files {
		_ = m.keys.Remove(f.Key) // what stays behind is reaped by its age
	}
}

// Make renders outputs of a report. The caller removes the files.
func (k *Report) Make(ctx context.Context, w Work, rep job.Report, source report.Source, q report.Query,
	outputs []job.Output,
) (Made, error) {
	m := Made{Values: q.Values, keys: k.Files, open: k.Files.Open}
	began := time.Now()
	facts := func(rows int64) expr.Facts { return w.facts(rep.Name, rows, q.Values) }
	s, err := k.fileSet(ctx, rep, w, source, q.Values, outputs, nil, facts)
	defer s.drop()
	if err != nil {
		return m, err
	}
	for _, section := range rep.Sections {
		n, _, err := s.run(ctx, source, section, q, false)
		if err != nil {
			return m, err
		}
		m.Rows += n
	}
	m.Files, err = s.keep("", 1, func(o job.Output, section string) (string, string, error) {
		return fileName(o, section, Names(rep.Parameters), facts(m.Rows))
	})
	m.Says, m.Took = s.said, time.Since(began)
	return m, err
}

// Preview gives the first rows of each section, or of those that are named. The
// queries are ended once they have given enough.
func (k *Report) Preview(ctx context.Context, w Work, rep job.Report, source report.Source, q report.Query,
	sections []string, most int64,
) (job.Preview, error) {
	facts := w.facts(rep.Name, 0, q.Values)
	title, err := fill(rep.Called(), Names(rep.Parameters), facts)
	if err != nil {
		return job.Preview{}, err
	}
	p := job.Preview{Title: title, ReadAs: source.Login(), Values: q.Values, Sections: []job.PreviewSection{}}
	style, err := render.Read(job.Output{Format: "html"})
	if err != nil {
		return p, err
	}
	if k.Looks != nil {
		if style.Look, err = k.Looks.Look(ctx, k.Styles, rep.HouseStyle); err != nil {
			return p, fault.Wrap(err, fault.Passing, fault.Task, "read the house style", "Look into the house style in the settings.")
		}
	}
	for _, section := range rep.Sections {
		if len(sections) > 0 && !slices.Contains(sections, section.Name) {
			continue
		}
		began := time.Now()
		shown := &render.Shown{Style: style}
		s := &fileSet{
			rep: rep, head: &render.Head{Report: rep.Name, Title: title, AsOf: w.Due, Values: q.Values},
			sums: newSums(nil, nil), facts: func(rows int64) expr.Facts { return w.facts(rep.Name, rows, q.Values) },
		}
		t := &stream{s: s, section: section, pieces: []*piece{{laid: []shape.Sink{shown}}}}
		// One row more than is shown tells whether there are more; a chart is drawn
		// of all that it can hold.
		wanted := most + 1
		if section.Kind == job.SectionChart {
			wanted = max(wanted, render.MaxChart)
		}
		q.SQL, q.Rows = section.SQL, wanted
		var n int64
		if section.SQL != "" {
			if n, err = source.Stream(ctx, q, section.Name, t); err != nil {
				return p, err
			}
		}
		if section.Kind == job.SectionText {
			if err := s.text(section, t); err != nil {
				return p, err
			}
		}
		for _, shaper := range t.shapers {
			if _, err := shaper.End(); err != nil {
				return p, err
			}
		}
		out := job.PreviewSection{
			Section: section.Name, Title: shown.Plan.Title, Kind: shown.Plan.Kind, Text: shown.Plan.Text,
			Columns: []job.PreviewColumn{}, Lines: []job.PreviewLine{}, More: n > most,
			TookMS: time.Since(began).Milliseconds(), Drawing: shown.Drawing, Figures: shown.Figures,
		}
		for _, c := range shown.Plan.Columns {
			out.Columns = append(out.Columns, job.PreviewColumn{Name: c.Name, Head: c.Head(), Kind: c.Kind})
		}
		for _, line := range shown.Lines {
			// Totals of rows that were cut short would be wrong.
			if line.Kind == shape.Data && int64(len(out.Lines)) < most || !out.More {
				out.Lines = append(out.Lines, job.PreviewLine{
					Cells: line.Cells, Marks: line.Marks, Total: line.Kind != shape.Data,
				})
			}
		}
		p.Sections = append(p.Sections, out)
	}
	return p, nil
}

// Says says in one line what the making came to.
func (m Made) String() string {
	return fmt.Sprintf("%d rows in %s", m.Rows, m.Took.Round(time.Millisecond))
}
