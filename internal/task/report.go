package task

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"ironbell/internal/artifact"
	"ironbell/internal/core/expr"
	"ironbell/internal/core/fault"
	"ironbell/internal/core/job"
	"ironbell/internal/core/rows"
	"ironbell/internal/render"
	"ironbell/internal/report"
)

// DefaultFileName is the name of a file whose output gives none.
const DefaultFileName = "{report} {date:%Y-%m-%d}"

// Report is the task kind that runs a report and makes its files.
type Report struct {
	Find    func(ctx context.Context, name string) (job.Report, error)
	Sources *report.Sources
	Files   *artifact.Folder
}

// Help implements Kind.
func (k *Report) Help() Help {
	return Help{
		Kind: job.KindReport, Summary: "run a report and make its files",
		Text: "Puts the report's queries one after another and renders all outputs from one pass over the rows. It is blank when all the sections that count have no rows, or " +
			"when its blank_if holds. Its rows and the totals of its columns can be asked for in conditions.",
		Example: job.Task{Name: "report", Kind: job.KindReport, Report: &job.ReportTask{Report: "Port day sheet", Outputs: []job.Output{{Format: "xlsx", Name: "Day sheet {value.day}"}}}},
	}
}

// Check implements Kind.
func (k *Report) Check(ctx context.Context, c *Checking, where string, t job.Task) error {
	r, err := c.Store.Report(ctx, t.Report.Report)
	if isMissing(err) {
		c.V.Add(where+".report", "there is no report %q; save the report first", t.Report.Report)
		return nil
	}
	if err != nil {
		return err
	}
	c.Uses.Reports = append(c.Uses.Reports, r.ID)
	c.Label("source:" + r.Source)
	if len(t.Report.Outputs) == 0 {
		c.V.Add(where+".outputs", "a report task needs at least one output")
	}
	for i, o := range t.Report.Outputs {
		at := fmt.Sprintf("%s.outputs[%d]", where, i)
		if _, err := render.ByName(o.Format); err != nil {
			c.V.Add(at+".format", "%s", err)
		}
		if _, err := expr.Parse(o.Name, Names(r.Parameters)); err != nil {
			c.V.Add(at+".name", "%s", err)
		}
	}
	for i, name := range t.Report.Counts {
		if !slices.ContainsFunc(r.Sections, func(s job.Section) bool { return s.Name == name }) {
			c.V.Add(fmt.Sprintf("%s.counts[%d]", where, i), "the report %q has no section %q", r.Name, name)
		}
	}
	if t.Report.BlankIf != "" {
		if _, err := expr.ParseCondition(t.Report.BlankIf, Names(r.Parameters)); err != nil {
			c.V.Add(where+".blank_if", "%s", err)
		}
	}
	return nil
}

// Run puts the report's queries one after another and renders all outputs from
// one pass over the rows.
func (k *Report) Run(ctx context.Context, w Work, t job.Task) (Result, error) {
	rep, err := k.Find(ctx, t.Report.Report)
	if err != nil {
		return Result{}, err
	}
	bound, err := job.Bind(rep.Parameters, w.Values, w.Nominal, w.Frame)
	if err != nil {
		return Result{}, fault.Wrap(err, fault.Lasting, fault.Task, fmt.Sprintf("check the values of report %q", rep.Name), "Correct the values of the job, then ring it again.")
	}
	source, err := k.Sources.Get(ctx, rep.Source)
	if err != nil {
		return Result{}, err
	}
	var blankIf expr.Condition
	if t.Report.BlankIf != "" {
		if blankIf, err = expr.ParseCondition(t.Report.BlankIf, Names(rep.Parameters)); err != nil {
			return Result{}, fault.Wrap(err, fault.Lasting, fault.Task, "read blank_if", "Correct the condition in the job.")
		}
	}
	limit := w.Limit
	s := &sheaf{folder: k.Files, head: &render.Head{Report: rep.Name, Run: w.RunID.String(), AsOf: w.Due, Values: bound}, single: len(rep.Sections) == 1, sums: newSums(append(slices.Clone(w.Columns), blankIf.Totals()...))}
	defer s.drop()
	for _, o := range t.Report.Outputs {
		if err := s.add(o); err != nil {
			return Result{}, err
		}
	}
	res := Result{Counted: true}
	var counts []string
	counted := int64(0) // rows of the sections that count for being blank
	for _, section := range rep.Sections {
		n, err := source.Stream(ctx, report.Query{SQL: section.SQL, Params: rep.Parameters, Values: bound, Zone: w.Nominal.Location().String(), Limit: limit}, section.Name, s)
		if err != nil {
			return Result{}, err
		}
		res.Rows += n
		if len(t.Report.Counts) == 0 || slices.Contains(t.Report.Counts, section.Name) {
			counted += n
		}
		counts = append(counts, fmt.Sprintf("%s %d", section.Name, n))
	}
	res.Blank = counted == 0
	res.Totals = s.sums.totals
	if t.Report.BlankIf != "" && !res.Blank {
		facts := w.facts(rep.Name, res.Rows, bound)
		facts.Totals = res.Totals
		if res.Blank, err = blankIf.Holds(facts); err != nil {
			return Result{}, fault.Wrap(err, fault.Lasting, fault.Task, "decide blank_if", "Correct the condition in the job.")
		}
	}
	name := func(o job.Output, section string, rowCount int64) (string, error) {
		return fileName(o, section, Names(rep.Parameters), w.facts(rep.Name, rowCount, bound))
	}
	if res.Files, err = s.keep(res.Rows, t.Name, w.Part, name); err != nil {
		return Result{}, err
	}
	res.Note = fmt.Sprintf("report %q version %d", rep.Name, rep.Version)
	if len(counts) > 1 {
		res.Note += ": " + strings.Join(counts, ", ")
	}
	return res, nil
}

// fileName makes the name of an output's file. A section is named when the
// format cannot hold several in one file.
func fileName(o job.Output, section string, names expr.Names, f expr.Facts) (string, error) {
	format, err := render.ByName(o.Format)
	if err != nil {
		return "", err
	}
	text := o.Name
	if text == "" {
		text = DefaultFileName
	}
	text, err = fill(text, names, f)
	if err != nil {
		return "", fault.Wrap(err, fault.Lasting, fault.Task, "name the file", "Correct the file name in the job.")
	}
	base, _ := strings.CutSuffix(text, format.Ending)
	if section != "" {
		base += " - " + section
	}
	return expr.FileName(base+format.Ending, "report"+format.Ending), nil
}

// sheaf renders the rows of a report into all of its outputs at once.
type sheaf struct {
	folder  *artifact.Folder
	head    *render.Head
	single  bool // the report has one section
	outputs []job.Output
	open    []*leaf // being written
	closed  []*leaf // whole, not yet kept
	section string
	sums    *sums
}

// leaf is one file of the sheaf.
type leaf struct {
	output  job.Output
	format  render.Format
	section string // of a file that holds one only
	file    *artifact.File
	writer  render.Writer
	rows    int64
}

func (s *sheaf) add(o job.Output) error {
	format, err := render.ByName(o.Format)
	if err != nil {
		return err
	}
	s.outputs = append(s.outputs, o)
	if format.Split {
		return nil // begins with each section
	}
	return s.begin(o, format, "")
}

func (s *sheaf) begin(o job.Output, format render.Format, section string) error {
	file, err := s.folder.Create()
	if err != nil {
		return err
	}
	l := &leaf{output: o, format: format, section: section, file: file}
	s.open = append(s.open, l)
	l.writer, err = format.New(file, s.head)
	return err
}

// Columns begins a section in all files.
func (s *sheaf) Columns(section string, columns []rows.Column) error {
	if err := s.endSection(); err != nil {
		return err
	}
	s.section = section
	s.sums.columns(columns)
	for _, o := range s.outputs {
		if format, err := render.ByName(o.Format); err != nil {
			return err
		} else if format.Split {
			title := section
			if s.single {
				title = ""
			}
			if err := s.begin(o, format, title); err != nil {
				return err
			}
		}
	}
	for _, l := range s.open {
		if err := l.writer.Columns(section, columns); err != nil {
			return err
		}
	}
	return nil
}

// Row writes one row into all files.
func (s *sheaf) Row(row rows.Row) error {
	s.sums.row(row)
	for _, l := range s.open {
		if err := l.writer.Row(row); err != nil {
			return err
		}
		l.rows++
	}
	return nil
}

// endSection finishes the files that hold one section only.
func (s *sheaf) endSection() error {
	kept := s.open[:0]
	for _, l := range s.open {
		if !l.format.Split {
			kept = append(kept, l)
			continue
		}
		s.closed = append(s.closed, l)
		if err := l.writer.Close(); err != nil {
			return err
		}
	}
	s.open = kept
	return nil
}

// keep finishes all files. The table for a mail comes last, since it names the
// others. Names that come twice get a number.
func (s *sheaf) keep(total int64, task string, part int, name func(job.Output, string, int64) (string, error)) ([]job.Artifact, error) {
	if err := s.endSection(); err != nil {
		return nil, err
	}
	var files []job.Artifact
	taken := map[string]bool{}
	finish := func(l *leaf) error {
		text, err := name(l.output, l.section, total)
		if err != nil {
			return err
		}
		text = unlike(text, taken)
		kept, err := l.file.Keep()
		l.file = nil
		if err != nil {
			return err
		}
		files = append(files, job.Artifact{
			Part: part, Task: task, Format: l.format.Name, Name: text, MediaType: l.format.MediaType,
			Size: kept.Size, SHA256: kept.SHA256, Rows: l.rows, Key: kept.Key,
		})
		return nil
	}
	for _, l := range s.closed {
		if err := finish(l); err != nil {
			return nil, err
		}
	}
	for _, table := range []bool{false, true} {
		for _, l := range s.open {
			if (l.format.Name == render.MailTable) != table {
				continue
			}
			s.head.Files = nil
			for _, f := range files {
				s.head.Files = append(s.head.Files, f.Name)
			}
			if err := l.writer.Close(); err != nil {
				return nil, err
			}
			if err := finish(l); err != nil {
				return nil, err
			}
		}
	}
	return files, nil
}

// drop forgets the files that were not kept.
func (s *sheaf) drop() {
	for _, l := range append(s.open, s.closed...) {
		if l.file != nil {
			l.file.Drop()
		}
	}
}

// unlike gives a name that is not taken, in any case of its letters.
func unlike(name string, taken map[string]bool) string {
	base, ending := name, ""
	if dot := strings.LastIndexByte(name, '.'); dot > 0 {
		base, ending = name[:dot], name[dot:]
	}
	for n := 2; taken[strings.ToLower(name)]; n++ {
		name = fmt.Sprintf("%s (%d)%s", base, n, ending)
	}
	taken[strings.ToLower(name)] = true
	return name
}
