package task

import (
	"math"
	"slices"
	"strconv"

	"ironbell/internal/core/expr"
	"ironbell/internal/core/job"
	"ironbell/internal/core/rows"
)

// sums adds up the columns whose totals conditions ask for, over all sections, and keeps the
// first cells of those that texts speak of: of the first section that has the column and a row.
type sums struct {
	cells  job.Cells
	firsts map[string]bool    // columns whose first cells are wanted
	first  []rows.Column      // of the section, while its first row is to come
	totals map[string]float64 // of the wanted columns that were there
	wanted map[string]bool
	at     []int // places of wanted columns in the section's rows
	names  []string
}

func newSums(wanted, firsts []string) *sums {
	s := &sums{
		totals: map[string]float64{}, wanted: map[string]bool{}, cells: job.Cells{}, firsts: map[string]bool{},
	}
	for _, name := range firsts {
		s.firsts[name] = true
	}
	for _, name := range wanted {
		s.wanted[name] = true
	}
	return s
}

// columns begins a section.
func (s *sums) columns(section job.Section, columns []rows.Column) {
	s.at, s.names = s.at[:0], s.names[:0]
	s.first = nil
	if len(s.firsts) > 0 {
		s.first = slices.Clone(columns)
		for i, c := range s.first {
			// What the report hides stands nowhere, whoever speaks of it.
			if section.Hides(c.Name) {
				s.first[i].Name = ""
			}
		}
	}
	for i, c := range columns {
		if s.wanted[c.Name] && (c.Kind == rows.Whole || c.Kind == rows.Number) {
			s.at, s.names = append(s.at, i), append(s.names, c.Name)
			s.totals[c.Name] += 0 // a column without rows has the total 0
		}
	}
}

// row adds a row. What is no number adds nothing.
func (s *sums) row(row rows.Row) {
	for i, c := range s.first {
		if _, had := s.cells[c.Name]; s.firsts[c.Name] && !had {
			value := expr.Cell(c.Kind, row[i])
			if n, ok := value.(float64); ok && (math.IsNaN(n) || math.IsInf(n, 0)) {
				value = string(row[i].Text) // JSON, as which it is kept, has no such numbers
			}
			s.cells[c.Name] = value
		}
	}
	s.first = nil
	for n, i := range s.at {
		if row[i].Null {
			continue
		}
		if v, err := strconv.ParseFloat(string(row[i].Text), 64); err == nil {
			s.totals[s.names[n]] += v
		}
	}
}
