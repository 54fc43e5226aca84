package expr_test

import (
	"strings"
	"testing"
	"time"

	"ironbell/internal/core/expr"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func facts(t *testing.T) expr.Facts {
	t.Helper()
	london, err := time.LoadLocation("Europe/London")
	require.NoError(t, err)
	at := time.Date(2026, 7, 1, 0, 30, 0, 0, london) // still June in UTC
	return expr.Facts{
		Job: "Quay board", Report: "Port day sheet", Run: "2607-1", Rows: 1200, Date: at, Due: at.Add(time.Hour),
		Values: map[string]string{"port": "Grey Skerry"},
	}
}

func TestFill(t *testing.T) {
	for text, want := range map[string]string{
		"plain":                              "plain",
		"{report} {date:%Y-%m-%d}.xlsx":      "Port day sheet 2026-07-01.xlsx",
		"{value.port}/{rows}":                "Grey Skerry/1200",
		"{due:%H:%M}":                        "01:30",
		"{{not a part}}":                     "{not a part}",
		"{rows > 1000 ? 'many' : 'few'}":     "many",
		"{job + '}' + \"{\"}":                "Quay board}{",
		"{rows / 7}":                         "171",
		"{date}":                             "2026-07-01 00.30",
		"{value.port.size() > 5 ? run : ''}": "2607-1",
	} {
		x, err := expr.Parse(text, expr.Names{Values: []string{"port"}})
		if assert.NoError(t, err, text) {
			got, err := x.Fill(facts(t))
			assert.NoError(t, err, text)
			assert.Equal(t, want, got, text)
		}
	}
}

func TestWhatCannotBeFilled(t *testing.T) {
	for text, want := range map[string]string{
		"{datte}":      `{datte} speaks of "datte", which is not known here; known are job, report, run, rows, date, due, value.port`,
		"{value.prt}":  `speaks of "value.prt"`,
		"{date":        "column 1: the brace is not closed",
		"a } b":        "column 3: a closing brace without an opening one",
		"{rows:%Y}":    "only date and due are times",
		"{rows +}":     "{rows +}:",
		"{rows + 'x'}": "{rows + 'x'}:",
		"{date:%Q}":    "is not known",
		"x{}":          "column 2:",
	} {
		_, err := expr.Parse(text, expr.Names{Values: []string{"port"}})
		assert.ErrorContains(t, err, want, text)
	}
}

func TestFileNames(t *testing.T) {
	for text, want := range map[string]string{
		"Day sheet.pdf":             "Day sheet.pdf",
		"../../etc/passwd":          "-..-etc-passwd",
		"a/b\\c:d*e?f\"g<h>i|j.csv": "a-b-c-d-e-f-g-h-i-j.csv",
		"line\r\nend\x00.csv":       "line--end-.csv",
		"...":                       "otherwise",
		"///":                       "otherwise",
		" .hidden. ":                "hidden",
		"Fährplan €.csv":            "Fährplan €.csv",
		"bad\xff.csv":               "bad-.csv",
	} {
		assert.Equal(t, want, expr.FileName(text, "otherwise"), text)
	}
	long := expr.FileName(strings.Repeat("ä", 300)+".xlsx", "otherwise")
	assert.LessOrEqual(t, len(long), 200)
	assert.True(t, strings.HasSuffix(long, "ä.xlsx"), long)
}

func TestHeaderLinesLoseTheirEnds(t *testing.T) {
	assert.Equal(t, "Subject Bcc: someone@else.test", expr.HeaderLine("Subject\r\nBcc: someone@else.test\x00"))
}

func TestFoldersArePartedBySlashesThatWereWritten(t *testing.T) {
	for text, want := range map[string][]string{
		"a/b": {"a", "b"}, "{date:%Y/%m}/b": {"{date:%Y/%m}", "b"}, "": {""}, "/a/": {"", "a", ""},
		"{value.port}/{date:%Y}": {"{value.port}", "{date:%Y}"},
	} {
		assert.Equal(t, want, expr.Levels(text), text)
	}
	for text, want := range map[string]string{
		"CON": "-CON", "con.txt": "-con.txt", "Lpt1.pdf": "-Lpt1.pdf", "console.txt": "console.txt", "com": "com",
		"nul .csv": "-nul .csv",
	} {
		assert.Equal(t, want, expr.FileName(text, "x"), text)
	}
}

func TestTextsGoBeforeTheEnding(t *testing.T) {
	for name, want := range map[string]string{
		"board.pdf":              "board (2).pdf",
		"2026.11/board.pdf":      "2026.11/board (2).pdf",
		"2026.11/README":         "2026.11/README (2)",
		"README":                 "README (2)",
		".profile":               ".profile (2)",
		"in/.profile":            "in/.profile (2)",
		"day sheet.tar.gz":       "day sheet.tar (2).gz",
		"Østre havn/åpning.xlsx": "Østre havn/åpning (2).xlsx",
	} {
		assert.Equal(t, want, expr.BeforeEnding(name, " (2)"), name)
	}
}

func TestACellThatHoldsNothingIsNoText(t *testing.T) {
	text, err := expr.Parse(`{cell("port")} is late`, expr.Names{AnyCell: true})
	require.NoError(t, err)
	facts := expr.Facts{Cells: map[string]any{"port": nil}}
	_, err = text.Fill(facts)
	require.ErrorContains(t, err, `{cell("port")}: it holds nothing`)
	facts.Blanks = true
	said, err := text.Fill(facts)
	require.NoError(t, err)
	assert.Equal(t, " is late", said)
	_, err = text.Fill(expr.Facts{})
	require.ErrorContains(t, err, `cell("port")`)
	_, err = expr.Parse(`{cell("port")}`, expr.Names{Columns: []string{"name"}})
	require.ErrorContains(t, err, "there are name")
}
