package workbook

import (
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"
)

// hidden keeps or removes the hidden sheets, and says so.
func (f *filling) hidden() error {
	var gone []sheet
	var names []string
	for _, s := range f.sheets {
		if s.hidden {
			gone, names = append(gone, s), append(names, s.name)
		}
	}
	if len(gone) == 0 {
		return nil
	}
	what := counted(len(gone), "hidden sheet")
	if !f.order.Visible {
		f.says = append(f.says, fmt.Sprintf("it holds %s, which whoever gets it can show: %s", what, strings.Join(names, ", ")))
		return nil
	}
	if len(gone) == len(f.sheets) {
		return errors.New("all of its sheets are hidden, so that none would be left")
	}
	speaks := func(text string) bool {
		return slices.ContainsFunc(pieces(text), func(p piece) bool {
			switch p.kind {
			case reference, name:
				of, rest, is := strings.Cut(p.text, "!")
				if p.kind == reference {
					of, is = strings.TrimSuffix(p.sheet, "!"), p.sheet != ""
				} else if !is {
					return f.means(p.text, gone)
				}
				_ = rest
				from, to, _ := strings.Cut(unquoted(of), ":")
				return is && slices.ContainsFunc(gone, func(s sheet) bool { return strings.EqualFold(s.name, from) || strings.EqualFold(s.name, to) })
			case structure:
				word, _, _ := strings.Cut(p.text, "[")
				return slices.ContainsFunc(f.tables, func(t *table) bool {
					return strings.EqualFold(t.name, word) && slices.ContainsFunc(gone, func(s sheet) bool { return s.name == t.sheet })
				})
			}
			return false
		})
	}
	for _, s := range f.sheets {
		if s.hidden || !f.book.cells(s) {
			continue
		}
		if err := walk(f.parts[s.part], func(r *row) error {
			for _, c := range r.cells {
				if c.formula != nil && speaks(c.formula.text) {
					return fmt.Errorf("%s reads a hidden sheet, which is to be removed; keep hidden sheets, or have values only", cellName(s.name, c.at))
				}
			}
			return nil
		}); err != nil {
			return err
		}
	}
	if err := f.cutOff(gone, speaks); err != nil {
		return err
	}
	f.says = append(f.says, what+" removed from it")
	return f.drop(f.unreached())
}

// means tells whether a name stands for something on one of the sheets.
func (f *filling) means(text string, on []sheet) bool {
	return slices.ContainsFunc(f.defined, func(n named) bool {
		return strings.EqualFold(n.name, text) && slices.ContainsFunc(pieces(n.text), func(p piece) bool {
			return p.kind == reference && slices.ContainsFunc(on, func(s sheet) bool { return strings.EqualFold(s.name, p.onSheet()) })
		})
	})
}

// cutOff takes sheets out of the list. What else of the workbook reads them fails.
func (f *filling) cutOff(gone []sheet, speaks func(text string) bool) error {
	at := make([]int, len(f.sheets)) // where each sheet stands now
	for i, s := range f.sheets {
		at[i] = i
		for _, g := range gone {
			if g.index < s.index {
				at[i]--
			}
			if g.index == s.index {
				at[i] = -1
			}
		}
	}
	ids := map[string]bool{}
	n := -1
	if err := f.edit(f.contents, func(e *element) {
		switch e.name {
		case "sheet":
			if n++; n < len(at) && at[n] < 0 {
				e.drop = true
				ids[e.attr("id")] = true
			}
		case "definedName":
			i := slices.IndexFunc(f.defined, func(d named) bool {
				return d.name == e.attr("name") && strconv.Itoa(d.scope) == orMinus(e.attr("localSheetId"))
			})
			if i < 0 {
				return
			}
			d := f.defined[i]
			e.drop = speaks(d.text) || d.scope >= 0 && d.scope < len(at) && at[d.scope] < 0
			if !e.drop && d.scope >= 0 && d.scope < len(at) {
				e.set("localSheetId", itoa(at[d.scope]))
			}
		case "workbookView":
			for _, a := range []string{"activeTab", "firstSheet"} {
				if i, err := strconv.Atoi(e.attr(a)); err == nil && i < len(at) {
					e.set(a, itoa(max(at[i], 0)))
				}
			}
		}
	}); err != nil {
		return err
	}
	f.links[f.contents] = slices.DeleteFunc(f.links[f.contents], func(l link) bool { return ids[l.id] })
	if err := f.edit(linksPart(f.contents), func(e *element) { e.drop = e.name == "Relationship" && ids[e.attr("Id")] }); err != nil {
		return err
	}
	f.sheets = slices.DeleteFunc(slices.Clone(f.sheets), func(s sheet) bool { return s.hidden })
	reached := f.unreached()
	for _, name := range f.names {
		if reached(name) || !strings.HasSuffix(f.types[name], "+xml") || name == f.contents {
			continue
		}
		var wrong error
		if _, err := rewritten(f.parts[name], func(e *element) {
			if formulaElements[e.name] {
				e.text = func(text string) string {
					if wrong == nil && speaks(text) {
						wrong = fmt.Errorf("its part %s draws from a hidden sheet, which is to be removed (%s); keep hidden sheets", name, short(text))
					}
					return text
				}
			}
		}); err != nil {
			return fmt.Errorf("read its part %s: %w", name, err)
		}
		if wrong != nil {
			return wrong
		}
	}
	return nil
}

func orMinus(s string) string {
	if s == "" {
		return "-1"
	}
	return s
}

// forget takes texts of the sample out that no cell shows any more (ECMA-376 part 1, 18.4).
func (f *filling) forget() error {
	part := f.sharedPart()
	if part == "" {
		return nil
	}
	shown := map[string]bool{}
	for _, s := range f.sheets {
		if !f.book.cells(s) {
			continue
		}
		if err := walk(f.parts[s.part], func(r *row) error {
			for _, c := range r.cells {
				if c.kind == "s" {
					shown[strings.TrimSpace(c.value)] = true
				}
			}
			return nil
		}); err != nil {
			return err
		}
	}
	n := -1
	return f.edit(part, func(e *element) {
		if e.name == "si" {
			if n++; !shown[itoa(n)] {
				e.end = "<" + e.prefix + "t/>"
			}
			return
		}
		e.drop = len(e.path) > 0 && e.path[len(e.path)-1] == "si" && !shown[itoa(n)]
	})
}
