package report_test

import (
	"context"
	"database/sql"
	"os"
	"path/filepath"
	"testing"

	"ironbell/internal/report"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// What completes a query is known of files, too: their heads, and what their first rows look like.
func TestTheTablesOfFiles(t *testing.T) {
	ctx := context.Background()
	dir := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(dir, "tide_1.csv"), []byte("Port,Metres,Code\nEH,2.75,007\n"), 0o600))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "empty.csv"), nil, 0o600))
	s, err := opened(t, "folder", map[string]any{"folder": dir, "tables": map[string]any{
		"tides": map[string]any{"file": "tide_*.csv"}, "empty": map[string]any{"file": "empty.csv"},
		"gone": map[string]any{"file": "nothing.csv"},
	}}, "", report.Allowed{Folders: []string{dir}})
	require.NoError(t, err)
	found, err := report.Relations(ctx, s)
	require.NoError(t, err)
	assert.Equal(t, []report.Relation{
		{Name: "empty"},
		{Name: "gone"},
		{Name: "tides", Columns: []report.Attribute{
			{Name: "Port", Type: "text"}, {Name: "Metres", Type: "real"}, {Name: "Code", Type: "text"},
		}},
	}, found)

	path := filepath.Join(dir, "tides.db")
	db, err := sql.Open("sqlite", path)
	require.NoError(t, err)
	_, err = db.Exec(`CREATE TABLE "odd "" name" (id INTEGER, port TEXT); CREATE VIEW high AS SELECT port FROM "odd "" name"`)
	require.NoError(t, err)
	require.NoError(t, db.Close())
	s, err = opened(t, "sqlite", map[string]any{"file": path}, "", report.Allowed{Folders: []string{dir}})
	require.NoError(t, err)
	found, err = report.Relations(ctx, s)
	require.NoError(t, err)
	assert.Equal(t, []report.Relation{
		{Name: "high", Columns: []report.Attribute{{Name: "port", Type: "text"}}},
		{Name: `odd " name`, Columns: []report.Attribute{{Name: "id", Type: "whole"}, {Name: "port", Type: "text"}}},
	}, found)
}
