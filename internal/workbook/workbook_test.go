package workbook_test

import (
	"archive/zip"
	"bytes"
	"context"
	"fmt"
	"io"
	"maps"
	"os"
	"os/exec"
	"regexp"
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
		"A7": "Label", "B7": `="of "&_xlfn.TEXTJOIN(", ",TRUE,Fuel[Vessel])`, "A8": "Enough", "B8": "=B3>100", "D1": "=ROWS(Fuel)", "A9": "None", "B9": "=1/0",
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
			{Kind: workbook.Words, Text: fmt.Sprintf("Vessel <%d>", i+1)},
			{Kind: workbook.Number, Number: float64(10 * (i + 1))},
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

// read opens a filled workbook with a reader of its own.
func read(t *testing.T, data []byte) *excelize.File {
	t.Helper()
	f, err := excelize.OpenReader(bytes.NewReader(data))
	require.NoError(t, err)
	return f
}

func cellsAre(t *testing.T, f *excelize.File, sheet string, want map[string]string) {
	t.Helper()
	for at, text := range want {
		got, err := f.GetCellValue(sheet, at)
		require.NoError(t, err)
		assert.Equal(t, text, got, sheet+"!"+at)
	}
}

func TestAWorkbookIsFilled(t *testing.T) {
	out, says, err := filled(t, made(t), 12, workbook.Order{})
	require.NoError(t, err)
	assert.Equal(t, []string{"Page!B9 comes to #DIV/0!", "it holds 1 hidden sheet, which whoever gets it can show: Rates"}, says)
	f := read(t, out)
	cellsAre(t, f, "Page", map[string]string{
		"B1": "November", "B2": "12/9/25 12:00", "B3": "780", "B4": "390", "B5": "Vessel <12>", "B6": "0.912", "B8": "TRUE", "B9": "#DIV/0!", "D1": "12",
	})
	cellsAre(t, f, "Rows", map[string]string{
		"A4": "Vessel <1>", "B15": "120", "C15": "60", "D15": "12-09-25", "A16": "Total", "B16": "780", "A17": "", "F4": "20", "F5": "",
	})
	formula, err := f.GetCellFormula("Rows", "C15")
	require.NoError(t, err)
	assert.Equal(t, "Fuel[[#This Row],[Litres]]*Rates!$B$1", formula)
	tables, err := f.GetTables("Rows")
	require.NoError(t, err)
	assert.Equal(t, "A3:D16", tables[0].Range)

	all := parts(t, out)
	chart := all["xl/charts/chart1.xml"]
	assert.Contains(t, chart, "Rows!$B$4:$B$15", "the chart draws all rows")
	assert.Contains(t, chart, `<ptCount val="12"/><pt idx="0"><v>10</v></pt>`, "and has them beside it")
	assert.Contains(t, chart, `<pt idx="11"><v>Vessel &lt;12&gt;</v></pt>`)
	assert.Contains(t, all["xl/worksheets/sheet2.xml"], `sqref="B4:B15"`, "the condition holds of all rows")
	assert.Contains(t, all["xl/worksheets/sheet2.xml"], `SUBTOTAL(109,B4:B15)`)
	assert.Contains(t, all["xl/worksheets/sheet2.xml"], `ref="A1:F16"`, "what it takes")
	assert.Contains(t, all["xl/workbook.xml"], "Rows!$A$4:$B$15", "the name stands for all rows")
	assert.Contains(t, all["xl/workbook.xml"], `fullCalcOnLoad="1"`)
	for name, part := range all {
		assert.NotContains(t, part, "Sample", "of the sample nothing is left: "+name)
	}
	before := parts(t, made(t))
	assert.Equal(t, before["xl/theme/theme1.xml"], all["xl/theme/theme1.xml"], "what is not filled stays, byte by byte")
}

func TestATableShrinks(t *testing.T) {
	for rows, total := range map[int]string{0: "0", 1: "10"} {
		out, _, err := filled(t, made(t), rows, workbook.Order{})
		require.NoError(t, err)
		f := read(t, out)
		tables, err := f.GetTables("Rows")
		require.NoError(t, err)
		assert.Equal(t, "A3:D5", tables[0].Range, "a table has a row, and its totals")
		cellsAre(t, f, "Rows", map[string]string{"A5": "Total", "B5": total, "A6": "", "B6": ""})
		cellsAre(t, f, "Page", map[string]string{"B3": total})
		assert.Contains(t, parts(t, out)["xl/charts/chart1.xml"], "Rows!$B$4:$B$4<", "of one row, too")
	}
}

func TestValuesStandInPlaceOfFormulas(t *testing.T) {
	out, says, err := filled(t, made(t), 12, workbook.Order{Values: true, Visible: true})
	require.NoError(t, err)
	assert.Contains(t, says, "1 hidden sheet removed from it")
	cellsAre(t, read(t, out), "Page", map[string]string{"B3": "780", "B4": "390", "B5": "Vessel <12>", "B7": "of Vessel <1>, Vessel <2>, " +
		"Vessel <3>, Vessel <4>, Vessel <5>, Vessel <6>, Vessel <7>, Vessel <8>, Vessel <9>, Vessel <10>, Vessel <11>, Vessel <12>"})
	for name, part := range parts(t, out) {
		assert.NotContains(t, part, "Rates", "no byte of the hidden sheet: "+name)
		assert.NotContains(t, part, "Price of a litre", name)
		if strings.HasPrefix(name, "xl/worksheets") || strings.HasPrefix(name, "xl/tables") {
			assert.NotRegexp(t, `<f[ >]|<(calculated|totals)`, part, name)
		}
	}

	_, _, err = filled(t, made(t), 3, workbook.Order{Visible: true})
	require.ErrorContains(t, err, "Rows!C4 reads a hidden sheet, which is to be removed")
	now := made(t, func(f *excelize.File) { require.NoError(t, f.SetCellFormula("Page", "B10", "NOW()")) })
	_, _, err = filled(t, now, 3, workbook.Order{Values: true})
	require.ErrorContains(t, err, "values cannot stand in place of its formulas: Page!B10: it asks for NOW (1 such cell)")
	out, says, err = filled(t, now, 3, workbook.Order{})
	require.NoError(t, err)
	assert.Contains(t, says, "its formulas have no values before an office program opens it: Page!B10: it asks for NOW (1 such cell)")
	cellsAre(t, read(t, out), "Page", map[string]string{"B3": "", "B1": "November"})
}

func TestWhatStandsBelowATableIsNotWrittenOver(t *testing.T) {
	book := made(t, func(f *excelize.File) { require.NoError(t, f.SetCellValue("Rows", "B10", "signed by the yard")) })
	facts, err := workbook.Examine(context.Background(), book)
	require.NoError(t, err)
	assert.Equal(t, 5, facts.Tables[0].Room)
	assert.Equal(t, "Rows!B10", facts.Tables[0].Below)
	_, _, err = filled(t, book, 5, workbook.Order{})
	require.NoError(t, err)
	_, _, err = filled(t, book, 6, workbook.Order{})
	require.ErrorContains(t, err, `6 rows came for the table "Fuel", and Rows!B10 stands where they would go`)
}

// A sample of one row: its condition is of each row, and what of it is one cell by
// itself stays one. A row that its owner hid stays hidden.
func TestASampleOfOneRowGrows(t *testing.T) {
	book := made(t, func(f *excelize.File) {
		require.NoError(t, f.SetConditionalFormat("Rows", "A4:A4", []excelize.ConditionalFormatOptions{{Type: "formula", Criteria: "$B4>100"}}))
		require.NoError(t, f.SetRowVisible("Page", 1, false))
		require.NoError(t, f.SetDefinedName(&excelize.DefinedName{Name: "_xlnm.Print_Area", RefersTo: "Rows!$A$1:$F$4", Scope: "Rows"}))
		require.NoError(t, f.RemoveRow("Rows", 5))
	})
	book = edited(t, book, "xl/tables/table1.xml", func(part string) string {
		return regexp.MustCompile(`ref="A3:D\d"( totalsRowCount="1")?`).ReplaceAllString(part, `ref="A3:D4"`)
	})
	book = edited(t, book, "xl/worksheets/sheet2.xml", func(part string) string {
		return regexp.MustCompile(`<row r="[56]".*?</row>`).ReplaceAllString(part, "")
	})
	out, _, err := filled(t, book, 5, workbook.Order{})
	require.NoError(t, err)
	all := parts(t, out)
	assert.Contains(t, all["xl/worksheets/sheet2.xml"], `sqref="A4:A8"`)
	assert.Contains(t, all["xl/worksheets/sheet2.xml"], `<formula>$B4&gt;100</formula>`)
	assert.Contains(t, all["xl/worksheets/sheet1.xml"], `hidden="true"`)
	assert.Contains(t, all["xl/workbook.xml"], `Rows!$A$1:$F$8`)
	assert.Contains(t, all["xl/tables/table1.xml"], `ref="A3:D8"`)
}

// Other programs write the same in other ways: names with a prefix, cells without
// their places, formulas that are shared.
func TestSheetsOfOtherProgramsAreRead(t *testing.T) {
	sheet := `<?xml version="1.0" encoding="UTF-8"?><x:worksheet xmlns:x="http://schemas.openxmlformats.org/spreadsheetml/2006/main" xmlns:r="http://schemas.openxmlformats.org/officeDocument/2006/relationships">` +
		`<x:sheetData><x:row><x:c t="inlineStr"><x:is><x:t>Fuel</x:t></x:is></x:c></x:row><x:row r="3"><x:c t="str"><x:v>Vessel</x:v></x:c><x:c t="str"><x:v>Litres</x:v></x:c>` +
		`<x:c t="str"><x:v>Cost</x:v></x:c><x:c t="str"><x:v>Day</x:v></x:c></x:row>` +
		`<x:row r="4" hidden="1" ht="20"><x:c r="A4" t="str"><x:v>Sample</x:v></x:c><x:c r="B4"><x:v>1</x:v></x:c><x:c r="C4"><x:f t="shared" ref="C4:C5" si="0">B4*Rates!$B$1</x:f><x:v>1</x:v></x:c>` +
		`<x:c r="H4"><x:f t="shared" ref="H4:H9" si="1">B4*2</x:f><x:v>2</x:v></x:c></x:row>` +
		`<x:row r="5"><x:c r="A5"/><x:c r="C5"><x:f t="shared" si="0"/><x:v>0</x:v></x:c></x:row><x:row r="9"><x:c r="H9"><x:f t="shared" si="1"/><x:v>7</x:v></x:c></x:row>` +
		`</x:sheetData><x:tableParts count="1"><x:tablePart r:id="rId1"/></x:tableParts></x:worksheet>`
	book := edited(t, made(t), "xl/worksheets/sheet2.xml", func(string) string { return sheet })
	book = edited(t, book, "xl/tables/table1.xml", func(part string) string {
		part = strings.Replace(part, `ref="A3:D6" totalsRowCount="1"`, `ref="A3:D5"`, 1)
		return strings.Replace(part, `<autoFilter ref="A3:D5">`, `<autoFilter ref="A3:D5"><filterColumn colId="0"><filters><filter val="Sample"/></filters></filterColumn>`, 1)
	})
	book = edited(t, book, "xl/charts/chart1.xml", func(part string) string {
		return strings.Replace(part, "<f>Rows!$B$4:$B$5</f>", `<f>Rows!$B$4:$B$5</f><numCache><formatCode>#,##0</formatCode><ptCount val="2"/><pt idx="0"><v>777</v></pt></numCache>`, 1)
	})
	out, _, err := filled(t, book, 4, workbook.Order{})
	require.NoError(t, err)
	all := parts(t, out)
	assert.Contains(t, all["xl/charts/chart1.xml"], `<numCache><formatCode>#,##0</formatCode><ptCount val="4"/><pt idx="0"><v>10</v></pt>`)
	assert.NotContains(t, all["xl/charts/chart1.xml"], "777")
	got := all["xl/worksheets/sheet2.xml"]
	for _, want := range []string{
		`<x:c r="A1" t="inlineStr">`, `<x:row r="4" ht="20">`, `<x:c r="C7"><x:f>B7*Rates!$B$1</x:f><x:v>20</x:v></x:c>`,
		`<x:c r="H9"><x:f>B9*2</x:f><x:v>0</x:v></x:c>`, `<x:row r="6"`,
	} {
		assert.Contains(t, got, want)
	}
	assert.NotContains(t, all["xl/tables/table1.xml"], "filterColumn", "a filter of the sample would hide what came")
	assert.Contains(t, all["xl/tables/table1.xml"], `ref="A3:D7"`)
}

func TestWhatRunsOrReachesOutIsRefused(t *testing.T) {
	types := func(more string) func(string) string {
		return func(part string) string { return strings.Replace(part, "</Types>", more+"</Types>", 1) }
	}
	override := func(name, kind string) string {
		return `<Override PartName="/` + name + `" ContentType="` + kind + `"/>`
	}
	with := func(name, kind string) []byte {
		return edited(t, edited(t, made(t), name, func(string) string { return "<a/>" }), "[Content_Types].xml", types(override(name, kind)))
	}
	formula := func(text string) []byte {
		return made(t, func(f *excelize.File) { require.NoError(t, f.SetCellFormula("Page", "C1", text)) })
	}
	linked := func(target string) []byte {
		return edited(t, made(t), "xl/worksheets/_rels/sheet1.xml.rels", func(part string) string {
			return strings.Replace(part, "</Relationships>", `<Relationship Id="rIdX" Type="http://schemas.openxmlformats.org/officeDocument/2006/relationships/hyperlink" Target="`+
				target+`" TargetMode="External"/></Relationships>`, 1)
		})
	}
	for want, book := range map[string][]byte{
		"it has macros (xl/vbaProject.bin)":                    with("xl/vbaProject.bin", "application/vnd.ms-office.vbaProject"),
		"it has macros (xl/anything.bin)":                      with("xl/anything.bin", "application/vnd.ms-office.vbaProject"),
		"it has macros (xl/macrosheets/sheet1.xml)":            with("xl/macrosheets/sheet1.xml", "application/vnd.ms-excel.macrosheet+xml"),
		"links to other workbooks":                             with("xl/externalLinks/externalLink1.xml", "application/vnd.openxmlformats-officedocument.spreadsheetml.externalLink+xml"),
		"connections to data outside":                          with("xl/connections.xml", "application/vnd.openxmlformats-officedocument.spreadsheetml.connections+xml"),
		"a pivot table, which keeps the rows":                  with("xl/pivotCache/pivotCacheDefinition1.xml", "application/vnd.openxmlformats-officedocument.spreadsheetml.pivotCacheDefinition+xml"),
		"files within it":                                      with("xl/embeddings/oleObject1.bin", "application/vnd.openxmlformats-officedocument.oleObject"),
		"is of a kind that is not taken (application/x-thing)": with("xl/thing.bin", "application/x-thing"),
		"is of a kind that is not taken (none)":                edited(t, made(t), "xl/thing.unknown", func(string) string { return "x" }),
		"it asks outside by WEBSERVICE":                        formula(`_xlfn.WEBSERVICE("https://quay.example")`),
		"it reads another workbook":                            formula(`[1]Sheet1!A1`),
		"it asks another program":                              formula(`quay|'/port'!A0`),
		"is linked to \"file:///quay/board\" outside":          linked("file:///quay/board"),
		"it has macros (xl/printer.bin)": edited(t, with("xl/printer.bin", "application/vnd.openxmlformats-officedocument.spreadsheetml.printerSettings"),
			"xl/_rels/workbook.xml.rels", func(part string) string {
				return strings.Replace(part, "</Relationships>", `<Relationship Id="rIdX" Type="http://schemas.microsoft.com/office/2006/relationships/vbaProject" Target="printer.bin"/></Relationships>`, 1)
			}),
		"has externalReference": edited(t, made(t), "xl/workbook.xml", func(part string) string {
			return strings.Replace(part, "<definedNames", `<externalReferences><externalReference/></externalReferences><definedNames`, 1)
		}),
		"it has a document type": edited(t, made(t), "xl/worksheets/sheet1.xml", func(part string) string {
			return strings.Replace(part, "<worksheet", `<!DOCTYPE worksheet [<!ENTITY a "b">]><worksheet`, 1)
		}),
		"runs a macro": edited(t, made(t), "xl/drawings/drawing1.xml", func(part string) string {
			return strings.Replace(part, `macro=""`, `macro="[0]!Ring"`, 1)
		}),
		"it has x within f": edited(t, formula(`SUM(A1)`), "xl/worksheets/sheet1.xml", func(part string) string {
			return strings.Replace(part, "<f>SUM(A1)</f>", `<f>WEBSER<x/>VICE("https://quay.example")</f>`, 1)
		}),
		"asks outside by WEBSERVICE": edited(t, formula(`SUM(A1)`), "xl/worksheets/sheet1.xml", func(part string) string {
			return strings.Replace(part, "<f>SUM(A1)</f>", `<f>WEB<!-- --><![CDATA[SERV]]>ICE("https://quay.example")</f>`, 1)
		}),
		"letters; 32768 are taken": edited(t, formula(`SUM(A1)`), "xl/worksheets/sheet1.xml", func(part string) string {
			return strings.Replace(part, "SUM(A1)", strings.Repeat("1+", 20000)+"1", 1)
		}),
		"it counts dates from 1904": edited(t, made(t), "xl/workbook.xml", func(part string) string {
			return strings.Replace(part, "<workbookPr ", `<workbookPr date1904="1" `, 1)
		}),
		"do not stand in their order": edited(t, made(t), "xl/worksheets/sheet1.xml", func(part string) string {
			return strings.Replace(part, `<row r="3"`, `<row r="1"`, 1)
		}),
		"stands there twice":           edited(t, made(t), "XL/workbook.xml", func(string) string { return "<a/>" }),
		"no workbook of the form":      []byte("PK no zip"),
		"protected by a password":      []byte("\xd0\xcf\x11\xe0\xa1\xb1"),
		"unpacked it is larger than":   edited(t, made(t), "xl/media/image1.png", func(string) string { return strings.Repeat("x", 201<<20) }),
		"it has 0 bytes":               {},
		"it is no workbook of the for": edited(t, made(t), "[Content_Types].xml", func(string) string { return "" }),
	} {
		_, err := workbook.Examine(context.Background(), book)
		assert.ErrorContains(t, err, want)
	}
	for _, good := range []string{"https://quay.example/board", "mailto:quay@tarnwick.example"} {
		_, err := workbook.Examine(context.Background(), linked(good))
		require.NoError(t, err, good)
	}
	notes := edited(t, with("customXml/item1.xml", "application/xml"), "docProps/thumbnail.png", func(string) string { return "picture" })
	notes = edited(t, notes, "[Content_Types].xml", types(`<Default Extension="png" ContentType="image/png"/>`))
	facts, err := workbook.Examine(context.Background(), notes)
	require.NoError(t, err)
	assert.Equal(t, []string{"Its part customXml/item1.xml is left out.", "Its part docProps/thumbnail.png is left out."}, facts.Says)
	out, _, err := filled(t, notes, 2, workbook.Order{})
	require.NoError(t, err)
	assert.NotContains(t, parts(t, out), "customXml/item1.xml")
	assert.NotContains(t, parts(t, out)["[Content_Types].xml"], "customXml")
}

// An office program that is installed reads what was filled as we do.
func TestAnOfficeProgramReadsTheSame(t *testing.T) {
	office, err := exec.LookPath("soffice")
	if err != nil {
		t.Skip("no office program is installed")
	}
	out, _, err := filled(t, made(t), 12, workbook.Order{})
	require.NoError(t, err)
	dir := t.TempDir()
	require.NoError(t, os.WriteFile(dir+"/book.xlsx", out, 0o600))
	said, err := exec.CommandContext(t.Context(), office, "-env:UserInstallation=file://"+dir+"/profile", "--headless", "--convert-to", "csv", "--outdir", dir, dir+"/book.xlsx").CombinedOutput()
	require.NoError(t, err, string(said))
	text, err := os.ReadFile(dir + "/book.csv")
	require.NoError(t, err)
	for _, want := range []string{"Month,November", "All litres,780", "All cost,390", "Dearest,Vessel <12>", "Share,0.912", "Enough,TRUE"} {
		assert.Contains(t, string(text), want)
	}
}
