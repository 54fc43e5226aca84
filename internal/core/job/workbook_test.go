package job_test

import (
	"testing"

	"ironbell/internal/core/fault"
	"ironbell/internal/core/job"

	"github.com/stretchr/testify/assert"
)

var quay = job.ReportDefinition{
	Parameters: []job.Parameter{{Name: "from", Type: job.TypeDate}},
	Sections: []job.Section{
		{Name: "By port and week", Group: []string{"port"}, Columns: []job.Column{{Name: "n", Label: "Sailings"}, {Name: "dark", Hidden: true}}},
		{Name: "Figures", Kind: job.SectionFigures},
		{Name: "Words", Kind: job.SectionText},
	},
}

// What takes what goes by names: letters and digits count, in any case.
func TestWorkbooksAreFilledByNames(t *testing.T) {
	has := job.WorkbookFacts{
		Tables: []job.WorkbookTable{
			{Name: "by_PORT_and_week", Sheet: "Rows", At: "A1:C2", Columns: []job.WorkbookColumn{{Name: "Port"}, {Name: "sailings"}, {Name: "dark"}, {Name: "Twice", Formula: true}}, Room: 9, Below: "Rows!A12"},
			{Name: "Words"},
			{Name: "Prices"},
		},
		Cells: []job.WorkbookCell{
			{Name: "From", Sheet: "Page", At: "A1"},
			{Name: "as_of", Sheet: "Page", At: "A2"},
			{Name: "late", Sheet: "Page", At: "A3"},
			{Name: "title", Sheet: "Page", At: "A4", Formula: true},
			{Name: "run", Sheet: "Rows", At: "A2", Table: "by_PORT_and_week"},
		},
	}
	v := &fault.Invalid{}
	f := quay.Filling(v, "workbooks[0]", job.Workbook{}, has)
	assert.NoError(t, v.Err())
	assert.Equal(t, job.Filling{
		Tables: []job.FilledTable{{Table: "by_PORT_and_week", Section: "By port and week"}},
		Cells:  []job.FilledCell{{Cell: "From", Value: "from"}, {Cell: "as_of", Value: "as_of"}}, Free: []string{"late"},
	}, f)
	assert.Equal(t, []job.Chosen{{Section: "By port and week"}, {Section: "Figures"}}, f.Sections(quay))

	given := []job.Described{
		{Section: "By port and week", Columns: []job.PreviewColumn{{Name: "port"}, {Name: "n"}, {Name: "dark"}}},
		{Section: "Figures", Columns: []job.PreviewColumn{{Name: "late"}}},
	}
	var takes []string
	for _, take := range quay.Plan(v, "workbooks[0]", job.Workbook{}, job.WorkbookFile{WorkbookFacts: has}, given).Takes {
		takes = append(takes, take.Name+": "+take.Takes+"|"+take.Notes)
	}
	assert.Equal(t, []string{
		"by_PORT_and_week: rows of By port and week: Port, sailings|room for 9 rows: Rows!A12 stands below it; Twice by formula; empty: dark",
		"Words: |", "Prices: |", "From: value: from|", "as_of: value: as_of|", "late: figure of Figures: late|", "title: |it reckons", "run: |",
	}, takes)
}

func TestWhatAWorkbookCannotTakeIsTold(t *testing.T) {
	has := job.WorkbookFacts{
		Tables: []job.WorkbookTable{{Name: "Rows", Columns: []job.WorkbookColumn{{Name: "Port"}}}},
		Cells: []job.WorkbookCell{
			{Name: "sum", Sheet: "Page", At: "A1", Formula: true},
			{Name: "one", Sheet: "Page", At: "A2"},
			{Name: "other", Sheet: "Page", At: "A2"},
			{Name: "inside", Sheet: "Rows", At: "A2", Table: "Rows"},
		},
	}
	for want, w := range map[string]job.Workbook{
		`the table "rows" stands there twice`: {Tables: []job.FilledTable{{Table: "Rows", Section: "By port and week"}, {Table: "rows", Section: "By port and week"}}},
		"it goes with a section":              {Tables: []job.FilledTable{{Table: "Rows", Form: job.FormDetail}}},
		"is a text and has no rows":           {Tables: []job.FilledTable{{Table: "Rows", Section: "Words"}}},
		"which would be lost":                 {Cells: []job.FilledCell{{Cell: "sum", Value: "from"}}},
		"both take something":                 {Cells: []job.FilledCell{{Cell: "one", Value: "from"}, {Cell: "other", Value: "as_of"}}},
		"which takes rows; name a cell":       {Tables: []job.FilledTable{{Table: "Rows", Section: "By port and week"}}, Cells: []job.FilledCell{{Cell: "inside", Value: "from"}}},
		`the column "dark" is hidden`:         {Cells: []job.FilledCell{{Cell: "one", Section: "By port and week", Column: "dark"}}},
		"name a column of the section":        {Cells: []job.FilledCell{{Cell: "one", Section: "Figures"}}},
		"the workbook has no named cell":      {Cells: []job.FilledCell{{Cell: "none", Value: "from"}}},
		"takes one thing":                     {Cells: []job.FilledCell{{Cell: "one", Value: "from", Text: "x"}}},
	} {
		v := &fault.Invalid{}
		quay.Filling(v, "workbooks[0]", w, has)
		assert.ErrorContains(t, v.Err(), want)
	}
	assert.False(t, job.Alike("_", "-"), "signs alone are no name")
}
