package workbook

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"pgregory.net/rapid"
)

func TestFormulasAreTakenApart(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		parts := rapid.SliceOf(rapid.SampledFrom([]string{
			"A1", "$B$2:C3", "'Grey ''Skerry'!A1", "SUM(", ")", ",", "+", `"a ""b"" 'c"`, "Fuel[[#This Row],[Litres]]", "[1]", "Sheet1!$A$1", "1.5E+3", "rate",
			"_xlfn.CONCAT(", " ", "'", "\"", "[", "]", "!", "R1C1", "A1A", "LOG10(", "ü", "$", ":", "TRUE", "#REF!", "{1;2}", "|", "%", "'[", "XFE1", "A1048577",
		})).Draw(t, "parts")
		text := strings.Join(parts, "")
		var again strings.Builder
		for _, p := range pieces(text) {
			again.WriteString(p.text)
			if p.text == "" {
				t.Fatalf("an empty piece of %q", text)
			}
			if p.kind == reference && !strings.EqualFold(p.write(), p.text) {
				t.Fatalf("%q is written as %q", p.text, p.write())
			}
		}
		if again.String() != text {
			t.Fatalf("%q became %q", text, again.String())
		}
		_ = reaches(text)
	})
}

func TestReferencesMove(t *testing.T) {
	for _, c := range []struct{ formula, want string }{
		{"A1+$A1+A$1+$A$1", "A4+$A4+A$1+$A$1"},
		{`SUM(B4:B5)&"A1"&'A1'!C2`, `SUM(B7:B8)&"A1"&'A1'!C5`},
		{"LOG10(A1)+A1048576", "LOG10(A4)+#REF!"},
		{"Fuel[A1]+rate_A1+A1B", "Fuel[A1]+rate_A1+A1B"},
	} {
		assert.Equal(t, c.want, shifted(c.formula, 3, 0), c.formula)
	}
	table := &table{sheet: "Fuel log", area: area{at{3, 1}, at{6, 4}}, header: true, totals: true, rows: 10}
	all := stretching{table}
	for _, c := range []struct{ formula, on, want string }{
		{"SUM(B4:B5)", "Fuel log", "SUM(B4:B13)"},
		{"SUM(B4:B5)", "Page", "SUM(B4:B5)"},
		{"SUM('Fuel log'!$B$3:$C$5)", "Page", "SUM('Fuel log'!$B$3:$C$13)"},
		{"'fuel log'!B6+B4+B5", "Fuel log", "'fuel log'!B14+B4+B5"},
		{"SUM(A1:Z5)+SUM(D4:F5)+SUM(B4:B4)", "Fuel log", "SUM(A1:Z13)+SUM(D4:F5)+SUM(B4:B4)"},
		{"SUM(B4:B6)", "Fuel log", "SUM(B4:B14)"},
	} {
		assert.Equal(t, c.want, all.stretched(c.formula, c.on, false), c.formula)
	}
}

func TestFormulasThatReachOutAreSeen(t *testing.T) {
	for formula, reach := range map[string]bool{
		"SUM(A1)": false, "Fuel[Litres]": false, "Fuel[[#All],[a]]": false, `"[1]Sheet1!A1|x"`: false, "'Sheet | 1'!A1": false, "[Litres]*2": false,
		"[1]Sheet1!A1": true, "'[Book.xlsx]Sheet 1'!A1": true, "[1]!rate": true, "'C:\\quay\\[b.xlsx]S'!$A$1:$B$2": true, "SUM([2]Data!A1:A9)": true,
		"cmd|'/c x'!A1": true, "'cmd'|'x'!A1": true, "_xlfn._xlws.WEBSERVICE(A1)": true, "1+rtd(\"a\",,\"b\")": true, "IMAGE(A1)": true,
	} {
		assert.Equal(t, reach, reaches(formula) != "", formula)
	}
}
