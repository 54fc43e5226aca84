package render_test

import (
	"bytes"
	"context"
	"image"
	"image/color"
	"image/png"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"ironbell/internal/core/job"
	"ironbell/internal/core/shape"
	"ironbell/internal/house"
	"ironbell/internal/render"
	"ironbell/internal/typeface"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// files are those of the house style of tests: a red logo, and a typeface.
type files struct{}

func (files) HouseFile(_ context.Context, id string) (job.HouseFile, []byte, error) {
	if id == "typeface" {
		return job.HouseFile{ID: id}, typeface.Regular, nil
	}
	img := image.NewNRGBA(image.Rect(0, 0, 90, 30))
	for i := range img.Pix {
		img.Pix[i] = map[bool]uint8{true: 0xff}[i%4 == 0 || i%4 == 3]
	}
	var out bytes.Buffer
	err := png.Encode(&out, img)
	return job.HouseFile{ID: id, Width: 90, Height: 30}, out.Bytes(), err
}

func dressed(t *testing.T, change ...func(*job.HouseStyle)) *house.Look {
	t.Helper()
	s := job.HouseStyle{
		Name: "Tarnwick & Co", Logo: "logo", Accent: "#112277", Ink: "#001100", Typeface: "Georgia",
		Footer: `Quay House & "Sons"`, Legal: "For <whom> it was sent to &P.",
	}
	for _, c := range change {
		c(&s)
	}
	look, err := house.Make(context.Background(), s, files{})
	require.NoError(t, err)
	return look
}

// in writes a file of a table in a look.
func in(t *testing.T, look *house.Look, format string, tb table) []byte {
	t.Helper()
	style, err := render.Read(job.Output{Format: format})
	require.NoError(t, err)
	style.Look = look
	var out bytes.Buffer
	w, err := style.Open(&out, head())
	require.NoError(t, err)
	plan, err := shape.Fit(tb.section, job.FormWhole, tb.columns)
	require.NoError(t, err)
	shaper, err := shape.NewShaper(plan, []shape.Sink{w}, nil)
	require.NoError(t, err)
	for _, r := range tb.rows {
		require.NoError(t, shaper.Row(r))
	}
	_, err = shaper.End()
	require.NoError(t, err)
	require.NoError(t, w.Close())
	return out.Bytes()
}

func TestHouseStyleStandsInEveryFormat(t *testing.T) {
	look := dressed(t)
	tb := sailings(3)
	tb.rows[0] = row("#86561b #24272b Segoe UI", "2026-11-20", "1") // a text that speaks of our own colours stays

	text := read(t, in(t, look, "pdf", tb))
	assert.Contains(t, text, `Quay House & "Sons"`)
	assert.Contains(t, text, "For <whom> it was sent to &P.")
	assert.Contains(t, text, "#86561b #24272b")

	page := string(in(t, look, "html", tb))
	assert.Contains(t, page, "border-bottom:3px solid #112277")
	assert.Contains(t, page, `alt="Tarnwick &amp; Co"`)
	assert.Contains(t, page, `"Georgia","Segoe UI"`)
	assert.Contains(t, page, "For &lt;whom&gt; it was")
	assert.Contains(t, page, "#86561b #24272b Segoe UI</td>")
	assert.Equal(t, 1, strings.Count(strings.ToLower(page), "#86561b"), "none of the service's own colours is left")

	mail := string(in(t, look, "html-mail", tb))
	assert.Contains(t, mail, "2px solid #112277")
	assert.Contains(t, mail, "'Georgia','Segoe UI'")

	parts := unzip(t, in(t, look, "xlsx", tb))
	assert.Contains(t, parts["xl/styles.xml"], "Georgia")
	assert.Contains(t, parts["xl/worksheets/sheet1.xml"], "Quay House &amp;&amp; &#34;Sons&#34;")
	assert.Contains(t, parts["xl/worksheets/sheet1.xml"], "sent to &amp;&amp;P.", "what stands there orders no number of a page")
	_, has := parts["xl/media/image1.png"]
	assert.True(t, has)
	f := book(t, in(t, look, "xlsx", tb))
	cells, err := f.GetRows("Sailings")
	require.NoError(t, err)
	assert.Equal(t, "Ship", cells[4][0], "the head stands a row lower, below the logo")

	slides := unzip(t, in(t, look, "pptx", tb))
	assert.Contains(t, slides["ppt/theme/theme1.xml"], `<a:accent1><a:srgbClr val="112277"/>`)
	assert.Contains(t, slides["ppt/theme/theme1.xml"], `typeface="Georgia"`)
	assert.Contains(t, slides["ppt/slideLayouts/slideLayout1.xml"], `name="Logo" descr="Tarnwick &amp; Co"`)
	assert.NotEmpty(t, slides["ppt/media/logo.png"])
	assert.Contains(t, slides["ppt/slides/slide2.xml"], "Quay House &amp; &#34;Sons&#34;")

	img, err := png.Decode(bytes.NewReader(in(t, look, "png", tb)))
	require.NoError(t, err)
	red := 0
	for x := range img.Bounds().Dx() {
		for y := range img.Bounds().Dy() {
			if c, ok := color.NRGBAModel.Convert(img.At(x, y)).(color.NRGBA); ok && c.R > 200 && c.G < 60 && c.B < 60 {
				red++
			}
		}
	}
	assert.Greater(t, red, 1000, "the logo")
}

// A house's own typeface writes all of a page, and its texts can be read back.
func TestHouseTypefacesWritePages(t *testing.T) {
	look := dressed(t, func(s *job.HouseStyle) { s.Regular = "typeface" })
	tb := names(append([]string{"Fjord affix"}, tongues...)...)
	needFaces(t, tongues...)
	text := read(t, in(t, look, "pdf", tb))
	for _, w := range append([]string{"Fjord affix", "Quay House", "Page 1 of 1"}, tongues...) {
		assert.Contains(t, text, w)
	}
	for _, format := range []string{"png", "pptx"} {
		in(t, look, format, tb)
	}
}

// What a house says at the foot is there in full, and nothing of the table lies under it.
func TestLongSmallPrintTakesItsRoom(t *testing.T) {
	legal := strings.TrimSpace(strings.Repeat("Sailings may be moved or cancelled for weather or tide. ", 9))
	look := dressed(t, func(s *job.HouseStyle) { s.Legal = legal; s.Logo = "" })
	tb := sailings(120)
	all := pages(t, in(t, look, "pdf", tb))
	require.Greater(t, len(all), 1)
	for _, p := range all {
		assert.Contains(t, strings.Join(strings.Fields(p), " "), legal)
	}
}

func TestSampleShowsAStyleInEveryFormat(t *testing.T) {
	for _, format := range []string{"pdf", "html", "html-mail", "xlsx", "pptx", "png"} {
		var out bytes.Buffer
		_, err := render.Sample(&out, format, dressed(t), nil)
		require.NoError(t, err, format)
		assert.Greater(t, out.Len(), 1000)
	}
}

// Tagged pages, which a browser prints, have the house's own typeface, too.
func TestTaggedPagesHaveTheHousesTypeface(t *testing.T) {
	browser := render.FindBrowser()
	if browser == "" {
		t.Skip("this machine has no browser")
	}
	style, err := render.Read(job.Output{Format: "pdf", Tagged: true})
	require.NoError(t, err)
	style.Look = dressed(t, func(s *job.HouseStyle) { s.Regular, s.Typeface = "typeface", "Courier New" })
	h := head()
	h.Browser = render.Chromium(t.Context(), browser)
	var out bytes.Buffer
	w, err := style.Open(&out, h)
	require.NoError(t, err)
	tb := sailings(2)
	plan, err := shape.Fit(tb.section, job.FormWhole, tb.columns)
	require.NoError(t, err)
	require.NoError(t, w.Begin(plan))
	require.NoError(t, w.End())
	require.NoError(t, w.Close())
	path := filepath.Join(t.TempDir(), "tagged.pdf")
	require.NoError(t, os.WriteFile(path, out.Bytes(), 0o600))
	fonts, err := exec.Command("pdffonts", path).Output()
	require.NoError(t, err)
	assert.Contains(t, string(fonts), "DejaVuSansCondensed", "the file that was uploaded")
	assert.NotContains(t, string(fonts), "Courier")
	text := read(t, out.Bytes())
	assert.Contains(t, text, "Quay House")
}
