package console

import (
	"bytes"
	"context"
	"os"
	"path/filepath"
	"testing"

	"ironbell/internal/api/wire"
	"ironbell/internal/core/job"
	"ironbell/test/world"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"github.com/xuri/excelize/v2"
)

// The owner's own workbook is sent on screen, what it takes is said, and it is shown filled before anything is saved.
func TestAWorkbookIsSentOnScreen(t *testing.T) {
	t.Parallel()
	w := world.Open(t)
	ctx := context.Background()
	axe, err := os.ReadFile(world.Path("console/node_modules/axe-core/axe.min.js"))
	require.NoError(t, err)
	f := excelize.NewFile()
	for at, text := range map[string]string{"A3": "Port", "B3": "Sailings", "A4": "Sample", "D1": "written by the quay"} {
		require.NoError(t, f.SetCellValue("Sheet1", at, text))
	}
	require.NoError(t, f.AddTable("Sheet1", &excelize.Table{Range: "A3:B4", Name: "Departures"}))
	require.NoError(t, f.SetDefinedName(&excelize.DefinedName{Name: "as_of", RefersTo: "Sheet1!$B$1"}))
	var book bytes.Buffer
	require.NoError(t, f.Write(&book))
	dir := t.TempDir()
	path, bad := filepath.Join(dir, "quay board.xlsx"), filepath.Join(dir, "bad.xlsx")
	require.NoError(t, os.WriteFile(path, book.Bytes(), 0o600))
	require.NoError(t, os.WriteFile(bad, []byte("no workbook"), 0o600))
	_, err = w.C.SaveReport(ctx, "Quay", wire.ReportRequest{Owner: "mara", ReportDefinition: job.ReportDefinition{
		Source: "tarnwick", Sections: []job.Section{{Name: "Departures", SQL: "SELECT 'Grey Skerry' AS port, 3 AS sailings"}},
	}})
	require.NoError(t, err)

	p := w.Console()
	p.Do(chromedp.Navigate("http://" + w.Listen + "/reports/Quay/change"))
	p.Sees("Send a workbook")
	const input = `//section[@aria-label='Workbooks']//input[@type='file']`
	p.Do(chromedp.SetUploadFiles(input, []string{bad}))
	p.Sees("it is no workbook of the form .xlsx")
	p.Do(chromedp.SetUploadFiles(input, []string{path}))
	p.Sees("rows of Departures: Port, Sailings")
	p.Sees("value: as_of")
	p.Audit(axe, "workbooks of a report")
	p.Press("//aside", "quay board")
	p.Sees("Nothing. It can be saved.")
	p.Press("//aside", "Save as a new version")
	w.Until("it is saved", func() bool {
		page, err := w.C.ShowReport(ctx, "Quay")
		return err == nil && len(page.Workbooks) == 1 && page.Workbooks[0].Name == "quay board"
	})
	plans, err := w.C.Workbooks(ctx, "Quay")
	require.NoError(t, err)
	assert.Equal(t, "quay board.xlsx", plans[0].File.Name)
}
