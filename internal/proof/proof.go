// Package proof shows what a file looks like to whoever opens it, as a page of HTML that
// fetches nothing and runs nothing: the pages of a PDF as pictures, the sheets of a workbook,
// the slides of a presentation. It reads the bytes of the file that was made and asks nobody
// what was meant, so that a fault of the file is a fault of its proof.
package proof

import (
	"context"
	"errors"
	"fmt"
	"html"
	"io"
	"strings"
	"time"

	"ironbell/internal/aside"
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

// Task is the name of what draws a file in a process of its own: a file may need some
// hundred MB while it is read.
const Task = "proof"

// bounds hold for one file. The time is for the first on a machine, when what draws
// pages is compiled and kept in a file.
var bounds = aside.Bounds{Time: 45 * time.Second, Most: 64 << 20, Files: true}

// drawing is whose turn it is to draw: two at once.
var drawing = make(chan struct{}, 2)

// Write writes the proof of a file as a page of HTML. It writes nothing when it fails:
// the file may be too large (ErrTooLarge), broken, or the context at its end. Several may draw
// at once; more than two wait for their turn. The program must do Draw aside, by the name Task.
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
	drawn, err := aside.Do(ctx, Task, mediaType, data, bounds)
	if errors.Is(err, aside.ErrTooMuch) {
		return ErrTooLarge
	}
	if err != nil {
		return err //nolint:wrapcheck // it says itself what was not done
	}
	if _, err := w.Write(drawn); err != nil {
		return fmt.Errorf("write a proof: %w", err)
	}
	return nil
}

// Draw draws a file of a media type.
func Draw(w io.Writer, mediaType string, file io.Reader) error {
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
