package typeface

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// samples are texts of scripts that are not written letter by letter from left
// to right.
var samples = map[string]string{
	"Arabic": "مرحبا بالعالم", "Hebrew": "שלום עולם", "Devanagari": "क्षत्रिय हिन्दी", "Thai": "สวัสดีชาวโลก", "Han": "潮汐报告",
	"Hangul": "한국어", "Kana": "潮汐レポート", "Tamil": "தமிழ்", "Khmer": "ភាសាខ្មែរ", "Emoji": "⛴️🌊👩‍✈️",
}

func TestAllScriptsHaveFaces(t *testing.T) {
	s := Here().Shaper("en")
	for script, text := range samples {
		line := s.Line(text, false)
		require.NotEmpty(t, line.Runs, script)
		var read strings.Builder
		for _, run := range line.Runs {
			for _, g := range run.Glyphs {
				assert.NotZero(t, g.ID, "%s: %q", script, g.Text)
				read.WriteString(g.Text)
			}
		}
		assert.False(t, s.Plain(text), script)
		assert.Positive(t, line.Wide, script)
		assert.Len(t, []rune(read.String()), len([]rune(text)), script)
	}
}
