package task

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"ironbell/internal/artifact"
	"ironbell/internal/core/expr"
	"ironbell/internal/core/fault"
	"ironbell/internal/core/job"
	"ironbell/internal/core/rows"
	"ironbell/internal/core/shape"
	"ironbell/internal/house"
	"ironbell/internal/render"
	"ironbell/internal/report"
)

// fileSet renders the rows of a report into all of its outputs at once: each
// query is put once, and its rows go through the layouts that the outputs ask
// for into all of their files.
type fileSet struct {
	folder  *artifact.Folder
	head    *render.Head
	look    *house.Look
	rep     job.Report
	outputs []*output
	closed  []*oneFile // whole, not yet kept
	sums    *sums
	facts   func(rows int64) expr.Facts
	said    []string

	total int64 // rows of all sections
}

// output is one output of the task with the file that it writes.
type output struct {
	*render.Style
	oneFile *oneFile     // being written
	pieces  int          // sections that it takes
	taken   []job.Chosen // by the workbook that it fills
}

// oneFile is one file of the fileSet.
type oneFile struct {
	output  *output
	section string // of a file that holds one only
	file    *artifact.File
	writer  render.Writer
	rows    int64
}

// takes tells in which forms and under which titles an output takes a section.
func (o *output) takes(s job.Section) []job.Chosen {
	sections := o.Sections
	if o.Book != nil {
		sections = o.taken
	} else if len(sections) == 0 {
		return []job.Chosen{{Section: s.Name}}
	}
	var chosen []job.Chosen
	for _, c := range sections {
		if c.Section == s.Name {
			chosen = append(chosen, c)
		}
	}
	return chosen
}

// add reads the settings of an output.
func (s *fileSet) add(o job.Output, book func(name string) (*render.Book, error)) error {
	style, err := render.Read(o)
	if err != nil {
		return fault.Wrap(err, fault.Lasting, fault.Task, "read the settings of an output",
			"Correct the output in the job.")
	}
	style.Look = s.look
	out := &output{Style: style}
	if o.Workbook != "" {
		if style.Book, err = book(o.Workbook); err != nil {
			return err
		}
		out.taken = style.Book.Filling.Sections(s.rep.ReportDefinition)
		names := Names(s.rep.Parameters)
		style.Book.Text = func(text string) (string, error) { return fill(text, names, s.facts(s.total)) }
	}
	for _, section := range s.rep.Sections {
		out.pieces += len(out.takes(section))
	}
	s.outputs = append(s.outputs, out)
	if style.Format.Split {
		return nil // a file begins with each section
	}
	out.oneFile, err = s.begin(out, "")
	return err
}

func (s *fileSet) begin(o *output, section string) (*oneFile, error) {
	file, err := s.folder.Create()
	if err != nil {
		return nil, err
	}
	l := &oneFile{output: o, section: section, file: file}
	if l.writer, err = o.Open(file, s.head); err != nil {
		file.Drop()
		return nil, err
	}
	return l, nil
}

// counter counts the lines of data that reach a file.
type counter struct{ *oneFile }

func (c counter) Begin(p *shape.Plan) error { return c.writer.Begin(p) }
func (c counter) End() error                { return c.writer.End() }
func (c counter) Line(l *shape.Line) error {
	if l.Kind == shape.Data {
		c.rows++
	}
	return c.writer.Line(l)
}

// sectionName is what the file of a section is told apart by; nothing when the output has
// one file.
func (o *output) sectionName(section job.Section, c job.Chosen) string {
	switch {
	case o.pieces <= 1:
		return ""
	case c.Title != "":
		return c.Title
	case c.Form != job.FormWhole:
		return section.Name + ", " + string(c.Form)
	}
	return section.Name
}

// sectionNames are those of all files of an output whose format has a file for each section;
// of another the one file's, which is empty.
func sectionNames(rep job.Report, o job.Output) ([]string, error) {
	style, err := render.Read(o)
	if err != nil {
		return nil, err
	}
	out := &output{Style: style}
	if !style.Format.Split {
		return []string{""}, nil
	}
	for _, section := range rep.Sections {
		out.pieces += len(out.takes(section))
	}
	var names []string
	for _, section := range rep.Sections {
		for _, c := range out.takes(section) {
			names = append(names, out.sectionName(section, c))
		}
	}
	return names, nil
}

// piece is one section in one form under one title, and the files that take it.
type piece struct {
	form       job.Form
	title      string
	direction  string
	laid, flat []shape.Sink
	files      []*oneFile
}

// pieces gathers what the outputs take of a section, and begins the files that
// hold it alone.
func (s *fileSet) pieces(section job.Section) ([]*piece, error) {
	var pieces []*piece
	for _, o := range s.outputs {
		for _, c := range o.takes(section) {
			l := o.oneFile
			if o.Format.Split {
				var err error
				if l, err = s.begin(o, o.sectionName(section, c)); err != nil {
					return nil, err
				}
				s.closed = append(s.closed, l)
			}
			at := slices.IndexFunc(pieces, func(p *piece) bool {
				return p.form == c.Form && p.title == c.Title && p.direction == c.Direction
			})
			if at < 0 {
				at, pieces = len(pieces), append(pieces, &piece{form: c.Form, title: c.Title, direction: c.Direction})
			}
			p := pieces[at]
			p.files = append(p.files, l)
			if o.Format.FlatFor(o.Output) {
				p.flat = append(p.flat, counter{l})
			} else {
				p.laid = append(p.laid, counter{l})
			}
		}
	}
	return pieces, nil
}

// stream puts one query and lays its rows out for the pieces that come from it.
type stream struct {
	s       *fileSet
	section job.Section
	pieces  []*piece
	shapers []*shape.Shaper
	first   map[string]any // cells of the first row, for a text
	columns []rows.Column
	sums    bool
}

// Columns implements rows.Sink.
func (t *stream) Columns(_ string, columns []rows.Column) error {
	t.columns = slices.Clone(columns)
	if t.sums {
		t.s.sums.columns(t.section, columns)
	}
	if t.section.Kind == job.SectionText {
		return nil
	}
	for _, p := range t.pieces {
		plan, err := fit(t.section, p, columns)
		if err != nil {
			return err
		}
		shaper, err := shape.NewShaper(plan, p.laid, p.flat)
		if err != nil {
			return err
		}
		t.shapers = append(t.shapers, shaper)
	}
	return nil
}

func fit(section job.Section, p *piece, columns []rows.Column) (*shape.Plan, error) {
	plan, err := shape.Fit(section, p.form, columns)
	if err != nil {
		return nil,
			fault.Wrap(err, fault.Lasting, fault.Task, fmt.Sprintf("lay out section %q", section.Name),
				"The query no longer gives what the section lays out: correct the report.")
	}
	if p.title != "" {
		plan.Title = p.title
	}
	plan.Direction = p.direction
	return plan, nil
}

// Row implements rows.Sink.
func (t *stream) Row(row rows.Row) error {
	if t.sums {
		t.s.sums.row(row)
	}
	if t.section.Kind == job.SectionText {
		if t.first == nil {
			t.first = map[string]any{}
			for i, c := range t.columns {
				t.first[c.Name] = expr.Cell(c.Kind, row[i])
			}
		}
		return nil
	}
	for _, shaper := range t.shapers {
		if err := shaper.Row(row); err != nil {
			return err
		}
	}
	return nil
}

// run renders one section. counts is whether its rows are asked for although no
// output may take it. It gives the number of rows of its own query, and whether
// it was put.
func (s *fileSet) run(ctx context.Context, source report.Source, section job.Section, q report.Query,
	counts bool,
) (int64, bool, error) {
	pieces, err := s.pieces(section)
	if err != nil || len(pieces) == 0 && !counts {
		return 0, false, err
	}
	var own int64
	put := false
	for _, pass := range passes(section, pieces, counts) {
		sql := pass.sql
		t := &stream{s: s, section: section, pieces: pass.pieces, sums: sql == section.SQL && !put}
		if strings.TrimSpace(sql) != "" {
			q.SQL = sql
			n, err := source.Stream(ctx, q, section.Name, t)
			if err != nil {
				return 0, false, err
			}
			if sql == section.SQL {
				own, put = n, section.Kind != job.SectionText
			}
		}
		if section.Kind == job.SectionText {
			if err := s.text(section, t); err != nil {
				return 0, false, err
			}
			continue
		}
		for _, shaper := range t.shapers {
			if _, err := shaper.End(); err != nil {
				return 0, false, err
			}
		}
	}
	s.total += own
	return own, put, s.endPieces()
}

// pass is one putting of a query, for pieces that take its rows at once.
type pass struct {
	sql    string
	pieces []*piece
	files  []*oneFile
}

// passes gathers the pieces of a section. Those whose rows come from the same
// query share it, unless a file takes several of them: it takes one after the
// other.
func passes(section job.Section, pieces []*piece, counts bool) []*pass {
	var all []*pass
	if counts {
		all = append(all, &pass{sql: section.SQL})
	}
	for _, p := range pieces {
		sql := section.InForm(p.form).SQL
		at := slices.IndexFunc(all, func(o *pass) bool {
			return o.sql == sql &&
				!slices.ContainsFunc(p.files, func(l *oneFile) bool { return slices.Contains(o.files, l) })
		})
		if at < 0 {
			at, all = len(all), append(all, &pass{sql: sql})
		}
		all[at].pieces, all[at].files = append(all[at].pieces, p), append(all[at].files, p.files...)
	}
	return all
}

// text fills a section that is a text and hands it to its files.
func (s *fileSet) text(section job.Section, t *stream) error {
	facts := s.facts(s.total)
	facts.Cells, facts.Blanks = t.first, true
	names := Names(s.rep.Parameters)
	for _, c := range t.columns {
		names.Columns = append(names.Columns, c.Name)
		if _, had := facts.Cells[c.Name]; !had {
			if facts.Cells == nil {
				facts.Cells = map[string]any{}
			}
			facts.Cells[c.Name] = "" // the query gave no row
		}
	}
	filled, err := fill(section.Text, names, facts)
	if err != nil {
		return fault.Wrap(err, fault.Lasting, fault.Task, fmt.Sprintf("write the text of section %q", section.Name),
			"Correct the text in the report.")
	}
	for _, p := range t.pieces {
		// Hidden columns are looked for here, too: a text may not speak of one.
		plan, err := fit(section, p, t.columns)
		if err != nil {
			return err
		}
		plan.Columns, plan.Text = nil, filled
		shaper, err := shape.NewShaper(plan, p.laid, p.flat)
		if err != nil {
			return err
		}
		if _, err := shaper.End(); err != nil {
			return err
		}
	}
	return nil
}

// endPieces finishes the files that hold one section only.
func (s *fileSet) endPieces() error {
	for _, l := range s.closed {
		if l.writer == nil {
			continue
		}
		if err := s.close(l); err != nil {
			return err
		}
	}
	return nil
}

// close ends a file and notes what its writer has to say.
func (s *fileSet) close(l *oneFile) error {
	err := l.writer.Close()
	if speaker, ok := l.writer.(render.Speaker); ok && err == nil {
		for _, text := range speaker.Says() {
			s.said = append(s.said, l.output.Format.Name+": "+text)
		}
	}
	if near := l.output.Near(l.rows); near != "" && err == nil {
		s.said = append(s.said, l.output.Format.Name+": "+near)
	}
	if full, ok := l.writer.(render.Full); ok && full.Full() {
		l.file.Drop()
		l.file = nil
	}
	l.writer = nil
	return err
}

// keep finishes all files. The table for a mail comes after the others, since
// it names them, and the kept rows come last. Names that come twice get a number.
func (s *fileSet) keep(task string, part int,
	name func(o job.Output, section string) (file, folder string, err error),
) (_ []job.Artifact, err error) {
	var files []job.Artifact
	defer func() {
		if err == nil {
			return
		}
		for _, f := range files {
			_ = s.folder.Remove(f.Key) // what stays behind is reaped by its age
		}
	}()
	taken := map[string]bool{}
	finish := func(l *oneFile) error {
		if l.file == nil {
			return nil
		}
		text, folder, err := name(l.output.Output, l.section)
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
			Part: part, Task: task, Format: l.output.Format.Name, Name: text, Folder: folder,
			Section: l.section, MediaType: l.output.MediaType(),
			Size: kept.Size, SHA256: kept.SHA256, Rows: l.rows, Key: kept.Key,
		})
		return nil
	}
	for _, l := range s.closed {
		if err := finish(l); err != nil {
			return nil, err
		}
	}
	for _, turn := range []func(format string) bool{
		func(f string) bool { return f != render.MailTable && f != render.RowsKept },
		func(f string) bool { return f == render.MailTable },
		func(f string) bool { return f == render.RowsKept },
	} {
		for _, o := range s.outputs {
			if o.oneFile == nil || !turn(o.Format.Name) {
				continue
			}
			s.head.Files = nil
			for _, f := range files {
				s.head.Files = append(s.head.Files, f.Name)
			}
			if err := s.close(o.oneFile); err != nil {
				return nil, err
			}
			if err := finish(o.oneFile); err != nil {
				return nil, err
			}
		}
	}
	return files, nil
}

// drop forgets the files that were not kept.
func (s *fileSet) drop() {
	all := slices.Clone(s.closed)
	for _, o := range s.outputs {
		if o.oneFile != nil {
			all = append(all, o.oneFile)
		}
	}
	for _, l := range all {
		if dropper, ok := l.writer.(interface{ Drop() }); ok && l.writer != nil {
			dropper.Drop()
		}
		if l.file != nil {
			l.file.Drop()
		}
	}
}

// unlike gives a name that is not taken, in any case of its letters.
func unlike(name string, taken map[string]bool) string {
	first := name
	for n := 2; taken[strings.ToLower(name)]; n++ {
		name = expr.BeforeEnding(first, fmt.Sprintf(" (%d)", n))
	}
	taken[strings.ToLower(name)] = true
	return name
}

// wrong gives the single faults of an error that lists them.
func wrong(err error) []fault.Wrong {
	var v *fault.Invalid
	if errors.As(err, &v) {
		return v.Wrong
	}
	return []fault.Wrong{{Sentence: err.Error()}}
}
