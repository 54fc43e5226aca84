package task

import (
	"strconv"

	"ironbell/internal/core/rows"
)

// sums adds up the columns whose totals conditions ask for, over all sections.
type sums struct {
	totals map[string]float64 // of the wanted columns that were there
	wanted map[string]bool
	at     []int // places of wanted columns in the section's rows
	names  []string
}

func newSums(wanted []string) *sums {
	s := &sums{totals: map[string]float64{}, wanted: map[string]bool{}}
	for _, name := range wanted {
		s.wanted[name] = true
	}
	return s
}

// columns begins a section.
func (s *sums) columns(columns []rows.Column) {
	s.at, s.names = s.at[:0], s.names[:0]
	for i, c := range columns {
		if s.wanted[c.Name] && (c.Kind == rows.Whole || c.Kind == rows.Number) {
			s.at, s.names = append(s.at, i), append(s.names, c.Name)
			s.totals[c.Name] += 0 // a column without rows has the total 0
		}
	}
}

// row adds a row. What is no number adds nothing.
func (s *sums) row(row rows.Row) {
	for n, i := range s.at {
		if row[i].Null {
			continue
		}
		if v, err := strconv.ParseFloat(string(row[i].Text), 64); err == nil {
			s.totals[s.names[n]] += v
		}
	}
}
