package workbook

import (
	"errors"
	"slices"
	"strconv"
	"strings"
)

// meaning is what a name stands for on a sheet, where that is a plain reference, a number, or the rows of a table.
func (b *book) meaning(s sheet, text string) (string, bool) {
	found := -1
	for i, n := range b.defined {
		if strings.EqualFold(n.name, text) && (n.scope == s.index || n.scope < 0 && found < 0) {
			found = i
		}
	}
	if found < 0 {
		for _, t := range b.tables {
			if strings.EqualFold(t.name, text) {
				return sheetMark(t.sheet) + t.grown().String(), true
			}
		}
		return "", false
	}
	means := b.defined[found].text
	if _, err := strconv.ParseFloat(means, 64); err == nil {
		return means, true
	}
	all := pieces(means)
	return means, len(all) == 1 && all[0].kind == reference && all[0].sheet != "" && !strings.Contains(all[0].sheet, ":")
}

var errStructure = errors.New("it names no rows of a table")

// resolved writes what a formula in a cell says of a table as a plain reference
// (ECMA-376 part 1, 18.17.2.3, and MS-XLSX 2.2.2.1 of structured references).
func (b *book) resolved(text, sheetName string, of at) (string, error) {
	open := strings.IndexByte(text, '[')
	if open < 0 || !strings.HasSuffix(text, "]") {
		return "", errStructure
	}
	var t *table
	for _, o := range b.tables {
		if strings.EqualFold(o.name, text[:open]) || open == 0 && o.sheet == sheetName && o.whole().holds(of) {
			t = o
		}
	}
	if t == nil {
		return "", errStructure
	}
	a := t.grown()
	first, last := t.area.first.col, t.area.last.col
	var rows []area
	columns := 0
	for _, word := range words(text[open+1 : len(text)-1]) {
		whole := t.whole()
		line := func(row int) area { return area{at{row, first}, at{row, last}} }
		switch strings.ToLower(word) {
		case "#all":
			rows = append(rows, whole)
		case "#data":
			rows = append(rows, a)
		case "#headers":
			rows = append(rows, line(t.area.first.row))
		case "#totals":
			if !t.totals {
				return "", errStructure
			}
			rows = append(rows, line(whole.last.row))
		case "#this row":
			rows = append(rows, line(max(of.row, 1)))
		default:
			i := slices.IndexFunc(t.columns, func(c string) bool { return strings.EqualFold(c, word) })
			if columns++; i < 0 || columns > 2 {
				return "", errStructure
			}
			if columns == 1 {
				first = t.area.first.col + i
			}
			last = t.area.first.col + i
		}
	}
	for i, r := range rows {
		if i == 0 {
			a = r
			continue
		}
		a.first.row, a.last.row = min(a.first.row, r.first.row), max(a.last.row, r.last.row)
	}
	a.first.col, a.last.col = min(first, last), max(first, last)
	return sheetMark(t.sheet) + a.String(), nil
}

// words are those of a reference to a table, without their brackets.
func words(s string) (out []string) {
	if !strings.HasPrefix(s, "[") {
		if s == "" {
			return nil
		}
		return []string{unescaped(s)}
	}
	for s != "" {
		n := bracketed(s)
		if s[0] == '[' && n > 1 {
			out = append(out, unescaped(s[1:n-1]))
			s = s[n:]
			continue
		}
		s = s[1:] // a comma, a colon, a space
	}
	return out
}

func unescaped(s string) string {
	var out strings.Builder
	for i := 0; i < len(s); i++ {
		if s[i] == '\'' && i+1 < len(s) {
			i++
		}
		out.WriteByte(s[i])
	}
	return out.String()
}

// plainly is a formula with plain references alone.
func (b *book) plainly(s sheet, of at, text string) (string, error) {
	var out strings.Builder
	for _, p := range pieces(strings.TrimLeft(text, "+ ")) { // a sign before all of it says nothing
		switch p.kind {
		case structure:
			means, err := b.resolved(p.text, s.name, of)
			if err != nil {
				return "", err
			}
			out.WriteString(means)
		case name:
			if means, ok := b.meaning(s, p.text); ok {
				out.WriteString(means)
			} else {
				out.WriteString(p.text)
			}
		default:
			out.WriteString(p.text)
		}
	}
	return out.String(), nil
}
