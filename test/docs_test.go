package test

import (
	"os"
	"os/exec"
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
	t.Parallel()
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

// The reference says what the program says, to the letter.
func TestTheReferenceIsWhatTheProgramSays(t *testing.T) {
	t.Parallel()
	kept, err := os.ReadFile(world.Path("docs/reference.md"))
	require.NoError(t, err)
	text, err := exec.CommandContext(t.Context(), world.Build(t)+"/ironbell", "describe", "-reference").Output()
	require.NoError(t, err)
	if string(kept) != string(text) {
		was, is := strings.Split(string(kept), "\n"), strings.Split(string(text), "\n")
		for i := range min(len(was), len(is)) {
			require.Equal(t, is[i], was[i], "line %d of docs/reference.md; make describe writes it anew", i+1)
		}
		require.Len(t, was, len(is), "docs/reference.md; make describe writes it anew")
	}
}

// Every command, flag and page that a hand-written page names is there.
func TestThePagesNameWhatThereIs(t *testing.T) {
	t.Parallel()
	reference, err := os.ReadFile(world.Path("docs/reference.md"))
	require.NoError(t, err)
	flags, command := map[string]map[string]bool{}, ""
	for _, line := range strings.Split(string(reference), "\n") {
		if line == "## Records in files" {
			break
		}
		if name, ok := strings.CutPrefix(line, "### "); ok {
			command, _, _ = strings.Cut(name, " ")
			flags[command] = map[string]bool{"h": true}
		}
		if m := regexp.MustCompile("^\\| `-([a-z-]+)").FindStringSubmatch(line); m != nil {
			flags[command][m[1]] = true
		}
	}
	require.Greater(t, len(flags), 60)
	pages, err := filepath.Glob(world.Path("docs/*.md"))
	require.NoError(t, err)
	called := regexp.MustCompile("(?:\\$ |`)ironbell ([a-z][a-z-]*)([^`\n]*)")
	flag := regexp.MustCompile(` -([a-z][a-z-]*)\b`)
	quoted := regexp.MustCompile(`"[^"]*"`)
	n := 0
	for _, page := range pages {
		if strings.HasSuffix(page, "reference.md") || strings.HasSuffix(page, "decisions.md") {
			continue
		}
		text, err := os.ReadFile(page)
		require.NoError(t, err)
		for _, m := range called.FindAllStringSubmatch(string(text), -1) {
			known, ok := flags[m[1]]
			if m[1] == "help" {
				continue
			}
			n++
			if !assert.True(t, ok, "%s: there is no command %s", filepath.Base(page), m[1]) {
				continue
			}
			line, _, _ := strings.Cut(quoted.ReplaceAllString(m[2], ""), " -- ")
			line, _, _ = strings.Cut(line, "|")
			for _, f := range flag.FindAllStringSubmatch(line, -1) {
				assert.True(t, known[f[1]], "%s: ironbell %s has no flag -%s", filepath.Base(page), m[1], f[1])
			}
		}
		for _, m := range regexp.MustCompile(`\]\(([a-z-]+\.md)(#[a-z0-9-]+)?\)`).FindAllStringSubmatch(string(text), -1) {
			_, err := os.Stat(world.Path("docs/" + m[1]))
			assert.NoError(t, err, filepath.Base(page))
		}
	}
	assert.Greater(t, n, 50)
}
