package render_test

import (
	"bytes"
	"encoding/csv"
	"fmt"
	"strings"
	"testing"

	"ironbell/internal/core/rows"
	"ironbell/internal/render"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"github.com/xuri/excelize/v2"
)

var columns = []rows.Column{
	{Name: "Port", Kind: rows.Text},
	{Name: "Sailings", Kind: rows.Whole},
	{Name: "Litres", Kind: rows.Number},
	{Name: "Day", Kind: rows.Date},
	{Name: "Left", Kind: rows.Instant},
	{Name: "Late", Kind: rows.YesNo},
	{Name: "=Note", Kind: rows.Text},
}

func row(cells ...string) rows.Row {
	r := make(rows.Row, len(cells))
	for i, c := range cells {
		r[i] = rows.Cell{Text: []byte(c), Null: c == "NULL"}
	}
	return r
}

var lines = []rows.Row{
	row("Grey Skerry", "12", "1204.50", "2026-07-01", "2026-07-01 06:30:00+01", "t", `=HYPERLINK("x")`),
	row("Café \"Pier\", one", "-3", "NULL", "NULL", "NULL", "f", "-1+2\nline"),
	row("Fennmouth", "9007199254740993", "NaN", "infinity", "0044-03-15 06:30:00+00 BC", "f", "@x"),
}

func made(t *testing.T, format string, head *render.Head, sections ...string) []byte {
	t.Helper()
	f, err := render.ByName(format)
	require.NoError(t, err)
	var out bytes.Buffer
	w, err := f.New(&out, head)
	require.NoError(t, err)
	for _, s := range sections {
		require.NoError(t, w.Columns(s, columns))
		for _, r := range lines {
			require.NoError(t, w.Row(r))
		}
	}
	require.NoError(t, w.Close())
	return out.Bytes()
}

func TestCSVIsReadBackAndDefused(t *testing.T) {
	out := made(t, "csv", &render.Head{}, "A")
	assert.Contains(t, string(out), "\r\n", "lines end as RFC 4180 has them")
	got, err := csv.NewReader(bytes.NewReader(out)).ReadAll()
	require.NoError(t, err)
	assert.Equal(t, [][]string{
		{"Port", "Sailings", "Litres", "Day", "Left", "Late", "'=Note"},
		{"Grey Skerry", "12", "1204.50", "2026-07-01", "2026-07-01 06:30:00+01", "yes", `'=HYPERLINK("x")`},
		{"Café \"Pier\", one", "-3", "", "", "", "no", "'-1+2\nline"},
		{"Fennmouth", "9007199254740993", "NaN", "infinity", "0044-03-15 06:30:00+00 BC", "no", "'@x"},
	}, got)
}

func TestXLSXHasRealNumbersAndDatesAndAFrozenHeader(t *testing.T) {
	out := made(t, "xlsx", &render.Head{Report: "Day sheet", Run: "2611-1"}, "Sailings: [all] of every port and day", "Sailings: [all] of every port and night")
	f, err := excelize.OpenReader(bytes.NewReader(out))
	require.NoError(t, err)
	defer func() { _ = f.Close() }()
	sheets := f.GetSheetList()
	require.Len(t, sheets, 2)
	for _, s := range sheets {
		assert.LessOrEqual(t, len(s), 31, s)
	}
	sheet := sheets[0]
	panes, err := f.GetPanes(sheet)
	require.NoError(t, err)
	assert.True(t, panes.Freeze && panes.YSplit == 1)
	raw := func(cell string) (string, excelize.CellType) {
		v, err := f.GetCellValue(sheet, cell, excelize.Options{RawCellValue: true})
		require.NoError(t, err)
		kind, err := f.GetCellType(sheet, cell)
		require.NoError(t, err)
		return v, kind
	}
	for cell, want := range map[string]string{"B2": "12", "C2": "1204.5", "B3": "-3", "D2": "46204", "E2": "46204.2708333333"} {
		v, kind := raw(cell)
		assert.Equal(t, want, v, cell)
		assert.Contains(t, []excelize.CellType{excelize.CellTypeUnset, excelize.CellTypeNumber}, kind, "%s is a number", cell)
	}
	shown, err := f.GetCellValue(sheet, "D2")
	require.NoError(t, err)
	assert.Equal(t, "2026-07-01", shown)
	shown, err = f.GetCellValue(sheet, "E2")
	require.NoError(t, err)
	assert.Equal(t, "2026-07-01 06:30:00", shown, "the wall time of the job's zone")
	for cell, want := range map[string]string{"B4": "9007199254740993", "C4": "NaN", "D4": "infinity", "G2": `=HYPERLINK("x")`} {
		v, kind := raw(cell)
		assert.Equal(t, want, v, "%s keeps what a sheet cannot hold as text", cell)
		assert.Contains(t, []excelize.CellType{excelize.CellTypeInlineString, excelize.CellTypeSharedString}, kind, cell)
	}
	formula, err := f.GetCellFormula(sheet, "G2")
	require.NoError(t, err)
	assert.Empty(t, formula)
	props, err := f.GetDocProps()
	require.NoError(t, err)
	assert.Equal(t, "Day sheet", props.Title)
}

func TestXLSXWithManyRowsAndWithNone(t *testing.T) {
	f, err := render.ByName("xlsx")
	require.NoError(t, err)
	var out bytes.Buffer
	w, err := f.New(&out, &render.Head{})
	require.NoError(t, err)
	require.NoError(t, w.Columns("Empty", columns[:2]))
	require.NoError(t, w.Columns("Many", columns[:2]))
	for i := range 2500 {
		require.NoError(t, w.Row(row(fmt.Sprintf("Port %d", i), fmt.Sprint(i))))
	}
	require.NoError(t, w.Close())
	book, err := excelize.OpenReader(&out)
	require.NoError(t, err)
	defer func() { _ = book.Close() }()
	empty, err := book.GetRows("Empty")
	require.NoError(t, err)
	assert.Equal(t, [][]string{{"Port", "Sailings"}}, empty)
	many, err := book.GetRows("Many")
	require.NoError(t, err)
	require.Len(t, many, 2501)
	assert.Equal(t, []string{"Port 99", "99"}, many[100])
	assert.Equal(t, []string{"Port 2499", "2499"}, many[2500])
}

func TestMailTableEscapesAndSaysWhereTheRestIs(t *testing.T) {
	f, err := render.ByName(render.MailTable)
	require.NoError(t, err)
	var out bytes.Buffer
	w, err := f.New(&out, &render.Head{Files: []string{"Day <sheet>.xlsx"}})
	require.NoError(t, err)
	require.NoError(t, w.Columns("Rows & more", columns[:2]))
	for i := range render.MailTableRows + 7 {
		require.NoError(t, w.Row(row("<b>bold</b>", fmt.Sprint(i))))
	}
	require.NoError(t, w.Close())
	text := out.String()
	assert.Contains(t, text, "Rows &amp; more")
	assert.NotContains(t, text, "<b>bold")
	assert.Equal(t, render.MailTableRows, strings.Count(text, "&lt;b&gt;bold"))
	assert.Contains(t, text, "Shown here are the first 5,000 of 5,007 rows. All of them are in Day &lt;sheet&gt;.xlsx.")
	assert.Contains(t, string(made(t, render.MailTable, &render.Head{}, "A")), `<th scope="col"`)
	assert.NotContains(t, string(made(t, render.MailTable, &render.Head{}, "A")), "Shown here")
	_, err = render.ByName("pdf")
	assert.ErrorContains(t, err, "there is no format")
}
