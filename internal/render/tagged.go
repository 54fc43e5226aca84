package render

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"time"

	"ironbell/internal/child"
	"ironbell/internal/core/fault"
	"ironbell/internal/core/shape"
	"ironbell/internal/scratch"
)

// Browser prints a page as a PDF with structure (PDF 1.7, 14.8), from one file
// to another.
type Browser func(page, pdf string) error

// FindBrowser looks for Chromium on this machine; it gives an empty path when
// there is none.
func FindBrowser() string {
	for _, name := range []string{"chromium", "chromium-browser", "google-chrome-stable", "google-chrome"} {
		if path, err := exec.LookPath(name); err == nil {
			return path
		}
	}
	return ""
}

// printLimit is how long printing may take.
const printLimit = 2 * time.Minute

// Chromium prints with the browser at path until ctx ends. The pages are our own
// and hold no scripts; the browser is kept from every network all the same.
func Chromium(ctx context.Context, path string) Browser {
	if path == "" {
		return nil
	}
	return func(page, pdf string) error {
		doing := "print the tagged PDF"
		ctx, stop := context.WithTimeout(ctx, printLimit)
		defer stop()
		made, err := scratch.Make("print")
		if err != nil {
			return fault.Wrap(err, fault.Passing, fault.Task, doing,
				"Check that the folder of temporary files is writable.")
		}
		defer made.Remove()
		profile := made.Path
		args := []string{
			"--headless", "--disable-gpu", "--no-first-run", "--disable-background-networking",
			"--disable-component-update", "--disable-sync", "--disable-extensions", "--disable-quic",
			"--host-resolver-rules=MAP * ~NOTFOUND", "--user-data-dir=" + profile, "--no-pdf-header-footer",
			"--print-to-pdf=" + pdf, "file://" + page,
		}
		if os.Geteuid() == 0 {
			// Its own sandbox refuses to work for root; the page is ours.
			args = append([]string{"--no-sandbox"}, args...)
		}
		cmd := exec.Command(path, args...) //nolint:gosec,noctx // the path is the operator's; package child ends it
		var said strings.Builder
		cmd.Stderr = &limited{to: &said, left: 4000}
		c, err := child.Start(cmd, syscall.SIGKILL, nil)
		if err != nil {
			return fault.Wrap(err, fault.Lasting, fault.Task, doing,
				"Check that the browser can be started, or take the tag off this output.")
		}
		select {
		case <-c.Ended():
		case <-ctx.Done():
			c.Stop(syscall.SIGTERM, 2*time.Second, syscall.SIGKILL)
			if errors.Is(ctx.Err(), context.DeadlineExceeded) {
				return fault.New(fault.Task, doing, fmt.Sprintf("the browser took longer than %s", printLimit),
					"Choose the plain PDF, or the summary of the section.")
			}
			return ctx.Err()
		}
		if info, err := os.Stat(pdf); c.Err() != nil || err != nil || info.Size() == 0 {
			last := strings.TrimSpace(said.String())
			if at := strings.LastIndexByte(last, '\n'); at >= 0 {
				last = last[at+1:]
			}
			return fault.New(fault.Task, doing, "the browser printed nothing: "+last,
				"Look into the browser on this node, or take the tag off this output.")
		}
		return nil
	}
}

// limited keeps the first bytes of what is written.
type limited struct {
	to   io.Writer
	left int
}

func (l *limited) Write(p []byte) (int, error) {
	if n := min(l.left, len(p)); n > 0 {
		l.left -= n
		if _, err := l.to.Write(p[:n]); err != nil {
			return 0, err
		}
	}
	return len(p), nil
}

// tagged writes a page and lets the browser print it.
type tagged struct {
	page Writer
	out  io.Writer
	head *Head
	made *scratch.Dir
	dir  string
	file *os.File
	rows int
}

func newTagged(w io.Writer, h *Head, s *Style) (Writer, error) {
	made, err := scratch.Make("page")
	if err != nil {
		return nil,
			fault.Wrap(err, fault.Passing, fault.Task, "write the tagged PDF",
				"Check that the folder of temporary files is writable.")
	}
	t := &tagged{out: w, head: h, made: made, dir: made.Path}
	if t.file, err = os.Create(filepath.Join(made.Path, "page.html")); err == nil {
		t.page, err = newPage(t.file, h, s)
	}
	if err != nil {
		t.Drop()
		return nil, err
	}
	return t, nil
}

func (t *tagged) Begin(p *shape.Plan) error {
	if len(p.Columns) > MaxColumns {
		return tooWide("PDF", len(p.Columns), MaxColumns)
	}
	return t.page.Begin(p)
}

func (t *tagged) Line(line *shape.Line) error {
	if t.rows++; t.rows > MaxTagged {
		return tooMuch("tagged PDF", MaxTagged, "rows",
			"Choose html, xlsx or the plain PDF for this output, or the summary of the section.")
	}
	return t.page.Line(line)
}

func (t *tagged) End() error { return t.page.End() }

func (t *tagged) Close() error {
	defer t.Drop()
	err := t.page.Close()
	if closing := t.file.Close(); err == nil {
		err = closing
	}
	if err != nil {
		return fmt.Errorf("write the page to be printed: %w", err)
	}
	pdf := filepath.Join(t.dir, "page.pdf")
	if err := t.head.Browser(t.file.Name(), pdf); err != nil {
		return err
	}
	in, err := os.Open(pdf) //nolint:gosec // in a folder of our own
	if err != nil {
		return fmt.Errorf("read the printed PDF: %w", err)
	}
	defer func() { _ = in.Close() }() // only read from
	if _, err := io.Copy(t.out, in); err != nil {
		return fmt.Errorf("write the PDF: %w", err)
	}
	return nil
}

// Drop removes what was written on the way; the writer is of no use after it.
func (t *tagged) Drop() {
	t.made.Remove()
}

// Says tells who printed it.
func (t *tagged) Says() []string {
	return []string{"the PDF is tagged; the browser of this node printed it"}
}
