package locale_test

import (
	"go/ast"
	"go/parser"
	"go/token"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"testing"

	"ironbell/internal/core/locale"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// said are the texts that the program says in the reader's language, as its source has them.
func said(t *testing.T) map[string]string {
	t.Helper()
	all := map[string]string{}
	root := filepath.Join("..", "..")
	require.NoError(t, filepath.WalkDir(root, func(path string, d os.DirEntry, err error) error {
		if err != nil || d.IsDir() || !strings.HasSuffix(path, ".go") || strings.HasSuffix(path, "_test.go") {
			return err
		}
		file, err := parser.ParseFile(token.NewFileSet(), path, nil, parser.SkipObjectResolution)
		if err != nil {
			return err
		}
		ast.Inspect(file, func(n ast.Node) bool {
			call, ok := n.(*ast.CallExpr)
			if !ok || len(call.Args) == 0 {
				return true
			}
			name := ""
			switch f := call.Fun.(type) {
			case *ast.SelectorExpr:
				name = f.Sel.Name
			case *ast.Ident:
				name = f.Name
			}
			if literal, ok := call.Args[0].(*ast.BasicLit); ok && (name == "Say" || name == "say") && literal.Kind == token.STRING {
				if text, err := strconv.Unquote(literal.Value); err == nil {
					all[text] = path
				}
			}
			return true
		})
		return nil
	}))
	return all
}

func TestEverythingThatIsSaidCanBeTranslatedAndIs(t *testing.T) {
	all := said(t)
	assert.Greater(t, len(all), 40, "the source was read")
	for text, path := range all {
		assert.Contains(t, locale.Messages(), text, path)
	}
	for _, language := range []string{"de", "fr", "es", "de-AT", "fr-CH", "es-MX"} {
		l, err := locale.Load(language)
		require.NoError(t, err)
		for _, text := range locale.Messages() {
			got := l.Say(text)
			same := map[string]bool{"Total": true, "Page": true, "no": true} // the same word in one of them
			assert.True(t, got != text || same[text], "%s: %s", language, text)
		}
	}
}

func TestOthersCanAddACatalogue(t *testing.T) {
	po := func(texts ...string) []byte {
		out := "msgid \"\"\nmsgstr \"\"\n\"Content-Type: text/plain; charset=UTF-8\\n\"\n"
		for i := 0; i < len(texts); i += 2 {
			out += "\nmsgid " + strconv.Quote(texts[i]) + "\nmsgstr " + strconv.Quote(texts[i+1]) + "\n"
		}
		return []byte(out)
	}
	require.NoError(t, locale.Add("fi", po("Failed", "Epäonnistui", "Since", "")))
	l, err := locale.Load("fi")
	require.NoError(t, err)
	assert.Equal(t, "Epäonnistui", l.Say("Failed"))
	assert.Equal(t, "Since", l.Say("Since"), "what is not translated stands in English")
	assert.Equal(t, "Sivu", l.Words.Page, "what was there stays")
	for _, bad := range []struct {
		language string
		po       []byte
		says     string
	}{
		{"xx", po("Failed", "a"), `no language "xx"`},
		{"fi", po("Nothing of ours", "a"), `no text "Nothing of ours"`},
		{"fi", po("%s has acknowledged it", "kuittasi"), "has the places  in place of %s"},
		{"fi", po("%s (%d of %d)", "%d (%s / %d)"), "in their order"},
		{"fi", []byte("no catalogue"), "it has no texts"},
		{"fi", make([]byte, locale.MaxCatalogue+1), "at most"},
	} {
		assert.ErrorContains(t, locale.Add(bad.language, bad.po), bad.says)
	}
	var none *locale.Locale
	assert.Equal(t, "Done: Board pack", none.Say("Done: %s", "Board pack"))
	assert.Equal(t, "100 % done", none.Say("100 % done"), "without values nothing is filled in")
}

func TestCountsHaveTheMarksOfTheirLanguage(t *testing.T) {
	for name, want := range map[string]string{"": "1,234,567", "de": "1.234.567", "en-IN": "12,34,567"} {
		l, err := locale.Load(name)
		require.NoError(t, err)
		assert.Equal(t, want, l.Count(1234567))
		assert.Equal(t, "-12", l.Count(-12))
		assert.Equal(t, "0", l.Count(0))
	}
}
