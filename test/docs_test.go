package test

import (
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"ironbell/test/world"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// What the developer's guide names is there, and none of its walks comes by a file twice.
func TestTheGuideLeadsSomewhere(t *testing.T) {
	text, err := os.ReadFile(world.Path("docs/develop.md"))
	require.NoError(t, err)
	named := regexp.MustCompile("`((?:internal|console|cmd|client|test|standin|docs)/[A-Za-z0-9_./-]+)`")
	for _, m := range named.FindAllSubmatch(text, -1) {
		_, err := os.Stat(filepath.Join("..", string(m[1])))
		assert.NoError(t, err, "docs/develop.md names it")
	}
	_, rest, found := strings.Cut(string(text), "\n## Five walks\n")
	require.True(t, found)
	walks, _, found := strings.Cut(rest, "\n## ")
	require.True(t, found)
	n := 0
	for _, walk := range strings.Split(walks, "\n\n") {
		if !strings.HasPrefix(walk, "**") {
			continue
		}
		n++
		title, _, _ := strings.Cut(walk, "\n")
		passed := map[string]bool{}
		for _, m := range named.FindAllStringSubmatch(walk, -1) {
			if strings.HasSuffix(m[1], "/") {
				continue
			}
			assert.False(t, passed[m[1]], "%s comes by %s twice", title, m[1])
			passed[m[1]] = true
		}
		assert.Greater(t, len(passed), 5, title)
	}
	assert.Equal(t, 5, n)
}
