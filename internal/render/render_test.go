package render_test

import (
	"archive/zip"
	"bytes"
	"compress/gzip"
	"context"
	"encoding/csv"
	"encoding/json"
	"encoding/xml"
	"errors"
	"fmt"
	"image/png"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"ironbell/internal/core/job"
	"ironbell/internal/core/rows"
	"ironbell/internal/core/shape"
	"ironbell/internal/render"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"github.com/xuri/excelize/v2"
	"golang.org/x/net/html"
	"golang.org/x/text/encoding/charmap"
	"golang.org/x/text/encoding/unicode"
)

// table is a section with the rows that its query would give.
type table struct {
	section job.Section
	form    job.Form
	columns []rows.Column
	rows    []rows.Row

	direction string
}

func row(cells ...string) rows.Row {
	r := make(rows.Row, len(cells))
	for i, c := range cells {
		r[i] = rows.Cell{Text: []byte(c), Null: c == "NULL"}
	}
	return r
}

var odd = table{
	section: job.Section{Name: "Odd things", Columns: []job.Column{{Name: "Secret", Hidden: true}}},
	columns: []rows.Column{
		{Name: "Port", Kind: rows.Text},
		{Name: "Sailings", Kind: rows.Whole},
		{Name: "Litres", Kind: rows.Number},
		{Name: "Day", Kind: rows.Date},
		{Name: "Left", Kind: rows.Instant},
		{Name: "Late", Kind: rows.YesNo},
		{Name: "Secret", Kind: rows.Text},
		{Name: "=Note", Kind: rows.Text},
	},
	rows: []rows.Row{
		row("Grey Skerry", "12", "1204.50", "2026-07-01", "2026-07-01 06:30:00+01", "t", "crown jewels",
			`=HYPERLINK("x")`),
		row("Café \"Pier\", one", "-3", "NULL", "NULL", "NULL", "f", "crown jewels", "-1+2\nline"),
		row("Fennmouth", "9007199254740993", "NaN", "infinity", "0044-03-15 06:30:00+00 BC", "f", "crown jewels", "@x"),
	},
}

func places(n int) *int { return &n }

var loads = table{
	section: job.Section{
		Name: "Deck load", Title: "Vehicle deck load", Group: []string{"Port"}, Key: []string{"Port", "Route"},
		Columns: []job.Column{
			{Name: "Cars", Total: job.TotalSum},
			{Name: "Metres", Label: "Freight", Unit: "m", Decimals: places(1), Total: job.TotalSum},
			{
				Name: "Full", Label: "Deck used", Percent: true, Decimals: places(0), Total: job.TotalMean,
				Emphasis: []job.Emphasis{{If: `cell("Full") > 0.9 && cell("Manager") != ""`, As: job.MarkBad}},
			},
			{Name: "Manager", Hidden: true},
		},
	},
	columns: []rows.Column{
		{Name: "Port", Kind: rows.Text},
		{Name: "Route", Kind: rows.Text},
		{Name: "Day", Kind: rows.Date},
		{Name: "Cars", Kind: rows.Whole},
		{Name: "Metres", Kind: rows.Number},
		{Name: "Full", Kind: rows.Number},
		{Name: "Manager", Kind: rows.Text},
	},
	rows: []rows.Row{
		row("Ellerhaven", "Ellerhaven – Pennold", "2026-11-20", "1240", "310.25", "0.713", "crown jewels"),
		row("Ellerhaven", "Ellerhaven – Tarnwick Quay", "2026-11-20", "2210", "480.5", "0.948", "crown jewels"),
		row("Grey Skerry", "Grey Skerry – Fennmouth", "2026-11-20", "96", "12", "0.31", "crown jewels"),
	},
}

var figures = table{
	section: job.Section{Name: "Week in figures", Kind: job.SectionFigures, Columns: []job.Column{
		{Name: "Passengers", Before: "Passengers before", Better: job.BetterMore},
		{Name: "On time", Percent: true, Decimals: places(1), Before: "On time before", Better: job.BetterMore},
		{Name: "Cancelled", Before: "Cancelled before", Better: job.BetterLess},
	}},
	columns: []rows.Column{
		{Name: "Passengers", Kind: rows.Whole},
		{Name: "Passengers before", Kind: rows.Whole},
		{Name: "On time", Kind: rows.Number},
		{Name: "On time before", Kind: rows.Number},
		{Name: "Cancelled", Kind: rows.Whole},
		{Name: "Cancelled before", Kind: rows.Whole},
	},
	rows: []rows.Row{row("18240", "17102", "0.934", "0.951", "4", "9")},
}

func burn() table {
	t := table{
		section: job.Section{
			Name: "Fuel burn", Kind: job.SectionChart,
			Chart: &job.Chart{Form: job.ChartStacked, Series: []string{"Harrier", "Petrel"}},
			Columns: []job.Column{
				{Name: "Harrier", Unit: "l"},
				{Name: "Petrel", Unit: "l"},
				{Name: "Skipper", Hidden: true},
			},
		},
		columns: []rows.Column{
			{Name: "Week", Kind: rows.Date},
			{Name: "Harrier", Kind: rows.Whole},
			{Name: "Petrel", Kind: rows.Whole},
			{Name: "Skipper", Kind: rows.Text},
		},
	}
	for i := range 8 {
		t.rows = append(t.rows,
			row(time.Date(2026, 9, 28+7*i, 0, 0, 0, 0, time.UTC).Format(time.DateOnly), fmt.Sprint(4200+137*i),
				fmt.Sprint(3900-60*i), "crown jewels"))
	}
	return t
}

var words = table{section: job.Section{
	Name: "Remarks", Kind: job.SectionText, Text: "Two storms closed Grey Skerry.\n\nWinter timetable from Monday.",
}}

func head() *render.Head {
	place, err := time.LoadLocation("Europe/London")
	if err != nil {
		panic(err)
	}
	return &render.Head{
		Report: "Monday page", Title: "Monday page, week to 22 November", Run: "2611-48211",
		AsOf: time.Date(2026, 11, 23, 8, 15, 0, 0, place), Identity: "ferry_reports at tarnwick", Zone: place,
		Values: []job.Bound{
			{Name: "from", Label: "From", Type: job.TypeDate, Text: "2026-11-16"},
			{Name: "ports", Label: "Ports", Text: "EH, GS", Shown: "Ellerhaven, Grey Skerry"},
		},
	}
}

// file makes a file of tables and gives what its writer says of it.
func file(t *testing.T, o job.Output, h *render.Head, tables ...table) ([]byte, []string, error) {
	t.Helper()
	style, err := render.Read(o)
	require.NoError(t, err)
	var out bytes.Buffer
	w, err := style.Open(&out, h)
	require.NoError(t, err)
	sink := []shape.Sink{w}
	for _, one := range tables {
		plan, err := shape.Fit(one.section, one.form, one.columns)
		require.NoError(t, err)
		plan.Text, plan.Direction = one.section.Text, one.direction
		laid, flat := sink, []shape.Sink(nil)
		if style.Format.FlatFor(o) {
			laid, flat = nil, sink
		}
		s, err := shape.NewShaper(plan, laid, flat)
		if err != nil {
			return nil, nil, err
		}
		for _, r := range one.rows {
			if err := s.Row(r); err != nil {
				return nil, nil, err
			}
		}
		if _, err := s.End(); err != nil {
			return nil, nil, err
		}
	}
	if err := w.Close(); err != nil {
		return nil, nil, err
	}
	var says []string
	if speaker, ok := w.(render.Speaker); ok {
		says = speaker.Says()
	}
	if dir := os.Getenv("IRONBELL_KEEP_FILES"); dir != "" {
		// To be looked at by hand.
		require.NoError(t,
			os.WriteFile(filepath.Join(dir, strings.ReplaceAll(t.Name(), "/", "_")+style.Format.Ending), out.Bytes(),
				0o600))
	}
	return out.Bytes(), says, nil
}

func made(t *testing.T, o job.Output, tables ...table) []byte {
	t.Helper()
	out, _, err := file(t, o, head(), tables...)
	require.NoError(t, err)
	return out
}

func TestCSVIsReadBackAndDefused(t *testing.T) {
	out := made(t, job.Output{Format: "csv"}, odd)
	assert.Contains(t, string(out), "\r\n", "lines end as RFC 4180 has them")
	got, err := csv.NewReader(bytes.NewReader(out)).ReadAll()
	require.NoError(t, err)
	assert.Equal(t, [][]string{
		{"Port", "Sailings", "Litres", "Day", "Left", "Late", "'=Note"},
		{"Grey Skerry", "12", "1204.50", "2026-07-01", "2026-07-01 06:30:00+01", "yes", `'=HYPERLINK("x")`},
		{"Café \"Pier\", one", "-3", "", "", "", "no", "'-1+2\nline"},
		{"Fennmouth", "9007199254740993", "NaN", "infinity", "0044-03-15 06:30:00+00 BC", "no", "'@x"},
	}, got)
	system := string(made(t,
		job.Output{
			Format: "csv", ForSystem: true, Text: &job.TextForm{Delimiter: "|", LineEnd: job.EndLF, NoHeader: true},
		}, odd))
	assert.True(t,
		strings.HasPrefix(system,
			"Grey Skerry|12|1204.50|2026-07-01|2026-07-01 06:30:00+01|yes|\"=HYPERLINK(\"\"x\"\")\"\n"), system)
	all := string(made(t, job.Output{Format: "tsv", Text: &job.TextForm{Quote: job.QuoteAll}}, odd))
	assert.True(t, strings.HasPrefix(all, "\"Port\"\t\"Sailings\"\t"), all)
	_, _, err = file(t, job.Output{Format: "csv", Text: &job.TextForm{Quote: job.QuoteNone}}, head(), odd)
	assert.ErrorContains(t, err, "nothing stands in quotes")
}

// Whoever reads a file by the places of its columns finds them there whatever becomes of the query.
func TestColumnsStandWhereTheOutputNamesThem(t *testing.T) {
	names := make([]string, 0, len(odd.columns))
	for _, c := range odd.columns {
		names = append(names, c.Name)
	}
	chosen := []string{names[3], names[0]}
	out := string(made(t, job.Output{Format: "csv", Columns: chosen, ForSystem: true}, odd))
	assert.True(t, strings.HasPrefix(out, names[3]+","+names[0]+"\r\n2026-07-01,Grey Skerry\r\n"), out)
	lines := strings.Split(strings.TrimSpace(string(made(t, job.Output{Format: "jsonl", Columns: chosen}, odd))), "\n")
	require.Len(t, lines, 3)
	assert.Equal(t, fmt.Sprintf(`{%q:"2026-07-01",%q:"Grey Skerry"}`, names[3], names[0]), lines[0])
	text := string(made(t, job.Output{Format: "json", Columns: chosen}, odd))
	assert.True(t, json.Valid([]byte(text)), text)
	assert.NotContains(t, text, names[1])
	book, err := excelize.OpenReader(bytes.NewReader(made(t, job.Output{Format: "xlsx", DataOnly: true, Columns: chosen}, odd)))
	require.NoError(t, err)
	rows, err := book.GetRows(book.GetSheetName(0))
	require.NoError(t, err)
	assert.Len(t, rows[0], 2)
	_, _, err = file(t, job.Output{Format: "tsv", Columns: []string{names[0], "harbour"}}, head(), odd)
	require.ErrorContains(t, err, `has no column "harbour"; it has `+names[0])
	_, err = render.Read(job.Output{Format: "pdf", Columns: chosen})
	require.ErrorContains(t, err, "columns: they belong to csv")
	_, err = render.Read(job.Output{Format: "csv", Columns: []string{"a", "a"}})
	require.ErrorContains(t, err, `"a" stands there twice`)
}

func TestJSONLinesAreARowEach(t *testing.T) {
	out := string(made(t, job.Output{Format: "jsonl"}, odd))
	assert.True(t, strings.HasSuffix(out, "}\n"))
	decoder := json.NewDecoder(strings.NewReader(out))
	decoder.UseNumber()
	n := 0
	for ; decoder.More(); n++ {
		var row map[string]any
		require.NoError(t, decoder.Decode(&row))
		require.Len(t, row, len(odd.columns)-1, "the hidden one is not there")
	}
	assert.Equal(t, n, strings.Count(out, "\n"), "no line breaks within a row")
	assert.Equal(t, len(odd.rows), n)
	assert.Contains(t, out, "9007199254740993", "every digit")
}

func TestTextFilesInEachLocaleAndEncoding(t *testing.T) {
	for _, c := range []struct {
		locale, encoding string
		unfit            job.Unfit
		decode           func([]byte) ([]byte, error)
		want             string
		says             string
	}{
		{"", "", "", nil, "Ellerhaven,Ellerhaven – Pennold,2026-11-20,1240,310.3\u00a0m,71\u00a0%", ""},
		{
			"de", "windows-1252", "", charmap.Windows1252.NewDecoder().Bytes,
			"Ellerhaven;Ellerhaven – Pennold;20.11.2026;1240;310,3\u00a0m;71\u00a0%", "",
		},
		{
			"de", "iso-8859-1", "", charmap.ISO8859_1.NewDecoder().Bytes,
			"Ellerhaven;Ellerhaven ? Pennold;20.11.2026;1240;310,3\u00a0m;71\u00a0%",
			"3 characters that iso-8859-1 does not have, the first of them '–'",
		},
		{
			"fr", "iso-8859-15", job.UnfitPlain, charmap.ISO8859_15.NewDecoder().Bytes,
			"Ellerhaven;Ellerhaven - Pennold;20 nov. 2026;1240;310,3\u00a0m;71\u00a0%", "plain letters",
		},
		{
			"en-GB", "utf-16", "", unicode.UTF16(unicode.LittleEndian, unicode.ExpectBOM).NewDecoder().Bytes,
			"Ellerhaven,Ellerhaven – Pennold,20 Nov 2026,1240,310.3\u00a0m,71\u00a0%", "",
		},
		{
			"sv", "utf-8-mark", "",
			func(b []byte) ([]byte, error) { return bytes.TrimPrefix(b, []byte("\xef\xbb\xbf")), nil },
			"Ellerhaven;Ellerhaven – Pennold;20 nov. 2026;1240;310,3\u00a0m;71\u00a0%", "",
		},
		{
			"pl", "windows-1250", "", charmap.Windows1250.NewDecoder().Bytes,
			"Ellerhaven;Ellerhaven – Pennold;20 lis 2026;1240;310,3\u00a0m;71\u00a0%", "",
		},
	} {
		t.Run(c.locale+c.encoding, func(t *testing.T) {
			// Data are data unless people are to read them: every digit, and no units.
			exact := string(made(t, job.Output{Format: "csv", Locale: c.locale}, loads))
			point := map[bool]string{true: ",", false: "."}[strings.Contains(c.want, "310,3")]
			assert.Contains(t, exact, "1240"+map[bool]string{true: ";", false: ","}[point == ","]+"310"+point+"25")
			assert.Contains(t, exact, "0"+point+"713")
			assert.NotContains(t, exact, "%")
			out, says, err := file(t, job.Output{Format: "csv", Locale: c.locale, Text: &job.TextForm{
				Encoding: c.encoding, Unfit: c.unfit, Numbers: job.NumbersShown,
			}}, head(), loads)
			require.NoError(t, err)
			if c.decode != nil {
				out, err = c.decode(out)
				require.NoError(t, err)
			}
			lines := strings.Split(string(out), "\r\n")
			require.Len(t, lines, 5, "a header, three rows and no totals")
			assert.Equal(t, c.want, lines[1])
			assert.Contains(t, strings.Join(says, "; "), c.says)
		})
	}
	_, _, err := file(t, job.Output{Format: "csv", Text: &job.TextForm{Encoding: "iso-8859-1", Unfit: job.UnfitFail}},
		head(), loads)
	assert.ErrorContains(t, err, `'–' (U+2013) does not exist in iso-8859-1`)
}

func TestSettingsThatDoNotFitAreNamed(t *testing.T) {
	for want, o := range map[string]job.Output{
		`there is no format "doc"; there are csv, tsv, json, jsonl, xlsx`: {Format: "doc"},
		`there is no locale "xx"`: {Format: "pdf", Locale: "xx"},
		`numbers of the locale de have "," before their decimals`: {
			Format: "csv", Locale: "de", Text: &job.TextForm{Delimiter: ","},
		},
		`there is no encoding "ebcdic"`: {
			Format: "csv", Text: &job.TextForm{Encoding: "ebcdic"},
		},
		`text: it belongs to csv and tsv; this is xlsx`: {Format: "xlsx", Text: &job.TextForm{}},
		`data_only: it belongs to xlsx; this is pdf`:    {Format: "pdf", DataOnly: true},
		`cannot stand between cells; use one ASCII character that is no quote`: {
			Format: "csv", Text: &job.TextForm{Delimiter: `"`},
		},
		`zone:`: {Format: "csv", Zone: "Mars/Olympus"},
	} {
		_, err := render.Read(o)
		assert.ErrorContains(t, err, want)
	}
}

func TestJSONKeepsEveryDigit(t *testing.T) {
	out := made(t, job.Output{Format: "json"}, odd, loads)
	var got struct {
		Report, Run, Title string
		AsOf               time.Time `json:"as_of"`
		Values             map[string]string
		Sections           []struct {
			Section string
			Columns []struct{ Name, Label, Type string }
			Rows    []map[string]any
		}
	}
	d := json.NewDecoder(bytes.NewReader(out))
	d.UseNumber()
	require.NoError(t, d.Decode(&got), string(out))
	assert.Equal(t, "2611-48211", got.Run)
	assert.Equal(t, "2026-11-16", got.Values["from"])
	require.Len(t, got.Sections, 2)
	r := got.Sections[0].Rows
	assert.Equal(t,
		map[string]any{
			"Port": "Grey Skerry", "Sailings": json.Number("12"), "Litres": json.Number("1204.50"), "Day": "2026-07-01",
			"Left": "2026-07-01T06:30:00+01:00", "Late": true, "=Note": `=HYPERLINK("x")`,
		}, r[0])
	assert.Equal(t, json.Number("9007199254740993"), r[2]["Sailings"])
	assert.Equal(t, "NaN", r[2]["Litres"], "what is no number in JSON is a text")
	assert.Nil(t, r[1]["Litres"])
	assert.Len(t, got.Sections[1].Rows, 3, "rows alone, without totals")
}

func TestXLSXIsLaidOut(t *testing.T) {
	f := book(t, made(t, job.Output{Format: "xlsx"}, figures, loads, burn(), words))
	assert.Equal(t, []string{"Week in figures", "Vehicle deck load", "Fuel burn", "Remarks"}, f.GetSheetList())
	got, err := f.GetRows("Vehicle deck load")
	require.NoError(t, err)
	assert.Equal(t, [][]string{
		{"Monday page, week to 22 November  ·  Vehicle deck load"},
		{"As of 2026-11-23 08:15 GMT  ·  From: 2026-11-16  ·  Ports: Ellerhaven, Grey Skerry  ·  Run 2611-48211"},
		nil,
		{"Port", "Route", "Day", "Cars", "Freight", "Deck used"},
		{"Ellerhaven", "Ellerhaven – Pennold", "2026-11-20", "1,240", "310.3 m", "71%"},
		{"Ellerhaven", "Ellerhaven – Tarnwick Quay", "2026-11-20", "2,210", "480.5 m", "95%"},
		{"Total Ellerhaven", "", "", "3,450", "790.8 m", "83%"},
		{"Grey Skerry", "Grey Skerry – Fennmouth", "2026-11-20", "96", "12.0 m", "31%"},
		{"Total Grey Skerry", "", "", "96", "12.0 m", "31%"},
		{"Total", "", "", "3,546", "802.8 m", "66%"},
	}, got)
	panes, err := f.GetPanes("Vehicle deck load")
	require.NoError(t, err)
	assert.True(t, panes.Freeze && panes.YSplit == 4, "the header stays in sight")
	bold := func(cell string) bool {
		id, err := f.GetCellStyle("Vehicle deck load", cell)
		require.NoError(t, err)
		style, err := f.GetStyle(id)
		require.NoError(t, err)
		return style.Font != nil && style.Font.Bold
	}
	assert.True(t, bold("D7") && bold("D10") && !bold("D6"), "totals are bold")
	id, err := f.GetCellStyle("Vehicle deck load", "F6")
	require.NoError(t, err)
	style, err := f.GetStyle(id)
	require.NoError(t, err)
	assert.Equal(t, "A8321A", style.Font.Color, "a full deck is emphasised")
	shown, err := f.GetRows("Week in figures")
	require.NoError(t, err)
	assert.Equal(t, []string{"Passengers", "18,240", "+1,138 (+6.7\u00a0%), before 17,102"}, shown[3])
	props, err := f.GetDocProps()
	require.NoError(t, err)
	assert.Equal(t, "Monday page, week to 22 November", props.Title)
	assert.Contains(t, props.Description, "read as ferry_reports at tarnwick")
	// One series for each value of a column is a picture, which says what it shows.
	split := burn()
	split.section.Chart = &job.Chart{Form: job.ChartLine, Series: []string{"Petrel"}, Split: "Harrier"}
	drawn := unzip(t, made(t, job.Output{Format: "xlsx"}, split))
	assert.Contains(t, drawn["xl/drawings/drawing1.xml"], "for each Harrier")
	assert.Contains(t, drawn, "xl/media/image1.png")
	// The chart draws the cells beside it, and says in words what it shows.
	parts := unzip(t, made(t, job.Output{Format: "xlsx"}, burn()))
	assert.Contains(t, parts["xl/charts/chart1.xml"], "Fuel burn")
	assert.Contains(t, parts["xl/charts/chart1.xml"], "$B$5:$B$12")
	assert.Contains(t, parts["xl/drawings/drawing1.xml"], "Stacked bar chart: Harrier, Petrel by Week.")
}

func book(t *testing.T, out []byte) *excelize.File {
	t.Helper()
	f, err := excelize.OpenReader(bytes.NewReader(out))
	require.NoError(t, err)
	t.Cleanup(func() { _ = f.Close() })
	return f
}

func TestXLSXWithDataOnlyHasRealNumbersAndDates(t *testing.T) {
	f := book(t, made(t, job.Output{Format: "xlsx", DataOnly: true}, odd))
	sheet := "Odd things"
	raw := func(cell string) (string, excelize.CellType) {
		v, err := f.GetCellValue(sheet, cell, excelize.Options{RawCellValue: true})
		require.NoError(t, err)
		kind, err := f.GetCellType(sheet, cell)
		require.NoError(t, err)
		return v, kind
	}
	for cell, want := range map[string]string{
		"B2": "12", "C2": "1204.5", "B3": "-3", "D2": "46204", "E2": "46204.2708333333",
	} {
		v, kind := raw(cell)
		assert.Equal(t, want, v, cell)
		assert.Contains(t, []excelize.CellType{excelize.CellTypeUnset, excelize.CellTypeNumber}, kind, "%s is a number",
			cell)
	}
	for cell, want := range map[string]string{"D2": "2026-07-01", "E2": "2026-07-01 06:30:00"} {
		shown, err := f.GetCellValue(sheet, cell)
		require.NoError(t, err)
		assert.Equal(t, want, shown, "the wall time of the job's zone")
	}
	for cell, want := range map[string]string{
		"A1": "Port", "B4": "9007199254740993", "C4": "NaN", "D4": "infinity", "G2": `=HYPERLINK("x")`,
	} {
		v, kind := raw(cell)
		assert.Equal(t, want, v, "%s keeps what a sheet cannot hold as text", cell)
		assert.Contains(t, []excelize.CellType{excelize.CellTypeInlineString, excelize.CellTypeSharedString}, kind,
			cell)
	}
	formula, err := f.GetCellFormula(sheet, "G2")
	require.NoError(t, err)
	assert.Empty(t, formula)
}

func TestXLSXGoesOnInTheNextSheetAndSaysSo(t *testing.T) {
	if testing.Short() {
		t.Skip("a million rows take half a minute")
	}
	long := table{
		section: job.Section{Name: "All sailings: [every] one of them, since 1990"},
		columns: []rows.Column{{Name: "N", Kind: rows.Whole}},
	}
	style, err := render.Read(job.Output{Format: "xlsx", DataOnly: true})
	require.NoError(t, err)
	var out bytes.Buffer
	w, err := style.Format.New(&out, head(), style)
	require.NoError(t, err)
	plan, err := shape.Fit(long.section, "", long.columns)
	require.NoError(t, err)
	s, err := shape.NewShaper(plan, nil, []shape.Sink{w})
	require.NoError(t, err)
	for range excelize.TotalRows + 4 {
		require.NoError(t, s.Row(row("7")))
	}
	_, err = s.End()
	require.NoError(t, err)
	require.NoError(t, w.Close())
	f := book(t, out.Bytes())
	sheets := f.GetSheetList()
	require.Equal(t, []string{"All sailings   every  one of th", "All sailings   every  one of 2"}, sheets)
	rest, err := f.GetRows(sheets[1])
	require.NoError(t, err)
	assert.Len(t, rest, 1+5)
	assert.Contains(t, w.(render.Speaker).Says()[0], "goes on in the next sheets")
}

func TestHiddenColumnsAreNowhere(t *testing.T) {
	for _, o := range []job.Output{
		{Format: "csv"},
		{Format: "tsv"},
		{Format: "json"},
		{Format: "xlsx"},
		{Format: "xlsx", DataOnly: true},
		{Format: "html"},
		{Format: render.MailTable},
		{Format: "pptx"},
		{Format: "pdf"},
		{Format: render.RowsKept},
	} {
		for _, one := range []table{odd, loads, burn()} {
			out := made(t, o, one)
			all := string(out)
			if o.Format == "xlsx" || o.Format == "pptx" {
				for _, part := range unzip(t, out) {
					all += part
				}
			}
			if o.Format == render.RowsKept {
				all = unpack(t, out)
			}
			if o.Format == "pdf" {
				all += read(t, out)
			}
			for _, secret := range []string{"crown jewels", "Secret", "Manager", "Skipper"} {
				assert.NotContains(t, all, secret, "%s of %s", o.Format, one.section.Name)
			}
		}
	}
}

func unzip(t *testing.T, out []byte) map[string]string {
	t.Helper()
	z, err := zip.NewReader(bytes.NewReader(out), int64(len(out)))
	require.NoError(t, err)
	parts := map[string]string{}
	for _, f := range z.File {
		r, err := f.Open()
		require.NoError(t, err)
		text, err := io.ReadAll(r)
		require.NoError(t, err)
		parts[f.Name] = string(text)
	}
	return parts
}

// read gives the text of a PDF as another program reads it.
func read(t *testing.T, out []byte) string {
	t.Helper()
	path := filepath.Join(t.TempDir(), "a.pdf")
	require.NoError(t, os.WriteFile(path, out, 0o600))
	text, err := exec.Command("pdftotext", "-layout", path, "-").CombinedOutput()
	require.NoError(t, err, string(text))
	return string(text)
}

func about(t *testing.T, out []byte) string {
	t.Helper()
	path := filepath.Join(t.TempDir(), "a.pdf")
	require.NoError(t, os.WriteFile(path, out, 0o600))
	text, err := exec.Command("pdfinfo", path).CombinedOutput()
	require.NoError(t, err, string(text))
	return string(text)
}

func TestPDFSaysWhatItIs(t *testing.T) {
	out := made(t, job.Output{Format: "pdf", Locale: "de"}, figures, loads, burn(), words)
	text := read(t, out)
	for _, want := range []string{
		"Monday page, week to 22 November", "Stand 23.11.2026 08:15 GMT", "Lauf 2611-48211",
		"Gelesen als ferry_reports at tarnwick", "Ports: Ellerhaven, Grey Skerry",
		"18.240", "+1.138", "Vehicle deck load", "310,3 m", "Summe Ellerhaven", "3.546", "Seite 1 von ", "Fuel burn",
		"Two storms closed Grey Skerry.",
	} {
		assert.Contains(t, strings.ReplaceAll(text, "\u00a0", " "), want)
	}
	said := about(t, out)
	assert.Contains(t, said, "Monday page, week to 22 November")
	assert.Contains(t, said, "read as ferry_reports at tarnwick")
}

func TestPDFOfManyRowsRepeatsItsHeadAndHasALimit(t *testing.T) {
	long := table{section: job.Section{Name: "Sailings"}, columns: odd.columns[:2]}
	for i := range 500 {
		long.rows = append(long.rows, row(fmt.Sprintf("Port %d", i), fmt.Sprint(i)))
	}
	text := read(t, made(t, job.Output{Format: "pdf"}, long))
	pages := strings.Split(strings.TrimSuffix(text, "\f"), "\f")
	require.Greater(t, len(pages), 5)
	for i, page := range pages {
		assert.Contains(t, page, "Sailings")
		assert.Contains(t, page, fmt.Sprintf("Page %d of %d", i+1, len(pages)))
	}
	assert.Contains(t, text, "Port 499")
	for len(long.rows) <= render.MaxPDF {
		long.rows = append(long.rows, long.rows[:500]...)
	}
	_, _, err := file(t, job.Output{Format: "pdf"}, head(), long)
	assert.ErrorContains(t, err, "it holds at most 20,000 rows")
	wide := table{section: job.Section{Name: "Wide"}}
	for i := range 500 {
		wide.columns = append(wide.columns, rows.Column{Name: fmt.Sprintf("C%d", i), Kind: rows.Text})
	}
	_, _, err = file(t, job.Output{Format: "pdf"}, head(), wide)
	assert.ErrorContains(t, err, "500 columns")
	wide.rows = []rows.Row{row(strings.Split(strings.Repeat("x,", 499)+"x", ",")...)}
	f := book(t, made(t, job.Output{Format: "xlsx"}, wide))
	got, err := f.GetRows("Wide")
	require.NoError(t, err)
	assert.Len(t, got[4], 500, "a sheet takes them")
}

func TestTaggedPDFIsPrintedByTheBrowserOrSaysThatItIsNot(t *testing.T) {
	_, says, err := file(t, job.Output{Format: "pdf", Tagged: true}, head(), loads)
	require.NoError(t, err)
	assert.Contains(t, strings.Join(says, ""), "is not tagged: this node has no browser")
	path := render.FindBrowser()
	require.NotEmpty(t, path, "the tests need Chromium; scripts/ensure test installs it")
	h := head()
	h.Browser = render.Chromium(context.Background(), path)
	out, says, err := file(t, job.Output{Format: "pdf", Tagged: true}, h, loads, burn())
	require.NoError(t, err)
	assert.Contains(t, strings.Join(says, ""), "the PDF is tagged")
	assert.Regexp(t, `Tagged:\s+yes`, about(t, out))
	text := read(t, out)
	assert.Contains(t, text, "Ellerhaven – Pennold")
	assert.Contains(t, text, "Page 1 of 1")
	h.Browser = func(string, string) error { return errors.New("it fell over") }
	_, _, err = file(t, job.Output{Format: "pdf", Tagged: true}, h, loads)
	assert.ErrorContains(t, err, "it fell over")
}

// find lists the elements of a kind.
func find(n *html.Node, kind string) []*html.Node {
	var found []*html.Node
	for c := n.FirstChild; c != nil; c = c.NextSibling {
		if c.Type == html.ElementNode && c.Data == kind {
			found = append(found, c)
		}
		found = append(found, find(c, kind)...)
	}
	return found
}

func attribute(n *html.Node, name string) string {
	for _, a := range n.Attr {
		if a.Key == name {
			return a.Val
		}
	}
	return ""
}

func inner(n *html.Node) string {
	text := ""
	for c := n.FirstChild; c != nil; c = c.NextSibling {
		if c.Type == html.TextNode {
			text += c.Data
		}
		text += inner(c)
	}
	return text
}

func TestHTMLIsAccessible(t *testing.T) {
	bad := odd
	bad.rows = append([]rows.Row{row(`<script>alert("x")</script>`, "1", "1", "NULL", "NULL", "f", "NULL", "x")},
		odd.rows...)
	out := made(t, job.Output{Format: "html", Locale: "fr"}, figures, loads, burn(), words, bad)
	page, err := html.Parse(bytes.NewReader(out))
	require.NoError(t, err)
	assert.Equal(t, "fr", attribute(find(page, "html")[0], "lang"))
	assert.Equal(t, "Monday page, week to 22 November", inner(find(page, "title")[0]))
	assert.Empty(t, find(page, "script"))
	tables := find(page, "table")
	require.Len(t, tables, 3, "the rows of a chart stand in a table behind it")
	for _, table := range tables {
		assert.NotEmpty(t, inner(find(table, "caption")[0]))
		for _, th := range find(find(table, "thead")[0], "th") {
			assert.Equal(t, "col", attribute(th, "scope"))
		}
	}
	drawing := find(page, "svg")
	require.NotEmpty(t, drawing)
	assert.Equal(t, "img", attribute(drawing[0], "role"))
	assert.Contains(t, attribute(drawing[0], "aria-label"), "Harrier, Petrel by Week")
	text := inner(find(page, "body")[0])
	for _, want := range []string{
		"Exécution 2611-48211", "Situation au 23 nov. 2026", "Total Ellerhaven",
		"3\u202f546",
	} {
		assert.Contains(t, text, want)
	}
	assert.Contains(t, string(out), "counter(page)", "printed pages are numbered")
}

func TestMailTableEscapesAndSaysWhereTheRestIs(t *testing.T) {
	long := table{section: job.Section{Name: "Rows & more"}, columns: odd.columns[:2]}
	for i := range render.MailTableMax + 7 {
		long.rows = append(long.rows, row("<b>bold</b>", fmt.Sprint(i)))
	}
	h := head()
	h.Files = []string{"Day <sheet>.xlsx"}
	out, _, err := file(t, job.Output{Format: render.MailTable}, h, long)
	require.NoError(t, err)
	text := string(out)
	assert.Contains(t, text, "Rows &amp; more")
	assert.NotContains(t, text, "<b>bold")
	assert.Equal(t, render.MailTableMax, strings.Count(text, "&lt;b&gt;bold"))
	assert.Contains(t, text, "Shown here are the first 5,000 of 5,007 rows. All of them are in Day &lt;sheet&gt;.xlsx.")
	short := string(made(t, job.Output{Format: render.MailTable}, figures, burn()))
	assert.Contains(t, short, `<th scope="col"`)
	assert.NotContains(t, short, "class=", "mail programs drop style sheets")
	assert.Contains(t, short, `alt="Stacked bar chart: Harrier, Petrel by Week.`)
}

func TestPicturesOfSections(t *testing.T) {
	for _, one := range []table{
		loads, figures, burn(), words,
		{section: job.Section{Name: "Empty"}, columns: odd.columns[:2]},
	} {
		t.Run(one.section.Name, func(t *testing.T) {
			picture, err := png.Decode(bytes.NewReader(made(t, job.Output{Format: "png"}, one)))
			require.NoError(t, err)
			assert.Greater(t, picture.Bounds().Dx(), 300)
			colours := map[string]bool{}
			for x := range picture.Bounds().Dx() {
				for y := range picture.Bounds().Dy() {
					r, g, b, _ := picture.At(x, y).RGBA()
					colours[fmt.Sprint(r>>8, g>>8, b>>8)] = true
				}
			}
			assert.Greater(t, len(colours), 10, "something is drawn")
		})
	}
	for _, form := range []job.ChartForm{job.ChartLine, job.ChartBar, job.ChartShare} {
		one := burn()
		one.section.Name, one.section.Chart = "As "+string(form),
			&job.Chart{Form: form, Series: []string{"Harrier", "Petrel"}}
		one.rows[3][2].Null = true
		t.Run(one.section.Name, func(t *testing.T) { assert.NotEmpty(t, made(t, job.Output{Format: "png"}, one)) })
	}
}

func TestSlidesAreWhole(t *testing.T) {
	long := loads
	for len(long.rows) < 40 {
		long.rows = append(long.rows, loads.rows...)
	}
	out := made(t, job.Output{Format: "pptx"}, figures, burn(), long, words)
	parts := unzip(t, out)
	for name, text := range parts {
		if strings.HasSuffix(name, ".xml") || strings.HasSuffix(name, ".rels") {
			d := xml.NewDecoder(strings.NewReader(text))
			for {
				if _, err := d.Token(); errors.Is(err, io.EOF) {
					break
				} else if !assert.NoError(t, err, name) {
					break
				}
			}
		}
	}
	// Each part that the standard asks for (ECMA-376 part 1, 13.3) is there, and
	// each relation leads to a part.
	for _, name := range []string{
		"[Content_Types].xml", "_rels/.rels", "ppt/presentation.xml",
		"ppt/slideMasters/slideMaster1.xml", "ppt/slideLayouts/slideLayout1.xml", "ppt/theme/theme1.xml",
		"docProps/core.xml", "ppt/slides/slide1.xml",
	} {
		assert.Contains(t, parts, name)
	}
	type rels struct {
		Relationship []struct {
			Target string `xml:",attr"`
		}
	}
	for name, text := range parts {
		if !strings.HasSuffix(name, ".rels") {
			continue
		}
		var r rels
		require.NoError(t, xml.Unmarshal([]byte(text), &r))
		base := filepath.Dir(filepath.Dir(name))
		for _, one := range r.Relationship {
			assert.Contains(t, parts, filepath.Join(base, one.Target), name)
		}
	}
	all := ""
	for name, text := range parts {
		if strings.HasPrefix(name, "ppt/slides/") {
			all += text
			if strings.Contains(text, "<a:tbl>") {
				assert.Contains(t, text, `<a:tblPr firstRow="1"/>`)
			}
		}
	}
	for _, want := range []string{
		"Vehicle deck load (1/", "18,240",
		`descr="Stacked bar chart: Harrier, Petrel by Week.`, "Winter timetable from Monday.", "Total Ellerhaven",
	} {
		assert.Contains(t, all, want)
	}
	if pdf := office(t, out, "pptx", "pdf"); pdf != nil {
		assert.Contains(t, read(t, pdf), "Winter timetable from Monday.")
	}
}

// office opens a file with an office program and saves it in another form; nil
// when none is installed, and the parts alone were looked at.
func office(t *testing.T, out []byte, from, to string) []byte {
	t.Helper()
	program, err := exec.LookPath("soffice")
	if err != nil {
		t.Log("no office program is installed; the file was read in other ways only")
		return nil
	}
	dir := t.TempDir()
	path := filepath.Join(dir, "a."+from)
	require.NoError(t, os.WriteFile(path, out, 0o600))
	ctx, stop := context.WithTimeout(context.Background(), 2*time.Minute)
	defer stop()
	said, err := exec.CommandContext(ctx, program, "-env:UserInstallation=file://"+dir+"/profile", "--headless",
		"--convert-to", to, "--outdir", dir, path).CombinedOutput()
	require.NoError(t, err, string(said))
	made, err := os.ReadFile(filepath.Join(dir, "a."+to))
	require.NoError(t, err)
	return made
}

func TestASpreadsheetProgramReadsTheSheet(t *testing.T) {
	text := office(t, made(t, job.Output{Format: "xlsx"}, loads), "xlsx", "csv")
	if text == nil {
		return
	}
	for _, want := range []string{
		"Port,Route,Day,Cars,Freight,Deck used", "2026-11-20,2210,480.5,94.8%",
		"Total,,,3546,802.75,65.7%",
	} {
		assert.Contains(t, string(text), want, "real numbers and dates, which another program reads as such")
	}
}

func unpack(t *testing.T, out []byte) string {
	t.Helper()
	r, err := gunzip(out)
	require.NoError(t, err)
	return r
}

func gunzip(out []byte) (string, error) {
	r, err := gzip.NewReader(bytes.NewReader(out))
	if err != nil {
		return "", err
	}
	text, err := io.ReadAll(r)
	return string(text), err
}
