package task

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"

	"ironbell/internal/artifact"
	"ironbell/internal/core/expr"
	"ironbell/internal/core/fault"
	"ironbell/internal/core/job"
	"ironbell/internal/house"
	"ironbell/internal/render"
	"ironbell/internal/report"
	"ironbell/internal/store/db"
)

// DefaultFileName is the name of a file whose output gives none.
const DefaultFileName = "{report} {date:%Y-%m-%d}"

// Report is the task kind that runs a report and makes its files.
type Report struct {
	Find    func(ctx context.Context, name string) (job.Report, error)
	Sources *report.Sources
	Files   *artifact.Folder
	Browser string // path of the browser that prints tagged PDFs; empty where there is none
	Looks   *house.Shelf
	Styles  house.Store // from which looks are made
	Books   Books       // of owners, that outputs fill

	// Open tells why the report of an own schedule is not open to its owner now; it may be nil.
	Open func(ctx context.Context, jobID int64, report string) error
}

// Help implements Kind.
func (k *Report) Help() Help {
	return Help{
		Kind: job.KindReport, Summary: "run a report and make its files",
		Text: "Puts the report's queries one after another and renders all outputs from one pass over the rows. It " +
			"is blank when all the sections that count have no rows, or " +
			"when its blank_if holds. Its rows and the totals of its columns can be asked for in conditions.",
		Example: job.Task{
			Name: "report", Kind: job.KindReport,
			Report: &job.ReportTask{
				Report: "Port day sheet", Outputs: []job.Output{{Format: "xlsx", Name: "Day sheet {value.day}"}},
			},
		},
	}
}

// Check implements Kind.
func (k *Report) Check(ctx context.Context, c *Checking, where string, t job.Task) error {
	r, err := c.Report(ctx, t.Report.Report)
	if db.IsMissing(err) {
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
		CheckOutput(c.V, fmt.Sprintf("%s.outputs[%d]", where, i), r, o, c.Row...)
	}
	if err := c.checkValuesOnly(ctx, where, r, t.Report.Outputs); err != nil {
		return err
	}
	if c.Columns != nil && NamesColumns([]job.Task{t}) {
		if by, known := c.Columns(ctx, r); known {
			checkColumns(c.V, where, r, t.Report.Outputs, by)
		}
	}
	if err := c.May(ctx, where+".identity", r.Source, t.Report.Identity, r.Identity); err != nil {
		return err
	}
	for name, text := range t.Report.Values {
		at := fmt.Sprintf("%s.values.%s", where, name)
		if !slices.ContainsFunc(r.Parameters, func(p job.Parameter) bool { return p.Name == name }) {
			c.V.Add(at, "the report %q has no parameter %q", r.Name, name)
		}
		if strings.TrimSpace(text) == "" {
			c.V.Add(at, "a value of nothing is left out")
		}
		if _, err := expr.Parse(text, c.Names); err != nil {
			c.V.Add(at, "%s", err)
		}
	}
	for i, name := range t.Report.Counts {
		if !slices.ContainsFunc(r.Sections, func(s job.Section) bool { return s.Name == name }) {
			c.V.Add(fmt.Sprintf("%s.counts[%d]", where, i), "the report %q has no section %q", r.Name, name)
		}
	}
	if t.Report.BlankIf != "" {
		names := Names(r.Parameters)
		if c.Totals != nil {
			names.Totals, names.TotalsKnown = c.Totals(ctx, r)
		}
		if _, err := expr.ParseCondition(t.Report.BlankIf, names); err != nil {
			c.V.Add(where+".blank_if", "%s", err)
		}
	}
	return nil
}

// NamesColumns tells whether an output of some tasks names its columns.
func NamesColumns(tasks []job.Task) bool {
	return slices.ContainsFunc(tasks, func(t job.Task) bool {
		return t.Report != nil && slices.ContainsFunc(t.Report.Outputs, func(o job.Output) bool { return len(o.Columns) > 0 })
	})
}

// checkColumns tells which columns that outputs name their sections do not have. What a section has in another form
// is found when it runs.
func checkColumns(v *fault.Invalid, where string, r job.Report, outputs []job.Output, by map[string][]string) {
	for i, o := range outputs {
		for _, s := range r.Sections {
			has, known := by[s.Name]
			taken := len(o.Sections) == 0 || slices.ContainsFunc(o.Sections, func(c job.Chosen) bool {
				return c.Section == s.Name && c.Form == job.FormWhole
			})
			if !taken || !known || s.Kind == job.SectionText {
				continue
			}
			for _, name := range o.Columns {
				if !slices.Contains(has, name) {
					v.Add(fmt.Sprintf("%s.outputs[%d].columns", where, i), "the section %q has no column %q; it has %s", s.Name, name,
						strings.Join(has, ", "))
				}
			}
		}
	}
}

// CheckOutput tells what is wrong with an output of a report. Its names may speak
// of the parameters, and of further values.
func CheckOutput(v *fault.Invalid, at string, r job.Report, o job.Output, of ...string) {
	if _, err := render.Read(o); err != nil {
		for _, w := range wrong(err) {
			v.Add(strings.TrimSuffix(at+"."+w.Where, "."), "%s", w.Sentence)
		}
	}
	for field, text := range map[string]string{"name": o.Name, "folder": o.Folder} {
		names := Names(r.Parameters)
		names.Values = append(names.Values, of...)
		if _, err := expr.Parse(text, names); err != nil {
			v.Add(at+"."+field, "%s", err)
		}
	}
	checkWorkbook(v, at, r, o)
	for i, chosen := range o.Sections {
		where := fmt.Sprintf("%s.sections[%d]", at, i)
		section, ok := r.Section(chosen.Section)
		switch {
		case !ok:
			names := make([]string, len(r.Sections))
			for n, s := range r.Sections {
				names[n] = s.Name
			}
			v.Add(where, "the report %q has no section %q; it has %s", r.Name, chosen.Section,
				strings.Join(names, ", "))
		case chosen.Form == job.FormSummary && len(section.Group) == 0:
			v.Add(where+".form", "a summary is the subtotals of a grouped table, and the section %q has no groups",
				section.Name)
		case chosen.Form == job.FormDetail && section.SQL == "" && section.Detail == nil:
			v.Add(where+".form", "the section %q has no query and so no underlying rows", section.Name)
		}
	}
}

// over are the values of the job with those of one task in their place.
func (w Work) over(ctx context.Context, own map[string]string) (job.Values, error) {
	if len(own) == 0 {
		return w.Values, nil
	}
	values := maps.Clone(w.Values)
	if values == nil {
		values = job.Values{}
	}
	for name, text := range own {
		filled, err := w.fill(ctx, "the value of "+name, text, nil)
		if err != nil {
			return nil, err
		}
		// Nothing is not the report's own default: that may widen what is read.
		if strings.TrimSpace(filled) == "" {
			return nil, fault.New(fault.Task, "choose the value of "+name, fmt.Sprintf("%q comes to nothing", text),
				"See what the task before found, or give the value in the job.")
		}
		values[name] = filled
	}
	return values, nil
}

// Run puts the report's queries one after another and renders all outputs from
// one pass over the rows of each.
func (k *Report) Run(ctx context.Context, w Work, t job.Task) (Result, error) {
	find := w.Report
	if find == nil {
		find = k.Find
	}
	rep, err := find(ctx, t.Report.Report)
	if err != nil {
		return Result{}, err
	}
	if w.Def.Personal && k.Open != nil {
		if err := k.Open(ctx, w.JobID, rep.Name); err != nil {
			return Result{}, err
		}
	}
	identity, err := w.fill(ctx, "the identity", t.Report.Identity, nil)
	if err != nil {
		return Result{}, err
	}
	// Nothing is not the report's own login: that would read everybody's rows.
	if t.Report.Identity != "" && strings.TrimSpace(identity) == "" {
		return Result{},
			fault.New(fault.Task, "choose the identity",
				fmt.Sprintf("%q comes to nothing for this part, so that nobody is there to read as", t.Report.Identity),
				"See which value of the split is empty, and give each part its identity.")
	}
	source, err := k.Sources.Get(ctx, rep.Source, orElse(identity, rep.Identity))
	if err != nil {
		return Result{}, err
	}
	if w.Values, err = w.over(ctx, t.Report.Values); err != nil {
		return Result{}, err
	}
	q := report.Query{Params: rep.Parameters, Zone: w.Nominal.Location().String(), Limit: w.Limit}
	bound, err := report.Bind(ctx, source, q, w.Values, w.Nominal, w.Frame)
	if err != nil {
		var wrong *fault.Invalid
		if !errors.As(err, &wrong) {
			return Result{}, err
		}
		return Result{},
			fault.Wrap(err, fault.Lasting, fault.Task, fmt.Sprintf("check the values of report %q", rep.Name),
				"Correct the values of the job, then ring it again.")
	}
	q.Values = bound
	var blankIf expr.Condition
	if t.Report.BlankIf != "" {
		if blankIf, err = expr.ParseCondition(t.Report.BlankIf, Names(rep.Parameters)); err != nil {
			return Result{},
				fault.Wrap(err, fault.Lasting, fault.Task, "read blank_if", "Correct the condition in the job.")
		}
	}
	wanted := append(slices.Clone(w.Columns), blankIf.Totals()...)
	facts := func(rows int64) expr.Facts { return w.facts(rep.Name, rows, bound) }
	outputs := slices.Clone(t.Report.Outputs)
	if !t.Report.NoRows {
		kept, err := k.keptRows(ctx, rep, outputs)
		if err != nil {
			return Result{}, err
		}
		outputs = append(outputs, kept)
	}
	s, err := k.fileSet(ctx, rep, w, source, bound, outputs, wanted, facts)
	defer s.drop()
	if err != nil {
		return Result{}, err
	}
	res := Result{Counted: true}
	var found []string
	counted, asked := int64(0), 0 // rows of the sections that count for being blank, and how many those are
	for _, section := range rep.Sections {
		counting := slices.Contains(t.Report.Counts, section.Name) || len(wanted)+len(w.First) > 0
		n, put, err := s.run(ctx, source, section, q, counting)
		if err != nil {
			return Result{}, err
		}
		if !put {
			continue
		}
		res.Rows += n
		if counts(t.Report.Counts, rep.Sections, section) {
			counted, asked = counted+n, asked+1
		}
		found = append(found, fmt.Sprintf("%s %d", section.Name, n))
	}
	res.Blank = counted == 0 && asked > 0
	res.Totals, res.Cells = s.sums.totals, s.sums.cells
	if t.Report.BlankIf != "" && !res.Blank {
		known := facts(res.Rows)
		known.Totals = res.Totals
		if res.Blank, err = blankIf.Holds(known); err != nil {
			return Result{},
				fault.Wrap(err, fault.Lasting, fault.Task, "decide blank_if", "Correct the condition in the job.")
		}
	}
	known := facts(res.Rows)
	known.Totals = res.Totals
	name := func(o job.Output, section string) (string, string, error) {
		return fileName(o, section, w.names(rep.Parameters), known)
	}
	if res.Files, err = s.keep(t.Name, w.Part, name); err != nil {
		return Result{}, err
	}
	for _, text := range s.said {
		w.Log("info", text)
	}
	res.Note = fmt.Sprintf("report %q version %d, read as %s", rep.Name, rep.Version, source.Login())
	if len(found) > 1 {
		res.Note += ": " + strings.Join(found, ", ")
	}
	return res, nil
}

// counts tells whether a section counts for being blank: those that the job
// names, otherwise tables and charts. Figures always have a row, and count only
// where there is nothing else.
func counts(named []string, all []job.Section, s job.Section) bool {
	if len(named) > 0 {
		return slices.Contains(named, s.Name)
	}
	lists := func(o job.Section) bool { return o.Kind != job.SectionFigures && o.Kind != job.SectionText }
	return lists(s) || !slices.ContainsFunc(all, lists)
}

// keptRows is the output that keeps the rows of the sections that others take.
func (k *Report) keptRows(ctx context.Context, rep job.Report, outputs []job.Output) (job.Output, error) {
	kept := job.Output{Format: render.RowsKept, Name: "rows"}
	all := make([]*output, len(outputs))
	for i, o := range outputs {
		all[i] = &output{Style: &render.Style{Output: o}}
		if o.Workbook != "" {
			_, f, err := k.filling(ctx, rep, o.Workbook)
			if err != nil {
				return kept, err
			}
			all[i].Book, all[i].taken = &render.Book{}, f.Sections(rep.ReportDefinition)
		}
	}
	for _, section := range rep.Sections {
		if section.SQL != "" && section.Kind != job.SectionText && slices.ContainsFunc(all, func(o *output) bool { return len(o.takes(section)) > 0 }) {
			kept.Sections = append(kept.Sections, job.Chosen{Section: section.Name})
		}
	}
	return kept, nil
}

// fileSet begins the files of a report. It is to be dropped also when it comes
// with an error.
func (k *Report) fileSet(ctx context.Context, rep job.Report, w Work, source report.Source, bound []job.Bound,
	outputs []job.Output, wanted []string, facts func(int64) expr.Facts,
) (*fileSet, error) {
	title, err := fill(rep.Called(), Names(rep.Parameters), facts(0))
	head := &render.Head{
		Report: rep.Name, Title: title, AsOf: w.Due, Values: bound, Identity: source.Login(),
		Zone: w.Nominal.Location(), Browser: render.Chromium(ctx, k.Browser),
	}
	if w.RunID != 0 {
		head.Run = w.RunID.String()
	}
	s := &fileSet{folder: k.Files, head: head, rep: rep, sums: newSums(wanted, w.First), facts: facts}
	if s.look = house.Plain(); err == nil && k.Looks != nil {
		looked, failed := k.Looks.Look(ctx, k.Styles, rep.HouseStyle)
		if failed != nil {
			return s, fault.Wrap(failed, fault.Passing, fault.Task, "read the house style", "Look into the house style in the settings.")
		}
		if s.look = looked; looked.Note != "" {
			s.said = append(s.said, looked.Note)
		}
	}
	if err != nil {
		return s, fault.Wrap(err, fault.Lasting, fault.Task, "write the title", "Correct the title of the report.")
	}
	for _, o := range outputs {
		if err := s.add(o, func(name string) (*render.Book, error) { return k.book(ctx, rep, name) }); err != nil {
			return s, err
		}
	}
	return s, nil
}

// fileName makes the name and the folder of an output's file. A section is
// named when the output has a file for each.
func fileName(o job.Output, section string, names expr.Names, f expr.Facts) (name, folder string, err error) {
	format, err := render.ByName(o.Format)
	if err != nil {
		return "", "", err
	}
	text := o.Name
	if text == "" {
		text = DefaultFileName
	}
	if text, err = fill(text, names, f); err != nil {
		return "", "", fault.Wrap(err, fault.Lasting, fault.Task, "name the file", "Correct the file name in the job.")
	}
	base, _ := strings.CutSuffix(text, format.Ending)
	if section != "" {
		base += " - " + section
	}
	if folder, err = folderName(o.Folder, names, f); err != nil {
		return "", "", fault.Wrap(err, fault.Lasting, fault.Task, "name the folder", "Correct the folder in the job.")
	}
	return expr.FileName(expr.FileName(base, "report")+format.Ending, "report"+format.Ending), folder, nil
}

// folderName fills the moving parts of a folder in. What they bring never adds
// or files a level: only the slashes that were written part it.
func folderName(text string, names expr.Names, f expr.Facts) (string, error) {
	var levels []string
	for _, level := range expr.Levels(text) {
		filled, err := fill(level, names, f)
		if err != nil {
			return "", err
		}
		if filled = expr.FileName(filled, ""); filled != "" {
			levels = append(levels, filled)
		}
	}
	return strings.Join(levels, "/"), nil
}
