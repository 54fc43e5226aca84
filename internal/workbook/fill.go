package workbook

import (
	"bufio"
	"bytes"
	"encoding/gob"
	"encoding/json"
	"encoding/xml"
	"errors"
	"fmt"
	"io"
	"slices"
	"strconv"
	"strings"
	"time"
)

// Order says what a workbook takes. The rows of its tables follow it.
type Order struct {
	Book    []byte
	Values  bool // values in place of formulas
	Visible bool // hidden sheets go
	Tables  []TableOrder
	Cells   []CellOrder
}

// TableOrder names a table, and for each of its columns which value of a row it takes.
type TableOrder struct {
	Table   string
	Columns []int // -1: none
}

// CellOrder is what a named cell takes.
type CellOrder struct {
	Cell string
	Value
}

// Row is a row of one of the tables of an order.
type Row struct {
	Table int
	Cells []Value
}

// Told is what comes of an order, before the workbook itself.
type Told struct {
	Says []string `json:"says"`
}

// How long formulas are reckoned: where values stand in their place, and where
// the program that opens the workbook reckons them anyway.
const (
	valuesTime = 90 * time.Second
	besideTime = 20 * time.Second

	mostReckoned = 200_000 // cells
	mostBeside   = 20_000
)

// filling is a workbook that is being filled.
type filling struct {
	*book

	order  Order
	rows   map[*table][][]Value
	takes  map[*table][]int
	cells  map[string][]cellFill // by sheet
	styles *looks
	moves  stretching
	says   []string
}

type cellFill struct {
	at
	Value
}

func doFill(out io.Writer, in io.Reader) error {
	stream := bufio.NewReaderSize(in, 1<<20)
	var order Order
	if err := gob.NewDecoder(stream).Decode(&order); err != nil {
		return fmt.Errorf("read what is to be filled: %w", err)
	}
	b, err := look(order.Book)
	if err != nil {
		return err
	}
	f := &filling{book: b, order: order, rows: map[*table][][]Value{}, takes: map[*table][]int{}, cells: map[string][]cellFill{}}
	tables := make([]*table, len(order.Tables))
	for i, o := range order.Tables {
		at := slices.IndexFunc(b.tables, func(t *table) bool { return strings.EqualFold(t.name, o.Table) })
		if at < 0 || len(o.Columns) != len(b.tables[at].columns) {
			return fmt.Errorf("the workbook has no such table %q", o.Table)
		}
		tables[i] = b.tables[at]
		f.takes[tables[i]], f.rows[tables[i]] = o.Columns, nil
	}
	read := gob.NewDecoder(stream)
	for {
		var r Row
		err := read.Decode(&r)
		if errors.Is(err, io.EOF) {
			break
		}
		if err != nil || r.Table < 0 || r.Table >= len(tables) {
			return fmt.Errorf("read the rows that it takes: %w", err)
		}
		f.rows[tables[r.Table]] = append(f.rows[tables[r.Table]], r.Cells)
	}
	if err := f.fill(); err != nil {
		return err
	}
	told, err := json.Marshal(Told{Says: f.says})
	if err != nil {
		return fmt.Errorf("tell what came of it: %w", err)
	}
	if _, err := out.Write(append(told, '\n')); err != nil {
		return fmt.Errorf("give the workbook: %w", err)
	}
	return f.write(out)
}

func (f *filling) fill() error {
	for _, t := range f.tables {
		if rows, ok := f.rows[t]; ok {
			if t.rows = len(rows); t.whole().last.row > mostRows {
				return fmt.Errorf("%d rows came for the table %q, which go beyond the end of its sheet; let it begin further up", t.rows, t.name)
			}
			f.moves = append(f.moves, t)
		}
	}
	for _, o := range f.order.Cells {
		if err := f.cell(o); err != nil {
			return err
		}
	}
	var err error
	if f.styles, err = f.readLooks(); err != nil {
		return err
	}
	if err := f.drop(func(name string) bool { return left(name, f.types[name]) }); err != nil {
		return err
	}
	for _, s := range f.sheets {
		if f.book.cells(s) {
			if err := f.sheet(s); err != nil {
				return fmt.Errorf("fill the sheet %q: %w", s.name, err)
			}
		}
	}
	if err := f.styles.write(f.pack); err != nil {
		return err
	}
	if err := f.others(); err != nil {
		return err
	}
	if err := f.values(); err != nil {
		return err
	}
	if err := f.charts(); err != nil {
		return err
	}
	if err := f.hidden(); err != nil {
		return err
	}
	return f.forget()
}

func (f *filling) cell(o CellOrder) error {
	for _, n := range f.defined {
		if !strings.EqualFold(n.name, o.Cell) {
			continue
		}
		if sheet, p, ok := f.place(n); ok {
			f.cells[sheet] = append(f.cells[sheet], cellFill{p, o.Value})
			return nil
		}
	}
	return fmt.Errorf("the workbook has no such cell %q", o.Cell)
}

// model is how the rows of a table look: as its first row does, and its totals.
type model struct {
	row    []xml.Attr
	first  map[int]cell     // of the first row, by column
	reckon map[int]*formula // of the first row
	totals map[int]cell
	sums   map[int]*formula
}

// sheet fills the tables and cells of a sheet.
func (f *filling) sheet(s sheet) error {
	models := map[*table]*model{}
	for _, t := range f.moves {
		if t.sheet == s.name {
			models[t] = &model{first: map[int]cell{}, reckon: map[int]*formula{}, totals: map[int]cell{}, sums: map[int]*formula{}}
		}
	}
	named, places := map[at]bool{}, map[at]cell{} // named cells, and as they stand
	for _, n := range f.cells[s.name] {
		named[n.at] = true
	}
	shared := sharing{}
	err := walk(f.parts[s.part], func(r *row) error {
		for _, c := range r.cells {
			own := shared.own(c)
			if named[c.at] {
				places[c.at] = c
			}
			for t, m := range models {
				if c.row > t.area.last.row && c.row <= t.whole().last.row && (own != nil || c.filled) && c.col >= t.area.first.col && c.col <= t.area.last.col {
					return fmt.Errorf("%d rows came for the table %q, and %s stands where they would go; move it beside the table, above it or to another sheet",
						t.rows, t.name, cellName(s.name, c.at))
				}
				m.take(t, r, c, own)
			}
		}
		return nil
	})
	if err != nil {
		return err
	}
	var sp *splicer
	var patches []*patch
	for t, m := range models {
		whole := t.whole()
		whole.first.row = t.body().first.row
		whole.last.row = max(whole.last.row, t.area.last.row)
		patches = append(patches, &patch{area: whole, look: m.row, show: true, of: func(out *bytes.Buffer, p at) error { return f.tableCell(sp, out, t, m, p) }})
	}
	for _, n := range f.cells[s.name] {
		if slices.ContainsFunc(patches, func(o *patch) bool { return o.holds(n.at) }) {
			return fmt.Errorf("the named cell %s stands in a table that takes rows, or is named twice; name another cell", cellName(s.name, n.at))
		}
		patches = append(patches, &patch{area: area{n.at, n.at}, of: func(out *bytes.Buffer, p at) error {
			c := places[p]
			writeCell(out, sp.prefix, p, f.styles.fit(c.style(), n.Kind), c.attrs, nil, n.Value)
			return nil
		}})
	}
	sp = newSplicer(patches, func(_ at, o *formula) (*formula, Value) { return f.kept(s.name, o), Value{} })
	made, err := sp.sheet(f.parts[s.part], func(e *element) { f.around(s.name, e) })
	if err != nil {
		return err
	}
	f.parts[s.part] = made
	return nil
}

// take keeps what of a cell the rows of a table are made after.
func (m *model) take(t *table, r *row, c cell, own *formula) {
	if c.col < t.area.first.col || c.col > t.area.last.col {
		return
	}
	switch body := t.body(); {
	case c.row == body.first.row:
		m.first[c.col], m.reckon[c.col] = c, own
		if m.row == nil {
			for _, a := range r.attrs {
				if n := a.Name.Local; n != "r" && n != "spans" && n != "hidden" {
					m.row = append(m.row, a)
				}
			}
		}
	case t.totals && c.row == t.area.last.row:
		m.totals[c.col], m.sums[c.col] = c, own
	}
}

// kept is a formula after the tables took their rows.
func (f *filling) kept(sheet string, o *formula) *formula {
	out := *o
	out.text = f.moves.stretched(o.text, sheet, false)
	return &out
}

// tableCell writes a cell of a table: a value of its row, its formula, a total, or
// nothing where rows of the sample stood.
func (f *filling) tableCell(sp *splicer, out *bytes.Buffer, t *table, m *model, p at) error {
	body, grown := t.body(), t.grown()
	col := p.col - t.area.first.col
	if p.row > grown.last.row {
		c, ok := m.totals[p.col]
		switch {
		case !t.totals || p.row != grown.last.row+1:
			writeCell(out, sp.prefix, p, "", nil, nil, Value{})
		case m.sums[p.col] != nil:
			own := *m.sums[p.col]
			own.text = shifted(own.text, 0, 0)
			writeCell(out, sp.prefix, p, c.style(), c.attrs, f.kept(t.sheet, &own), Value{})
		case ok:
			sp.moved(c, p)
		}
		return nil
	}
	c := m.first[p.col]
	if t.rows == 0 {
		writeCell(out, sp.prefix, p, c.style(), nil, nil, Value{})
		return nil
	}
	if from := f.takes[t][col]; from >= 0 {
		row := f.rows[t][p.row-body.first.row]
		if from >= len(row) {
			return errors.New("a row has too few cells")
		}
		writeCell(out, sp.prefix, p, f.styles.fit(c.style(), row[from].Kind), c.attrs, nil, row[from])
		return nil
	}
	own := m.reckon[p.col]
	if own == nil && t.reckon[col] != "" {
		own = &formula{text: t.reckon[col]}
	}
	if own == nil {
		writeCell(out, sp.prefix, p, c.style(), c.attrs, nil, Value{})
		return nil
	}
	next := &formula{text: shifted(own.text, p.row-body.first.row, 0)}
	if own.kind == "array" {
		next.attrs = []xml.Attr{{Name: xml.Name{Local: "t"}, Value: "array"}, {Name: xml.Name{Local: "ref"}, Value: p.String()}}
	}
	writeCell(out, sp.prefix, p, c.style(), c.attrs, f.kept(t.sheet, next), Value{})
	return nil
}

// around changes what stands around the rows of a sheet: ranges of conditions and
// of lists, and their formulas.
func (f *filling) around(sheet string, e *element) {
	if s := e.attr("sqref"); s != "" && e.name != "selection" && e.name != "pane" {
		if next := f.moves.stretched(s, sheet, true); next != s {
			e.set("sqref", next)
		}
	}
	if formulaElements[e.name] && e.name != "definedName" {
		// A condition that speaks of one row is of each row; a range, and a line within a cell, of all.
		whole := e.name == "sqref" || e.in("sparkline")
		e.text = func(text string) string { return f.moves.stretched(text, sheet, whole) }
	}
}

// others changes the parts around the sheets: tables, drawings, names.
func (f *filling) others() error {
	for _, t := range f.tables {
		if err := f.edit(t.part, func(e *element) { f.tablePart(t, e) }); err != nil {
			return err
		}
	}
	for _, name := range f.names {
		kind := f.types[name]
		switch kind {
		case vendor + "office.chartex+xml":
			if err := f.edit(name, func(e *element) {
				switch e.name {
				case "f":
					e.text = func(text string) string { return f.moves.stretched(text, "", true) }
				case "lvl":
					e.drop = e.in("data") // what was drawn of the sample
				}
			}); err != nil {
				return err
			}
		case markup + "drawing+xml":
			if err := f.drawing(name); err != nil {
				return err
			}
		case markup + "extended-properties+xml":
			if err := f.edit(name, func(e *element) { e.drop = e.name == "TitlesOfParts" || e.name == "HeadingPairs" }); err != nil {
				return err
			}
		}
	}
	return f.list()
}

func (f *filling) edit(part string, on func(*element)) error {
	out, err := rewritten(f.parts[part], on)
	if err != nil {
		return fmt.Errorf("write its part %s: %w", part, err)
	}
	f.parts[part] = out
	return nil
}

func (f *filling) tablePart(t *table, e *element) {
	switch e.name {
	case "table":
		e.set("ref", t.whole().String())
	case "autoFilter":
		a := t.whole()
		if t.totals {
			a.last.row--
		}
		e.set("ref", a.String())
	case "filterColumn", "sortState":
		e.drop = t.rows >= 0 || f.order.Values // they are of the sample's rows
	case "calculatedColumnFormula", "totalsRowFormula":
		e.drop = f.order.Values
		e.text = func(text string) string { return f.moves.stretched(text, t.sheet, false) }
	case "tableColumn":
		if f.order.Values && e.attr("totalsRowFunction") != "" {
			e.set("totalsRowFunction", "")
		}
	}
}

// drawing moves what stands below a table that grows.
func (f *filling) drawing(name string) error {
	of := ""
	for _, s := range f.sheets {
		if slices.ContainsFunc(f.links[s.part], func(l link) bool { return l.target == name }) {
			of = s.name
		}
	}
	down, end := 0, 0
	for _, t := range f.moves {
		if grown := t.whole().last.row - t.area.last.row; t.sheet == of && grown > 0 {
			down, end = max(down, grown), max(end, t.area.last.row)
		}
	}
	below := false
	return f.edit(name, func(e *element) {
		if t := e.attr("textlink"); t != "" {
			e.set("textlink", f.moves.stretched(t, of, false))
		}
		if down > 0 && e.name == "row" && (e.in("from") || e.in("to")) {
			e.text = func(text string) string {
				n, err := strconv.Atoi(strings.TrimSpace(text))
				if e.in("from") {
					below = err == nil && n >= end
				}
				if !below {
					return text
				}
				return strconv.Itoa(n + down)
			}
		}
	})
}

// list changes the list of sheets: names that speak of tables' rows, and that all
// is reckoned when it is opened.
func (f *filling) list() error {
	reckons, ends := false, "sheets"
	err := f.edit(f.contents, func(e *element) {
		switch e.name {
		case "definedNames":
			ends = e.name
		case "definedName":
			e.text = func(text string) string { return f.moves.stretched(text, "", false) }
		case "calcPr":
			e.set("fullCalcOnLoad", "1")
			reckons = true
		case "absPath":
			e.drop = true // the folder of whoever saved it
		}
	})
	if err != nil || reckons {
		return err
	}
	return f.edit(f.contents, func(e *element) {
		if e.name == ends && len(e.path) == 1 {
			e.after = `<calcPr xmlns="http://schemas.openxmlformats.org/spreadsheetml/2006/main" fullCalcOnLoad="1"/>`
		}
	})
}

// values reckons the formulas: they stand beside them, or in their place.
func (f *filling) values() error {
	limit, most := besideTime, mostBeside
	if f.order.Values {
		limit, most = valuesTime, mostReckoned
	}
	var unfit []string
	got, err := f.reckon(limit, most, func(sheet string, p at, why string) { unfit = append(unfit, cellName(sheet, p)+": "+why) })
	if err == nil && len(unfit) > 0 {
		err = fmt.Errorf("%s (%s)", unfit[0], counted(len(unfit), "such cell"))
	}
	switch {
	case err != nil && f.order.Values:
		return fmt.Errorf("values cannot stand in place of its formulas: %w; have the workbook without values_only, or change the formula", err)
	case err != nil:
		// What rests on a cell that is not known would be wrong, so that none has a value.
		f.says = append(f.says, "its formulas have no values before an office program opens it: "+err.Error())
		return nil //nolint:nilerr // it was told
	}
	wrong := 0
	for _, s := range f.sheets {
		if !f.book.cells(s) {
			continue
		}
		made, err := newSplicer(nil, func(p at, o *formula) (*formula, Value) {
			v := got[s.name][p]
			if v.Kind == Fault {
				if wrong++; wrong == 1 {
					f.says = append(f.says, fmt.Sprintf("%s comes to %s", cellName(s.name, p), v.Text))
				}
			}
			if f.order.Values {
				return nil, v
			}
			return o, v
		}).sheet(f.parts[s.part], func(*element) {})
		if err != nil {
			return err
		}
		f.parts[s.part] = made
	}
	if wrong > 1 {
		f.says[len(f.says)-1] += fmt.Sprintf(", and %s to an error, too", counted(wrong-1, "other cell"))
	}
	return nil
}

func counted(n int, what string) string {
	if n == 1 {
		return "1 " + what
	}
	return itoa(n) + " " + what + "s"
}
