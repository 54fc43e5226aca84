package workbook

import (
	"bytes"
	"fmt"
	"os"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"github.com/xuri/excelize/v2"
)

// rowsOfFormulas is a sheet with numbers, texts, days and switches, and formulas in column J.
func rowsOfFormulas(t *testing.T, formulas []string, more map[string]any) *book {
	t.Helper()
	f := excelize.NewFile()
	for col, values := range map[string][]any{
		"A": {10, 20, 25, 30, 5, 40, 20, 1.5, nil, "vessel", 100, 200}, "B": {"north", "south", "north", "east", "South", "north", "west", "south", nil, "litres", 101, 201},
		"C": {1, 2, 3, 4, 5, 6, 7, 8, nil, "cost", 102, 202}, "E": {46353, 46353.56, 45292}, "F": {"five", true, 7, nil, "deck", "abc"},
		"G": {true, nil, nil, nil, 1, "aft"},
	} {
		for i, v := range values {
			require.NoError(t, f.SetCellValue("Sheet1", fmt.Sprintf("%s%d", col, i+1), v))
		}
	}
	for at, v := range more {
		require.NoError(t, f.SetCellValue("Sheet1", at, v))
	}
	for i, text := range append([]string{"F5", "A1/3"}, formulas...) {
		at := fmt.Sprintf("J%d", i-1)
		if i < 2 {
			at = fmt.Sprintf("F%d", i+7)
		}
		require.NoError(t, f.SetCellFormula("Sheet1", at, text))
	}
	var out bytes.Buffer
	require.NoError(t, f.Write(&out))
	b, err := look(out.Bytes())
	require.NoError(t, err)
	return b
}

func reckonedIn(t *testing.T, b *book) map[at]string {
	t.Helper()
	out := map[at]string{}
	got, err := b.reckon(time.Minute, 1000, func(_ string, p at, why string) { out[p] = "? " + why })
	require.NoError(t, err)
	for p, v := range got["Sheet1"] {
		if out[p] != "" {
			continue
		}
		out[p] = map[byte]string{Number: fmt.Sprint("n ", v.Number), YesNo: fmt.Sprint("b ", v.Number), Words: "str " + v.Text, Fault: "e " + v.Text}[v.Kind]
	}
	return out
}

// What formulas come to was held against an office program, line by line; those
// that differ are not reckoned, and say why.
func TestFormulasComeToWhatAnOfficeProgramSays(t *testing.T) {
	text, err := os.ReadFile("testdata/formulas.tsv")
	require.NoError(t, err)
	var formulas, want []string
	for line := range strings.Lines(string(text)) {
		formula, value, _ := strings.Cut(strings.TrimSuffix(line, "\n"), "\t")
		formulas, want = append(formulas, formula), append(want, value)
	}
	got := reckonedIn(t, rowsOfFormulas(t, formulas, nil))
	for i := range formulas {
		assert.Equal(t, want[i], got[at{i + 1, 10}], formulas[i])
	}
}

func TestWhatWouldBeReckonedWrongIsNotReckoned(t *testing.T) {
	formulas := []string{"COUNTIF(F1:F6,\"042\")", "SUM(A1:A8)", "MATCH(42,F1:F6,0)", "F4", "SUBTOTAL(9,K1:K3)", "SUBTOTAL(9,A1:A3)", "J6+1"}
	b := rowsOfFormulas(t, formulas, map[string]any{"F4": "042", "K1": 5})
	got := reckonedIn(t, b)
	const texts = "? it looks among texts that are written as numbers, such as 0042"
	for i, want := range []string{texts, "n 151.5", texts, "str 042", "n 5", "n 55", "n 56"} {
		assert.Equal(t, want, got[at{i + 1, 10}], formulas[i])
	}
	nested := rowsOfFormulas(t, []string{"SUBTOTAL(9,A1:A3)", "SUBTOTAL(9,J1:J1)"}, nil)
	assert.Equal(t, "? it has subtotals among what it is reckoned over", reckonedIn(t, nested)[at{2, 10}])
}
