package workbook

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// The library gives formulas that rest on themselves some value; an office program refuses them.
func TestFormulasThatRestOnThemselvesAreNotReckoned(t *testing.T) {
	for want, formulas := range map[string][]string{
		"Sheet1!J1 rests on itself": {"J2+1", "J1+1"},
		"Sheet1!J2 rests on itself": {"1", "SUM($J$1:J3)", "2"},
		"Sheet1!J3 rests on itself": {"SUM(J3:J4)", "1", "sheet1!J4", "'Sheet1'!J3"},
	} {
		_, err := rowsOfFormulas(t, formulas, nil).reckon(time.Minute, 1000, func(string, at, string) {})
		assert.EqualError(t, err, want)
	}
	got, err := rowsOfFormulas(t, []string{"J3+J4", "J1", "J4", "2"}, nil).reckon(time.Minute, 1000, func(string, at, string) {})
	require.NoError(t, err)
	assert.InDelta(t, 4, got["Sheet1"][at{2, 10}].Number, 0)
	unfit := ""
	_, err = rowsOfFormulas(t, []string{"SUM(A1:XFD1048576)"}, nil).reckon(time.Minute, 1000, func(_ string, _ at, why string) { unfit = why })
	require.NoError(t, err)
	assert.Equal(t, "it reckons over more than half a million cells", unfit)
}
