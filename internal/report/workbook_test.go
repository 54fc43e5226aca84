package report_test

import (
	"os"
	"path/filepath"
	"testing"
	"time"

	"ironbell/internal/core/rows"
	"ironbell/internal/report"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"github.com/xuri/excelize/v2"
)

func TestAWorkbookIsATable(t *testing.T) {
	dir := t.TempDir()
	f := excelize.NewFile()
	form, day := "#,##0.0", "yyyy-mm-dd"
	rounded, err := f.NewStyle(&excelize.Style{CustomNumFmt: &form})
	require.NoError(t, err)
	dates, err := f.NewStyle(&excelize.Style{CustomNumFmt: &day})
	require.NoError(t, err)
	usual, err := f.NewStyle(&excelize.Style{NumFmt: 14})
	require.NoError(t, err)
	percent, err := f.NewStyle(&excelize.Style{NumFmt: 10})
	require.NoError(t, err)
	at := time.Date(2026, 11, 3, 0, 0, 0, 0, time.UTC)
	for i, row := range [][]any{
		nil,
		{"Port", "Litres", "Day", "Usual", "Full", "Code", "Port"},
		{"Grey Skerry", 12040.25, at, at, 0.794, "007", "again"},
		{nil, -3.0, at.AddDate(0, 0, 1), nil, 1.0, "008"},
	} {
		for c, v := range row {
			cell, err := excelize.CoordinatesToCellName(c+1, i+1)
			require.NoError(t, err)
			require.NoError(t, f.SetCellValue("Sheet1", cell, v))
		}
	}
	for column, style := range map[string]int{"B": rounded, "C": dates, "D": usual, "E": percent} {
		require.NoError(t, f.SetCellStyle("Sheet1", column+"3", column+"4", style))
	}
	_, err = f.NewSheet("Second")
	require.NoError(t, err)
	require.NoError(t, f.SetCellValue("Second", "A1", "crown jewels"))
	require.NoError(t, f.SaveAs(filepath.Join(dir, "fuel.xlsx")))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "broken.xlsx"), []byte("PK\x03\x04 no more"), 0o600))
	s, err := opened(t, "folder", map[string]any{"folder": dir, "tables": map[string]any{
		"fuel": map[string]any{"file": "fuel.xlsx"}, "broken": map[string]any{"file": "broken.xlsx"},
	}}, "", report.Allowed{Folders: []string{dir}})
	require.NoError(t, err)
	k, err := ask(t, s, `SELECT * FROM fuel`)
	require.NoError(t, err)
	assert.Equal(t, [][]string{
		{"Grey Skerry", "12040.25", "2026-11-03", "2026-11-03", "0.794", "007", "again"},
		{"(null)", "-3", "2026-11-04", "(null)", "1", "008", "(null)"},
	}, k.rows)
	assert.Equal(t, map[string]rows.Kind{
		"Port": rows.Text, "Litres": rows.Number, "Day": rows.Date, "Usual": rows.Date, "Full": rows.Number,
		"Code": rows.Text, "Port 2": rows.Text,
	}, kindsOf(k.columns))
	_, err = ask(t, s, `SELECT * FROM broken`)
	require.ErrorContains(t, err, "no workbook that can be read")
}
