// Package compare tells how the rows of one run differ from those of another:
// rows that came and went, totals, and, for tables with a key, changed cells.
package compare

import (
	"encoding/json"
	"math/big"
	"slices"
	"strings"
)

// Section is one section of a run as it was kept.
type Section struct {
	Section string              `json:"section"`
	Title   string              `json:"title,omitempty"`
	Columns []Column            `json:"columns"`
	Key     []int               `json:"key,omitempty"`
	Rows    [][]json.RawMessage `json:"rows"`
}

// Column is a column of a kept section.
type Column struct {
	Name  string `json:"name"`
	Label string `json:"label,omitempty"`
	Type  string `json:"type"`
}

func (c Column) head() string {
	if c.Label != "" {
		return c.Label
	}
	return c.Name
}

// Difference is how one section differs.
type Difference struct {
	Section   string        `json:"section"`
	Before    int           `json:"before" doc:"rows of the earlier run"`
	After     int           `json:"after" doc:"rows of the later run"`
	Same      int           `json:"same" doc:"rows that are in both, with equal cells"`
	Came      int           `json:"came" doc:"rows that only the later run has"`
	Went      int           `json:"went" doc:"rows that only the earlier run has"`
	Changed   int           `json:"changed" doc:"rows with the same key and other cells; 0 without a key"`
	Key       []string      `json:"key,omitempty" doc:"columns that tell rows apart; without them whole rows are compared"`
	Heads     []string      `json:"heads" doc:"heads of the columns of the rows below"`
	CameRows  [][]string    `json:"came_rows" doc:"the first of them"`
	WentRows  [][]string    `json:"went_rows" doc:"the first of them"`
	Cells     []Change      `json:"cells" doc:"the first changed cells"`
	Totals    []TotalChange `json:"totals" doc:"of each column of numbers"`
	NewHeads  []string      `json:"new_columns,omitempty" doc:"columns that only the later run has"`
	GoneHeads []string      `json:"gone_columns,omitempty" doc:"columns that only the earlier run has"`
	Note      string        `json:"note,omitempty"`
}

// Change is a cell that is another one.
type Change struct {
	Key    []string `json:"key"`
	Column string   `json:"column"`
	Before string   `json:"before"`
	After  string   `json:"after"`
}

// TotalChange is the sum of a column in both runs.
type TotalChange struct {
	Column string `json:"column"`
	Before string `json:"before"`
	After  string `json:"after"`
	Change string `json:"change"`
}

// MaxListed bounds how many rows and cells are listed of each kind.
const MaxListed = 100

// Sections compares two runs, section by section in the order of the later one.
func Sections(before, after []Section) []Difference {
	out := []Difference{}
	for _, b := range after {
		at := slices.IndexFunc(before, func(a Section) bool { return a.Section == b.Section })
		if at < 0 {
			out = append(out, Difference{
				Section: b.Section, After: len(b.Rows), Came: len(b.Rows), Note: "only the later run has this section",
			})
			continue
		}
		out = append(out, section(before[at], b))
	}
	for _, a := range before {
		if !slices.ContainsFunc(after, func(b Section) bool { return a.Section == b.Section }) {
			out = append(out, Difference{
				Section: a.Section, Before: len(a.Rows), Went: len(a.Rows),
				Note: "only the earlier run has this section",
			})
		}
	}
	return out
}

// shared is a column that both runs have, with its place in each.
type shared struct {
	Column
	a, b int
}

func section(a, b Section) Difference {
	d := Difference{
		Section: b.Section, Before: len(a.Rows), After: len(b.Rows), Heads: []string{}, CameRows: [][]string{},
		WentRows: [][]string{}, Cells: []Change{}, Totals: []TotalChange{},
	}
	var columns []shared
	for i, c := range b.Columns {
		at := slices.IndexFunc(a.Columns, func(o Column) bool { return o.Name == c.Name })
		if at < 0 {
			d.NewHeads = append(d.NewHeads, c.head())
			continue
		}
		columns = append(columns, shared{c, at, i})
		d.Heads = append(d.Heads, c.head())
	}
	for _, c := range a.Columns {
		if !slices.ContainsFunc(b.Columns, func(o Column) bool { return o.Name == c.Name }) {
			d.GoneHeads = append(d.GoneHeads, c.head())
		}
	}
	var key []int // places in columns
	for _, k := range b.Key {
		at := slices.IndexFunc(columns, func(c shared) bool { return c.b == k })
		if at < 0 {
			key = nil
			d.Note = "a column of the key is not in both runs: whole rows are compared"
			break
		}
		key = append(key, at)
		d.Key = append(d.Key, columns[at].head())
	}
	if key == nil {
		d.Key = nil
	}
	early, late := pick(a.Rows, columns, false), pick(b.Rows, columns, true)
	if key != nil && (!unique(early, key) || !unique(late, key)) {
		d.Note = "the key does not tell all rows apart: whole rows are compared"
		key, d.Key = nil, nil
	}
	if key == nil {
		d.whole(early, late)
	} else {
		d.byKey(early, late, key, columns)
	}
	for i, c := range columns {
		if c.Type != "whole" && c.Type != "number" || slices.Contains(b.Key, c.b) {
			continue
		}
		was, is := total(early, i), total(late, i)
		d.Totals = append(d.Totals, TotalChange{
			Column: c.head(), Before: said(was), After: said(is), Change: said(new(big.Rat).Sub(is, was)),
		})
	}
	return d
}

// pick gives the cells of the shared columns as texts.
func pick(rows [][]json.RawMessage, columns []shared, late bool) [][]string {
	out := make([][]string, len(rows))
	for n, row := range rows {
		cells := make([]string, len(columns))
		for i, c := range columns {
			at := c.a
			if late {
				at = c.b
			}
			if at < len(row) {
				cells[i] = plain(row[at])
			}
		}
		out[n] = cells
	}
	return out
}

func plain(raw json.RawMessage) string {
	if len(raw) > 0 && raw[0] == '"' {
		var s string
		if json.Unmarshal(raw, &s) == nil {
			return s
		}
	}
	if string(raw) == "null" {
		return ""
	}
	return string(raw)
}

// join makes one text of cells, by which rows are told apart.
func join(row []string, at []int) string {
	var out strings.Builder
	put := func(s string) {
		out.WriteString(s)
		out.WriteByte(0)
	}
	if at == nil {
		for _, s := range row {
			put(s)
		}
		return out.String()
	}
	for _, i := range at {
		put(row[i])
	}
	return out.String()
}

func unique(rows [][]string, key []int) bool {
	seen := make(map[string]bool, len(rows))
	for _, row := range rows {
		k := join(row, key)
		if seen[k] {
			return false
		}
		seen[k] = true
	}
	return true
}

// whole compares rows as they stand; equal ones are counted.
func (d *Difference) whole(early, late [][]string) {
	left := make(map[string]int, len(early))
	for _, row := range early {
		left[join(row, nil)]++
	}
	for _, row := range late {
		k := join(row, nil)
		if left[k] > 0 {
			left[k]--
			d.Same++
			continue
		}
		d.came(row)
	}
	for _, row := range early {
		k := join(row, nil)
		if left[k] > 0 {
			left[k]--
			d.went(row)
		}
	}
}

func (d *Difference) came(row []string) {
	if d.Came++; len(d.CameRows) < MaxListed {
		d.CameRows = append(d.CameRows, row)
	}
}

func (d *Difference) went(row []string) {
	if d.Went++; len(d.WentRows) < MaxListed {
		d.WentRows = append(d.WentRows, row)
	}
}

func (d *Difference) byKey(early, late [][]string, key []int, columns []shared) {
	was := make(map[string][]string, len(early))
	for _, row := range early {
		was[join(row, key)] = row
	}
	for _, row := range late {
		k := join(row, key)
		old, had := was[k]
		if !had {
			d.came(row)
			continue
		}
		delete(was, k)
		if slices.Equal(old, row) {
			d.Same++
			continue
		}
		d.Changed++
		for i := range row {
			if row[i] != old[i] && len(d.Cells) < MaxListed {
				named := make([]string, len(key))
				for n, at := range key {
					named[n] = row[at]
				}
				d.Cells = append(d.Cells, Change{Key: named, Column: columns[i].head(), Before: old[i], After: row[i]})
			}
		}
	}
	for _, row := range early {
		if _, gone := was[join(row, key)]; gone {
			d.went(row)
		}
	}
}

// total adds a column up; what is no number adds nothing.
func total(rows [][]string, i int) *big.Rat {
	sum := new(big.Rat)
	for _, row := range rows {
		if len(row[i]) < 100 {
			if r, ok := new(big.Rat).SetString(row[i]); ok {
				sum.Add(sum, r)
			}
		}
	}
	return sum
}

// said writes a sum with as many digits as it has, at most six behind the point.
func said(r *big.Rat) string {
	if r.IsInt() {
		return r.FloatString(0)
	}
	return strings.TrimRight(r.FloatString(6), "0")
}
