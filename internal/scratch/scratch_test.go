package scratch

import (
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestFoldersGoWithTheirMaker(t *testing.T) {
	t.Setenv("TMPDIR", t.TempDir())
	mine, err := Make("test")
	require.NoError(t, err)
	gone, err := Make("test")
	require.NoError(t, err)
	fresh, err := Make("test")
	require.NoError(t, err)
	require.NoError(t, os.Mkdir(filepath.Join(gone.Path, "shut"), 0o000))
	// Two makers are gone, one of them just now; mine is old and lives.
	require.NoError(t, gone.lock.Close())
	require.NoError(t, fresh.lock.Close())
	old := time.Now().Add(-time.Hour)
	for _, d := range []*Dir{mine, gone} {
		require.NoError(t, os.Chtimes(d.Path, old, old))
	}
	n, err := Sweep()
	require.NoError(t, err)
	assert.Equal(t, 1, n)
	assert.NoDirExists(t, gone.Path)
	assert.DirExists(t, mine.Path)
	assert.DirExists(t, fresh.Path)
	mine.Remove()
	assert.NoDirExists(t, mine.Path)
}
