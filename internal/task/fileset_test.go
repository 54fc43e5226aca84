package task_test

import (
	"bytes"
	"context"
	"io"
	"strings"
	"testing"

	"ironbell/internal/core/job"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"github.com/xuri/excelize/v2"
)

// grouped has two ports, with a total and a detail of its own.
var grouped = job.Section{
	Name: "Berths", Group: []string{"port"}, Columns: []job.Column{{Name: "n", Total: job.TotalSum}},
	SQL:    "SELECT p.code AS port, 'berth ' || i AS berth, i AS n FROM ports p, generate_series(1, 2) i ORDER BY 1, 2",
	Detail: &job.Detail{Title: "Names", SQL: "SELECT code, name FROM ports ORDER BY code"},
}

func TestAFileTakesASectionInSeveralForms(t *testing.T) {
	r := enter(t, job.ReportDefinition{Source: "here", Title: "Berths of {date:%Y}", Sections: []job.Section{grouped}})
	all := []job.Chosen{
		{Section: "Berths"},
		{Section: "Berths", Form: job.FormSummary, Title: "By port"},
		{Section: "Berths", Form: job.FormDetail},
	}
	res, err := r.report.Run(context.Background(), work(t),
		reportTask(job.Output{Format: "xlsx", Sections: all}, job.Output{
			Format: "csv", Name: "out", Sections: all, Folder: "{date:%Y}/../a:b/",
		}))
	require.NoError(t, err)
	files := map[string]job.Artifact{}
	for _, f := range shown(res.Files) {
		files[f.Name] = f
	}
	require.Len(t, files, 4, "one workbook, and a text file for each form")
	assert.EqualValues(t, 4, res.Rows, "each row counts once, however many forms it is shown in")
	book, err := r.files.Open(context.Background(), files["Ports- all 2026-07-01.xlsx"].Key)
	require.NoError(t, err)
	text, err := io.ReadAll(book)
	require.NoError(t, err)
	_ = book.Close()
	f, err := excelize.OpenReader(bytes.NewReader(text))
	require.NoError(t, err)
	defer func() { _ = f.Close() }()
	assert.Equal(t, []string{"Berths", "By port", "Names"}, f.GetSheetList())
	whole, err := f.GetRows("Berths")
	require.NoError(t, err)
	assert.Len(t, whole, 4+4+2+1, "four rows, a subtotal for each port, a total")
	byPort, err := f.GetRows("By port")
	require.NoError(t, err)
	assert.Equal(t, [][]string{{"port", "n"}, {"EH", "3"}, {"TQ", "3"}, {"Total", "6"}}, byPort[3:])
	assert.Equal(t, "port,n\r\nEH,3\r\nTQ,3\r\n", r.text(t, files["out - By port.csv"].Key))
	assert.Equal(t, "code,name\r\nEH,Ellerhaven\r\nTQ,Tarnwick Quay\r\n",
		r.text(t, files["out - Berths, detail.csv"].Key))
	assert.Equal(t, "2026/a-b", files["out - Berths.csv"].Folder,
		"nothing files the folder, and what is no name is made one")
}

func TestFiguresAndTextsDoNotKeepAReportFromBeingBlank(t *testing.T) {
	totals := job.Section{Name: "Totals", Kind: job.SectionFigures, SQL: "SELECT count(*) AS n FROM ports WHERE false"}
	none := job.Section{Name: "None", SQL: "SELECT code FROM ports WHERE false"}
	words := job.Section{Name: "Words", Kind: job.SectionText, SQL: "SELECT 7 AS n", Text: `{cell("n")} of {rows}`}
	for name, c := range map[string]struct {
		sections []job.Section
		counts   []string
		blank    bool
	}{
		"a table without rows beside a figure": {[]job.Section{totals, none, words}, nil, true},
		"a figure alone has its row":           {[]job.Section{totals, words}, nil, false},
		"unless the job says what counts":      {[]job.Section{totals, none}, []string{"Totals"}, false},
	} {
		r := enter(t, job.ReportDefinition{Source: "here", Sections: c.sections})
		task := reportTask(job.Output{Format: "html"})
		task.Report.Counts = c.counts
		res, err := r.report.Run(context.Background(), work(t), task)
		require.NoError(t, err)
		assert.Equal(t, c.blank, res.Blank, name)
		if strings.Contains(name, "alone") {
			assert.Contains(t, r.text(t, shown(res.Files)[0].Key), "7 of 1")
		}
	}
}
