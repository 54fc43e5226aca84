package job

import (
	"fmt"
	"slices"
	"strings"
	"unicode"

	"ironbell/internal/core/fault"
)

// Workbook is a spreadsheet of the owner's own that outputs fill: its formulas,
// charts and layout go on working.
type Workbook struct {
	Name   string        `json:"name" minLength:"1" maxLength:"100" doc:"by which outputs choose it"`
	File   string        `json:"file,omitempty" pattern:"^[0-9a-f]{64}$" doc:"number of an uploaded workbook"`
	Data   []byte        `json:"data,omitempty" doc:"the workbook itself, in base64, in place of its number; small ones stand so in files of records"`
	Tables []FilledTable `json:"tables,omitempty" maxItems:"50" doc:"which of its named tables take which rows; each takes those of the section of its name when left out"`
	Cells  []FilledCell  `json:"cells,omitempty" maxItems:"300" doc:"which of its named cells take what; each takes the value, the figure or the fact of its name when left out"`
}

// FilledTable says which rows a named table takes.
type FilledTable struct {
	Table   string `json:"table" minLength:"1" maxLength:"255" doc:"its name in the workbook"`
	Section string `json:"section,omitempty" maxLength:"100" doc:"whose rows it takes, in columns of the same heads; it stays as it is when left out"`
	Form    Form   `json:"form,omitempty" enum:"summary,detail" doc:"summary: the subtotals of a grouped table; detail: the underlying rows; its rows without totals when left out"`
}

// FilledCell says what a named cell takes: a value, a figure or a text.
type FilledCell struct {
	Cell    string `json:"cell" minLength:"1" maxLength:"255" doc:"its name in the workbook"`
	Value   string `json:"value,omitempty" maxLength:"60" doc:"parameter whose value it takes, or a fact: as_of, run, report, title"`
	Section string `json:"section,omitempty" maxLength:"100" doc:"from whose first row it takes a column"`
	Column  string `json:"column,omitempty" maxLength:"200" doc:"of the section"`
	Text    string `json:"text,omitempty" maxLength:"2000" doc:"that it takes, with moving parts; it stays as it is when nothing is given"`
}

// HiddenSheets says what becomes of hidden sheets.
type HiddenSheets string

// The choices; the first is the default.
const (
	HiddenKept    HiddenSheets = "keep"
	HiddenRemoved HiddenSheets = "remove"
)

// WorkbookFile is an uploaded workbook, and what it holds.
type WorkbookFile struct {
	ID   string `json:"id" db:"id" doc:"number: the SHA-256 of its bytes"`
	Name string `json:"name" db:"name" doc:"of the file that was sent"`
	Size int64  `json:"size" db:"size" doc:"bytes"`
	WorkbookFacts
}

// WorkbookFacts is what a workbook holds that can be filled.
type WorkbookFacts struct {
	Sheets     []WorkbookSheet `json:"sheets"`
	Tables     []WorkbookTable `json:"tables"`
	Cells      []WorkbookCell  `json:"cells" doc:"names of single cells"`
	Formulas   int             `json:"formulas" doc:"how many cells reckon"`
	Unreckoned []string        `json:"unreckoned,omitempty" doc:"cells whose formulas are not reckoned here, each with its reason; at most 20"`
	Says       []string        `json:"says,omitempty" doc:"what is left out of it when it is filled"`
}

// WorkbookSheet is a sheet of a workbook.
type WorkbookSheet struct {
	Name   string `json:"name"`
	Hidden bool   `json:"hidden,omitempty"`
}

// WorkbookTable is a named table of a workbook.
type WorkbookTable struct {
	Name    string           `json:"name"`
	Sheet   string           `json:"sheet"`
	At      string           `json:"at" doc:"where it stands, such as A4:F12"`
	Columns []WorkbookColumn `json:"columns"`
	Room    int              `json:"room,omitempty" doc:"rows that it has room for before something stands below it; any when left out"`
	Below   string           `json:"below,omitempty" doc:"the cell that stands below it"`
}

// WorkbookColumn is a column of a named table.
type WorkbookColumn struct {
	Name    string `json:"name"`
	Formula bool   `json:"formula,omitempty" doc:"its cells reckon, in each row anew"`
}

// WorkbookCell is a named cell of a workbook.
type WorkbookCell struct {
	Name    string `json:"name"`
	Sheet   string `json:"sheet"`
	At      string `json:"at"`
	Formula bool   `json:"formula,omitempty" doc:"it reckons, and takes nothing"`
	Table   string `json:"table,omitempty" doc:"named table in which it stands"`
}

// Facts that named cells take by their names.
const (
	FactAsOf   = "as_of"
	FactRun    = "run"
	FactReport = "report"
	FactTitle  = "title"
)

var bookFacts = []string{FactAsOf, FactRun, FactReport, FactTitle}

// Workbook finds a workbook of a report by its name.
func (d ReportDefinition) Workbook(name string) (Workbook, bool) {
	i := slices.IndexFunc(d.Workbooks, func(w Workbook) bool { return w.Name == name })
	if i < 0 {
		return Workbook{}, false
	}
	return d.Workbooks[i], true
}

// Filling is what a report puts into one of its workbooks.
type Filling struct {
	Tables []FilledTable
	Cells  []FilledCell
	Free   []string // cells that take the figure of their name, where there is one
}

// Sections are those whose rows a filling takes, each in the forms that it takes them in.
func (f Filling) Sections(d ReportDefinition) (all []Chosen) {
	add := func(c Chosen) {
		if c.Section != "" && !slices.Contains(all, c) {
			all = append(all, c)
		}
	}
	for _, t := range f.Tables {
		add(Chosen{Section: t.Section, Form: t.Form})
	}
	for _, c := range f.Cells {
		add(Chosen{Section: c.Section})
	}
	for _, s := range d.Sections {
		if s.Kind == SectionFigures && len(f.Free) > 0 {
			add(Chosen{Section: s.Name})
		}
	}
	return all
}

// Filling is what the report puts into a workbook: what the workbook says, and by
// their names the tables and cells of which it says nothing. What does not fit
// is told to v, and where is its place.
func (d ReportDefinition) Filling(v *fault.Invalid, where string, w Workbook, has WorkbookFacts) (f Filling) {
	for i, t := range w.Tables {
		at := fmt.Sprintf("%s.tables[%d]", where, i)
		if slices.ContainsFunc(w.Tables[:i], func(o FilledTable) bool { return strings.EqualFold(o.Table, t.Table) }) {
			v.Add(at+".table", "the table %q stands there twice", t.Table)
		}
		if !slices.ContainsFunc(has.Tables, func(o WorkbookTable) bool { return strings.EqualFold(o.Name, t.Table) }) {
			v.Add(at+".table", "the workbook has no table %q; it has %s", t.Table, listed(has.Tables, func(o WorkbookTable) string { return o.Name }))
		}
		if t.Section == "" {
			if t.Form != FormWhole {
				v.Add(at+".form", "it goes with a section")
			}
			continue
		}
		s, ok := d.section(v, at+".section", t.Section)
		switch {
		case !ok:
		case s.Kind == SectionText:
			v.Add(at+".section", "the section %q is a text and has no rows", t.Section)
		case t.Form == FormSummary && len(s.Group) == 0:
			v.Add(at+".form", "a summary is the subtotals of a grouped table, and the section %q has no groups", s.Name)
		}
		f.Tables = append(f.Tables, t)
	}
	for i, c := range w.Cells {
		at := fmt.Sprintf("%s.cells[%d]", where, i)
		if slices.ContainsFunc(w.Cells[:i], func(o FilledCell) bool { return strings.EqualFold(o.Cell, c.Cell) }) {
			v.Add(at+".cell", "the cell %q stands there twice", c.Cell)
		}
		of := slices.IndexFunc(has.Cells, func(o WorkbookCell) bool { return strings.EqualFold(o.Name, c.Cell) })
		if of < 0 {
			v.Add(at+".cell", "the workbook has no named cell %q; it has %s", c.Cell, listed(has.Cells, func(o WorkbookCell) string { return o.Name }))
		}
		if d.checkCell(v, at, c) == 0 {
			continue
		}
		if of >= 0 && has.Cells[of].Formula {
			v.Add(at+".cell", "the cell %q has a formula, which would be lost; name another cell", c.Cell)
		}
		f.Cells = append(f.Cells, c)
	}
	d.byName(&f, w, has)
	for _, c := range has.Cells {
		if c.Table == "" || !slices.ContainsFunc(f.Tables, func(t FilledTable) bool { return strings.EqualFold(t.Table, c.Table) }) {
			continue
		}
		if slices.ContainsFunc(w.Cells, func(o FilledCell) bool { return strings.EqualFold(o.Cell, c.Name) && o.Takes() }) {
			v.Add(where+".cells", "the cell %q stands in the table %q, which takes rows; name a cell elsewhere", c.Name, c.Table)
		}
		f.Cells = slices.DeleteFunc(f.Cells, func(o FilledCell) bool { return strings.EqualFold(o.Cell, c.Name) })
		f.Free = slices.DeleteFunc(f.Free, func(o string) bool { return strings.EqualFold(o, c.Name) })
	}
	twice(v, where, f, has)
	return f
}

// twice tells which cells have two names that both take something.
func twice(v *fault.Invalid, where string, f Filling, has WorkbookFacts) {
	named := map[string]string{} // by place
	for _, c := range has.Cells {
		if !slices.ContainsFunc(f.Cells, func(o FilledCell) bool { return strings.EqualFold(o.Cell, c.Name) }) {
			continue
		}
		at := c.Sheet + "!" + c.At
		if other, had := named[at]; had {
			v.Add(where+".cells", "the cell %s has the names %s and %s, and both take something; let one of them take nothing", at, other, c.Name)
		}
		named[at] = c.Name
	}
}

// Takes tells whether the cell takes something.
func (c FilledCell) Takes() bool { return c.Value+c.Section+c.Column+c.Text != "" }

// checkCell tells what is wrong with what a cell takes, and how many things it takes.
func (d ReportDefinition) checkCell(v *fault.Invalid, at string, c FilledCell) (takes int) {
	for _, given := range []bool{c.Value != "", c.Section+c.Column != "", c.Text != ""} {
		if given {
			takes++
		}
	}
	if takes > 1 {
		v.Add(at, "the cell %q takes one thing: a value, a column of a section, or a text", c.Cell)
	}
	if c.Value != "" && !slices.Contains(bookFacts, c.Value) && !slices.ContainsFunc(d.Parameters, func(p Parameter) bool { return p.Name == c.Value }) {
		v.Add(at+".value", "there is no parameter %q, and no fact; the facts are %s", c.Value, strings.Join(bookFacts, ", "))
	}
	if c.Section+c.Column == "" {
		return takes
	}
	s, ok := d.section(v, at+".section", c.Section)
	switch {
	case ok && c.Column == "":
		v.Add(at+".column", "name a column of the section %q", c.Section)
	case ok && s.Hides(c.Column):
		v.Add(at+".column", "the column %q is hidden and would be seen here", c.Column)
	case ok && s.Kind == SectionText:
		v.Add(at+".section", "the section %q is a text and has no rows", c.Section)
	}
	return takes
}

func (d ReportDefinition) section(v *fault.Invalid, at, name string) (Section, bool) {
	s, ok := d.Section(name)
	if !ok {
		v.Add(at, "there is no section %q; there are %s", name, listed(d.Sections, func(s Section) string { return s.Name }))
	}
	return s, ok
}

// byName adds what tables and cells take by their names.
func (d ReportDefinition) byName(f *Filling, w Workbook, has WorkbookFacts) {
	for _, t := range has.Tables {
		if slices.ContainsFunc(w.Tables, func(o FilledTable) bool { return strings.EqualFold(o.Table, t.Name) }) {
			continue
		}
		for _, s := range d.Sections {
			if Alike(s.Name, t.Name) && s.Kind != SectionText {
				f.Tables = append(f.Tables, FilledTable{Table: t.Name, Section: s.Name})
				break
			}
		}
	}
	for _, c := range has.Cells {
		if c.Formula || slices.ContainsFunc(w.Cells, func(o FilledCell) bool { return strings.EqualFold(o.Cell, c.Name) }) {
			continue
		}
		if of := d.known(c.Name); of != "" {
			f.Cells = append(f.Cells, FilledCell{Cell: c.Name, Value: of})
		} else {
			f.Free = append(f.Free, c.Name)
		}
	}
}

// known is the parameter or the fact of a name; empty for none.
func (d ReportDefinition) known(name string) string {
	for _, p := range d.Parameters {
		if Alike(p.Name, name) {
			return p.Name
		}
	}
	for _, fact := range bookFacts {
		if Alike(fact, name) {
			return fact
		}
	}
	return ""
}

// Fits tells for each column of a table which of the columns of its rows it takes,
// by their names or heads; -1 for none.
func (t WorkbookTable) Fits(n int, column func(i int) (name, head string)) []int {
	takes := make([]int, len(t.Columns))
	for i, c := range t.Columns {
		takes[i] = -1
		for of := range n {
			name, head := column(of)
			if Alike(name, c.Name) || Alike(head, c.Name) {
				takes[i] = of
				break
			}
		}
	}
	return takes
}

// WorkbookPlan says what a workbook of a report takes.
type WorkbookPlan struct {
	Workbook string         `json:"workbook"`
	File     WorkbookFile   `json:"file"`
	Takes    []WorkbookTake `json:"takes" doc:"its named tables and cells, and what each takes"`
}

// WorkbookTake says what a named table or cell takes.
type WorkbookTake struct {
	Name  string `json:"name"`
	At    string `json:"at"`
	Takes string `json:"takes,omitempty" doc:"what it takes; it stays as it is when left out"`
	Notes string `json:"notes,omitempty" doc:"what becomes of its other columns, and how many rows it has room for"`
}

// Plan says what a workbook takes, as far as it is known what the queries give.
func (d ReportDefinition) Plan(v *fault.Invalid, where string, w Workbook, file WorkbookFile, given []Described) WorkbookPlan {
	p := WorkbookPlan{Workbook: w.Name, File: file, Takes: []WorkbookTake{}}
	f := d.Filling(v, where, w, file.WorkbookFacts)
	for _, t := range file.Tables {
		take := WorkbookTake{Name: t.Name, At: t.Sheet + "!" + t.At}
		for _, o := range f.Tables {
			if strings.EqualFold(o.Table, t.Name) {
				take.Takes, take.Notes = d.planTable(v, where, o, t, given)
			}
		}
		p.Takes = append(p.Takes, take)
	}
	for _, c := range file.Cells {
		take := WorkbookTake{Name: c.Name, At: c.Sheet + "!" + c.At}
		if c.Formula {
			take.Notes = "it reckons"
		}
		for _, o := range f.Cells {
			if strings.EqualFold(o.Cell, c.Name) {
				take.Takes = d.planCell(v, where, o, given)
			}
		}
		if slices.Contains(f.Free, c.Name) {
			take.Takes = d.figure(c.Name, given)
		}
		p.Takes = append(p.Takes, take)
	}
	return p
}

func (d ReportDefinition) planTable(v *fault.Invalid, where string, o FilledTable, t WorkbookTable, given []Described) (takes, notes string) {
	takes = "rows of " + o.Section
	if o.Form != FormWhole {
		takes += ", " + string(o.Form)
	}
	var said []string
	if t.Room > 0 {
		said = append(said, fmt.Sprintf("room for %d rows: %s stands below it", t.Room, t.Below))
	}
	columns, known := d.shown(o.Section, o.Form, given)
	if known {
		var filled, reckon, empty []string
		for i, of := range t.Fits(len(columns), func(i int) (string, string) { return columns[i].Name, columns[i].Label }) {
			switch {
			case of >= 0:
				filled = append(filled, t.Columns[i].Name)
			case t.Columns[i].Formula:
				reckon = append(reckon, t.Columns[i].Name)
			default:
				empty = append(empty, t.Columns[i].Name)
			}
		}
		if len(filled) == 0 {
			v.Add(where+".tables", "the table %q has the columns %s, and the section %q gives none of them; it gives %s", t.Name,
				listed(t.Columns, func(c WorkbookColumn) string { return c.Name }), o.Section, listed(columns, func(c Column) string { return c.Name }))
		}
		takes += ": " + strings.Join(filled, ", ")
		if len(reckon) > 0 {
			said = append(said, strings.Join(reckon, ", ")+" by formula")
		}
		if len(empty) > 0 {
			said = append(said, "empty: "+strings.Join(empty, ", "))
		}
	}
	return takes, strings.Join(said, "; ")
}

// shown are the columns of a section that reach files, as far as they are known.
func (d ReportDefinition) shown(section string, form Form, given []Described) (out []Column, known bool) {
	s, _ := d.Section(section)
	in := s.InForm(form)
	of := form
	if form == FormSummary || form == FormDetail && s.Detail == nil {
		of = FormWhole
	}
	for _, g := range given {
		if g.Section != section || g.Form != of {
			continue
		}
		for _, c := range g.Columns {
			one := Column{Name: c.Name}
			for _, l := range in.Columns {
				if l.Name == c.Name {
					one = l
				}
			}
			if !one.Hidden {
				out = append(out, one)
			}
		}
		return out, true
	}
	return nil, false
}

func (d ReportDefinition) planCell(v *fault.Invalid, where string, o FilledCell, given []Described) string {
	switch {
	case o.Value != "":
		return "value: " + o.Value
	case o.Text != "":
		return "text: " + o.Text
	}
	columns, known := d.shown(o.Section, FormWhole, given)
	if known && !slices.ContainsFunc(columns, func(c Column) bool { return c.Name == o.Column }) {
		v.Add(where+".cells", "the section %q gives no column %q for the cell %q; it gives %s", o.Section, o.Column, o.Cell,
			listed(columns, func(c Column) string { return c.Name }))
	}
	return "first row of " + o.Section + ": " + o.Column
}

// figure is what a cell takes by its name; empty for nothing.
func (d ReportDefinition) figure(name string, given []Described) string {
	for _, s := range d.Sections {
		if s.Kind != SectionFigures {
			continue
		}
		columns, _ := d.shown(s.Name, FormWhole, given)
		for _, c := range columns {
			if Alike(c.Name, name) || Alike(c.Label, name) {
				return "figure of " + s.Name + ": " + c.Name
			}
		}
	}
	return ""
}

// Alike tells whether a name of a workbook, which knows no spaces, is another
// name: letters and digits count, in any case.
func Alike(a, b string) bool { return plain(a) != "" && plain(a) == plain(b) }

func plain(s string) string {
	return strings.Map(func(r rune) rune {
		if unicode.IsLetter(r) || unicode.IsDigit(r) || unicode.IsMark(r) {
			return unicode.ToLower(r)
		}
		return -1
	}, s)
}

func listed[T any](all []T, name func(T) string) string {
	if len(all) == 0 {
		return "none"
	}
	var names []string
	for i, one := range all {
		if i == 30 {
			names = append(names, "…")
			break
		}
		names = append(names, name(one))
	}
	return strings.Join(names, ", ")
}
