package render

import (
	"fmt"
	"io"
	"strconv"
	"strings"
	"unicode/utf8"

	"ironbell/internal/core/fault"
	"ironbell/internal/core/rows"

	"github.com/xuri/excelize/v2"
)

// xlsxWriter writes a workbook with one sheet for each section: a frozen header
// row, real numbers and dates, and columns as wide as their first rows need.
type xlsxWriter struct {
	out    io.Writer
	head   *Head
	file   *excelize.File
	sheet  *excelize.StreamWriter
	names  map[string]bool
	styles map[rows.Kind]int
	header int

	columns []rows.Column
	values  []any
	early   []rows.Row // the first rows, kept until the widths are known
	next    int        // number of the row that is written next, from 1
}

// widthRows is how many rows the widths of columns are taken from.
const widthRows = 100

func newXLSX(w io.Writer, h *Head) (Writer, error) {
	x := &xlsxWriter{out: w, head: h, file: excelize.NewFile(), names: map[string]bool{}, styles: map[rows.Kind]int{}}
	var err error
	if x.header, err = x.file.NewStyle(&excelize.Style{
		Font:      &excelize.Font{Bold: true},
		Fill:      excelize.Fill{Type: "pattern", Pattern: 1, Color: []string{"E5DDCD"}},
		Alignment: &excelize.Alignment{Vertical: "top", WrapText: true},
	}); err != nil {
		return nil, fmt.Errorf("prepare the workbook: %w", err)
	}
	for kind, form := range map[rows.Kind]string{
		rows.Date: "yyyy-mm-dd", rows.Time: "hh:mm:ss", rows.Local: "yyyy-mm-dd hh:mm:ss", rows.Instant: "yyyy-mm-dd hh:mm:ss",
	} {
		if x.styles[kind], err = x.file.NewStyle(&excelize.Style{CustomNumFmt: &form}); err != nil {
			return nil, fmt.Errorf("prepare the workbook: %w", err)
		}
	}
	return x, nil
}

func (x *xlsxWriter) Columns(section string, columns []rows.Column) error {
	if err := x.endSheet(); err != nil {
		return err
	}
	name := x.sheetName(section)
	if len(x.names) == 1 {
		if err := x.file.SetSheetName("Sheet1", name); err != nil {
			return fmt.Errorf("name the sheet %q: %w", name, err)
		}
	} else if _, err := x.file.NewSheet(name); err != nil {
		return fmt.Errorf("add the sheet %q: %w", name, err)
	}
	sheet, err := x.file.NewStreamWriter(name)
	if err != nil {
		return fmt.Errorf("begin the sheet %q: %w", name, err)
	}
	x.sheet, x.columns, x.values = sheet, columns, make([]any, len(columns))
	x.early, x.next = nil, 1
	return nil
}

func (x *xlsxWriter) Row(row rows.Row) error {
	if x.next == 1 {
		kept := make(rows.Row, len(row))
		for i, c := range row {
			kept[i] = rows.Cell{Text: append([]byte(nil), c.Text...), Null: c.Null}
		}
		x.early = append(x.early, kept)
		if len(x.early) < widthRows {
			return nil
		}
		return x.begin()
	}
	return x.write(row)
}

// begin writes the header and the rows that were kept.
func (x *xlsxWriter) begin() error {
	for i, c := range x.columns {
		width := utf8.RuneCount([]byte(c.Name))
		for _, row := range x.early {
			width = max(width, utf8.RuneCount(row[i].Text))
		}
		if err := x.sheet.SetColWidth(i+1, i+1, float64(min(max(width+2, 8), 60))); err != nil {
			return fmt.Errorf("set the width of a column: %w", err)
		}
	}
	if err := x.sheet.SetPanes(&excelize.Panes{Freeze: true, YSplit: 1, TopLeftCell: "A2", ActivePane: "bottomLeft"}); err != nil {
		return fmt.Errorf("freeze the header: %w", err)
	}
	header := make([]any, len(x.columns))
	for i, c := range x.columns {
		header[i] = excelize.Cell{StyleID: x.header, Value: c.Name}
	}
	if err := x.sheet.SetRow("A1", header); err != nil {
		return fmt.Errorf("write the header: %w", err)
	}
	x.next = 2
	for _, row := range x.early {
		if err := x.write(row); err != nil {
			return err
		}
	}
	x.early = nil
	return nil
}

func (x *xlsxWriter) write(row rows.Row) error {
	if x.next > excelize.TotalRows {
		return fault.New(fault.Task, "write the spreadsheet", fmt.Sprintf("a sheet holds at most %d rows, and there are more", excelize.TotalRows-1),
			"Choose csv for this report, or restrict its query.")
	}
	for i, c := range row {
		x.values[i] = x.value(x.columns[i].Kind, c)
	}
	if err := x.sheet.SetRow("A"+strconv.Itoa(x.next), x.values); err != nil {
		return fmt.Errorf("write row %d: %w", x.next, err)
	}
	x.next++
	return nil
}

// value gives a cell its real type. What a spreadsheet cannot hold as such, a
// number of more than 15 digits or a date before 1900, stays text.
func (x *xlsxWriter) value(kind rows.Kind, c rows.Cell) any {
	if c.Null {
		return nil
	}
	switch kind {
	case rows.Whole, rows.Number:
		if digits(c.Text) <= 15 {
			if f, err := strconv.ParseFloat(string(c.Text), 64); err == nil && f-f == 0 { // neither NaN nor infinite
				return f
			}
		}
	case rows.YesNo:
		return c.True()
	case rows.Date, rows.Local, rows.Instant:
		if t, ok := c.When(kind); ok && t.Year() >= 1900 {
			// A sheet knows no zones: the wall time is what stands in the cell.
			_, offset := t.Zone()
			return excelize.Cell{StyleID: x.styles[kind], Value: excelTime(t.Unix() + int64(offset))}
		}
	}
	return string(c.Text)
}

// excelTime is a wall time as days since 1899-12-30 (ECMA-376 part 1, 18.17.4.1).
func excelTime(wall int64) float64 { return float64(wall)/86400 + 25569 }

func digits(text []byte) int {
	n := 0
	for _, c := range text {
		if c >= '0' && c <= '9' {
			n++
		}
	}
	return n
}

func (x *xlsxWriter) endSheet() error {
	if x.sheet == nil {
		return nil
	}
	if x.next == 1 {
		if err := x.begin(); err != nil {
			return err
		}
	}
	if err := x.sheet.Flush(); err != nil {
		return fmt.Errorf("finish the sheet: %w", err)
	}
	return nil
}

func (x *xlsxWriter) Close() error {
	defer func() { _ = x.file.Close() }() // removes its temporary files
	if err := x.endSheet(); err != nil {
		return err
	}
	if err := x.file.SetDocProps(&excelize.DocProperties{Title: x.head.Report, Description: "Run " + x.head.Run, Creator: "Iron Bell"}); err != nil {
		return fmt.Errorf("write the workbook's properties: %w", err)
	}
	if err := x.file.Write(x.out); err != nil {
		return fmt.Errorf("write the workbook: %w", err)
	}
	return nil
}

// sheetName makes a section's name fit for a sheet: at most 31 characters, none
// of those that are refused, and not one that is taken.
func (x *xlsxWriter) sheetName(section string) string {
	clean := strings.Trim(strings.Map(func(r rune) rune {
		if strings.ContainsRune(`[]:*?/\`, r) {
			return ' '
		}
		return r
	}, section), "' ")
	if clean == "" {
		clean = "Section"
	}
	cut := func(n int) string {
		r := []rune(clean)
		return string(r[:min(len(r), n)])
	}
	name := cut(31)
	for n := 2; x.names[strings.ToLower(name)]; n++ {
		tail := " " + strconv.Itoa(n)
		name = cut(31-len(tail)) + tail
	}
	x.names[strings.ToLower(name)] = true
	return name
}
