package workbook

import (
	"bytes"
	"encoding/xml"
	"errors"
	"fmt"
	"slices"
	"strconv"
)

// cell is a cell as it stands in a sheet (ECMA-376 part 1, 18.3.1.4).
type cell struct {
	at

	attrs   []xml.Attr
	raw     []byte // as it stands
	inside  []byte // what stands in it
	kind    string // t: how its value is written
	value   string // v, or the text of an inline string
	filled  bool   // it has a value
	formula *formula
}

// formula is that of a cell (18.3.1.40).
type formula struct {
	attrs []xml.Attr
	text  string
	kind  string // t: shared, array, dataTable
	group string // si
	ref   string
}

// row is the beginning of a row (18.3.1.73).
type row struct {
	number int
	attrs  []xml.Attr
	cells  []cell
}

// grid reads the rows of a sheet.
type grid struct {
	*tokens

	head, tail []byte // of the part, around what stands in sheetData
	prefix     string // of its elements, with its colon
	at         at
	open       bool // rows are being read
}

var errOrder = errors.New("the rows or cells of one of its sheets do not stand in their order")

// newGrid reads up to the rows.
func newGrid(part []byte) (*grid, error) {
	g := &grid{tokens: newTokens(part)}
	for {
		tok, err := g.next()
		if err != nil {
			return nil, cut(err)
		}
		start, is := tok.(xml.StartElement)
		if !is || start.Name.Local != "sheetData" {
			continue
		}
		if start.Name.Space != "" {
			g.prefix = start.Name.Space + ":"
		}
		if g.open = !g.closed(); g.open {
			g.head = part[:g.to]
			return g, nil
		}
		g.head = append(slices.Clone(part[:g.from]), "<"+g.prefix+"sheetData>"...)
		g.tail = append([]byte("</"+g.prefix+"sheetData>"), part[g.to:]...)
		return g, nil
	}
}

// nextRow gives the next row with its cells; nil after the last.
func (g *grid) nextRow() (*row, error) {
	for g.open {
		tok, err := g.next()
		if err != nil {
			return nil, cut(err)
		}
		switch tok := tok.(type) {
		case xml.EndElement: // of sheetData
			g.open, g.tail = false, g.data[g.from:]
		case xml.StartElement:
			if tok.Name.Local != "row" {
				return nil, fmt.Errorf("a sheet has %s among its rows", tok.Name.Local)
			}
			return g.readRow(tok)
		}
	}
	return nil, nil
}

func (g *grid) readRow(start xml.StartElement) (*row, error) {
	r := &row{number: g.at.row + 1, attrs: slices.Clone(start.Attr)}
	for _, a := range r.attrs {
		if a.Name.Local == "r" {
			n, err := strconv.Atoi(a.Value)
			if err != nil || n <= g.at.row || n > mostRows {
				return nil, errOrder
			}
			r.number = n
		}
	}
	g.at = at{row: r.number}
	for {
		tok, err := g.next()
		if err != nil {
			return nil, cut(err)
		}
		switch tok := tok.(type) {
		case xml.EndElement:
			return r, nil
		case xml.StartElement:
			if tok.Name.Local != "c" {
				if err := g.skip(); err != nil {
					return nil, err
				}
				continue
			}
			c, err := g.readCell(tok)
			if err != nil {
				return nil, err
			}
			r.cells = append(r.cells, c)
		}
	}
}

func (g *grid) readCell(start xml.StartElement) (cell, error) {
	from, begun := g.from, g.to
	c := cell{at: at{g.at.row, g.at.col + 1}, attrs: slices.Clone(start.Attr)}
	for _, a := range c.attrs {
		switch a.Name.Local {
		case "r":
			place, ok := readAt(a.Value)
			if !ok || place.row != g.at.row || place.col <= g.at.col {
				return c, errOrder
			}
			c.at = place
		case "t":
			c.kind = a.Value
		}
	}
	g.at = c.at
	var inside string
	for depth := 1; depth > 0; {
		tok, err := g.next()
		if err != nil {
			return c, cut(err)
		}
		switch tok := tok.(type) {
		case xml.StartElement:
			depth++
			switch inside = tok.Name.Local; inside {
			case "f":
				c.formula = readFormula(tok)
			case "rPh": // how it is said
				if err := g.skip(); err != nil {
					return c, err
				}
				depth--
			}
		case xml.EndElement:
			depth--
			inside = ""
		case xml.CharData:
			switch inside {
			case "f":
				c.formula.text += string(tok)
			case "v", "t":
				c.value += string(tok)
				c.filled = true
			}
		}
	}
	c.raw = g.data[from:g.to]
	if begun < g.from {
		c.inside = g.data[begun:g.from]
	}
	return c, nil
}

func readFormula(start xml.StartElement) *formula {
	f := &formula{attrs: slices.Clone(start.Attr)}
	for _, a := range f.attrs {
		switch a.Name.Local {
		case "t":
			f.kind = a.Value
		case "si":
			f.group = a.Value
		case "ref":
			f.ref = a.Value
		}
	}
	return f
}

// style is the number of a cell's style; empty for the first.
func (c cell) style() string {
	for _, a := range c.attrs {
		if a.Name.Local == "s" {
			return a.Value
		}
	}
	return ""
}

// walk reads all cells of a sheet. It ends with the first error of its own.
func walk(part []byte, onRow func(*row) error) error {
	g, err := newGrid(part)
	if err != nil {
		return err
	}
	for {
		r, err := g.nextRow()
		if err != nil || r == nil {
			return err
		}
		if err := onRow(r); err != nil {
			return err
		}
	}
}

// sharing writes the formulas out that cells share: each as it would stand by itself.
type sharing map[string]cell

// own is the formula of a cell by itself; nil for none.
func (s sharing) own(c cell) *formula {
	f := c.formula
	if f == nil || f.kind != "shared" {
		return f
	}
	if f.text != "" {
		s[f.group] = c
	}
	of, ok := s[f.group]
	if !ok {
		return nil // what it shared is gone: nothing stands there
	}
	return &formula{text: shifted(of.formula.text, c.row-of.row, c.col-of.col)}
}

// Value is what a cell takes.
type Value struct {
	Kind   byte // one of those below
	Number float64
	Text   string
}

// The kinds of values.
const (
	Nothing byte = iota
	Number
	Date   // the number of days, as sheets count them
	Moment // the same with a time
	Words
	YesNo
	Fault // such as #DIV/0!
)

// writeCell writes a cell with its style.
func writeCell(out *bytes.Buffer, prefix string, a at, style string, extra []xml.Attr, f *formula, v Value) {
	out.WriteString("<" + prefix + "c r=\"" + a.String() + "\"")
	if style != "" {
		out.WriteString(` s="` + style + `"`)
	}
	for _, a := range extra {
		if n := a.Name.Local; n != "r" && n != "s" && n != "t" && n != "vm" && (n != "cm" || f != nil) {
			out.WriteByte(' ')
			writeName(out, a.Name)
			out.WriteString(`="`)
			writeText(out, a.Value)
			out.WriteByte('"')
		}
	}
	kind := map[byte]string{Words: "inlineStr", YesNo: "b", Fault: "e"}[v.Kind]
	if v.Kind == Words && f != nil {
		kind = "str"
	}
	if kind != "" {
		out.WriteString(` t="` + kind + `"`)
	}
	if f == nil && v.Kind == Nothing {
		out.WriteString("/>")
		return
	}
	out.WriteByte('>')
	if f != nil {
		writeStart(out, xml.Name{Local: prefix + "f"}, f.attrs, false)
		writeText(out, f.text)
		out.WriteString("</" + prefix + "f>")
	}
	switch {
	case kind == "inlineStr":
		out.WriteString("<" + prefix + `is><` + prefix + `t xml:space="preserve">`)
		writeText(out, cellText(v.Text))
		out.WriteString("</" + prefix + "t></" + prefix + "is>")
	case v.Kind == Words || v.Kind == Fault:
		out.WriteString("<" + prefix + "v>")
		writeText(out, cellText(v.Text))
		out.WriteString("</" + prefix + "v>")
	case v.Kind == Number || v.Kind == Date || v.Kind == Moment || v.Kind == YesNo:
		out.WriteString("<" + prefix + "v>" + strconv.FormatFloat(v.Number, 'g', -1, 64) + "</" + prefix + "v>")
	}
	out.WriteString("</" + prefix + "c>")
}
