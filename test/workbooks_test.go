package test

import (
	"archive/zip"
	"bytes"
	"context"
	"io"
	"strings"
	"sync"
	"testing"

	"ironbell/internal/api/wire"
	"ironbell/internal/core/job"
	"ironbell/test/world"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"github.com/xuri/excelize/v2"
)

// quayBook is a workbook of an owner: named cells, a table with a formula, a hidden sheet.
func quayBook(t *testing.T, change ...func(*excelize.File)) []byte {
	t.Helper()
	f := excelize.NewFile()
	must := func(err error) { require.NoError(t, err) }
	must(f.SetSheetName("Sheet1", "Quay"))
	_, err := f.NewSheet("Limits")
	must(err)
	must(f.SetSheetVisible("Limits", false))
	must(f.SetCellValue("Limits", "A1", 2))
	must(f.SetCellValue("Quay", "B3", 99))
	for at, text := range map[string]string{"A6": "Port", "B6": "Sailings", "C6": "Twice", "D6": "Secret", "A7": "Sample"} {
		must(f.SetCellValue("Quay", at, text))
	}
	must(f.SetCellFormula("Quay", "C7", "Departures[[#This Row],[Sailings]]*Limits!$A$1"))
	must(f.SetCellFormula("Quay", "B4", "SUM(Departures[Twice])"))
	must(f.AddTable("Quay", &excelize.Table{Range: "A6:D7", Name: "Departures"}))
	for name, at := range map[string]string{"port": "$B$1", "as_of": "$B$2", "late": "$B$3", "greeting": "$D$1", "secret_one": "$D$2", "run": "$D$3"} {
		must(f.SetDefinedName(&excelize.DefinedName{Name: name, RefersTo: "Quay!" + at}))
	}
	for _, c := range change {
		c(f)
	}
	var out bytes.Buffer
	must(f.Write(&out))
	return out.Bytes()
}

// quayReport has rows with a hidden column, figures, and a parameter.
func quayReport(books ...job.Workbook) job.ReportDefinition {
	return job.ReportDefinition{
		Source: "tarnwick", Parameters: []job.Parameter{{Name: "port", Type: job.TypeText, Default: "Grey Skerry"}},
		Sections: []job.Section{
			{
				Name: "Departures", Columns: []job.Column{{Name: "secret", Hidden: true}, {Name: "n", Label: "Sailings"}},
				SQL: "SELECT 'Quay ' || i AS port, i * 10 AS n, 'keep dark ' || i AS secret FROM generate_series(1, 30) i",
			},
			{Name: "Figures", Kind: job.SectionFigures, Columns: []job.Column{{Name: "dark", Hidden: true}}, SQL: "SELECT 7 AS late, 'keep dark' AS dark WHERE :port <> ''"},
			{Name: "Not taken", SQL: "SELECT 1 / 0 AS n"},
		},
		Workbooks: books,
	}
}

func unzipped(t *testing.T, data []byte) map[string]string {
	t.Helper()
	z, err := zip.NewReader(bytes.NewReader(data), int64(len(data)))
	require.NoError(t, err)
	all := map[string]string{}
	for _, f := range z.File {
		r, err := f.Open()
		require.NoError(t, err)
		text, err := io.ReadAll(r)
		require.NoError(t, err)
		all[f.Name] = string(text)
	}
	return all
}

func TestAWorkbookOfItsOwnerIsFilledAndDelivered(t *testing.T) {
	t.Parallel()
	w := world.Open(t)
	ctx := context.Background()
	mara := w.As("mara")
	first := quayBook(t)
	save := func(d job.ReportDefinition) error {
		_, err := mara.SaveReport(ctx, "Quay", wire.ReportRequest{Owner: "mara", ReportDefinition: d})
		return err
	}

	// Sent by several at once it is one; what is none is refused.
	var all sync.WaitGroup
	ids := make([]string, 4)
	for i := range ids {
		all.Go(func() {
			f, err := mara.AddWorkbook(ctx, "quay.xlsx", first)
			if assert.NoError(t, err) {
				ids[i] = f.ID
			}
		})
	}
	all.Wait()
	for _, id := range ids {
		assert.Equal(t, ids[0], id)
	}
	_, err := mara.AddWorkbook(ctx, "quay.xlsx", []byte("no workbook"))
	require.ErrorContains(t, err, "it is no workbook of the form .xlsx")
	_, err = mara.AddWorkbook(ctx, "quay.xlsx", make([]byte, 21<<20))
	require.ErrorContains(t, err, "What was sent is larger than the 20 MiB that are taken here; nothing was changed.")

	// What does not fit is told before it is saved.
	for want, b := range map[string]job.Workbook{
		"there is no workbook of this number":                  {Name: "Book", File: strings.Repeat("0", 64)},
		"send the workbook first":                              {Name: "Book"},
		`the workbook has no table "Arrivals"`:                 {Name: "Book", File: ids[0], Tables: []job.FilledTable{{Table: "Arrivals", Section: "Departures"}}},
		`there is no section "Arrivals"`:                       {Name: "Book", File: ids[0], Tables: []job.FilledTable{{Table: "Departures", Section: "Arrivals"}}},
		`the column "secret" is hidden and would be seen here`: {Name: "Book", File: ids[0], Cells: []job.FilledCell{{Cell: "secret_one", Section: "Departures", Column: "secret"}}},
		`the section "Figures" gives no column "gone"`:         {Name: "Book", File: ids[0], Cells: []job.FilledCell{{Cell: "late", Section: "Figures", Column: "gone"}}},
		"takes one thing":                                      {Name: "Book", File: ids[0], Cells: []job.FilledCell{{Cell: "late", Value: "port", Text: "x"}}},
		`the table "Departures" has the columns`:               {Name: "Book", File: ids[0], Tables: []job.FilledTable{{Table: "Departures", Section: "Figures"}}},
		`there is no parameter "quay", and no fact`:            {Name: "Book", File: ids[0], Cells: []job.FilledCell{{Cell: "late", Value: "quay"}}},
		"value.quay": {Name: "Book", File: ids[0], Cells: []job.FilledCell{{Cell: "late", Text: "{value.quay}"}}},
	} {
		d := quayReport(b)
		d.Sections = d.Sections[:2]
		require.ErrorContains(t, save(d), want)
	}
	book := job.Workbook{Name: "Quay book", File: ids[0], Cells: []job.FilledCell{{Cell: "greeting", Text: "Good morning, {value.port}"}}}
	d := quayReport(book)
	d.Sections[2].SQL = "SELECT 1 AS n"
	require.NoError(t, save(d))

	plans, err := mara.Workbooks(ctx, "Quay")
	require.NoError(t, err)
	takes := map[string]string{}
	for _, take := range plans[0].Takes {
		takes[take.Name] = take.Takes + "|" + take.Notes
	}
	assert.Equal(t, map[string]string{
		"Departures": "rows of Departures: Port, Sailings|Twice by formula; empty: Secret", "port": "value: port|", "as_of": "value: as_of|",
		"late": "figure of Figures: late|", "greeting": "text: Good morning, {value.port}|", "secret_one": "|", "run": "value: run|",
	}, takes)
	out, _, _ := w.Ironbell("workbooks", "Quay")
	assert.Contains(t, out, "Quay book (quay.xlsx")
	assert.Contains(t, out, "Twice by formula; empty: Secret")

	// A job fills it, with and without its formulas, and a mail brings it. No byte of it has what is hidden.
	w.Job("Quay", job.Definition{Zone: "Europe/London", Tasks: []job.Task{
		{Name: "report", Kind: job.KindReport, Report: &job.ReportTask{Report: "Quay", Outputs: []job.Output{
			{Format: "xlsx", Name: "live", Workbook: "Quay book"},
			{Format: "xlsx", Name: "values", Workbook: "Quay book", Values: true, Hidden: job.HiddenRemoved},
		}}},
		{Name: "mail", Kind: job.KindDeliver, Deliver: &job.DeliverTask{Destination: "company mail", To: []string{"quay@tarnwick.example"}}},
	}})
	run := w.Ring("Quay")
	require.Equal(t, job.RunDone, run.State, run.Reason)
	l := w.Inbox("quay@tarnwick.example")[0]
	require.Len(t, l.Attachments, 2)
	for i, name := range []string{"live.xlsx", "values.xlsx"} {
		data := w.Attachment(l, i)
		f, err := excelize.OpenReader(bytes.NewReader(data))
		require.NoError(t, err)
		for at, want := range map[string]string{
			"B1": "Grey Skerry", "B3": "7", "B4": "9300", "D1": "Good morning, Grey Skerry", "D2": "", "D3": run.ID.String(), "A36": "Quay 30", "C36": "600", "D36": "",
		} {
			got, err := f.GetCellValue("Quay", at)
			require.NoError(t, err)
			assert.Equal(t, want, got, name+" "+at)
		}
		formula, err := f.GetCellFormula("Quay", "C36")
		require.NoError(t, err)
		assert.Equal(t, i == 0, formula != "")
		for part, text := range unzipped(t, data) {
			assert.NotContains(t, text, "keep dark", part)
			assert.NotContains(t, text, "Sample", part)
			if i == 1 {
				assert.NotContains(t, text, "Limits", part)
			}
		}
	}
	said := ""
	lines, err := w.C.Log(ctx, run.ID, 0)
	require.NoError(t, err)
	for _, line := range lines {
		said += line.Text + "\n"
	}
	assert.Contains(t, said, "xlsx: it holds 1 hidden sheet, which whoever gets it can show: Limits")
	assert.Contains(t, said, "xlsx: 1 hidden sheet removed from it")
	assert.NotContains(t, said, "Not taken", "what no output takes is not asked for")

	assert.Contains(t, said, "xlsx: the column Secret of its table Departures stays empty: Departures gives none of this name")

	// Where no row comes, nothing of the sample is taken for a figure; a column that is gone fails the run.
	_, err = w.C.SaveReport(ctx, "Gone", wire.ReportRequest{Owner: "mara", ReportDefinition: job.ReportDefinition{
		Source: "tarnwick", Workbooks: []job.Workbook{{Name: "Quay % ? # book", File: ids[0]}},
		Sections: []job.Section{{Name: "Figures", Kind: job.SectionFigures, SQL: "SELECT * FROM (SELECT 7 AS late) f WHERE false"}},
	}})
	require.NoError(t, err)
	empty, err := w.C.Render(ctx, "Gone", wire.RenderRequest{Output: job.Output{Format: "xlsx", Workbook: "Quay % ? # book"}})
	require.NoError(t, err)
	content, err := io.ReadAll(empty.Content)
	require.NoError(t, err)
	require.NoError(t, empty.Content.Close())
	f, err := excelize.OpenReader(bytes.NewReader(content))
	require.NoError(t, err)
	late, err := f.GetCellValue("Quay", "B3")
	require.NoError(t, err)
	assert.Empty(t, late)
	odd, err := mara.Workbook(ctx, "Gone", "Quay % ? # book")
	require.NoError(t, err)
	require.NoError(t, odd.Close())

	// Who may not write the report does not take its workbook; it comes back as it was sent.
	_, err = w.As("joren").Workbook(ctx, "Quay", "Quay book")
	require.ErrorContains(t, err, "may not take workbooks of the report Quay")
	_, err = mara.Workbook(ctx, "Quay", "Gone")
	require.ErrorContains(t, err, `the report "Quay" has no workbook "Gone"; it has Quay book`)
	back, err := mara.Workbook(ctx, "Quay", "Quay book")
	require.NoError(t, err)
	sent, err := io.ReadAll(back)
	require.NoError(t, err)
	require.NoError(t, back.Close())
	assert.Equal(t, first, sent)

	// A job that chooses what the report does not have, or what cannot be, is refused.
	for want, o := range map[string]job.Output{
		`the report "Quay" has no workbook "Gone"; it has Quay book`: {Format: "xlsx", Workbook: "Gone"},
		"says which sections it takes":                               {Format: "xlsx", Workbook: "Quay book", Sections: []job.Chosen{{Section: "Departures"}}},
		"it belongs to xlsx; this is pdf":                            {Format: "pdf", Workbook: "Quay book"},
		"it belongs to a workbook that is filled":                    {Format: "xlsx", Values: true},
	} {
		_, err := w.C.SaveJob(ctx, "Bad", wire.JobRequest{Owner: "mara", Definition: job.Definition{Zone: "Europe/London", Tasks: []job.Task{
			{Name: "report", Kind: job.KindReport, Report: &job.ReportTask{Report: "Quay", Outputs: []job.Output{o}}},
		}}})
		require.ErrorContains(t, err, want)
	}

	// What is not reckoned here is told when a job is saved that wants its value.
	now, err := mara.AddWorkbook(ctx, "now.xlsx", quayBook(t, func(f *excelize.File) { require.NoError(t, f.SetCellFormula("Quay", "F1", "TODAY()")) }))
	require.NoError(t, err)
	d.Workbooks[0].File = now.ID
	require.ErrorContains(t, save(d), `the job "Quay" would no longer fit: Quay!F1: it asks for TODAY`)

	// A file of the report has its workbook in it; elsewhere it makes the same report.
	file, err := w.C.RecordFile(ctx, "report", "Quay", false)
	require.NoError(t, err)
	other := world.Open(t)
	other.Person("mara", "Mara Quill")
	_, err = other.C.SaveRecord(ctx, file, false)
	require.NoError(t, err)
	plans, err = other.C.Workbooks(ctx, "Quay")
	require.NoError(t, err)
	assert.Equal(t, ids[0], plans[0].File.ID)
}

// Whoever comes first: a workbook that a report has is never removed, and no report is left with one that is gone.
func TestNoReportLosesItsWorkbook(t *testing.T) {
	t.Parallel()
	w := world.Open(t)
	ctx := context.Background()
	conn := world.Connect(t, w.Db)
	send := func(n int) string {
		f, err := w.C.AddWorkbook(ctx, "quay.xlsx", quayBook(t, func(f *excelize.File) { require.NoError(t, f.SetCellValue("Quay", "F9", n)) }))
		require.NoError(t, err)
		return f.ID
	}
	age := func() {
		_, err := conn.Exec(ctx, `UPDATE workbook_files SET kept_at = now() - interval '31 days'`)
		require.NoError(t, err)
	}
	save := func(id string) error {
		d := quayReport(job.Workbook{Name: "Book", File: id})
		d.Sections = d.Sections[:2]
		_, err := w.C.SaveReport(ctx, "Quay", wire.ReportRequest{Owner: "mara", ReportDefinition: d})
		return err
	}
	first := send(0)
	require.NoError(t, save(first))
	for n := 1; n < 7; n++ {
		id := send(2 * n)
		age()
		var all sync.WaitGroup
		var saved error
		all.Go(func() { saved = save(id) })
		all.Go(func() { send(2*n + 1) })
		all.Wait()
		back, err := w.C.Workbook(ctx, "Quay", "Book")
		require.NoError(t, err, "the report has its workbook")
		require.NoError(t, back.Close())
		if saved != nil {
			assert.ErrorContains(t, saved, "send it again")
		}
	}
	age()
	send(99)
	require.NoError(t, save(first), "an earlier version keeps its own, so that it can be put back")
}
