package house

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"image"
	"image/png"
	"io"
	"strings"
	"time"

	"ironbell/internal/aside"
	"ironbell/internal/typeface"

	"golang.org/x/image/draw"
)

// Kinds of files of a house style.
const (
	KindLogo     = "logo"
	KindTypeface = "typeface"
)

// Bounds of what is taken.
const (
	MaxFile    = 4 << 20 // bytes of a file
	maxSVG     = 512 << 10
	mostDots   = 4000 // on a side of a picture
	keptWide   = 1600 // dots of the picture that is kept
	keptHigh   = 600
	weighTime  = 20 * time.Second
	weighRoom  = 768 << 20 // bytes of memory
	mostWeight = 12 << 20  // bytes of what comes of it
)

// Task is the name of what reads a file in a process of its own.
const Task = "weigh"

// Weighed is a file of a house style that was read: what is kept of it, written
// anew, and what it is.
type Weighed struct {
	Kind    string `json:"kind"`
	Data    []byte `json:"data"`
	Width   int    `json:"width,omitempty"`  // of a logo, in dots
	Height  int    `json:"height,omitempty"` // of a logo, in dots
	Family  string `json:"family,omitempty"` // of a typeface
	Bold    bool   `json:"bold,omitempty"`
	Letters int    `json:"letters,omitempty"` // that it has
}

// Examine reads a file aside: a logo as PNG or SVG, a typeface as TrueType or
// OpenType. The error says what is wrong with the file. The program must do
// Weigh aside, by the name Task.
func Examine(ctx context.Context, data []byte) (Weighed, error) {
	var w Weighed
	if len(data) == 0 || len(data) > MaxFile {
		return w, fmt.Errorf("it has %d bytes; a file of a house style has at most %d MB", len(data), MaxFile>>20)
	}
	out, err := aside.Do(ctx, Task, "", data, aside.Bounds{Time: weighTime, Memory: weighRoom, Most: mostWeight})
	if err != nil {
		if strings.Contains(err.Error(), "\n") { // it broke down rather than said what is wrong
			err = errors.New("it cannot be read")
		}
		return w, err //nolint:wrapcheck // it is a sentence for whoever sent the file
	}
	if err := json.Unmarshal(out, &w); err != nil {
		return w, fmt.Errorf("read what was found in it: %w", err)
	}
	return w, nil
}

// Weigh reads a file, whose kind follows from its first bytes.
func Weigh(out io.Writer, _ string, in io.Reader) error {
	data, err := io.ReadAll(io.LimitReader(in, MaxFile+1))
	if err != nil {
		return fmt.Errorf("read it: %w", err)
	}
	var w Weighed
	switch {
	case bytes.HasPrefix(data, []byte("\x89PNG\r\n\x1a\n")):
		w, err = weighPicture(data)
	case bytes.HasPrefix(data, []byte("\x00\x01\x00\x00")), bytes.HasPrefix(data, []byte("true")),
		bytes.HasPrefix(data, []byte("OTTO")):
		w, err = weighTypeface(data)
	case bytes.HasPrefix(data, []byte("ttcf")):
		err = errors.New("it is a collection of typefaces; choose the file of one")
	case bytes.Contains(data[:min(len(data), 4096)], []byte("<svg")):
		w, err = weighDrawing(data)
	default:
		err = errors.New("it is neither a PNG, an SVG nor a TrueType or OpenType typeface")
	}
	if err != nil {
		return err
	}
	return json.NewEncoder(out).Encode(w) //nolint:wrapcheck // nobody reads on
}

func weighTypeface(data []byte) (Weighed, error) {
	facts, err := typeface.Weigh(data)
	if err != nil {
		return Weighed{}, err //nolint:wrapcheck // it is a sentence
	}
	return Weighed{Kind: KindTypeface, Data: data, Family: facts.Family, Bold: facts.Bold, Letters: facts.Letters}, nil
}

func weighPicture(data []byte) (Weighed, error) {
	size, err := png.DecodeConfig(bytes.NewReader(data))
	if err != nil {
		return Weighed{}, fmt.Errorf("the PNG cannot be read: %w", err)
	}
	if size.Width > mostDots || size.Height > mostDots || size.Width == 0 || size.Height == 0 {
		return Weighed{}, fmt.Errorf("the picture is %d by %d dots; a logo has at most %d on a side", size.Width, size.Height,
			mostDots)
	}
	img, err := png.Decode(bytes.NewReader(data))
	if err != nil {
		return Weighed{}, fmt.Errorf("the PNG cannot be read: %w", err)
	}
	return logo(img)
}

// reduced is a logo as mails have it: twice as fine as it stands there.
func reduced(data []byte) ([]byte, error) {
	img, err := png.Decode(bytes.NewReader(data))
	if err != nil {
		return nil, fmt.Errorf("the PNG cannot be read: %w", err)
	}
	w, err := within(img, 2*MailWide, 2*MailHigh)
	return w.Data, err
}

// Room of a logo in a mail, in dots.
const (
	MailWide = 200
	MailHigh = 48
)

// logo writes a picture anew, no larger than is of use.
func logo(img image.Image) (Weighed, error) { return within(img, keptWide, keptHigh) }

func within(img image.Image, wide, high float64) (Weighed, error) {
	size := img.Bounds().Size()
	scale := min(1, wide/float64(size.X), high/float64(size.Y))
	kept := img
	if _, plain := img.(*image.NRGBA); scale < 1 || !plain {
		anew := image.NewNRGBA(image.Rect(0, 0, max(1, int(float64(size.X)*scale)), max(1, int(float64(size.Y)*scale))))
		draw.CatmullRom.Scale(anew, anew.Bounds(), img, img.Bounds(), draw.Src, nil)
		kept = anew
	}
	if opaque, is := img.(*image.RGBA); is && scale == 1 && opaque.Opaque() {
		kept = img // what is written below is read so, and is written the same again
	}
	var out bytes.Buffer
	if err := (&png.Encoder{CompressionLevel: png.BestCompression}).Encode(&out, kept); err != nil {
		return Weighed{}, fmt.Errorf("write the picture anew: %w", err)
	}
	return Weighed{Kind: KindLogo, Data: out.Bytes(), Width: kept.Bounds().Dx(), Height: kept.Bounds().Dy()}, nil
}
