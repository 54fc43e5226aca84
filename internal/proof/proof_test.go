package proof_test

import (
	"archive/zip"
	"bytes"
	"context"
	"encoding/base64"
	"fmt"
	"image/color"
	"image/png"
	"os"
	"regexp"
	"strings"
	"testing"
	"time"

	"ironbell/internal/aside"
	"ironbell/internal/core/job"
	"ironbell/internal/core/rows"
	"ironbell/internal/core/shape"
	"ironbell/internal/proof"
	"ironbell/internal/render"

	"codeberg.org/go-pdf/fpdf"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"github.com/xuri/excelize/v2"
	"golang.org/x/net/html"
)

// Files are drawn by this program started once more.
func TestMain(m *testing.M) {
	aside.Main(map[string]aside.Task{proof.Task: proof.Draw})
	os.Exit(m.Run())
}

func shown(t *testing.T, kind string, file []byte) string {
	t.Helper()
	var out bytes.Buffer
	require.NoError(t, proof.Write(context.Background(), &out, kind, bytes.NewReader(file)))
	_, err := html.Parse(strings.NewReader(out.String()))
	require.NoError(t, err)
	assert.NotContains(t, out.String(), "<script")
	assert.NotContains(t, out.String(), "http", "nothing is fetched")
	return out.String()
}

func pdf(t *testing.T, pages int) []byte {
	t.Helper()
	p := fpdf.New("P", "mm", "A4", "")
	for i := range pages {
		p.AddPage()
		p.SetFillColor(200, 10+i, 30)
		p.Rect(0, 0, 105, 148, "F") // the upper left quarter
	}
	var out bytes.Buffer
	require.NoError(t, p.Output(&out))
	return out.Bytes()
}

func TestPagesAreDrawnAsTheyAre(t *testing.T) {
	page := shown(t, proof.PDF, pdf(t, 14))
	pictures := regexp.MustCompile(`<img alt="Page (\d+) of 14" src="data:image/png;base64,([^"]+)">`).
		FindAllStringSubmatch(page, -1)
	require.Len(t, pictures, 12)
	assert.Contains(t, page, "The first 12 of 14 pages")
	for i, p := range pictures {
		assert.Equal(t, fmt.Sprint(i+1), p[1])
		data, err := base64.StdEncoding.DecodeString(p[2])
		require.NoError(t, err)
		drawn, err := png.Decode(bytes.NewReader(data))
		require.NoError(t, err)
		wide, high := drawn.Bounds().Dx(), drawn.Bounds().Dy()
		assert.InDelta(t, 297.0/210, float64(high)/float64(wide), 0.01, "A4")
		at := func(x, y int) color.RGBA { return color.RGBAModel.Convert(drawn.At(x, y)).(color.RGBA) }
		assert.Equal(t, color.RGBA{200, uint8(10 + i), 30, 255}, at(wide/4, high/4))
		assert.Equal(t, color.RGBA{255, 255, 255, 255}, at(3*wide/4, 3*high/4))
	}
}

func TestSheetsAreShownAsASpreadsheetShowsThem(t *testing.T) {
	f := excelize.NewFile()
	require.NoError(t, f.SetSheetName("Sheet1", "By <route>"))
	form := "0.0%"
	bold, err := f.NewStyle(&excelize.Style{
		CustomNumFmt: &form, Font: &excelize.Font{Bold: true, Color: "A8321A"},
		Fill: excelize.Fill{Type: "pattern", Pattern: 1, Color: []string{"E5DDCD"}},
	})
	require.NoError(t, err)
	require.NoError(t, f.SetCellValue("By <route>", "A1", `<b>Grey Skerry</b> & "Pier"`))
	require.NoError(t, f.SetCellValue("By <route>", "B1", 0.7936))
	require.NoError(t, f.SetCellStyle("By <route>", "B1", "B1", bold))
	require.NoError(t, f.SetColWidth("By <route>", "B", "B", 20))
	_, err = f.NewSheet("Long")
	require.NoError(t, err)
	for i := 1; i <= 250; i++ {
		require.NoError(t, f.SetCellValue("Long", fmt.Sprintf("A%d", i), i))
	}
	_, err = f.NewSheet("Hidden")
	require.NoError(t, err)
	require.NoError(t, f.SetCellValue("Hidden", "A1", "crown jewels"))
	require.NoError(t, f.SetSheetVisible("Hidden", false))
	var out bytes.Buffer
	require.NoError(t, f.Write(&out))

	page := shown(t, proof.Sheets, out.Bytes())
	assert.Contains(t, page, `&lt;b&gt;Grey Skerry&lt;/b&gt; &amp; &#34;Pier&#34;`)
	assert.Contains(t, page, `text-align:right;font-weight:600;color:#A8321A;`)
	assert.Contains(t, page, `background:#E5DDCD;">79.4%</td>`)
	assert.Contains(t, page, `width:145px`)
	assert.Contains(t, page, `<table style="width:249px">`, "columns are as wide as the file says")
	assert.Contains(t, page, "The first 200 rows")
	assert.NotContains(t, page, "crown jewels")
	assert.Contains(t, page, `By &lt;route&gt;</span></label>`)
}

func TestSlidesAreShownWhereThingsStand(t *testing.T) {
	style, err := render.Read(job.Output{Format: "pptx"})
	require.NoError(t, err)
	var out bytes.Buffer
	w, err := style.Format.New(&out, &render.Head{
		Report: "Load", Title: "Load <by port>", AsOf: time.Date(2026, 11, 23, 8, 15, 0, 0, time.UTC), Zone: time.UTC,
	}, style)
	require.NoError(t, err)
	plan, err := shape.Fit(job.Section{Name: "Ports", Title: "By port"}, job.FormDetail,
		[]rows.Column{{Name: "Port", Kind: rows.Text}, {Name: "Cars", Kind: rows.Whole}})
	require.NoError(t, err)
	s, err := shape.NewShaper(plan, []shape.Sink{w}, nil)
	require.NoError(t, err)
	for i := range 20 { // more than one slide holds
		require.NoError(t, s.Row(rows.Row{{Text: []byte("Fennmouth")}, {Text: fmt.Appendf(nil, "%d", 1000+i)}}))
	}
	_, err = s.End()
	require.NoError(t, err)
	require.NoError(t, w.Close())

	page := shown(t, proof.Slides, out.Bytes())
	assert.Equal(t, 3, strings.Count(page, `class="slide"`), "title, table, table")
	assert.Contains(t, page, "Load &lt;by port&gt;")
	assert.Contains(t, page, "left:5.000%;top:6.124%;width:90.000%", "the title stands where the file puts it")
	assert.Equal(t, 20, strings.Count(page, ">Fennmouth</span>"))
	assert.Contains(t, page, ">1,019</span>")
}

func TestWhatCannotBeDrawnIsSaid(t *testing.T) {
	large := bytes.Repeat([]byte("x"), 13<<20)
	ctx, end := context.WithCancel(context.Background())
	end()
	for _, one := range []struct {
		name, kind string
		ctx        context.Context //nolint:containedctx // of a case
		file       []byte
		says       string
	}{
		{"no PDF", proof.PDF, nil, []byte("%PDF-1.7 and then nothing"), "it is no PDF that can be read"},
		{"nothing", proof.PDF, nil, nil, "it is no PDF that can be read"},
		{"no workbook", proof.Sheets, nil, []byte("PK"), "it is no workbook that can be read"},
		{"no presentation", proof.Slides, nil, []byte("PK"), "it is no presentation that can be read"},
		{"a PDF that is cut", proof.PDF, nil, pdf(t, 2)[:200], "it is no PDF that can be read"},
		{"large", proof.PDF, nil, large, "more than 12 MB"},
		{"another type", "text/plain", nil, []byte("x"), "cannot be drawn"},
		{"a workbook that unpacks to more than is read", proof.Sheets, nil, bomb(t), "no workbook that can be read"},
		{"nobody waits", proof.PDF, ctx, pdf(t, 1), context.Canceled.Error()},
	} {
		t.Run(one.name, func(t *testing.T) {
			if one.ctx == nil {
				one.ctx = context.Background()
			}
			var out bytes.Buffer
			err := proof.Write(one.ctx, &out, one.kind, bytes.NewReader(one.file))
			require.ErrorContains(t, err, one.says)
			assert.Empty(t, out.String())
		})
	}
}

// bomb is a small workbook with a sheet that unpacks to 200 MB.
func bomb(t *testing.T) []byte {
	t.Helper()
	f := excelize.NewFile()
	var plain bytes.Buffer
	require.NoError(t, f.Write(&plain))
	from, err := zip.NewReader(bytes.NewReader(plain.Bytes()), int64(plain.Len()))
	require.NoError(t, err)
	var out bytes.Buffer
	to := zip.NewWriter(&out)
	for _, part := range from.File {
		require.NoError(t, to.Copy(part))
	}
	w, err := to.Create("xl/worksheets/sheet2.xml")
	require.NoError(t, err)
	blanks := bytes.Repeat([]byte(" "), 1<<20)
	for range 200 {
		_, err = w.Write(blanks)
		require.NoError(t, err)
	}
	require.NoError(t, to.Close())
	return out.Bytes()
}
