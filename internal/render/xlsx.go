package render

import (
	"archive/zip"
	"bytes"
	"fmt"
	"io"
	"slices"
	"strconv"
	"strings"
	"unicode/utf8"

	"ironbell/internal/core/job"
	"ironbell/internal/core/locale"
	"ironbell/internal/core/rows"
	"ironbell/internal/core/shape"

	"github.com/xuri/excelize/v2"
)

// xlsxWriter writes a workbook with one sheet for each section: a title, the
// values used, a frozen header row, real numbers and dates, subtotals in bold,
// columns as wide as their first rows need, and a chart beside its table. With
// data only, the header is the first row and nothing but rows follows. A
// section of more rows than a sheet holds goes on in the next sheet.
type xlsxWriter struct {
	out    io.Writer
	head   *Head
	style  *Style
	file   *excelize.File
	sheet  *excelize.StreamWriter
	names  map[string]bool
	styles map[look]int
	said   []string
	say    func(string) // says something once

	name    string // of the sheet
	plan    *shape.Plan
	forms   []*locale.Form
	totals  []*locale.Form
	values  []any
	first   int               // number of the header row
	early   []early           // the first lines, kept until the widths are known
	next    int               // number of the row that is written next
	begun   bool              // the header of this sheet is written
	more    int               // how many sheets the section has gone on to
	base    []int             // style of each column
	places  []int             // decimals that numbers are shown with which their column does not say
	starts  []int             // row with which the group at hand of each level begins; of the whole table at last
	last    int               // row of the last data
	texts   []bool            // columns in which a number stands as a text, which no formula adds up
	refs    map[string]string // what each sheet takes, by its part of the file
	figures []figure          // of a section of figures
	split   *chartData        // of a chart whose series are the values of a column
}

type early struct {
	shape.Line

	shown []string // its cells as people read them
}

// look is what a cell looks like.
type look struct {
	form string // number format
	bold bool
	line bool // above it, for a total
	mark job.Mark
	wrap bool
	head bool
	size float64

	right bool
}

// widthRows is how many rows the widths of columns are taken from.
const widthRows = 100

// sheetFont is the font of styled cells, as of all others.
const sheetFont = "Calibri"

// colours of the marks, on white.
var markColours = map[job.Mark]string{
	job.MarkGood: "1F6B4F", job.MarkWarning: "8A5F00", job.MarkBad: "A8321A", job.MarkFaint: "6B6F76",
}

func newXLSX(w io.Writer, h *Head, s *Style) (Writer, error) {
	if s.Book != nil {
		f := &filled{out: w, head: h, style: s}
		f.say = f.saidOnce
		return f, nil
	}
	x := &xlsxWriter{
		out: w, head: h, style: s, file: excelize.NewFile(), names: map[string]bool{}, styles: map[look]int{},
		refs: map[string]string{},
	}
	x.say = x.saidOnce
	x.file.SetZipWriter(func(w io.Writer) excelize.ZipWriter { return &measured{ZipWriter: zip.NewWriter(w), refs: x.refs} })
	return x, nil
}

func (x *xlsxWriter) lookOf(l look) (int, error) {
	if id, ok := x.styles[l]; ok {
		return id, nil
	}
	s := &excelize.Style{}
	if l.form != "" {
		s.CustomNumFmt = &l.form
	}
	if l.bold || l.mark != job.MarkNone || l.size > 0 || l.head {
		s.Font = &excelize.Font{
			Bold: l.bold || l.head || l.mark == job.MarkStrong, Color: markColours[l.mark], Size: max(l.size, 11),
			Family: x.font(),
		}
	}
	if l.head {
		s.Fill = excelize.Fill{Type: "pattern", Pattern: 1, Color: []string{x.style.Look.Line}}
		s.Alignment = &excelize.Alignment{Vertical: "top", WrapText: true}
		if l.right {
			s.Alignment.Horizontal = "right"
		}
	}
	if l.wrap {
		s.Alignment = &excelize.Alignment{Vertical: "top", WrapText: true}
	}
	if l.line {
		s.Border = []excelize.Border{{Type: "top", Color: x.style.Look.Accent, Style: 1}}
	}
	id, err := x.file.NewStyle(s)
	if err != nil {
		return 0, fmt.Errorf("prepare the workbook: %w", err)
	}
	x.styles[l] = id
	return id, nil
}

func (x *xlsxWriter) Begin(p *shape.Plan) error {
	x.plan, x.values, x.more, x.figures = p, make([]any, len(p.Columns)), 0, nil
	var err error
	if x.forms, x.totals, err = x.style.forms(p, true); err != nil {
		return err
	}
	if x.split = nil; p.Chart != nil && (p.Chart.Split >= 0 || len(p.Chart.Targets) > 0) && !x.style.DataOnly {
		if x.split, err = newChartData(p, x.style, x.forms); err != nil {
			return err
		}
	}
	x.base, x.places = nil, make([]int, len(p.Columns))
	return x.beginSheet(p.Title)
}

func (x *xlsxWriter) beginSheet(title string) error {
	x.name = x.sheetName(title)
	if len(x.names) == 1 {
		if err := x.file.SetSheetName("Sheet1", x.name); err != nil {
			return fmt.Errorf("name the sheet %q: %w", x.name, err)
		}
	} else if _, err := x.file.NewSheet(x.name); err != nil {
		return fmt.Errorf("add the sheet %q: %w", x.name, err)
	}
	if err := x.paper(); err != nil {
		return err
	}
	sheet, err := x.file.NewStreamWriter(x.name)
	if err != nil {
		return fmt.Errorf("begin the sheet %q: %w", x.name, err)
	}
	x.sheet, x.early, x.next, x.begun = sheet, nil, 1, false
	x.starts, x.last = make([]int, len(x.plan.Groups)+1), 0
	x.texts = make([]bool, len(x.plan.Columns))
	return nil
}

// paper lays a sheet out for printing. It comes before the stream, which writes
// the sheet's properties first.
func (x *xlsxWriter) paper() error {
	x.first = 1
	if x.style.DataOnly {
		return nil
	}
	x.first = 4 // below the title, what it is, and an empty row
	if x.style.Look.Logo != nil {
		x.first++
	}
	if err := x.foot(); err != nil {
		return err
	}
	// Printed, it is as wide as the paper, and each page has the header.
	sideways, one, any, yes := "landscape", 1, 0, true
	if err := x.file.SetPageLayout(x.name, &excelize.PageLayoutOptions{
		Orientation: &sideways, FitToWidth: &one, FitToHeight: &any,
	}); err != nil {
		return fmt.Errorf("lay the sheet out: %w", err)
	}
	if err := x.file.SetSheetProps(x.name, &excelize.SheetPropsOptions{FitToPage: &yes}); err != nil {
		return fmt.Errorf("lay the sheet out: %w", err)
	}
	if x.plan.Kind == job.SectionText || x.plan.Kind == job.SectionFigures {
		return nil
	}
	if err := x.file.SetDefinedName(&excelize.DefinedName{
		Name:     "_xlnm.Print_Titles",
		RefersTo: fmt.Sprintf("'%s'!$%d:$%d", strings.ReplaceAll(x.name, "'", "''"), x.first, x.first), Scope: x.name,
	}); err != nil {
		return fmt.Errorf("lay the sheet out: %w", err)
	}
	return nil
}

func (x *xlsxWriter) Line(line *shape.Line) error {
	if x.plan.Kind == job.SectionFigures && !x.style.DataOnly {
		if x.figures == nil {
			x.figures = figuresOf(x.plan, line.Cells, x.style.Locale, x.forms)
		}
		return nil
	}
	if x.split != nil && line.Kind == shape.Data {
		if err := x.split.add(line.Cells); err != nil {
			return err
		}
	}
	if x.begun {
		return x.write(line)
	}
	kept := early{Line: *line, shown: shownLine(x.plan, line, x.forms, x.totals, x.style.Locale).cells}
	kept.Cells, kept.Marks = make(rows.Row, len(line.Cells)), slices.Clone(line.Marks)
	for i, c := range line.Cells {
		kept.Cells[i] = rows.Cell{Text: bytes.Clone(c.Text), Null: c.Null}
	}
	if x.early = append(x.early, kept); len(x.early) < widthRows {
		return nil
	}
	return x.begin()
}

// title writes what stands above the rows.
func (x *xlsxWriter) title() error {
	big, err := x.lookOf(look{bold: true, size: 14})
	if err != nil {
		return err
	}
	small, err := x.lookOf(look{mark: job.MarkFaint})
	if err != nil {
		return err
	}
	if x.first > 4 {
		if err := x.sheet.SetRow("A1", []any{nil}, excelize.RowOpts{Height: logoRow}); err != nil {
			return fmt.Errorf("write the logo: %w", err)
		}
	}
	w := x.style.Locale.Words
	title := x.head.Title
	if x.plan.Title != title {
		title += "  ·  " + x.plan.Title
	}
	about := fmt.Sprintf("%s %s", w.AsOf, x.head.asOf(x.style.Locale))
	if values := x.head.valuesLine(); values != "" {
		about += "  ·  " + values
	}
	if x.head.Run != "" {
		about += "  ·  " + w.Run + " " + x.head.Run
	}
	for row, cell := range []excelize.Cell{{StyleID: big, Value: title}, {StyleID: small, Value: about}} {
		if err := x.sheet.SetRow("A"+strconv.Itoa(row+x.first-3), []any{cell},
			excelize.RowOpts{Height: 22 - 5*float64(row)}); err != nil {
			return fmt.Errorf("write the title: %w", err)
		}
	}
	return nil
}

// begin writes the header and the lines that were kept.
func (x *xlsxWriter) begin() error {
	if x.base == nil {
		if err := x.looks(); err != nil {
			return err
		}
	}
	for i, c := range x.plan.Columns {
		width := min(utf8.RuneCountInString(x.style.head(c)), 24)
		for word := range strings.FieldsSeq(x.style.head(c)) {
			width = max(width, utf8.RuneCountInString(word)+1)
		}
		for _, line := range x.early {
			n := utf8.RuneCountInString(line.shown[i])
			if line.Kind != shape.Data {
				n += n / 8 // it is bold
			}
			if width = max(width, n); c.Kind.Numeric() && c.Decimals == nil {
				width = max(width, n+x.places[i]-decimals(line.Cells[i].Text))
			}
		}
		if c.Width > 0 {
			width = c.Width
		}
		if err := x.sheet.SetColWidth(i+1, i+1, float64(min(max(width+2, 8), 60))); err != nil {
			return fmt.Errorf("set the width of a column: %w", err)
		}
	}
	if err := x.sheet.SetPanes(&excelize.Panes{
		Freeze: true, YSplit: x.first, TopLeftCell: "A" + strconv.Itoa(x.first+1), ActivePane: "bottomLeft",
	}); err != nil {
		return fmt.Errorf("freeze the header: %w", err)
	}
	if x.first > 1 {
		if err := x.title(); err != nil {
			return err
		}
	}
	id, err := x.lookOf(look{head: true})
	if err != nil {
		return err
	}
	right, err := x.lookOf(look{head: true, right: true})
	if err != nil {
		return err
	}
	header := make([]any, len(x.plan.Columns))
	for i, c := range x.plan.Columns {
		of := id
		if c.Kind.Numeric() {
			of = right
		}
		header[i] = excelize.Cell{StyleID: of, Value: x.style.head(c)}
	}
	if err := x.sheet.SetRow("A"+strconv.Itoa(x.first), header); err != nil {
		return fmt.Errorf("write the header: %w", err)
	}
	x.next, x.begun = x.first+1, true
	for _, line := range x.early {
		if err := x.write(&line.Line); err != nil {
			return err
		}
	}
	x.early = nil
	return nil
}

func (x *xlsxWriter) write(line *shape.Line) error {
	if x.next > excelize.TotalRows {
		if err := x.goOn(); err != nil {
			return err
		}
	}
	isTotal := line.Kind != shape.Data
	if !isTotal {
		x.begins(line)
	}
	for i, c := range line.Cells {
		id := x.base[i]
		if isTotal || i < len(line.Marks) && line.Marks[i] != job.MarkNone {
			l := look{form: x.numberForm(i), bold: isTotal, line: line.Kind == shape.GrandTotal}
			if i < len(line.Marks) {
				l.mark = line.Marks[i]
			}
			var err error
			if id, err = x.lookOf(l); err != nil {
				return err
			}
		}
		of := x.plan.Columns[i].Kind
		if isTotal && x.plan.Columns[i].Total == job.TotalCount {
			of = rows.Whole
		}
		value := x.value(of, c)
		if _, is := value.(string); is && !isTotal && of.Numeric() {
			x.texts[i] = true
		}
		formula := ""
		if isTotal {
			value = x.named(line, i, value)
			formula = x.formula(line, i)
		}
		if id != 0 || formula != "" {
			value = excelize.Cell{StyleID: id, Value: value, Formula: formula}
		}
		x.values[i] = value
	}
	if err := x.sheet.SetRow("A"+strconv.Itoa(x.next), x.values); err != nil {
		return fmt.Errorf("write row %d: %w", x.next, err)
	}
	x.next++
	return nil
}

// goOn begins another sheet for a section that has more rows than one holds.
func (x *xlsxWriter) goOn() error {
	if x.more++; x.more == 1 {
		x.said = append(x.said,
			fmt.Sprintf("the section %s has more rows than a sheet holds and goes on in the next sheets",
				x.plan.Section))
	}
	if err := x.flush(); err != nil {
		return err
	}
	if err := x.beginSheet(x.plan.Title); err != nil {
		return err
	}
	return x.begin()
}

func (x *xlsxWriter) value(kind rows.Kind, c rows.Cell) any {
	return sheetValue(x.style.Zone, kind, c, x.say)
}

func (x *xlsxWriter) saidOnce(text string) {
	for _, had := range x.said {
		if had == text {
			return
		}
	}
	x.said = append(x.said, text)
}

// Says tells what a reader of the file should know.
func (x *xlsxWriter) Says() []string { return x.said }

func (x *xlsxWriter) End() error {
	switch {
	case x.plan.Kind == job.SectionText:
		if err := x.text(); err != nil {
			return err
		}
	case x.plan.Kind == job.SectionFigures && !x.style.DataOnly:
		if err := x.figureRows(); err != nil {
			return err
		}
	default:
		if !x.begun {
			if err := x.begin(); err != nil {
				return err
			}
		}
		if x.plan.Chart != nil && !x.style.DataOnly && x.next > x.first+1 {
			if err := x.chart(); err != nil {
				return err
			}
		}
	}
	return x.flush()
}

// flush ends a sheet: what it takes, what of it is printed, and, of rows without totals among them, its filters.
func (x *xlsxWriter) flush() error {
	wide, high := len(x.plan.Columns), x.next-1
	switch {
	case x.plan.Kind == job.SectionText:
		wide, high = 1, x.first
	case x.plan.Kind == job.SectionFigures && !x.style.DataOnly:
		wide, high = 3, x.first+len(x.figures)-1
	}
	end, err := excelize.CoordinatesToCellName(max(wide, 1), max(high, 1))
	if err != nil {
		return fmt.Errorf("finish the sheet: %w", err)
	}
	part := fmt.Sprintf("xl/worksheets/sheet%d.xml", len(x.names))
	x.refs[part] = "A1:" + end
	isTable := x.begun && x.last > x.first
	// The library writes names with an apostrophe as they are, which no program reads.
	if isTable && len(x.plan.Groups) == 0 && !strings.Contains(x.name, "'") {
		bottom, err := excelize.CoordinatesToCellName(wide, x.last)
		if err != nil {
			return fmt.Errorf("finish the sheet: %w", err)
		}
		if err := x.file.AutoFilter(x.name, fmt.Sprintf("A%d:%s", x.first, bottom), nil); err != nil {
			return fmt.Errorf("let the rows be filtered: %w", err)
		}
	}
	if isTable && !x.style.DataOnly && x.plan.Chart == nil {
		area, err := excelize.CoordinatesToCellName(wide, high, true)
		if err != nil {
			return fmt.Errorf("finish the sheet: %w", err)
		}
		if err := x.file.SetDefinedName(&excelize.DefinedName{
			Name: "_xlnm.Print_Area", RefersTo: fmt.Sprintf("'%s'!$A$1:%s", strings.ReplaceAll(x.name, "'", "''"), area), Scope: x.name,
		}); err != nil {
			return fmt.Errorf("lay the sheet out: %w", err)
		}
	}
	if err := x.logo(); err != nil {
		return err
	}
	if err := x.sheet.Flush(); err != nil {
		return fmt.Errorf("finish the sheet: %w", err)
	}
	return nil
}

// text writes a section that is a text.
func (x *xlsxWriter) text() error {
	if err := x.sheet.SetColWidth(1, 1, 90); err != nil {
		return fmt.Errorf("set the width of a column: %w", err)
	}
	if x.first > 1 {
		if err := x.title(); err != nil {
			return err
		}
	}
	id, err := x.lookOf(look{wrap: true})
	if err != nil {
		return err
	}
	if err := x.sheet.SetRow("A"+strconv.Itoa(x.first),
		[]any{excelize.Cell{StyleID: id, Value: x.plan.Text}}); err != nil {
		return fmt.Errorf("write the text: %w", err)
	}
	return nil
}

// figureRows writes figures, one below the other, with their change.
func (x *xlsxWriter) figureRows() error {
	widths := []float64{34, 18, 24}
	for _, f := range x.figures {
		// The number's letters are half as wide again as those of its label.
		for i, need := range []float64{float64(len([]rune(f.label))) + 2, float64(len([]rune(f.text)))*1.7 + 3, float64(len([]rune(f.change))) + 2} {
			widths[i] = min(max(widths[i], need), 60)
		}
	}
	for i, width := range widths {
		if err := x.sheet.SetColWidth(i+1, i+1, width); err != nil {
			return fmt.Errorf("set the width of a column: %w", err)
		}
	}
	if err := x.title(); err != nil {
		return err
	}
	for n, f := range x.figures {
		form := look{form: x.numberForm(f.column), bold: true, size: 16}
		big, err := x.lookOf(form)
		if err != nil {
			return err
		}
		mark, err := x.lookOf(look{mark: f.mark})
		if err != nil {
			return err
		}
		row := []any{
			f.label,
			excelize.Cell{StyleID: big, Value: x.value(x.plan.Columns[f.column].Kind, f.cell)},
			excelize.Cell{StyleID: mark, Value: f.change},
		}
		if err := x.sheet.SetRow("A"+strconv.Itoa(x.first+n), row); err != nil {
			return fmt.Errorf("write a figure: %w", err)
		}
	}
	return nil
}

// Drop removes what was written on the way; the writer is of no use after it.
func (x *xlsxWriter) Drop() { _ = x.file.Close() }

func (x *xlsxWriter) Close() error {
	defer func() { _ = x.file.Close() }() // removes its temporary files
	about := "Run " + x.head.Run
	if values := x.head.valuesLine(); values != "" {
		about += "; " + values
	}
	if x.head.Identity != "" {
		about += "; read as " + x.head.Identity
	}
	if err := x.file.SetDocProps(&excelize.DocProperties{
		Title: x.head.Title, Subject: x.head.Report, Description: about, Creator: "Iron Bell",
		Language: x.style.Locale.Lang,
	}); err != nil {
		return fmt.Errorf("write the workbook's properties: %w", err)
	}
	if err := x.file.Write(x.out); err != nil {
		return fmt.Errorf("write the workbook: %w", err)
	}
	return nil
}

// sheetName makes a section's title fit for a sheet: at most 31 characters, none
// of those that are refused, and not one that is taken.
func (x *xlsxWriter) sheetName(section string) string {
	clean := strings.Trim(strings.Map(func(r rune) rune {
		if strings.ContainsRune(`[]:*?/\`, r) || r < 0x20 {
			return ' '
		}
		return r
	}, section), "' ")
	if clean == "" {
		clean = "Section"
	}
	cut := func(n int) string {
		r := []rune(clean)
		return strings.TrimRight(string(r[:min(len(r), n)]), "' ")
	}
	name := cut(31)
	for n := 2; x.names[strings.ToLower(name)]; n++ {
		tail := " " + strconv.Itoa(n)
		name = cut(31-len(tail)) + tail
	}
	x.names[strings.ToLower(name)] = true
	return name
}
