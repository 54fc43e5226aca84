package typeface

import (
	"bytes"
	"encoding/binary"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"testing"
	"unicode"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
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

// No text is lost or doubled, whatever it is made of.
func TestAnyTextIsSetWhole(t *testing.T) {
	s := Here().Shaper("en")
	letter := rapid.OneOf(rapid.Rune(), rapid.RuneFrom([]rune("ab 12().,"), unicode.Hebrew, unicode.Arabic, unicode.Devanagari,
		unicode.Han, unicode.Thai, unicode.Mn, unicode.Cf))
	rapid.Check(t, func(t *rapid.T) {
		text := strings.Map(func(r rune) rune {
			if endsLine(r) {
				return ' '
			}
			return r
		}, string(rapid.SliceOfN(letter, 0, 60).Draw(t, "text")))
		line := s.Line(text, false)
		var ran, stood []rune
		for _, run := range line.Runs {
			ran = append(ran, []rune(run.Text)...)
			for _, g := range run.Glyphs {
				stood = append(stood, []rune(g.Text)...)
				s.Outline(run.Face, g.ID)
			}
		}
		assert.ElementsMatch(t, []rune(text), ran)
		assert.ElementsMatch(t, []rune(text), stood)
		wide := func(s string) float64 { return float64(len([]rune(s))) }
		whole := func(s string) string {
			return strings.Map(func(r rune) rune {
				if r == ' ' || r == rightToLeftMark {
					return -1
				}
				return r
			}, s)
		}
		assert.Equal(t, whole(text), whole(strings.Join(s.Wrap(text, 7, wide), "")))
		cut := s.Cut(text, 7, wide)
		assert.True(t, cut == text || strings.HasSuffix(cut, "…"))
	})
}

// Numbers within what is read from right to left keep their order (Unicode Annex 9).
func TestRunsStandAsTheyAreSeen(t *testing.T) {
	var seen []string
	for _, run := range Here().Shaper("en").Line("לוח 2026 המעבורות", false).Runs {
		seen = append(seen, strings.TrimSpace(run.Text))
	}
	assert.Equal(t, []string{"המעבורות", "2026", "לוח"}, seen)
}

func TestWithoutFoldersThereIsTheBuiltInFace(t *testing.T) {
	folder := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(folder, "NotoSansThai-Regular.ttf"), []byte("no face"), 0o600))
	s := Open([]string{folder}, filepath.Join(folder, "none")).Shaper("en")
	for r, has := range map[rune]bool{'a': true, 'ß': true, 'Ω': true, 'ب': true, '潮': false, 'ส': false, '\ue000': false, '\u200d': true} {
		assert.Equal(t, has, s.Has(r), "%q", r)
	}
}

// A face from a folder of the operator's comes before those of the system.
func TestFoldersAreLookedThroughInTheirOrder(t *testing.T) {
	folder := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(folder, "Ours.ttf"), Regular, 0o600))
	line := Open([]string{folder}, System...).Shaper("en").Line("ب", false)
	require.Len(t, line.Runs, 1)
	assert.Equal(t, "Ours", line.Runs[0].Face.Name)
	assert.Positive(t, line.Wide)
}

func TestFacesThatMayNotBeEmbeddedAreLeftOut(t *testing.T) {
	may := slices.Clone(Regular)
	at := bytes.Index(may[:1000], []byte("OS/2"))
	require.Positive(t, at)
	table := binary.BigEndian.Uint32(may[at+8:])
	binary.BigEndian.PutUint16(may[table+8:], 0x0002)
	assert.Empty(t, parse(may, "Restricted"))
	binary.BigEndian.PutUint16(may[table+8:], 0x0008)
	assert.Len(t, parse(may, "Editable"), 1)
}

// The library of a machine is everybody's; each sets texts with a shaper of its own.
func TestSeveralSetTextsAtOnce(t *testing.T) {
	l := Open(nil, System...)
	var all sync.WaitGroup
	for range 8 {
		all.Go(func() {
			s := l.Shaper("en")
			for _, text := range samples {
				line := s.Line(text, false)
				assert.Positive(t, line.Wide)
				for _, run := range line.Runs {
					sub := s.Subset(run.Face)
					for _, cluster := range run.Clusters() {
						sub.Code(cluster)
					}
					table, _ := sub.CFF()
					assert.NotEmpty(t, table)
				}
			}
		})
	}
	all.Wait()
}
