package phrase_test

import (
	"testing"

	"ironbell/internal/core/phrase"

	"github.com/stretchr/testify/assert"
)

func TestSentences(t *testing.T) {
	for text, want := range map[string]string{
		"": "", "a": "A.", "the line broke": "The line broke.", "Done.": "Done.", "été": "Été.", "ßA": "ßA.",
		"1 file": "1 file.", "\xff": "\xff.", "日本": "日本.",
	} {
		assert.Equal(t, want, phrase.Sentence(text), "%q", text)
	}
	assert.Equal(t, "Öl", phrase.Upper("öl"))
	assert.Equal(t, []string{"0 files", "1 file", "2 files"},
		[]string{phrase.Count(0, "file"), phrase.Count(1, "file"), phrase.Count(2, "file")})
	assert.Equal(t, "job sends", phrase.Plural(1, "job sends", "jobs send"))
}
