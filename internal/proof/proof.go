// Package proof shows what a file looks like to whoever opens it, as a page of HTML that
// fetches nothing and runs nothing: the pages of a PDF as pictures, the sheets of a workbook,
// the slides of a presentation. It reads the bytes of the file that was made and asks nobody
// what was meant, so that a fault of the file is a fault of its proof.
package proof

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"html"
	"io"
	"os"
	"os/exec"
	"runtime"
	"strings"
	"syscall"
	"time"
)

// Bounds of a proof.
const (
	maxFile     = 12 << 20 // bytes of a file that is read
	maxUnpacked = 96 << 20 // bytes that a file unpacks to
	maxPages    = 12       // pages that are drawn
	maxSlides   = 30
	maxSheets   = 12
	maxRows     = 200 // of a sheet
	maxAcross   = 60  // columns of a sheet
)

// Media types that can be shown, without parameters.
const (
	PDF    = "application/pdf"
	Sheets = "application/vnd.openxmlformats-officedocument.spreadsheetml.sheet"
	Slides = "application/vnd.openxmlformats-officedocument.presentationml.presentation"
)

// ErrTooLarge says that a file is not drawn for its size.
var ErrTooLarge = errors.New("it has more than 12 MB, which are not drawn here; fetch the file to look at it")

// Can tells whether a file of a media type, without its parameters, can be shown.
func Can(mediaType string) bool {
	return mediaType == PDF || mediaType == Sheets || mediaType == Slides
}

// What draws is a process of its own, this same program started once more: a file may need some
// hundred MB while it is read, which go with the process, and one that is never done is ended with it.
const (
	variable = "IRONBELL_PROOF" // says to a process of ours what it is to draw
	// drawLimit is for the first time on a machine, when what draws pages is compiled and kept.
	drawLimit = 45 * time.Second
	maxProof  = 64 << 20 // bytes of HTML
	maxWords  = 2000     // bytes of what it says when it fails
)

// drawing is whose turn it is to draw: two at once.
var drawing = make(chan struct{}, 2)

// Main draws a file when this process was started for it, and then never returns. Of every
// other process it returns at once.
func Main() {
	kind, ok := os.LookupEnv(variable)
	if !ok {
		return
	}
	if err := draw(os.Stdout, kind, os.Stdin); err != nil {
		fmt.Fprint(os.Stderr, err)
		os.Exit(1)
	}
	os.Exit(0)
}

// Write writes the proof of a file as a page of HTML. It writes nothing when it fails:
// the file may be too large (ErrTooLarge), broken, or the context at its end. Several may draw
// at once; more than two wait for their turn.
func Write(ctx context.Context, w io.Writer, mediaType string, file io.Reader) error {
	data, err := io.ReadAll(io.LimitReader(file, maxFile+1))
	if err != nil {
		return fmt.Errorf("read the file: %w", err)
	}
	if len(data) > maxFile {
		return ErrTooLarge
	}
	select {
	case drawing <- struct{}{}:
		defer func() { <-drawing }()
	case <-ctx.Done():
		return context.Cause(ctx)
	}
	self, err := os.Executable()
	if err != nil {
		return fmt.Errorf("find this program, to draw the file: %w", err)
	}
	ctx, cancel := context.WithTimeoutCause(ctx, drawLimit, errors.New("it was not drawn within 45 seconds"))
	defer cancel()
	cmd := exec.CommandContext(ctx, self) //nolint:gosec // this program itself
	cmd.Env = []string{variable + "=" + mediaType}
	for _, v := range []string{"HOME", "XDG_CACHE_HOME", "CACHE_DIRECTORY", "TMPDIR"} {
		if value := os.Getenv(v); value != "" {
			cmd.Env = append(cmd.Env, v+"="+value)
		}
	}
	drawn, said := bounded{most: maxProof}, bounded{most: maxWords}
	cmd.Stdin, cmd.Stdout, cmd.Stderr = bytes.NewReader(data), &drawn, &said
	cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true, Pdeathsig: syscall.SIGKILL}
	if err := run(cmd); err != nil {
		if ctx.Err() != nil {
			return context.Cause(ctx)
		}
		if said.Len() > 0 {
			return errors.New(strings.ToValidUTF8(said.String(), "?"))
		}
		return fmt.Errorf("draw the file: %w", err)
	}
	if drawn.cut {
		return ErrTooLarge
	}
	if _, err := w.Write(drawn.Bytes()); err != nil {
		return fmt.Errorf("write a proof: %w", err)
	}
	return nil
}

// run runs a process to its end. The signal that ends it with us is tied to the thread that
// started it, so the thread stays for as long.
func run(cmd *exec.Cmd) error {
	runtime.LockOSThread()
	defer runtime.UnlockOSThread()
	return cmd.Run() //nolint:wrapcheck // by its caller
}

// bounded keeps the beginning of what is written to it.
type bounded struct {
	bytes.Buffer
	most int
	cut  bool
}

func (b *bounded) Write(p []byte) (int, error) {
	if b.Len()+len(p) > b.most {
		b.cut = true
		_, _ = b.Buffer.Write(p[:b.most-b.Len()]) // a buffer takes everything
		return len(p), nil
	}
	return b.Buffer.Write(p) //nolint:wrapcheck // a buffer takes everything
}

// draw draws a file of a media type.
func draw(w io.Writer, mediaType string, file io.Reader) error {
	data, err := io.ReadAll(file)
	if err != nil {
		return fmt.Errorf("read the file: %w", err)
	}
	var out strings.Builder
	switch mediaType {
	case PDF:
		err = pages(&out, data)
	case Sheets:
		err = sheets(&out, data)
	case Slides:
		err = slides(&out, data)
	default:
		err = fmt.Errorf("files of the type %q cannot be drawn", mediaType)
	}
	if err != nil {
		return err
	}
	_, err = io.WriteString(w, out.String())
	return err //nolint:wrapcheck // nobody reads on
}

// begin is the head of a proof; style is its own.
func begin(out *strings.Builder, style string) {
	out.WriteString(`<!doctype html><html lang="en"><meta charset="utf-8"><title>Proof</title><style>` +
		`*{box-sizing:border-box}body{margin:0;font:13px/1.4 "Source Sans 3",sans-serif;color:#24272b;background:#efe9dd}` +
		`.note{margin:0;padding:6px 10px;color:#5d6167}` + style + `</style>`)
}

// note is a sentence beside what is shown.
func note(out *strings.Builder, format string, args ...any) {
	out.WriteString(`<p class="note">` + html.EscapeString(fmt.Sprintf(format, args...)) + `</p>`)
}
