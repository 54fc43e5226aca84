package render_test

import (
	"bytes"
	"fmt"
	"image"
	"image/png"
	"os"
	"os/exec"
	"path/filepath"
	"testing"

	"ironbell/internal/core/job"
	"ironbell/internal/core/rows"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// Pages are compared with kept pictures of them. Another program that draws them, or another version of it, sets the
// edges of letters otherwise; so the pictures are compared by the mean of small squares, each with those around it in the
// kept picture. IRONBELL_KEEP_PAGES=1 keeps the pictures of today, to be looked at and committed.
const (
	squareDots  = 5
	allowedDiff = 22     // of 255, beyond what the squares around have
	allowedFar  = 0.0005 // share of squares that may differ more
)

// squares are the means of a picture's squares, from 0 for black to 255.
func squares(img image.Image) (out [][]float64) {
	b := img.Bounds()
	for y := b.Min.Y; y+squareDots <= b.Max.Y; y += squareDots {
		var row []float64
		for x := b.Min.X; x+squareDots <= b.Max.X; x += squareDots {
			sum := 0.0
			for dy := range squareDots {
				for dx := range squareDots {
					r, g, bl, _ := img.At(x+dx, y+dy).RGBA()
					sum += float64(r+g+bl) / 3 / 257
				}
			}
			row = append(row, sum/squareDots/squareDots)
		}
		out = append(out, row)
	}
	return out
}

// unlike is the share of squares of a picture that no square around the same place of the kept one comes near.
func unlike(got, kept image.Image) float64 {
	a, b := squares(got), squares(kept)
	if len(a) != len(b) || len(a) == 0 || len(a[0]) != len(b[0]) {
		return 1
	}
	far, all := 0, 0
	for y := range a {
		for x := range a[y] {
			low, high := 255.0, 0.0
			for dy := max(y-1, 0); dy <= min(y+1, len(b)-1); dy++ {
				for dx := max(x-1, 0); dx <= min(x+1, len(b[y])-1); dx++ {
					low, high = min(low, b[dy][dx]), max(high, b[dy][dx])
				}
			}
			if all++; a[y][x] < low-allowedDiff || a[y][x] > high+allowedDiff {
				far++
			}
		}
	}
	return float64(far) / float64(all)
}

// pictureOf is a page of a PDF as a picture.
func pictureOf(t *testing.T, out []byte, page int) image.Image {
	t.Helper()
	dir := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(dir, "in.pdf"), out, 0o600))
	n := fmt.Sprint(page)
	said, err := exec.Command("pdftoppm", "-r", "60", "-gray", "-png", "-singlefile", "-f", n, "-l", n, filepath.Join(dir, "in.pdf"),
		filepath.Join(dir, "page")).CombinedOutput()
	require.NoError(t, err, "%s", said)
	data, err := os.ReadFile(filepath.Join(dir, "page.png"))
	require.NoError(t, err)
	img, err := png.Decode(bytes.NewReader(data))
	require.NoError(t, err)
	return img
}

func TestPagesLookAsTheyDid(t *testing.T) {
	chart := sailings(12)
	chart.section = job.Section{
		Name: "Passengers", Kind: job.SectionChart,
		Chart: &job.Chart{Form: job.ChartBar, Along: "Day", Series: []string{"Passengers"}, Patterns: true, ValueTitle: "Passengers"},
	}
	chart.columns = []rows.Column{{Name: "Day", Kind: rows.Text}, {Name: "Passengers", Kind: rows.Whole}}
	for i := range chart.rows {
		chart.rows[i] = row(fmt.Sprintf("Day %d", i+1), fmt.Sprint(100+37*(i%5)))
	}
	figures := table{
		section: job.Section{Name: "The week", Kind: job.SectionFigures},
		columns: []rows.Column{{Name: "Sailings", Kind: rows.Whole}, {Name: "Passengers", Kind: rows.Whole}}, rows: []rows.Row{row("560", "18240")},
	}
	grid := job.Output{Format: "pdf", Page: &job.Page{OnePage: true, Grid: true}}
	for name, out := range map[string][]byte{
		"rows": made(t, job.Output{Format: "pdf"}, sailings(25)), "chart": made(t, job.Output{Format: "pdf"}, chart),
		"grid": made(t, grid, figures, chart, chart, sailings(6), sailings(4)), "house": in(t, dressed(t), "pdf", sailings(25)),
		"german": made(t, job.Output{Format: "pdf", Locale: "de"}, sailings(8)),
	} {
		img := pictureOf(t, out, 1)
		path := filepath.Join("testdata", "pages", name+".png")
		if os.Getenv("IRONBELL_KEEP_PAGES") != "" {
			var kept bytes.Buffer
			require.NoError(t, png.Encode(&kept, img))
			require.NoError(t, os.MkdirAll(filepath.Dir(path), 0o750))
			require.NoError(t, os.WriteFile(path, kept.Bytes(), 0o600))
			continue
		}
		data, err := os.ReadFile(path)
		require.NoError(t, err)
		kept, err := png.Decode(bytes.NewReader(data))
		require.NoError(t, err)
		assert.Less(t, unlike(img, kept), allowedFar, "%s looks otherwise than in %s; look at it, and keep it if it is right", name, path)
	}
	// The measure sees a row that is missing, and no other edge of a letter.
	one, less := pictureOf(t, made(t, job.Output{Format: "pdf"}, sailings(25)), 1), pictureOf(t, made(t, job.Output{Format: "pdf"}, sailings(24)), 1)
	assert.Greater(t, unlike(less, one)+unlike(one, less), allowedFar)
	assert.Less(t, unlike(shifted(one), one), allowedFar)
}

// shifted is a picture with each dot mixed with the next, as another program may draw its edges.
func shifted(img image.Image) image.Image {
	out := image.NewGray(img.Bounds())
	for y := img.Bounds().Min.Y; y < img.Bounds().Max.Y; y++ {
		for x := img.Bounds().Min.X; x < img.Bounds().Max.X; x++ {
			r, _, _, _ := img.At(x, y).RGBA()
			next, _, _, _ := img.At(min(x+1, img.Bounds().Max.X-1), y).RGBA()
			out.Pix[out.PixOffset(x, y)] = uint8((r + next) / 2 >> 8)
		}
	}
	return out
}
