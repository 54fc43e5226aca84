package render

import (
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"
	"time"

	"ironbell/internal/core/fault"
	"ironbell/internal/core/job"
	"ironbell/internal/core/rows"
	"ironbell/internal/core/shape"
	"ironbell/internal/workbook"
)

// Book is a workbook of the owner's own that an output fills.
type Book struct {
	Name    string
	Data    []byte
	Facts   job.WorkbookFacts
	Filling job.Filling
	Text    func(text string) (string, error) // fills moving parts in, once all rows are known
	Fill    func(f *workbook.Filler, o workbook.Order, to io.Writer) ([]string, error)
}

// filled fills a workbook: named tables take rows, named cells take values and figures.
type filled struct {
	out   io.Writer
	head  *Head
	style *Style

	plan   *shape.Plan
	fill   workbook.Filler
	tables []workbook.TableOrder
	cells  []workbook.CellOrder // with nothing before a row came
	taking []int                // tables that take the rows at hand
	figure []figureCell         // cells that take of the first row at hand
	said   []string
	say    func(string) // says something once
}

// figureCell is a cell that takes a column of the first row.
type figureCell struct{ cell, column int }

func (w *filled) Begin(p *shape.Plan) error {
	w.plan, w.taking = p, nil
	for _, t := range w.style.Book.Filling.Tables {
		if t.Section != p.Section || t.Form != p.Form {
			continue
		}
		of := slices.IndexFunc(w.style.Book.Facts.Tables, func(o job.WorkbookTable) bool { return strings.EqualFold(o.Name, t.Table) })
		if of < 0 {
			return w.wrong("its table "+t.Table+" is gone", nil)
		}
		table := w.style.Book.Facts.Tables[of]
		columns := table.Fits(len(p.Columns), func(i int) (string, string) { return p.Columns[i].Name, p.Columns[i].Head() })
		if !slices.ContainsFunc(columns, func(c int) bool { return c >= 0 }) {
			return w.wrong(fmt.Sprintf("its table %s has none of the columns of %s", t.Table, p.Section), nil)
		}
		for i, c := range columns {
			if c < 0 && !table.Columns[i].Formula {
				w.saidOnce(fmt.Sprintf("the column %s of its table %s stays empty: %s gives none of this name", table.Columns[i].Name, t.Table, p.Section))
			}
		}
		w.taking = append(w.taking, len(w.tables))
		w.tables = append(w.tables, workbook.TableOrder{Table: t.Table, Columns: columns})
	}
	return w.figures()
}

// wrong is a fault of the workbook.
func (w *filled) wrong(what string, err error) error {
	const advice = "Correct the workbook and send it again, or fill another one."
	if err != nil {
		return fault.Wrap(err, fault.Lasting, fault.Task, "fill the workbook "+w.style.Book.Name, advice)
	}
	return fault.New(fault.Task, "fill the workbook "+w.style.Book.Name, what, advice)
}

func (w *filled) Line(line *shape.Line) error {
	for _, f := range w.figure {
		w.cells[f.cell].Value = w.value(w.plan.Columns[f.column].Kind, line.Cells[f.column])
	}
	w.figure = nil
	if len(w.taking) == 0 {
		return nil
	}
	row := workbook.Row{Cells: make([]workbook.Value, len(line.Cells))}
	for i, c := range line.Cells {
		row.Cells[i] = w.value(w.plan.Columns[i].Kind, c)
	}
	for _, t := range w.taking {
		row.Table = t
		if err := w.fill.Row(row); err != nil {
			if errors.Is(err, workbook.ErrFull) {
				return tooMuch("workbook "+w.style.Book.Name, workbook.MaxRows, "rows", "Have fewer rows, or have xlsx without a workbook, or csv.")
			}
			return fault.Wrap(err, fault.Passing, fault.Task, "keep the rows of the workbook", "Look at the room on the disk of the node.")
		}
	}
	return nil
}

// figures finds what named cells take of the first row of the section at hand.
func (w *filled) figures() error {
	if w.figure = nil; w.plan.Form != job.FormWhole {
		return nil
	}
	take := func(cell string, column int) {
		w.figure = append(w.figure, figureCell{len(w.cells), column})
		w.cells = append(w.cells, workbook.CellOrder{Cell: cell})
	}
	f := w.style.Book.Filling
	for _, c := range f.Cells {
		if c.Section != w.plan.Section {
			continue
		}
		i := slices.IndexFunc(w.plan.Columns, func(o shape.Column) bool { return o.Name == c.Column })
		if i < 0 {
			return w.wrong(fmt.Sprintf("its cell %s takes the column %s, which %s does not give", c.Cell, c.Column, c.Section), nil)
		}
		take(c.Cell, i)
	}
	if w.plan.Kind != job.SectionFigures {
		return nil
	}
	for _, name := range f.Free {
		i := slices.IndexFunc(w.plan.Columns, func(o shape.Column) bool { return job.Alike(o.Name, name) || job.Alike(o.Head(), name) })
		if i >= 0 && !slices.ContainsFunc(w.cells, func(o workbook.CellOrder) bool { return o.Cell == name }) {
			take(name, i)
		}
	}
	return nil
}

// value is a cell as a sheet has it.
func (w *filled) value(kind rows.Kind, c rows.Cell) workbook.Value {
	switch v := sheetValue(w.style.Zone, kind, c, w.say).(type) {
	case float64:
		of := map[rows.Kind]byte{rows.Date: workbook.Date, rows.Local: workbook.Moment, rows.Instant: workbook.Moment}
		if at, ok := of[kind]; ok {
			return workbook.Value{Kind: at, Number: v}
		}
		return workbook.Value{Kind: workbook.Number, Number: v}
	case bool:
		if v {
			return workbook.Value{Kind: workbook.YesNo, Number: 1}
		}
		return workbook.Value{Kind: workbook.YesNo}
	case string:
		return workbook.Value{Kind: workbook.Words, Text: v}
	}
	return workbook.Value{}
}

func (w *filled) saidOnce(text string) {
	if !slices.Contains(w.said, text) {
		w.said = append(w.said, text)
	}
}

func (w *filled) End() error { return nil }

// Says tells what a reader of the file should know.
func (w *filled) Says() []string { return w.said }

// Drop forgets the rows.
func (w *filled) Drop() { w.fill.Drop() }

func (w *filled) Close() error {
	defer w.fill.Drop()
	b := w.style.Book
	order := workbook.Order{
		Book: b.Data, Values: w.style.Values, Visible: w.style.Hidden == job.HiddenRemoved, Tables: w.tables, Cells: w.cells,
	}
	for _, c := range b.Filling.Cells {
		v, ok, err := w.known(c)
		if err != nil {
			return err
		}
		if ok {
			order.Cells = append(order.Cells, workbook.CellOrder{Cell: c.Cell, Value: v})
		}
	}
	says, err := b.Fill(&w.fill, order, w.out)
	for _, text := range says {
		w.saidOnce(text)
	}
	if err != nil {
		return w.wrong("", err)
	}
	return nil
}

// known is what a cell takes that is no figure.
func (w *filled) known(c job.FilledCell) (v workbook.Value, ok bool, err error) {
	switch {
	case c.Text != "":
		text, err := w.style.Book.Text(c.Text)
		if err != nil {
			return v, true, fault.Wrap(err, fault.Lasting, fault.Task, "write the text of the cell "+c.Cell, "Correct the text in the report.")
		}
		return workbook.Value{Kind: workbook.Words, Text: text}, true, nil
	case c.Value == "":
		return v, false, nil
	}
	for _, b := range w.head.Values {
		if b.Name == c.Value {
			return w.parameter(b), true, nil
		}
	}
	text := map[string]string{job.FactRun: w.head.Run, job.FactReport: w.head.Report, job.FactTitle: w.head.Title}[c.Value]
	if c.Value == job.FactAsOf {
		return w.value(rows.Instant, rows.Cell{Text: []byte(w.head.AsOf.Format(time.RFC3339))}), true, nil
	}
	return workbook.Value{Kind: workbook.Words, Text: text}, true, nil
}

// parameter is a value of a parameter in its type; of several, what people read.
func (w *filled) parameter(b job.Bound) workbook.Value {
	if b.Null {
		return workbook.Value{}
	}
	kind, typed := map[job.ValueType]rows.Kind{
		job.TypeWhole: rows.Whole, job.TypeNumber: rows.Number, job.TypeDate: rows.Date, job.TypeInstant: rows.Instant, job.TypeYesNo: rows.YesNo,
	}[b.Type]
	if !typed || b.Texts != nil {
		return workbook.Value{Kind: workbook.Words, Text: b.Reads()}
	}
	return w.value(kind, rows.Cell{Text: []byte(b.Text)})
}
