package proof

import (
	"bytes"
	"context"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"image/png"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"time"

	"github.com/klippa-app/go-pdfium"
	"github.com/klippa-app/go-pdfium/references"
	"github.com/klippa-app/go-pdfium/requests"
	"github.com/klippa-app/go-pdfium/webassembly"
	"github.com/tetratelabs/wazero"
	"github.com/tetratelabs/wazero/api"
	"github.com/tetratelabs/wazero/experimental"
)

// Pages are drawn by a process of their own, this same program started once more: what
// draws them needs some hundred MB when it is first made ready and 60 MB afterwards, which
// go with it, and a page that never ends is ended with it.
const (
	variable = "IRONBELL_PROOF" // says to a process of ours that it draws pages
	dots     = 110              // to the inch
	// drawLimit is for the first time on a machine, when what draws is compiled and kept.
	drawLimit = 45 * time.Second
	// drawMemory is how many pages of 64 KiB what draws may have: 512 MiB.
	drawMemory = 8192
)

// drawing is whose turn it is to draw: two at once.
var drawing = make(chan struct{}, 2)

// drawn is what the drawing process says, in JSON: first how many pages there are, then
// each that it drew.
type drawn struct {
	Pages int    `json:"pages,omitempty"`
	PNG   []byte `json:"png,omitempty"`
	Wrong string `json:"wrong,omitempty"`
}

// Main draws pages when this process was started for it, and then never returns. Of every
// other process it returns at once.
func Main() {
	if _, ok := os.LookupEnv(variable); !ok {
		return
	}
	say := json.NewEncoder(os.Stdout)
	if err := draw(os.Stdin, say); err != nil {
		_ = say.Encode(drawn{Wrong: err.Error()}) // who asked is gone when it cannot be said
		os.Exit(1)
	}
	os.Exit(0)
}

// pages asks a process of its own for the pages of a PDF.
func pages(ctx context.Context, out *strings.Builder, data []byte) error {
	select {
	case drawing <- struct{}{}:
		defer func() { <-drawing }()
	case <-ctx.Done():
		return context.Cause(ctx)
	}
	self, err := os.Executable()
	if err != nil {
		return fmt.Errorf("find this program, to draw pages: %w", err)
	}
	ctx, cancel := context.WithTimeoutCause(ctx, drawLimit, errors.New("it was not drawn within 45 seconds"))
	defer cancel()
	cmd := exec.CommandContext(ctx, self) //nolint:gosec // this program itself
	cmd.Env = []string{variable + "=pages"}
	for _, v := range []string{"HOME", "XDG_CACHE_HOME", "CACHE_DIRECTORY"} {
		cmd.Env = append(cmd.Env, v+"="+os.Getenv(v))
	}
	cmd.Stdin = bytes.NewReader(data)
	cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true, Pdeathsig: syscall.SIGKILL}
	from, err := cmd.StdoutPipe()
	if err == nil {
		err = cmd.Start()
	}
	if err != nil {
		return fmt.Errorf("start what draws pages: %w", err)
	}
	read := readPages(out, from)
	_, _ = io.Copy(io.Discard, from) // so that it can end
	err = cmd.Wait()
	switch {
	case ctx.Err() != nil:
		return context.Cause(ctx)
	case read != nil:
		return read
	case err != nil:
		return fmt.Errorf("draw the pages: %w", err)
	}
	return nil
}

// readPages writes what the drawing process says.
func readPages(out *strings.Builder, from io.Reader) error {
	begin(out, `img{display:block;width:calc(100% - 20px);margin:10px;background:#fff;box-shadow:0 1px 6px #0003}`)
	said := json.NewDecoder(from)
	all, shown := 0, 0
	for {
		var d drawn
		switch err := said.Decode(&d); {
		case errors.Is(err, io.EOF) && shown > 0:
			if shown < all {
				note(out, "The first %d of %d pages; fetch the file for the others.", shown, all)
			}
			return nil
		case errors.Is(err, io.EOF):
			return errors.New("what draws pages ended without a word")
		case err != nil:
			return fmt.Errorf("read what draws pages: %w", err)
		case d.Wrong != "":
			return errors.New(d.Wrong)
		case d.PNG == nil:
			all = d.Pages
		default:
			shown++
			fmt.Fprintf(out, `<img alt="Page %d of %d" src="data:image/png;base64,%s">`, shown, all,
				base64.StdEncoding.EncodeToString(d.PNG))
		}
	}
}

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

// draw draws the pages of the PDF that it reads.
func draw(from io.Reader, say *json.Encoder) error {
	data, err := io.ReadAll(from)
	if err != nil {
		return fmt.Errorf("read the file: %w", err)
	}
	pool, err := webassembly.Init(webassembly.Config{MaxIdle: 1, MaxTotal: 1, RuntimeConfig: compiled()})
	if err != nil {
		return fmt.Errorf("prepare what draws pages: %w", err)
	}
	one, err := pool.GetInstance(drawLimit)
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
	if err := say.Encode(drawn{Pages: count.PageCount}); err != nil {
		return fmt.Errorf("hand over the pages: %w", err)
	}
	for i := range min(count.PageCount, maxPages) {
		if err := drawPage(one, doc.Document, i, say); err != nil {
			return fmt.Errorf("draw page %d: %w", i+1, err)
		}
	}
	return nil
}

func drawPage(one pdfium.Pdfium, doc references.FPDF_DOCUMENT, i int, say *json.Encoder) error {
	made, err := one.RenderPageInDPI(&requests.RenderPageInDPI{
		DPI: dots, Page: requests.Page{ByIndex: &requests.PageByIndex{Document: doc, Index: i}},
	})
	if err != nil {
		return err //nolint:wrapcheck // by its caller
	}
	defer made.Cleanup()
	var picture bytes.Buffer
	if err := (&png.Encoder{CompressionLevel: png.BestSpeed}).Encode(&picture, made.Result.RenderedImage); err != nil {
		return err //nolint:wrapcheck // by its caller
	}
	return say.Encode(drawn{PNG: picture.Bytes()}) //nolint:wrapcheck // by its caller
}
