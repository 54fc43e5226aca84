package proof

import (
	"bytes"
	"encoding/base64"
	"fmt"
	"image/png"
	"os"
	"path/filepath"
	"strings"

	"github.com/klippa-app/go-pdfium"
	"github.com/klippa-app/go-pdfium/references"
	"github.com/klippa-app/go-pdfium/requests"
	"github.com/klippa-app/go-pdfium/webassembly"
	"github.com/tetratelabs/wazero"
	"github.com/tetratelabs/wazero/api"
	"github.com/tetratelabs/wazero/experimental"
)

const (
	dots = 110 // to the inch
	// drawMemory is how many pages of 64 KiB what draws may have: 512 MiB.
	drawMemory = 8192
)

// compiled is where what draws is kept once it is compiled, so that it is made ready in a
// fifth of a second; without such a folder it takes some seconds each time.
func compiled() wazero.RuntimeConfig {
	config := wazero.NewRuntimeConfig().WithMemoryLimitPages(drawMemory).
		WithCoreFeatures(api.CoreFeaturesV2 | experimental.CoreFeaturesExceptionHandling)
	folder, _, _ := strings.Cut(os.Getenv("CACHE_DIRECTORY"), ":") // as systemd gives it
	if folder == "" {
		home, err := os.UserCacheDir()
		if err != nil {
			return config
		}
		folder = filepath.Join(home, "ironbell")
	}
	cache, err := wazero.NewCompilationCacheWithDir(filepath.Join(folder, "pages"))
	if err != nil {
		return config
	}
	return config.WithCompilationCache(cache)
}

// pages shows the first pages of a PDF as pictures.
func pages(out *strings.Builder, data []byte) error {
	pool, err := webassembly.Init(webassembly.Config{MaxIdle: 1, MaxTotal: 1, RuntimeConfig: compiled()})
	if err != nil {
		return fmt.Errorf("prepare what draws pages: %w", err)
	}
	one, err := pool.GetInstance(bounds.Time)
	if err != nil {
		return fmt.Errorf("prepare what draws pages: %w", err)
	}
	doc, err := one.OpenDocument(&requests.OpenDocument{File: &data})
	if err != nil {
		return fmt.Errorf("it is no PDF that can be read: %w", err)
	}
	count, err := one.FPDF_GetPageCount(&requests.FPDF_GetPageCount{Document: doc.Document})
	if err != nil {
		return fmt.Errorf("count the pages: %w", err)
	}
	all := count.PageCount
	begin(out, `img{display:block;width:calc(100% - 20px);margin:10px;background:#fff;box-shadow:0 1px 6px #0003}`)
	for i := range min(all, maxPages) {
		picture, err := drawPage(one, doc.Document, i)
		if err != nil {
			return fmt.Errorf("draw page %d: %w", i+1, err)
		}
		fmt.Fprintf(out, `<img alt="Page %d of %d" src="data:image/png;base64,%s">`, i+1, all,
			base64.StdEncoding.EncodeToString(picture))
	}
	if all > maxPages {
		note(out, "The first %d of %d pages; fetch the file for the others.", maxPages, all)
	}
	return nil
}

// drawPage draws one page, counted from 0, as a PNG.
func drawPage(one pdfium.Pdfium, doc references.FPDF_DOCUMENT, i int) ([]byte, error) {
	made, err := one.RenderPageInDPI(&requests.RenderPageInDPI{
		DPI: dots, Page: requests.Page{ByIndex: &requests.PageByIndex{Document: doc, Index: i}},
	})
	if err != nil {
		return nil, err //nolint:wrapcheck // by its caller
	}
	defer made.Cleanup()
	var picture bytes.Buffer
	err = (&png.Encoder{CompressionLevel: png.BestSpeed}).Encode(&picture, made.Result.RenderedImage)
	return picture.Bytes(), err //nolint:wrapcheck // by its caller
}
