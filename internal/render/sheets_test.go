package render_test

import (
	"fmt"
	"strings"
	"testing"

	"ironbell/internal/core/job"
	"ironbell/internal/core/rows"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"github.com/xuri/excelize/v2"
)

// Whoever reads a sheet as a stream goes by the area that it says it takes.
func TestSheetsSayWhatTheyTake(t *testing.T) {
	one := sailings(250)
	parts := unzip(t, made(t, job.Output{Format: "xlsx"}, figures, one, words))
	for part, want := range map[string]string{"sheet1": "A1:C6", "sheet2": "A1:C254", "sheet3": "A1:A4"} {
		assert.Contains(t, parts["xl/worksheets/"+part+".xml"], `<dimension ref="`+want+`">`, part)
	}
	plain := unzip(t, made(t, job.Output{Format: "xlsx", DataOnly: true}, one))
	assert.Contains(t, plain["xl/worksheets/sheet1.xml"], `<dimension ref="A1:C251">`)
	empty := unzip(t, made(t, job.Output{Format: "xlsx", DataOnly: true}, sailings(0)))
	assert.Contains(t, empty["xl/worksheets/sheet1.xml"], `<dimension ref="A1:C1">`)
}

// Rows without totals among them can be filtered; what is printed ends with the table.
func TestSheetsCanBeFilteredAndPrinted(t *testing.T) {
	total := sailings(30)
	total.section.Columns = []job.Column{{Name: "Passengers", Total: job.TotalSum}}
	quoted := sailings(30)
	quoted.section.Name = "Master's log"
	out := made(t, job.Output{Format: "xlsx"}, total, loads, quoted)
	parts := unzip(t, out)
	assert.Contains(t, parts["xl/worksheets/sheet1.xml"], `<autoFilter ref="$A$4:$C$34">`, "the total is no row")
	assert.NotContains(t, parts["xl/worksheets/sheet2.xml"], "<autoFilter")
	names := map[string]string{}
	for _, n := range book(t, out).GetDefinedName() {
		names[n.Scope+" "+n.Name] = n.RefersTo
	}
	assert.Equal(t, "'Sailings'!$A$1:$C$35", names["Sailings _xlnm.Print_Area"])
	assert.Equal(t, "'Master''s log'!$A$1:$C$34", names["Master's log _xlnm.Print_Area"])
	if text := office(t, out, "xlsx", "csv"); text != nil {
		assert.Contains(t, string(text), "Sailing 29")
	}
}

// Totals can be formulas that go on working; what they come to stands with them for whoever reckons nothing.
func TestTotalsAsFormulas(t *testing.T) {
	f := book(t, made(t, job.Output{Format: "xlsx", Formulas: true}, loads))
	all, err := f.GetRows("Vehicle deck load")
	require.NoError(t, err)
	found := map[string]string{}
	for n, r := range all {
		if len(r) > 0 && strings.HasPrefix(r[0], "Total") {
			for _, column := range []string{"D", "E", "F"} {
				cell := fmt.Sprint(column, n+1)
				formula, err := f.GetCellFormula("Vehicle deck load", cell)
				require.NoError(t, err)
				kept, err := f.GetCellValue("Vehicle deck load", cell)
				require.NoError(t, err)
				if formula == "" {
					continue
				}
				reckoned, err := f.CalcCellValue("Vehicle deck load", cell)
				require.NoError(t, err)
				if r[0] != "Total" { // this reader reckons subtotals among the rows in, against the standard
					assert.Equal(t, kept, reckoned, "%s: %s", cell, formula)
				}
				found[r[0]+" "+column] = formula
			}
		}
	}
	assert.Equal(t, "SUBTOTAL(9,D5:D6)", found["Total Ellerhaven D"])
	assert.Equal(t, "SUBTOTAL(9,D8:D8)", found["Total Grey Skerry D"])
	assert.Equal(t, "SUBTOTAL(9,D5:D8)", found["Total D"], "subtotals among its rows are passed over")
	whole := sailings(9)
	whole.section.Columns = []job.Column{{Name: "Passengers", Total: job.TotalMean}, {Name: "Ship", Total: job.TotalCount}}
	f = book(t, made(t, job.Output{Format: "xlsx", Formulas: true}, whole))
	for cell, want := range map[string]string{"A14": "9", "C14": "28"} {
		reckoned, err := f.CalcCellValue("Sailings", cell)
		require.NoError(t, err)
		assert.Equal(t, want, reckoned)
		kept, err := f.GetCellValue("Sailings", cell)
		require.NoError(t, err)
		assert.Equal(t, want, kept)
	}
	// A number of more digits than a sheet keeps stands as a text: a formula would leave it out.
	whole.rows[3][2] = rows.Cell{Text: []byte("12345678901234567")}
	f = book(t, made(t, job.Output{Format: "xlsx", Formulas: true}, whole))
	formula, err := f.GetCellFormula("Sailings", "C14")
	require.NoError(t, err)
	assert.Empty(t, formula)
	plain := book(t, made(t, job.Output{Format: "xlsx"}, loads))
	formula, err = plain.GetCellFormula("Vehicle deck load", "D7")
	require.NoError(t, err)
	assert.Empty(t, formula)
}

// Numbers have marks between thousands and equal decimals, dates the form of their locale, and columns room for both.
func TestSheetsReadAsPagesDo(t *testing.T) {
	one := table{
		section: job.Section{Name: "Fuel", Columns: []job.Column{{Name: "Share", Percent: true}}},
		columns: []rows.Column{
			{Name: "Day", Kind: rows.Date},
			{Name: "Litres", Kind: rows.Number},
			{Name: "Trips", Kind: rows.Whole},
			{Name: "Share", Kind: rows.Number},
		},
		rows: []rows.Row{row("2026-11-20", "12345678.5", "1234567", "0.713"), row("2026-11-21", "7.25", "12", "0.7")},
	}
	for locale, want := range map[string][]string{
		"":   {"2026-11-20", "12,345,678.50", "1,234,567", "71.3%"},
		"de": {"20.11.2026", "12,345,678.50", "1,234,567", "71.3%"}, // marks are those of whoever opens it
		"fr": {"20 Nov 2026", "12,345,678.50", "1,234,567", "71.3%"},
	} {
		f := book(t, made(t, job.Output{Format: "xlsx", Locale: locale}, one))
		got, err := f.GetRows("Fuel")
		require.NoError(t, err)
		for i := range want {
			assert.Equal(t, want[i], got[4][i], locale)
		}
		assert.Equal(t, "7.25", got[5][1])
		for column, least := range map[string]float64{"A": 10, "B": 13, "C": 9} {
			width, err := f.GetColWidth("Fuel", column)
			require.NoError(t, err)
			assert.Greater(t, width, least, "%s, %s", locale, column)
		}
	}
	raw, err := excelize.CoordinatesToCellName(2, 2)
	require.NoError(t, err)
	f := book(t, made(t, job.Output{Format: "xlsx", DataOnly: true}, one))
	value, err := f.GetCellValue("Fuel", raw, excelize.Options{RawCellValue: true})
	require.NoError(t, err)
	assert.Equal(t, "12345678.5", value)
}
