package compare_test

import (
	"encoding/json"
	"testing"

	"ironbell/internal/core/compare"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func section(t *testing.T, key string, rows string) compare.Section {
	t.Helper()
	var s compare.Section
	require.NoError(t,
		json.Unmarshal([]byte(`{"section":"Load","columns":[{"name":"Port","type":"text"},{"name":"Cars","label":"Cars carried","type":"whole"},{"name":"Metres","type":"number"}],"key":`+key+`,"rows":`+rows+`}`), &s))
	return s
}

func TestRowsAreToldApartByTheirKey(t *testing.T) {
	was := section(t, `[0]`, `[["EH",5,1.50],["GS",7,null],["FM",1,2]]`)
	is := section(t, `[0]`, `[["EH",5,1.50],["GS",9,0.25],["PE",3,4]]`)
	d := compare.Sections([]compare.Section{was}, []compare.Section{is})[0]
	assert.Equal(t, compare.Difference{
		Section: "Load", Before: 3, After: 3, Same: 1, Came: 1, Went: 1, Changed: 1, Key: []string{"Port"},
		Heads:    []string{"Port", "Cars carried", "Metres"},
		CameRows: [][]string{{"PE", "3", "4"}}, WentRows: [][]string{{"FM", "1", "2"}},
		Cells: []compare.Change{
			{Key: []string{"GS"}, Column: "Cars carried", Before: "7", After: "9"},
			{Key: []string{"GS"}, Column: "Metres", Before: "", After: "0.25"},
		},
		Totals: []compare.TotalChange{
			{Column: "Cars carried", Before: "13", After: "17", Change: "4"},
			{Column: "Metres", Before: "3.5", After: "5.75", Change: "2.25"},
		},
	}, d)
}

func TestWithoutAKeyWholeRowsAreCompared(t *testing.T) {
	was, is := section(t, `null`, `[["EH",5,1],["EH",5,1],["GS",7,2]]`), section(t, `null`, `[["EH",5,1],["GS",8,2]]`)
	d := compare.Sections([]compare.Section{was}, []compare.Section{is})[0]
	assert.Equal(t, []int{1, 1, 2, 0}, []int{d.Same, d.Came, d.Went, d.Changed}, "equal rows are counted")
	was, is = section(t, `[0]`, `[["EH",5,1],["EH",6,1]]`), section(t, `[0]`, `[["EH",5,1]]`)
	d = compare.Sections([]compare.Section{was}, []compare.Section{is})[0]
	assert.Contains(t, d.Note, "the key does not tell all rows apart")
	assert.Equal(t, []int{1, 0, 1}, []int{d.Same, d.Came, d.Went})
}

func TestColumnsAndSectionsThatCameAndWent(t *testing.T) {
	was := section(t, `[0]`, `[["EH",5,1]]`)
	is := was
	is.Columns = append([]compare.Column{{Name: "Week", Type: "whole"}}, was.Columns[:2]...)
	is.Key, is.Rows = []int{1}, [][]json.RawMessage{{[]byte(`3`), []byte(`"EH"`), []byte(`5`)}}
	gone, came := section(t, `null`, `[["EH",5,1]]`), section(t, `null`, `[]`)
	gone.Section, came.Section = "Old", "New"
	all := compare.Sections([]compare.Section{was, gone}, []compare.Section{is, came})
	require.Len(t, all, 3)
	assert.Equal(t, []string{"Week"}, all[0].NewHeads)
	assert.Equal(t, []string{"Metres"}, all[0].GoneHeads)
	assert.Equal(t, 1, all[0].Same, "what both have is equal")
	assert.Equal(t, "only the later run has this section", all[1].Note)
	assert.Equal(t, 1, all[2].Went)
}
