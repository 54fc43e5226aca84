package workbook_test

import (
	"archive/zip"
	"bytes"
	"context"
	"fmt"
	"io"
	"maps"
	"os"
	"slices"
	"strings"
	"testing"

	"ironbell/internal/aside"
	"ironbell/internal/workbook"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"github.com/xuri/excelize/v2"
)

func TestMain(m *testing.M) {
	aside.Main(map[string]aside.Task{workbook.Task: workbook.Do})
	os.Exit(m.Run())
}

// made is a workbook of an owner: a page with named cells, a table with a formula
// and totals, a chart of it, and a hidden sheet of rates.
func made(t *testing.T, change ...func(*excelize.File)) []byte {
	t.Helper()
	f := excelize.NewFile()
	must := func(err error) { require.NoError(t, err) }
	must(f.SetSheetName("Sheet1", "Page"))
	for _, s := range []string{"Rows", "Rates"} {
		_, err := f.NewSheet(s)
		must(err)
	}
	cells := func(sheet string, values map[string]any) {
		for at, v := range values {
			if text, is := v.(string); is && strings.HasPrefix(text, "=") {
				must(f.SetCellFormula(sheet, at, text[1:]))
			} else {
				must(f.SetCellValue(sheet, at, v))
			}
		}
	}
	cells("Rates", map[string]any{"A1": "Price of a litre", "B1": 0.5})
	must(f.SetSheetVisible("Rates", false))
	cells("Rows", map[string]any{
		"A1": "Fuel of the month", "A3": "Vessel", "B3": "Litres", "C3": "Cost", "D3": "Day",
		"A4": "Sample one", "B4": 10, "C4": "=Fuel[[#This Row],[Litres]]*Rates!$B$1", "A5": "Sample two", "B5": 20,
		"C5": "=Fuel[[#This Row],[Litres]]*Rates!$B$1", "D4": 45000, "F4": "=B4*2", "A6": "Total", "B6": "=SUBTOTAL(109,B4:B5)",
	})
	must(f.AddTable("Rows", &excelize.Table{Range: "A3:D5", Name: "Fuel", StyleName: "TableStyleMedium2"}))
	must(f.SetConditionalFormat("Rows", "B4:B5", []excelize.ConditionalFormatOptions{{Type: "cell", Criteria: ">", Value: "100"}}))
	cells("Page", map[string]any{
		"A1": "Month", "A2": "As of", "A3": "All litres", "B3": "=SUM(Rows!B4:B5)", "A4": "All cost", "B4": "=SUM(Fuel[Cost])",
		"A5": "Dearest", "B5": "=INDEX(Rows!$A$4:$A$5,MATCH(MAX(Rows!$B$4:$B$5),Rows!$B$4:$B$5,0))", "A6": "Share", "B6": "=on_time",
		"A7": "Label", "B7": `="of "&TEXTJOIN(", ",TRUE,Fuel[Vessel])`, "A8": "Enough", "B8": "=B3>100", "A9": "None", "B9": "=1/0",
	})
	for name, ref := range map[string]string{"month": "Page!$B$1", "as_of": "Page!$B$2", "on_time": "Page!$D$6", "fuel_rows": "Rows!$A$4:$B$5"} {
		must(f.SetDefinedName(&excelize.DefinedName{Name: name, RefersTo: ref}))
	}
	must(f.AddChart("Page", "D8", &excelize.Chart{
		Type: excelize.Col, Series: []excelize.ChartSeries{{Name: "Rows!$B$3", Categories: "Rows!$A$4:$A$5", Values: "Rows!$B$4:$B$5"}},
	}))
	for _, c := range change {
		c(f)
	}
	var out bytes.Buffer
	must(f.Write(&out))
	return edited(t, out.Bytes(), "xl/tables/table1.xml", func(part string) string {
		part = strings.Replace(part, `ref="A3:D5"`, `ref="A3:D6" totalsRowCount="1"`, 1)
		return strings.Replace(part, `name="Vessel"`, `name="Vessel" totalsRowLabel="Total"`, 1)
	})
}

// edited is a workbook with one of its parts changed, or added.
func edited(t *testing.T, data []byte, name string, change func(part string) string) []byte {
	t.Helper()
	all := parts(t, data)
	all[name] = change(all[name])
	var out bytes.Buffer
	z := zip.NewWriter(&out)
	for _, name := range slices.Sorted(maps.Keys(all)) {
		w, err := z.Create(name)
		require.NoError(t, err)
		_, err = w.Write([]byte(all[name]))
		require.NoError(t, err)
	}
	require.NoError(t, z.Close())
	return out.Bytes()
}

// filled fills the table with so many rows, and the named cells.
func filled(t *testing.T, book []byte, rows int, o workbook.Order) (out []byte, says []string, err error) {
	t.Helper()
	var f workbook.Filler
	defer f.Drop()
	for i := range rows {
		require.NoError(t, f.Row(workbook.Row{Cells: []workbook.Value{
			{Kind: workbook.Words, Text: fmt.Sprintf("Vessel <%d>", i+1)}, {Kind: workbook.Number, Number: float64(10 * (i + 1))},
			{Kind: workbook.Date, Number: 46000},
		}}))
	}
	o.Book = book
	o.Tables = []workbook.TableOrder{{Table: "Fuel", Columns: []int{0, 1, -1, 2}}}
	o.Cells = []workbook.CellOrder{
		{Cell: "month", Value: workbook.Value{Kind: workbook.Words, Text: "November"}},
		{Cell: "as_of", Value: workbook.Value{Kind: workbook.Moment, Number: 46000.5}},
		{Cell: "on_time", Value: workbook.Value{Kind: workbook.Number, Number: 0.912}},
	}
	var to bytes.Buffer
	says, err = f.Fill(context.Background(), o, &to)
	return to.Bytes(), says, err
}

func parts(t *testing.T, data []byte) map[string]string {
	t.Helper()
	z, err := zip.NewReader(bytes.NewReader(data), int64(len(data)))
	require.NoError(t, err)
	all := map[string]string{}
	for _, f := range z.File {
		r, err := f.Open()
		require.NoError(t, err)
		text, err := io.ReadAll(r)
		require.NoError(t, err)
		all[f.Name] = string(text)
	}
	return all
}

func TestAWorkbookIsFilled(t *testing.T) {
	facts, err := workbook.Examine(context.Background(), made(t))
	require.NoError(t, err)
	assert.Equal(t, "Fuel", facts.Tables[0].Name)
	out, says, err := filled(t, made(t), 12, workbook.Order{})
	require.NoError(t, err)
	t.Log(says, facts)
	if to := os.Getenv("IRONBELL_KEEP"); to != "" {
		require.NoError(t, os.WriteFile(to, out, 0o600))
	}
	f, err := excelize.OpenReader(bytes.NewReader(out))
	require.NoError(t, err)
	for at, want := range map[string]string{"B1": "November", "B3": "780", "B4": "390", "B5": "Vessel <12>", "B8": "TRUE", "B9": "#DIV/0!"} {
		got, err := f.GetCellValue("Page", at)
		require.NoError(t, err)
		assert.Equal(t, want, got, at)
	}
}
