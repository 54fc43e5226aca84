package workbook

import (
	"bytes"
	"encoding/xml"
	"maps"
	"slices"
	"strings"
)

// patch is a rectangle of a sheet that is written anew.
type patch struct {
	area

	look []xml.Attr                          // of rows that are added
	show bool                                // its rows are shown, if a filter of the sample hid them
	of   func(out *bytes.Buffer, p at) error // writes one cell
}

// reckoner says what becomes of a formula, and with which value.
type reckoner func(p at, f *formula) (*formula, Value)

// splicer writes a sheet anew with patches; all else stays as it is.
type splicer struct {
	prefix  string
	out     bytes.Buffer
	large   []*patch         // of several rows
	small   map[int][]*patch // of one row
	rows    []int            // that have patches, in order
	reckon  reckoner
	shared  sharing
	cleared []area // of formulas that fill several cells: their values go
	last    at     // that has a cell
}

func newSplicer(patches []*patch, reckon reckoner) *splicer {
	s := &splicer{small: map[int][]*patch{}, reckon: reckon, shared: sharing{}}
	all := map[int]bool{}
	for _, p := range patches {
		if p.first.row == p.last.row {
			s.small[p.first.row] = append(s.small[p.first.row], p)
		} else {
			s.large = append(s.large, p)
		}
		for r := p.first.row; r <= p.last.row; r++ {
			all[r] = true
		}
	}
	s.rows = slices.Sorted(maps.Keys(all))
	return s
}

// sheet writes a whole part.
func (s *splicer) sheet(part []byte, around func(*element)) ([]byte, error) {
	g, err := newGrid(part)
	if err != nil {
		return nil, err
	}
	s.prefix = g.prefix
	next := 0
	for {
		r, err := g.nextRow()
		if err != nil {
			return nil, err
		}
		for next < len(s.rows) && (r == nil || s.rows[next] < r.number) {
			if err := s.row(&row{number: s.rows[next]}, true); err != nil {
				return nil, err
			}
			next++
		}
		if r == nil {
			break
		}
		if next < len(s.rows) && s.rows[next] == r.number {
			next++
		}
		if err := s.row(r, false); err != nil {
			return nil, err
		}
	}
	head, err := rewritten(g.head, func(e *element) {
		if e.name == "dimension" && s.last.row > 0 {
			e.set("ref", area{at{1, 1}, s.last}.String())
		}
		around(e)
	})
	if err != nil {
		return nil, err
	}
	tail, err := rewritten(g.tail, around)
	if err != nil {
		return nil, err
	}
	return slices.Concat(head, s.out.Bytes(), tail), nil
}

func (s *splicer) over(row int) []*patch {
	out := slices.Clone(s.small[row])
	for _, p := range s.large {
		if row >= p.first.row && row <= p.last.row {
			out = append(out, p)
		}
	}
	return out
}

func (s *splicer) row(r *row, added bool) error {
	patches := s.over(r.number)
	attrs := []xml.Attr{{Name: xml.Name{Local: "r"}, Value: itoa(r.number)}}
	show := false
	for _, p := range patches {
		if added && p.look != nil {
			r.attrs = p.look
		}
		show = show || p.show
	}
	for _, a := range r.attrs {
		n := a.Name.Local
		if n == "r" || n == "spans" || n == "hidden" && show {
			continue
		}
		attrs = append(attrs, a)
	}
	writeStart(&s.out, xml.Name{Local: s.prefix + "row"}, attrs, false)
	slices.SortFunc(patches, func(a, b *patch) int { return a.first.col - b.first.col })
	cells := r.cells
	for _, p := range patches {
		for len(cells) > 0 && cells[0].col < p.first.col {
			s.cell(cells[0])
			cells = cells[1:]
		}
		for len(cells) > 0 && cells[0].col <= p.last.col {
			s.shared.own(cells[0]) // others may share its formula
			cells = cells[1:]
		}
		for col := p.first.col; col <= p.last.col; col++ {
			if err := p.of(&s.out, at{r.number, col}); err != nil {
				return err
			}
		}
		s.reach(at{r.number, p.last.col})
	}
	for _, c := range cells {
		s.cell(c)
	}
	s.out.WriteString("</" + s.prefix + "row>")
	return nil
}

func (s *splicer) reach(p at) { s.last = at{max(s.last.row, p.row), max(s.last.col, p.col)} }

// cell writes a cell that no patch covers.
func (s *splicer) cell(c cell) {
	s.reach(c.at)
	if own := s.shared.own(c); c.formula != nil {
		if own == nil {
			s.moved(c, c.at)
			return
		}
		if a, ok := readArea(own.ref); ok && own.kind == "array" && a.first != a.last {
			s.cleared = append(s.cleared, a)
		}
		f, v := s.reckon(c.at, own)
		writeCell(&s.out, s.prefix, c.at, c.style(), c.attrs, f, v)
		return
	}
	for _, a := range s.cleared {
		if a.holds(c.at) {
			writeCell(&s.out, s.prefix, c.at, c.style(), c.attrs, nil, Value{})
			return
		}
	}
	s.moved(c, c.at)
}

// moved writes a cell without a formula as it is, at a place.
func (s *splicer) moved(c cell, to at) {
	attrs := []xml.Attr{{Name: xml.Name{Local: "r"}, Value: to.String()}}
	for _, a := range c.attrs {
		if a.Name.Local != "r" {
			attrs = append(attrs, a)
		}
	}
	if c.formula != nil { // what it shared is gone: its value stays
		writeCell(&s.out, s.prefix, to, c.style(), nil, nil, Value{})
		return
	}
	writeStart(&s.out, xml.Name{Local: s.prefix + "c"}, attrs, len(c.inside) == 0)
	if len(c.inside) > 0 {
		s.out.Write(c.inside)
		s.out.WriteString("</" + s.prefix + "c>")
	}
}

// stretching says how far tables reach, and moves what speaks of all of their rows.
type stretching []*table

// stretched is a formula of a sheet after the tables took their rows. Charts
// speak of one row as of a cell; whole says that such a cell is all rows.
func (all stretching) stretched(formula, onSheet string, whole bool) string {
	if len(all) == 0 {
		return formula
	}
	var out strings.Builder
	for _, p := range pieces(formula) {
		if p.kind != reference {
			out.WriteString(p.text)
			continue
		}
		of := onSheet
		if p.sheet != "" {
			of = p.onSheet()
		}
		for _, t := range all {
			if strings.EqualFold(t.sheet, of) && t.stretch(&p, whole) {
				break
			}
		}
		out.WriteString(p.write())
	}
	return out.String()
}

// stretch moves the ends of a reference that speaks of all rows of a table, or of its totals.
func (t *table) stretch(p *piece, whole bool) bool {
	if t.rows < 0 {
		return false
	}
	within := p.first.col >= t.area.first.col && p.last.col <= t.area.last.col
	around := p.first.col <= t.area.first.col && p.last.col >= t.area.last.col
	if !within && !around {
		return false
	}
	body, grown := t.body(), t.grown()
	totals := body.last.row + 1
	switch {
	case t.totals && p.last.row == totals && p.first.row == totals:
		p.first.row, p.last.row = grown.last.row+1, grown.last.row+1
	case t.totals && p.last.row == totals && p.first.row <= body.first.row:
		p.last.row = grown.last.row + 1
	case p.last.row == body.last.row && p.first.row <= body.first.row && (p.range_ || whole):
		p.last.row = grown.last.row
		p.range_ = p.range_ || p.first.row != p.last.row
	default:
		return false
	}
	return true
}

// grown is where its rows stand once it took them: at least one, as tables have.
func (t *table) grown() area {
	a := t.body()
	if t.rows >= 0 {
		a.last.row = a.first.row + max(t.rows, 1) - 1
	}
	return a
}

// whole is where all of it stands once it took its rows.
func (t *table) whole() area {
	a := t.area
	a.last.row += t.grown().last.row - t.body().last.row
	return a
}
