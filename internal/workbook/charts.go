package workbook

import (
	"bytes"
	"fmt"
	"strconv"
	"strings"
)

// mostPoints is how many values of a series are kept beside its chart.
const mostPoints = 5000

// charts lets charts draw all rows, and keeps beside them what they draw, for
// programs that show a chart without reckoning (ECMA-376 part 1, 21.2.2).
func (f *filling) charts() error {
	drawn := map[string][]Value{} // by the reference
	for _, name := range f.names {
		if f.types[name] != markup+"drawingml.chart+xml" {
			continue
		}
		// What it draws is found before it is written.
		var refs []string
		if _, err := rewritten(f.parts[name], func(e *element) {
			if e.name == "f" {
				e.text = func(text string) string {
					refs = append(refs, f.moves.stretched(text, "", true))
					return text
				}
			}
		}); err != nil {
			return fmt.Errorf("read its part %s: %w", name, err)
		}
		if err := f.find(refs, drawn); err != nil {
			return err
		}
		if err := f.edit(name, f.chartPart(drawn)); err != nil {
			return err
		}
	}
	return nil
}

// chartPart changes a chart: its references, and the values that are kept beside them.
func (f *filling) chartPart(drawn map[string][]Value) func(*element) {
	var around *element // numRef or strRef
	var values []Value
	return func(e *element) {
		switch e.name {
		case "numRef", "strRef", "multiLvlStrRef":
			around, values = e, nil
		case "f":
			e.text = func(text string) string {
				text = f.moves.stretched(text, "", true)
				if around == nil || around.name == "multiLvlStrRef" {
					return text
				}
				if values = drawn[text]; values != nil {
					kind := strings.TrimSuffix(around.name, "Ref")
					around.end = points(around.prefix, kind+"Cache", values, kind == "num")
				}
				return text
			}
		case "multiLvlStrCache":
			e.drop = true
		case "pt", "ptCount":
			e.drop = e.in("numCache") || e.in("strCache") // of the sample
		case "numCache", "strCache":
			if around == nil || values == nil {
				e.drop = true
				return
			}
			around.end = "" // it stands here, with its form of numbers
			e.end = points(e.prefix, "", values, e.name == "numCache")
		}
	}
}

// points are values as a chart keeps them, within an element where one is named.
func points(prefix, within string, values []Value, numbers bool) string {
	var out bytes.Buffer
	open := func(name string) string { return "<" + prefix + name }
	if within != "" {
		out.WriteString(open(within) + ">")
		if numbers {
			out.WriteString(open("formatCode") + ">General</" + prefix + "formatCode>")
		}
	}
	out.WriteString(open("ptCount") + ` val="` + strconv.Itoa(len(values)) + `"/>`)
	for i, v := range values {
		text := v.Text
		switch {
		case v.Kind == Nothing || v.Kind == Fault || numbers && v.Kind == Words:
			continue
		case v.Kind != Words:
			text = strconv.FormatFloat(v.Number, 'g', -1, 64)
		}
		out.WriteString(open("pt") + ` idx="` + strconv.Itoa(i) + `">` + open("v") + ">")
		writeText(&out, text)
		out.WriteString("</" + prefix + "v></" + prefix + "pt>")
	}
	if within != "" {
		out.WriteString("</" + prefix + within + ">")
	}
	return out.String()
}

// find reads the values of rows or columns of cells.
func (f *filling) find(refs []string, found map[string][]Value) error {
	type wanted struct {
		ref  string
		area area
	}
	bySheet := map[string][]wanted{}
	for _, ref := range refs {
		all := pieces(ref)
		if _, had := found[ref]; had || len(all) != 1 || all[0].kind != reference || all[0].sheet == "" {
			continue
		}
		a := area{all[0].first.at, all[0].last.at}
		n := a.rows() * (a.last.col - a.first.col + 1)
		if a.first.row > a.last.row || a.first.col > a.last.col || n > mostPoints {
			continue
		}
		found[ref] = make([]Value, n)
		on := strings.ToLower(all[0].onSheet())
		bySheet[on] = append(bySheet[on], wanted{ref, a})
	}
	texts, err := f.texts()
	if err != nil {
		return err
	}
	for _, s := range f.sheets {
		want := bySheet[strings.ToLower(s.name)]
		if len(want) == 0 || !f.book.cells(s) {
			continue
		}
		if err := walk(f.parts[s.part], func(r *row) error {
			for _, c := range r.cells {
				for _, w := range want {
					if w.area.holds(c.at) {
						across := w.area.last.col - w.area.first.col + 1
						found[w.ref][(c.row-w.area.first.row)*across+c.col-w.area.first.col] = c.is(texts)
					}
				}
			}
			return nil
		}); err != nil {
			return err
		}
	}
	return nil
}

// is is the value of a cell; texts are those that cells name by their number.
func (c cell) is(texts []string) Value {
	switch c.kind {
	case "inlineStr", "str":
		return Value{Kind: Words, Text: c.value}
	case "s":
		n, err := strconv.Atoi(strings.TrimSpace(c.value))
		if err != nil || n < 0 || n >= len(texts) {
			return Value{}
		}
		return Value{Kind: Words, Text: texts[n]}
	case "e":
		return Value{Kind: Fault, Text: c.value}
	}
	number, err := strconv.ParseFloat(strings.TrimSpace(c.value), 64)
	if err != nil {
		return Value{}
	}
	return Value{Kind: Number, Number: number}
}
