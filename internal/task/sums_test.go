package task

import (
	"testing"

	"ironbell/internal/core/job"
	"ironbell/internal/core/rows"

	"github.com/stretchr/testify/assert"
)

// A first cell is of the first section that has its column and a row, and never of what the report hides.
func TestFirstCells(t *testing.T) {
	s := newSums(nil, []string{"port", "late", "secret"})
	columns := []rows.Column{{Name: "port", Kind: rows.Text}, {Name: "late", Kind: rows.Number}, {Name: "secret", Kind: rows.Text}}
	row := func(texts ...string) rows.Row {
		var r rows.Row
		for _, text := range texts {
			r = append(r, rows.Cell{Text: []byte(text)})
		}
		return r
	}
	hiding := job.Section{Columns: []job.Column{{Name: "secret", Hidden: true}}}
	s.columns(hiding, columns) // it has no row
	s.columns(hiding, columns)
	s.row(row("EH", "NaN", "crown jewels"))
	s.row(row("GS", "2", "crown jewels"))
	s.columns(job.Section{}, columns[:1])
	s.row(row("FM"))
	assert.Equal(t, job.Cells{"port": "EH", "late": "NaN"}, s.cells)
}
