package render_test

import (
	"bytes"
	"fmt"
	"image/png"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"ironbell/internal/core/job"
	"ironbell/internal/core/rows"
	"ironbell/internal/typeface"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// tongues are texts of scripts that are shaped, and of letters beyond the built-in face.
var tongues = []string{
	"渡し船の時刻表", "渡轮时刻表", "여객선 시간표", "לוח המעבורות", "جدول السفن", "ตารางเรือข้ามฟาก", "नौका समय क्षत्रिय सारणी",
	"படகு நேர அட்டவணை", "តារាងពេលវេលា", "Nguyễn Văn Ổn", "Ψαράς 5 ₹", "Հայերեն", "ქართული",
}

// needFaces leaves a test out where this machine has no faces for a text.
func needFaces(t *testing.T, texts ...string) {
	t.Helper()
	s := typeface.Here().Shaper("en")
	for _, text := range texts {
		for _, r := range text {
			if !s.Has(r) {
				t.Skipf("no typeface of this machine has %q", r)
			}
		}
	}
}

func names(texts ...string) table {
	t := table{
		section: job.Section{Name: "Names"},
		columns: []rows.Column{{Name: "Name", Kind: rows.Text}, {Name: "No", Kind: rows.Whole}},
	}
	for i, text := range texts {
		t.rows = append(t.rows, row(text, fmt.Sprint(i)))
	}
	return t
}

func TestTextsOfEveryScriptStandOnPagesAndCanBeRead(t *testing.T) {
	needFaces(t, tongues...)
	out, says, err := file(t, job.Output{Format: "pdf"}, head(), names(tongues...))
	require.NoError(t, err)
	assert.Empty(t, says)
	text := read(t, out)
	for _, w := range tongues {
		assert.Contains(t, text, w)
	}
	assert.NotContains(t, text, "\ufffd")
	assert.Less(t, len(out), 300_000, "only the glyphs that are used are carried")
	path := filepath.Join(t.TempDir(), "names.pdf")
	require.NoError(t, os.WriteFile(path, out, 0o600))
	fonts, err := exec.Command("pdffonts", path).Output()
	require.NoError(t, err)
	assert.Regexp(t, regexp.MustCompile(`NotoSansCJK\S*\s+CID Type 0C\s+Identity-H\s+yes yes yes`), string(fonts))
	for _, program := range [][]string{{"qpdf", "--check", path}, {"pdftoppm", "-r", "40", path, path}} {
		if _, err := exec.LookPath(program[0]); err != nil {
			continue
		}
		said, err := exec.Command(program[0], program[1:]...).CombinedOutput()
		assert.NoError(t, err, "%s", said)
		assert.NotContains(t, strings.ToLower(string(said)), "error:")
	}
}

// Inks are how many dots of a picture are not white: a text that is not drawn leaves none.
func inks(t *testing.T, out []byte) (n int) {
	t.Helper()
	img, err := png.Decode(bytes.NewReader(out))
	require.NoError(t, err)
	for y := range img.Bounds().Dy() {
		for x := range img.Bounds().Dx() {
			if r, _, _, _ := img.At(x, y).RGBA(); r < 0x8000 {
				n++
			}
		}
	}
	return n
}

func TestTextsOfEveryScriptStandInPicturesAndCharts(t *testing.T) {
	needFaces(t, tongues...)
	empty := inks(t, made(t, job.Output{Format: "png"}, names(strings.Repeat("\u00a0", 9))))
	for _, w := range tongues {
		out, says, err := file(t, job.Output{Format: "png"}, head(), names(w))
		require.NoError(t, err)
		assert.Empty(t, says)
		assert.Greater(t, inks(t, out), empty+60, w)
	}
	chart := names(tongues...)
	chart.section.Chart = &job.Chart{Form: job.ChartBar, Along: "Name", Series: []string{"No"}}
	for _, format := range []string{"png", "pdf", "pptx"} {
		_, says, err := file(t, job.Output{Format: format}, head(), chart)
		require.NoError(t, err)
		assert.Empty(t, says, format)
	}
}

func TestWhatNoFaceHasIsShownAndSaid(t *testing.T) {
	foreign := names("Nguyễn Văn Ổn", "Ψαράς 5 ₹", "\ue000\ue001 of a private kind")
	for _, format := range []string{"pdf", "png"} {
		_, says, err := file(t, job.Output{Format: format}, head(), foreign)
		require.NoError(t, err)
		require.Len(t, says, 1)
		assert.Contains(t, says[0], "2 characters that no typeface of this node has, the first of them '\\ue000'")
	}
}

// Scripts without spaces are broken into lines all the same, and no letter loses its marks.
func TestLongTextsOfEveryScriptAreBrokenBetweenLetters(t *testing.T) {
	needFaces(t, tongues...)
	for _, w := range tongues {
		out := made(t, job.Output{Format: "pdf"}, names(strings.Repeat(w+" ", 80)))
		read := strings.Count(strings.Join(strings.Fields(read(t, out)), ""), strings.Join(strings.Fields(w), ""))
		assert.GreaterOrEqual(t, read, 60, w)
	}
}

// Cells that are read from right to left say so where the reader's program sets them.
func TestRightToLeftIsSaid(t *testing.T) {
	text := string(made(t, job.Output{Format: "html"}, names("לוח המעבורות", "Wren")))
	assert.Contains(t, text, `dir="rtl">לוח המעבורות`)
	assert.Equal(t, 1, strings.Count(text, `dir="rtl"`))
	slides := unzip(t, made(t, job.Output{Format: "pptx"}, names("לוח המעבורות", "Wren")))
	all := ""
	for name, body := range slides {
		if strings.Contains(name, "slides/slide") {
			all += body
		}
	}
	assert.Equal(t, 1, strings.Count(all, `rtl="1"`))
}
