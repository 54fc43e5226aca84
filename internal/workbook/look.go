package workbook

import (
	"cmp"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"path"
	"slices"
	"strings"

	"ironbell/internal/core/job"
)

// Bounds of what is told of a workbook.
const (
	mostSheets = 200
	mostTables = 100
	mostNamed  = 1000
	mostTold   = 20

	mostLetters = 8192 * 4 // bytes of a formula, of 8,192 letters at most (18.17.2)
)

const (
	markup = "application/vnd.openxmlformats-officedocument."
	sheets = markup + "spreadsheetml."
	vendor = "application/vnd.ms-"
)

// taken are the kinds of parts that a workbook may have: those that hold cells,
// looks and drawings, and nothing that runs or reaches out.
var taken = map[string]bool{
	sheets + "sheet.main+xml": true, sheets + "worksheet+xml": true, sheets + "chartsheet+xml": true, sheets + "styles+xml": true,
	sheets + "sharedstrings+xml": true, sheets + "table+xml": true, sheets + "comments+xml": true, sheets + "printersettings": true,
	sheets + "sheetmetadata+xml": true, sheets + "calcchain+xml": true,
	markup + "theme+xml": true, markup + "drawing+xml": true, markup + "vmldrawing": true, markup + "drawingml.chart+xml": true,
	markup + "drawingml.chartshapes+xml": true, markup + "themeoverride+xml": true, markup + "extended-properties+xml": true,
	markup + "custom-properties+xml": true,
	vendor + "office.chartex+xml":    true, vendor + "office.chartstyle+xml": true, vendor + "office.chartcolorstyle+xml": true,
	vendor + "excel.threadedcomments+xml": true, vendor + "excel.person+xml": true, vendor + "excel.namedsheetview+xml": true,
	"application/vnd.openxmlformats-package.core-properties+xml": true,
	"application/vnd.openxmlformats-package.relationships+xml":   true,
	"image/png": true, "image/jpeg": true, "image/jpg": true, "image/gif": true, "image/bmp": true, "image/tiff": true,
	"image/x-emf": true, "image/x-wmf": true, "image/svg+xml": true, "image/emf": true, "image/wmf": true,
}

// left are the parts that are left out when a workbook is filled: order of
// reckoning, pictures of what it was, and notes of other programs.
func left(name, kind string) bool {
	lower := strings.ToLower(name)
	return kind == sheets+"calcchain+xml" || kind == markup+"customxmlproperties+xml" ||
		strings.HasPrefix(lower, "customxml/") && (kind == "application/xml" || strings.HasSuffix(lower, ".rels")) ||
		strings.HasPrefix(lower, "docmetadata/") && !taken[kind] || strings.HasPrefix(path.Base(lower), "thumbnail") && strings.HasPrefix(kind, "image/")
}

// reasons say of a part that is not taken what it is.
var reasons = []struct{ mark, says string }{
	{"vbaproject", "macros"},
	{"macro", "macros"},
	{"vbadata", "macros"},
	{"dialogsheet", "macros"},
	{"activex", "controls that run something"},
	{"ctrlprop", "controls"},
	{"externallink", "links to other workbooks"},
	{"connections", "connections to data outside"},
	{"querytable", "connections to data outside"},
	{"powerpivot", "a data model"},
	{"model+", "a data model"},
	{"pivotcache", "a pivot table, which keeps the rows that it was made of"},
	{"pivottable", "a pivot table, which keeps the rows that it was made of"},
	{"slicer", "slicers"},
	{"timeline", "timelines"},
	{"embeddings/", "files within it"},
	{"oleobject", "files within it"},
	{"package", "files within it"},
	{"webextension", "programs of the web"},
	{"customui", "buttons that run something"},
	{"revision", "the history of its changes"},
	{"usernames", "the history of its changes"},
	{"richvalue", "cells that are asked for on the web"},
	{"sheet.binary", "cells in a binary form"},
	{"template", "a form for new workbooks"},
	{"digital-signature", "a signature, which filling would break"},
	{"xmlmaps", "maps of data outside"},
}

// refusal says why a part is not taken.
func refusal(name, kind string) error {
	lower := strings.ToLower(name + " " + kind)
	for _, r := range reasons {
		if strings.Contains(lower, r.mark) {
			return fmt.Errorf("it has %s (%s); a workbook that is filled has none. Save it as .xlsx without them", r.says, name)
		}
	}
	return fmt.Errorf("its part %s is of a kind that is not taken (%s)", name, cmp.Or(kind, "none"))
}

// sheet is a sheet of a workbook.
type sheet struct {
	name, part string
	hidden     bool
	index      int
}

// named is a name of a workbook that stands for something.
type named struct {
	name, text string
	scope      int // number of the sheet that it is of; -1 for all
}

// book is a workbook that was looked through.
type book struct {
	*pack

	sheets  []sheet
	defined []named
	tables  []*table
}

// table is a named table (ECMA-376 part 1, 18.5.1.2).
type table struct {
	part    string
	sheet   string
	name    string
	area    area
	header  bool
	totals  bool
	columns []string
	reckon  []string // formula of each column; empty for none

	rows int // that it takes; -1 when it stays as it is
}

// body is where its rows stand.
func (t *table) body() area {
	a := t.area
	if t.header {
		a.first.row++
	}
	if t.totals {
		a.last.row--
	}
	return a
}

// look looks a workbook through. The error is a sentence for whoever sent it.
func look(data []byte) (*book, error) {
	p, err := open(data)
	if err != nil {
		return nil, err
	}
	b := &book{pack: p}
	if err := p.check(); err != nil {
		return nil, err
	}
	return b, b.read()
}

// check refuses what runs, reaches out, or keeps what is not seen.
func (p *pack) check() error {
	for _, name := range p.names {
		kind := p.types[name]
		if name == typesPart || left(name, kind) {
			continue
		}
		if !taken[kind] {
			return refusal(name, kind)
		}
		if strings.HasSuffix(kind, "xml") || strings.HasSuffix(kind, "vmldrawing") {
			if err := p.checkPart(name); err != nil {
				return err
			}
		}
	}
	if p.types[p.contents] != sheets+"sheet.main+xml" {
		return errors.New("its list of sheets is of a kind that is not taken")
	}
	for of, all := range p.links {
		for _, l := range all {
			if err := checkLink(cmp.Or(of, p.contents), l); err != nil {
				return err
			}
		}
	}
	return nil
}

// linked are the kinds of links that parts may have: some programs go by them, and
// not by what the parts say of themselves.
var linked = set(`officedocument worksheet chartsheet styles theme sharedstrings table drawing vmldrawing comments chart chartusershapes
	chartstyle chartcolorstyle chartex image hyperlink printersettings core-properties extended-properties custom-properties calcchain
	sheetmetadata metadata threadedcomment person thumbnail customxml customxmlprops themeoverride namedsheetviews
	classificationlabels`)

func checkLink(of string, l link) error {
	kind := strings.ToLower(path.Base(l.kind))
	if !linked[kind] {
		return refusal(l.target, kind)
	}
	if !l.outside {
		return nil
	}
	target := strings.ToLower(strings.TrimSpace(l.target))
	link := strings.HasSuffix(l.kind, "/hyperlink")
	for _, start := range []string{"http://", "https://", "mailto:", "#"} {
		if link && strings.HasPrefix(target, start) {
			return nil
		}
	}
	return fmt.Errorf("its part %s is linked to %q outside; links that people follow (http, https, mailto) are taken, others are not", of, l.target)
}

// formulaElements are the elements whose text is a formula or a reference.
var formulaElements = map[string]bool{
	"f": true, "formula": true, "formula1": true, "formula2": true, "calculatedColumnFormula": true, "totalsRowFormula": true,
	"definedName": true, "sqref": true,
}

// checkPart reads a part to its end, and refuses formulas that reach out.
func (p *pack) checkPart(name string) error {
	var wrong error
	picture := p.types[name] == "image/svg+xml" || p.types[name] == markup+"vmldrawing"
	_, err := rewritten(p.parts[name], func(e *element) {
		if e.attr("macro") != "" || e.name == "FmlaMacro" {
			wrong = fmt.Errorf("a drawing of its part %s runs a macro", name)
		}
		for _, a := range e.attrs {
			asks := (a.Name.Local == "href" || a.Name.Local == "src") && !strings.HasPrefix(a.Value, "#") && !strings.HasPrefix(a.Value, "data:")
			if picture && (e.name == "script" || e.name == "foreignObject" || asks && a.Value != "") {
				wrong = fmt.Errorf("its drawing %s runs or asks for something", name)
			}
		}
		switch {
		case formulaElements[e.name]:
			e.text = func(text string) string {
				if len(text) > mostLetters && e.name != "sqref" {
					wrong = fmt.Errorf("a formula in its part %s has %d letters; %d are taken", name, len(text), mostLetters)
					return text
				}
				if why := reaches(text); why != "" && wrong == nil {
					wrong = fmt.Errorf("the formula %q in its part %s is not taken: %s", short(text), name, why)
				}
				return text
			}
			for _, a := range []string{"function", "vbProcedure", "xlm"} {
				if v := e.attr(a); e.name == "definedName" && v != "" && v != "0" && v != "false" {
					wrong = errors.New("it has macros among its names")
				}
			}
			if e.attr("t") == "dataTable" {
				wrong = fmt.Errorf("its part %s has a table of trials (what if), which is not taken", name)
			}
		case e.attr("conformance") == "strict":
			wrong = errors.New("it is saved in the strict form; save it as a plain .xlsx")
		case e.name == "externalReference" || e.name == "pivotCache":
			wrong = fmt.Errorf("its part %s has %s, which is not taken", name, e.name)
		case e.name == "oleObject" || e.name == "ddeLink" || e.name == "control" || e.name == "dataConsolidate":
			wrong = fmt.Errorf("its part %s has %s, which is not taken", name, e.name)
		}
		if t := e.attr("textlink"); t != "" && wrong == nil && reaches(t) != "" {
			wrong = fmt.Errorf("a drawing of its part %s shows %q, which is not taken: %s", name, short(t), reaches(t))
		}
	})
	if err != nil {
		return fmt.Errorf("its part %s: %w", name, err)
	}
	return wrong
}

func short(text string) string {
	if r := []rune(text); len(r) > 80 {
		return string(r[:80]) + "…"
	}
	return text
}

// read reads the sheets, names and tables.
func (b *book) read() error {
	var list struct {
		Pr struct {
			Date1904 string `xml:"date1904,attr"`
		} `xml:"workbookPr"`
		Sheets []struct {
			Name  string `xml:"name,attr"`
			State string `xml:"state,attr"`
			ID    string `xml:"http://schemas.openxmlformats.org/officeDocument/2006/relationships id,attr"`
		} `xml:"sheets>sheet"`
		Names []struct {
			Name  string `xml:"name,attr"`
			Scope *int   `xml:"localSheetId,attr"`
			Text  string `xml:",chardata"`
		} `xml:"definedNames>definedName"`
	}
	if err := decode(b.parts[b.contents], &list); err != nil {
		return errors.New("its list of sheets cannot be read")
	}
	if d := list.Pr.Date1904; d == "1" || d == "true" {
		return errors.New("it counts dates from 1904; save it with dates from 1900 (in the options of the office program)")
	}
	if len(list.Sheets) == 0 || len(list.Sheets) > mostSheets {
		return fmt.Errorf("it has %d sheets; 1 to %d are taken", len(list.Sheets), mostSheets)
	}
	for i, s := range list.Sheets {
		part := b.linked(b.contents, s.ID)
		if _, ok := b.parts[part]; !ok {
			return fmt.Errorf("its sheet %q is missing", s.Name)
		}
		if slices.ContainsFunc(b.sheets, func(o sheet) bool { return strings.EqualFold(o.name, s.Name) || o.part == part }) {
			return fmt.Errorf("its sheet %q stands there twice", s.Name)
		}
		b.sheets = append(b.sheets, sheet{name: s.Name, part: part, hidden: s.State == "hidden" || s.State == "veryHidden", index: i})
	}
	for _, n := range list.Names {
		one := named{name: n.Name, text: strings.TrimPrefix(strings.TrimSpace(n.Text), "="), scope: -1}
		if n.Scope != nil {
			one.scope = *n.Scope
		}
		b.defined = append(b.defined, one)
	}
	return b.readTables()
}

// cells tells whether a sheet has cells: those of charts alone have none.
func (b *book) cells(s sheet) bool { return b.types[s.part] == sheets+"worksheet+xml" }

func (b *book) readTables() error {
	for _, s := range b.sheets {
		for _, l := range b.links[s.part] {
			if l.outside || b.types[l.target] != sheets+"table+xml" {
				continue
			}
			t, err := b.readTable(s.name, l.target)
			if err != nil {
				return err
			}
			b.tables = append(b.tables, t)
		}
	}
	if len(b.tables) > mostTables {
		return fmt.Errorf("it has %d named tables; %d are taken at most", len(b.tables), mostTables)
	}
	return nil
}

func (b *book) readTable(sheet, part string) (*table, error) {
	var t struct {
		Name    string `xml:"displayName,attr"`
		Ref     string `xml:"ref,attr"`
		Header  string `xml:"headerRowCount,attr"`
		Totals  int    `xml:"totalsRowCount,attr"`
		Columns []struct {
			Name    string `xml:"name,attr"`
			Formula string `xml:"calculatedColumnFormula"`
		} `xml:"tableColumns>tableColumn"`
	}
	if err := decode(b.parts[part], &t); err != nil {
		return nil, fmt.Errorf("its part %s cannot be read", part)
	}
	a, ok := readArea(t.Ref)
	out := &table{part: part, sheet: sheet, name: t.Name, area: a, header: t.Header != "0", totals: t.Totals > 0, rows: -1}
	if !ok || len(t.Columns) != a.last.col-a.first.col+1 || out.body().rows() < 1 {
		return nil, fmt.Errorf("its table %q does not fit the place where it stands (%s)", t.Name, t.Ref)
	}
	for _, c := range t.Columns {
		out.columns = append(out.columns, strings.NewReplacer("_x000a_", " ", "_x000A_", " ", "\n", " ").Replace(c.Name))
		out.reckon = append(out.reckon, strings.TrimPrefix(c.Formula, "="))
	}
	for _, o := range b.tables {
		if strings.EqualFold(o.name, out.name) {
			return nil, fmt.Errorf("its table %q stands there twice", t.Name)
		}
	}
	return out, nil
}

// place is the single cell that a name stands for.
func (b *book) place(n named) (sheetName string, a at, ok bool) {
	all := pieces(n.text)
	if len(all) != 1 || all[0].kind != reference || all[0].sheet == "" || all[0].first.at != all[0].last.at {
		return "", at{}, false
	}
	for _, s := range b.sheets {
		if strings.EqualFold(s.name, all[0].onSheet()) {
			return s.name, all[0].first.at, b.cells(s)
		}
	}
	return "", at{}, false
}

// facts tells what the workbook holds that can be filled.
func (b *book) facts() (job.WorkbookFacts, error) {
	f := job.WorkbookFacts{Sheets: []job.WorkbookSheet{}, Tables: []job.WorkbookTable{}, Cells: []job.WorkbookCell{}}
	for _, name := range b.leftOut() {
		f.Says = append(f.Says, fmt.Sprintf("Its part %s is left out.", name))
	}
	reckoning := map[string]bool{} // cells with formulas
	below := map[*table]at{}
	for _, s := range b.sheets {
		f.Sheets = append(f.Sheets, job.WorkbookSheet{Name: s.name, Hidden: s.hidden})
		if !b.cells(s) {
			continue
		}
		shared := sharing{}
		err := walk(b.parts[s.part], func(r *row) error {
			for _, c := range r.cells {
				own := shared.own(c)
				if own != nil {
					f.Formulas++
					reckoning[cellName(s.name, c.at)] = true
					if why := b.unreckoned(s, own); why != "" && len(f.Unreckoned) < mostTold {
						f.Unreckoned = append(f.Unreckoned, cellName(s.name, c.at)+": "+why)
					}
				}
				if own == nil && !c.filled {
					continue
				}
				for _, t := range b.tables {
					if t.sheet == s.name && c.row > t.area.last.row && c.col >= t.area.first.col && c.col <= t.area.last.col {
						if had, ok := below[t]; !ok || had.row > c.row {
							below[t] = c.at
						}
					}
				}
			}
			return nil
		})
		if err != nil {
			return f, fmt.Errorf("its sheet %q: %w", s.name, err)
		}
	}
	for _, t := range b.tables {
		one := job.WorkbookTable{Name: t.name, Sheet: t.sheet, At: t.area.String()}
		for i, c := range t.columns {
			first := at{t.body().first.row, t.area.first.col + i}
			one.Columns = append(one.Columns, job.WorkbookColumn{Name: c, Formula: t.reckon[i] != "" || reckoning[cellName(t.sheet, first)]})
		}
		if a, ok := below[t]; ok {
			one.Below = cellName(t.sheet, a)
			one.Room = a.row - 1 - (t.area.last.row - t.body().last.row) - t.body().first.row + 1
		}
		f.Tables = append(f.Tables, one)
	}
	for _, n := range b.defined {
		sheet, a, ok := b.place(n)
		if !ok || strings.HasPrefix(n.name, "_xlnm.") || len(f.Cells) >= mostNamed ||
			slices.ContainsFunc(f.Cells, func(c job.WorkbookCell) bool { return strings.EqualFold(c.Name, n.name) }) {
			continue
		}
		one := job.WorkbookCell{Name: n.name, Sheet: sheet, At: a.String(), Formula: reckoning[cellName(sheet, a)]}
		if t := b.tableAt(sheet, a); t != nil {
			if one.Table = t.name; !t.body().holds(a) {
				continue // a head, which must stay as the table has it
			}
		}
		f.Cells = append(f.Cells, one)
	}
	return f, nil
}

// tableAt is the table in which a cell stands; nil for none.
func (b *book) tableAt(sheet string, a at) *table {
	for _, t := range b.tables {
		if t.sheet == sheet && t.area.holds(a) {
			return t
		}
	}
	return nil
}

// leftOut are the parts that are left out of it, but for the order of reckoning.
func (b *book) leftOut() (out []string) {
	for _, name := range b.names {
		if _, is := linksOf(name); !is && left(name, b.types[name]) && b.types[name] != sheets+"calcchain+xml" && len(out) < mostTold {
			out = append(out, name)
		}
	}
	return out
}

func doLook(out io.Writer, data []byte) error {
	b, err := look(data)
	if err != nil {
		return err
	}
	f, err := b.facts()
	if err != nil {
		return err
	}
	return json.NewEncoder(out).Encode(f) //nolint:wrapcheck // nobody reads on
}
