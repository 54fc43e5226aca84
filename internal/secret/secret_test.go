package secret_test

import (
	"os"
	"path/filepath"
	"testing"

	"ironbell/internal/secret"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestWhatIsSealedOpensForItsRecordOnly(t *testing.T) {
	path := filepath.Join(t.TempDir(), "sub", "key")
	_, err := secret.FromFile(path, false)
	require.ErrorContains(t, err, "-key-file")
	box, err := secret.FromFile(path, true)
	require.NoError(t, err)
	info, err := os.Stat(path)
	require.NoError(t, err)
	assert.Equal(t, os.FileMode(0o600), info.Mode().Perm())
	sealed, err := box.Seal("destination:company mail", "slipway")
	require.NoError(t, err)
	assert.NotContains(t, string(sealed), "slipway")
	same, err := secret.FromFile(path, true)
	require.NoError(t, err)
	plain, err := same.Open("destination:company mail", sealed)
	require.NoError(t, err)
	assert.Equal(t, "slipway", plain)
	_, err = box.Open("destination:another", sealed)
	assert.ErrorContains(t, err, "cannot be opened with this key")
	sealed[len(sealed)-1] ^= 1
	_, err = box.Open("destination:company mail", sealed)
	assert.ErrorContains(t, err, "cannot be opened")
	_, err = box.Open("destination:company mail", []byte("x"))
	assert.ErrorContains(t, err, "is damaged")
	empty, err := box.Seal("r", "")
	require.NoError(t, err)
	assert.Empty(t, empty)
	require.NoError(t, os.WriteFile(path, []byte("c2hvcnQ="), 0o600))
	_, err = secret.FromFile(path, true)
	assert.ErrorContains(t, err, "it needs 32")
}
