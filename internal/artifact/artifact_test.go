package artifact_test

import (
	"context"
	"io"
	"os"
	"path/filepath"
	"testing"

	"ironbell/internal/artifact"
	"ironbell/internal/core/fault"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestFilesAreKeptWholeOrNotAtAll(t *testing.T) {
	dir := t.TempDir()
	f, err := artifact.OpenFolder(filepath.Join(dir, "artifacts"))
	require.NoError(t, err)
	defer func() { _ = f.Close() }()
	w, err := f.Create()
	require.NoError(t, err)
	_, err = io.WriteString(w, "a,b\r\n")
	require.NoError(t, err)
	kept, err := w.Keep()
	require.NoError(t, err)
	assert.Equal(t, int64(5), kept.Size)
	assert.Len(t, kept.SHA256, 64)
	in, err := f.Open(context.Background(), kept.Key)
	require.NoError(t, err)
	text, err := io.ReadAll(in)
	require.NoError(t, err)
	require.NoError(t, in.Close())
	assert.Equal(t, "a,b\r\n", string(text))

	dropped, err := f.Create()
	require.NoError(t, err)
	_, err = io.WriteString(dropped, "half")
	require.NoError(t, err)
	dropped.Drop()
	var files []string
	require.NoError(t, filepath.WalkDir(dir, func(path string, d os.DirEntry, err error) error {
		if err == nil && !d.IsDir() {
			files = append(files, path)
		}
		return err
	}))
	assert.Len(t, files, 1, "what was dropped leaves nothing")

	require.NoError(t, f.Remove(kept.Key))
	require.NoError(t, f.Remove(kept.Key), "what is gone already is no error")
	_, err = f.Open(context.Background(), kept.Key)
	assert.Equal(t, fault.Lasting, fault.Of(err).Class)
	_, err = f.Open(context.Background(), "../../etc/passwd")
	assert.Error(t, err, "no key leads out of the folder")
}
