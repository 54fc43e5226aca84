package render_test

import (
	"bytes"
	"encoding/csv"
	"encoding/json"
	"fmt"
	"strings"
	"testing"
	"unicode"

	"ironbell/internal/core/job"
	"ironbell/internal/core/rows"
	"ironbell/internal/core/shape"
	"ironbell/internal/render"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/text/encoding/charmap"
	"pgregory.net/rapid"
)

// written writes one section of texts and gives the file.
func written(o job.Output, columns []rows.Column, lines [][]string) ([]byte, error) {
	style, err := render.Read(o)
	if err != nil {
		return nil, err
	}
	var out bytes.Buffer
	w, err := style.Format.New(&out, head(), style)
	if err != nil {
		return nil, err
	}
	plan, err := shape.Fit(job.Section{Name: "Any"}, job.FormWhole, columns)
	if err != nil {
		return nil, err
	}
	s, err := shape.NewShaper(plan, nil, []shape.Sink{w})
	if err != nil {
		return nil, err
	}
	for _, line := range lines {
		if err := s.Row(row(line...)); err != nil {
			return nil, err
		}
	}
	if _, err := s.End(); err != nil {
		return nil, err
	}
	err = w.Close()
	return out.Bytes(), err
}

// someTexts draws lines of texts, also with what must be quoted or escaped.
func someTexts(r *rapid.T) ([]rows.Column, [][]string) {
	n := rapid.IntRange(2, 5).Draw(r, "columns")
	columns := make([]rows.Column, n)
	for i := range columns {
		columns[i] = rows.Column{Name: fmt.Sprintf("c%d", i), Kind: rows.Text}
	}
	text := rapid.StringOf(rapid.OneOf(rapid.RuneFrom([]rune("ab ,;|\t\"'\\=+-@<>&{}\u2028é–渡")),
		rapid.Rune())).Filter(func(s string) bool {
		return s != "NULL" && !strings.ContainsAny(s, "\r\x00") && s == strings.ToValidUTF8(s, "")
	})
	lines := rapid.SliceOfN(rapid.SliceOfN(text, n, n), 0, 6).Draw(r, "lines")
	return columns, lines
}

// Whatever stands in a cell, another reader of RFC 4180 reads it as it was.
func TestAnyTextSurvivesDelimitedText(t *testing.T) {
	rapid.Check(t, func(r *rapid.T) {
		columns, lines := someTexts(r)
		delimiter := rapid.SampledFrom([]string{",", ";", "|", "\t", "~", "a"}).Draw(r, "delimiter")
		quote := rapid.SampledFrom([]job.Quoting{job.QuoteNeeded, job.QuoteAll}).Draw(r, "quote")
		out, err := written(job.Output{
			Format: "csv", ForSystem: true,
			Text: &job.TextForm{Delimiter: delimiter, Quote: quote, LineEnd: job.EndLF, NoHeader: true},
		}, columns, lines)
		if err != nil {
			r.Fatal(err)
		}
		reader := csv.NewReader(bytes.NewReader(out))
		reader.Comma, reader.FieldsPerRecord = rune(delimiter[0]), len(columns)
		got, err := reader.ReadAll()
		if err != nil {
			r.Fatalf("%v: %q", err, out)
		}
		if len(got) != len(lines) {
			r.Fatalf("%d lines of %d: %q", len(got), len(lines), out)
		}
		for i, line := range lines {
			for n, want := range line {
				if got[i][n] != want {
					r.Fatalf("%q became %q", want, got[i][n])
				}
			}
		}
	})
}

// A cell of text is never taken for a formula, however it begins, and whatever that is not
// seen stands before.
func TestNoTextBecomesAFormula(t *testing.T) {
	rapid.Check(t, func(r *rapid.T) {
		text := rapid.SampledFrom([]string{
			"", "", " ", "  ", "\n", "\v", "\u00a0", "\u200b", "\ufeff",
			"\u2060 \u3000",
		}).Draw(r, "unseen") +
			rapid.SampledFrom([]string{"=", "+", "-", "@", "\t=", "＝", "＋", "－", "＠"}).Draw(r, "begins") +
			rapid.StringMatching(`[A-Z(]{0,6}`).Draw(r, "goes on")
		out, err := written(job.Output{Format: "csv", Text: &job.TextForm{NoHeader: true}},
			[]rows.Column{{Name: "c", Kind: rows.Text}, {Name: "d", Kind: rows.Text}}, [][]string{{"x", text}})
		if err != nil {
			r.Fatal(err)
		}
		got, err := csv.NewReader(bytes.NewReader(out)).ReadAll()
		if err != nil || got[0][1] != "'"+text {
			r.Fatalf("%q became %q (%v)", text, got, err)
		}
	})
}

// Whatever stands in a cell or a head, JSON gives it back.
func TestAnyTextSurvivesJSON(t *testing.T) {
	rapid.Check(t, func(r *rapid.T) {
		columns, lines := someTexts(r)
		columns[0].Name = rapid.StringN(1, 20,
			-1).Filter(func(s string) bool {
			return s == strings.ToValidUTF8(s, "") &&
				!strings.HasPrefix(s, "c")
		}).Draw(r, "head")
		out, err := written(job.Output{Format: "json"}, columns, lines)
		if err != nil {
			r.Fatal(err)
		}
		var got struct {
			Sections []struct{ Rows []map[string]string }
		}
		if err := json.Unmarshal(out, &got); err != nil {
			r.Fatalf("%v: %q", err, out)
		}
		for i, line := range lines {
			for n, want := range line {
				if have := got.Sections[0].Rows[i][columns[n].Name]; have != want {
					r.Fatalf("%q became %q", want, have)
				}
			}
		}
	})
}

// Every letter that an encoding has comes back from it, and none that it lacks
// cuts a file short.
func TestEveryLetterOfEachEncoding(t *testing.T) {
	tables := map[string]*charmap.Charmap{
		"windows-1250": charmap.Windows1250, "windows-1251": charmap.Windows1251, "windows-1252": charmap.Windows1252,
		"windows-1253": charmap.Windows1253, "windows-1254": charmap.Windows1254,
		"windows-1255": charmap.Windows1255, "windows-1256": charmap.Windows1256, "windows-1257": charmap.Windows1257,
		"windows-1258": charmap.Windows1258, "iso-8859-1": charmap.ISO8859_1,
		"iso-8859-2": charmap.ISO8859_2, "iso-8859-5": charmap.ISO8859_5, "iso-8859-7": charmap.ISO8859_7,
		"iso-8859-9": charmap.ISO8859_9, "iso-8859-15": charmap.ISO8859_15, "iso-8859-16": charmap.ISO8859_16,
	}
	columns := []rows.Column{{Name: "letters", Kind: rows.Text}, {Name: "end", Kind: rows.Text}}
	for name, table := range tables {
		var letters strings.Builder
		for b := 0xa0; b <= 0xff; b++ {
			if r := table.DecodeByte(byte(b)); r != unicode.ReplacementChar {
				letters.WriteRune(r)
			}
		}
		out, err := written(job.Output{
			Format: "csv", ForSystem: true, Text: &job.TextForm{Encoding: name, NoHeader: true},
		}, columns, [][]string{{letters.String(), "whole"}, {"渡し船", "still whole"}})
		require.NoError(t, err, name)
		back, err := table.NewDecoder().Bytes(out)
		require.NoError(t, err, name)
		assert.Equal(t, letters.String()+",whole\r\n???,still whole\r\n", string(back), name)
	}
}

// Names of sheets are such as a workbook takes, and no two are the same.
func TestSheetsHaveNamesThatAWorkbookTakes(t *testing.T) {
	tables := []table{}
	for _, name := range []string{
		"A/B: [x]?*\\", "'quoted'",
		"A very long name of a section, longer than a sheet may have",
		"A very long name of a section, longer than another", "a very long name of a section, LONGER", "***",
		"History",
	} {
		tables = append(tables, table{
			section: job.Section{Name: name}, columns: odd.columns[:1], rows: []rows.Row{row("x")},
		})
	}
	names := book(t, made(t, job.Output{Format: "xlsx", DataOnly: true}, tables...)).GetSheetList()
	require.Len(t, names, len(tables))
	seen := map[string]bool{}
	for _, name := range names {
		assert.LessOrEqual(t, len([]rune(name)), 31, name)
		assert.False(t, strings.ContainsAny(name, `[]:*?/\`), name)
		assert.Equal(t, strings.Trim(name, "' "), name)
		assert.False(t, seen[strings.ToLower(name)], "%s comes twice", name)
		seen[strings.ToLower(name)] = true
	}
}

// What people wrote into data never becomes part of a page.
func TestNothingInAPageRuns(t *testing.T) {
	evil := `"><script>alert(1)</script><img src=x onerror=alert(1)>`
	drawn := burn()
	drawn.section.Columns = []job.Column{
		{Name: "Harrier", Label: evil},
		{Name: "Petrel", Unit: "</td>"},
		{Name: "Skipper", Hidden: true},
	}
	drawn.section.Title = evil
	h := head()
	h.Title, h.Values[0].Text = evil, evil
	for _, o := range []job.Output{{Format: "html"}, {Format: render.MailTable}} {
		out, _, err := file(t, o, h, drawn, table{section: job.Section{Name: evil, Kind: job.SectionText, Text: evil}},
			figures)
		require.NoError(t, err)
		text := string(out)
		assert.NotContains(t, text, "<script", o.Format)
		assert.NotContains(t, text, "<img src=x", o.Format)
		assert.NotContains(t, text, `"</td>`, o.Format)
	}
}
