package render

import (
	"bufio"
	"encoding/csv"
	"fmt"
	"io"

	"ironbell/internal/core/rows"
)

// csvWriter writes RFC 4180 text in UTF-8. Cells of text that a spreadsheet
// would take for a formula are defused by an apostrophe in front.
type csvWriter struct {
	out    *bufio.Writer
	csv    *csv.Writer
	kinds  []rows.Kind
	record []string
}

func newCSV(w io.Writer, _ *Head) (Writer, error) {
	out := bufio.NewWriterSize(w, 64<<10)
	c := &csvWriter{out: out, csv: csv.NewWriter(out)}
	c.csv.UseCRLF = true
	return c, nil
}

func (c *csvWriter) Columns(_ string, columns []rows.Column) error {
	c.kinds, c.record = make([]rows.Kind, len(columns)), make([]string, len(columns))
	for i, column := range columns {
		c.kinds[i], c.record[i] = column.Kind, defuse(column.Name)
	}
	return c.write()
}

func (c *csvWriter) Row(row rows.Row) error {
	for i, cell := range row {
		switch {
		case cell.Null:
			c.record[i] = ""
		case c.kinds[i] == rows.Text:
			c.record[i] = defuse(string(cell.Text))
		case c.kinds[i] == rows.YesNo:
			c.record[i] = yesNo(cell)
		default:
			c.record[i] = string(cell.Text)
		}
	}
	return c.write()
}

func (c *csvWriter) write() error {
	if err := c.csv.Write(c.record); err != nil {
		return fmt.Errorf("write the CSV file: %w", err)
	}
	return nil
}

func (c *csvWriter) Close() error {
	c.csv.Flush()
	err := c.csv.Error()
	if err == nil {
		err = c.out.Flush()
	}
	if err != nil {
		return fmt.Errorf("write the CSV file: %w", err)
	}
	return nil
}

// defuse keeps a text from being taken for a formula.
func defuse(text string) string {
	if text != "" {
		switch text[0] {
		case '=', '+', '-', '@', '\t', '\r':
			return "'" + text
		}
	}
	return text
}

func yesNo(c rows.Cell) string {
	if c.True() {
		return "yes"
	}
	return "no"
}
