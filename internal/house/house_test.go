package house_test

import (
	"bytes"
	"context"
	"fmt"
	"image"
	"image/color"
	"image/png"
	"os"
	"strings"
	"testing"

	"ironbell/internal/aside"
	"ironbell/internal/core/job"
	"ironbell/internal/house"
	"ironbell/internal/typeface"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// Files are read by this program started once more.
func TestMain(m *testing.M) {
	aside.Main(map[string]aside.Task{house.Task: house.Weigh})
	os.Exit(m.Run())
}

const drawing = `<svg xmlns="http://www.w3.org/2000/svg" viewBox="0 0 200 60"><title>Mark</title>
<g transform="translate(4 4)"><circle cx="26" cy="26" r="24" fill="#14507a"/>
<path d="M8 30 Q26 10 44 30" stroke="#ffffff" stroke-width="4" fill="none"/></g>
<text x="64" y="38" font-size="22" font-weight="bold" style="fill:#14507a;opacity:1">Fjord <tspan>&amp; Quay</tspan></text></svg>`

func examine(data string) (house.Weighed, error) {
	return house.Examine(context.Background(), []byte(data))
}

func TestDrawingsAreWrittenAnewAsPictures(t *testing.T) {
	w, err := examine(drawing)
	require.NoError(t, err)
	assert.Equal(t, house.KindLogo, w.Kind)
	img, err := png.Decode(bytes.NewReader(w.Data))
	require.NoError(t, err)
	assert.Equal(t, image.Pt(w.Width, w.Height), img.Bounds().Size())
	scale := float64(w.Width) / 200
	at := func(x, y float64) color.Color { return img.At(int(x*scale), int(y*scale)) }
	r, g, b, a := at(30, 48).RGBA()
	assert.Equal(t, [4]uint32{0x14, 0x50, 0x7a, 0xff}, [4]uint32{r >> 8, g >> 8, b >> 8, a >> 8}, "the circle")
	_, _, _, a = at(190, 4).RGBA()
	assert.Zero(t, a, "the ground is clear")
	inked := 0
	for x := 64.0; x < 190; x += 0.5 {
		if _, _, _, a := at(x, 32).RGBA(); a > 0x8000 {
			inked++
		}
	}
	assert.Greater(t, inked, 40, "the text")
}

func TestDrawingsThatReachOutAreRefused(t *testing.T) {
	in := func(inner string) string {
		return `<svg xmlns="http://www.w3.org/2000/svg" xmlns:xlink="http://www.w3.org/1999/xlink" viewBox="0 0 9 9">` + inner +
			`<rect width="5" height="5"/></svg>`
	}
	for inner, says := range map[string]string{
		`<script>alert(1)</script>`:                                   `an element "script"`,
		`<image xlink:href="http://tarnwick.example/a.png"/>`:         `an element "image"`,
		`<foreignObject><p>a</p></foreignObject>`:                     `an element "foreignObject"`,
		`<use xlink:href="#a"/>`:                                      `an element "use"`,
		`<style>@import url(http://tarnwick.example/a.css)</style>`:   `an element "style"`,
		`<rect width="1" height="1" onload="alert(1)"/>`:              `an attribute "onload"`,
		`<g xlink:href="file:///etc/passwd"/>`:                        `an attribute "href"`,
		`<rect width="1" height="1" fill="url(http://a.example/b)"/>`: `fetches nothing`,
		`<rect width="1" height="1" style="fill:URL(file:///b)"/>`:    `fetches nothing`,
		`<g xlink:href="#a"/>`:                                        "from another place of itself",
		`<text x="1" y="2">渡</text>`:                                  `turn its letters into paths`,
		`<g>` + strings.Repeat("<g>", 60):                             `within each other`,
		`<rect`:                                                       `cannot be read`,
	} {
		_, err := examine(in(inner))
		assert.ErrorContains(t, err, says, inner)
	}
	for data, says := range map[string]string{
		"":            "has 0 bytes",
		"GIF89a":      "neither a PNG, an SVG",
		"ttcf\x00":    "collection of typefaces",
		"<svg></svg>": "neither its viewBox nor",
		`<!DOCTYPE svg [<!ENTITY a "b">]><svg viewBox="0 0 1 1">&a;</svg>`: "document type",
		`<html><svg viewBox="0 0 1 1"></svg></html>`:                       "it is no SVG",
		`<svg viewBox="0 0 10 10"></svg>`:                                  "draws nothing",
		`<svg viewBox="0 0 1e9 1"><rect width="1" height="1"/></svg>`:      "neither its viewBox nor",
		"\x89PNG\r\n\x1a\nbroken":                                          "PNG cannot be read",
		"\x00\x01\x00\x00broken":                                           "typeface cannot be read",
		"OTTO\x00\x01":                                                     "typeface cannot be read",
		strings.Repeat(" ", house.MaxFile+1):                               "at most 4 MB",
	} {
		_, err := examine(data)
		assert.ErrorContains(t, err, says, fmt.Sprintf("%.60q", data))
	}
}

// What a drawing program notes for itself draws nothing, and is left out.
func TestNotesOfDrawingProgramsAreLeftOut(t *testing.T) {
	w, err := examine(`<?xml version="1.0"?><!-- made by hand --><svg xmlns="http://www.w3.org/2000/svg" xmlns:n="http://notes.example/1"
 viewBox="0 0 30 10" n:version="1.2" class="a" data-x="y" xml:space="preserve"><n:view zoom="2"><n:grid/></n:view><metadata><a/></metadata>
<defs><linearGradient id="g"><stop offset="0" stop-color="#14507a"/><stop offset="1" stop-color="#3282b8"/></linearGradient></defs>
<rect n:label="ground" width="30" height="10" fill="url(#g)"/></svg>`)
	require.NoError(t, err)
	assert.Equal(t, 1600, w.Width)
}

// Whatever a drawing asks for, it is over within its bounds.
func TestDrawingsThatAskForMuchEnd(t *testing.T) {
	in := func(inner string) string {
		return `<svg xmlns="http://www.w3.org/2000/svg" viewBox="0 0 900 900">` + inner + `</svg>`
	}
	for name, data := range map[string]string{
		"many curves":  in(`<path fill="none" stroke="#000" d="M0 0` + strings.Repeat("c9 99 99 9 9-9", 30_000) + `"/>`),
		"fine dashes":  in(`<path fill="none" stroke="#000" stroke-dasharray="0.00001" d="M0 0L900 900"/>`),
		"huge arcs":    in(`<path d="M0 0A1e30 1e30 0 0 1 900 900A1e-30 1e30 45 1 0 1 1z"/>`),
		"no numbers":   in(`<path d="M NaN Inf L 1e999 -1e999 z"/><circle r="1e309" cx="nan"/>`),
		"thick stroke": in(`<path stroke="#000" stroke-width="1e9" stroke-linejoin="round" d="M0 0L9 9L0 9"/>`),
		"long text":    in(`<text x="1" y="9" font-size="1e6">` + strings.Repeat("Fjord ", 20_000) + `</text>`),
	} {
		w, err := examine(data)
		if err != nil {
			assert.NotContains(t, err.Error(), "goroutine", name)
			assert.Less(t, len(err.Error()), 300, name)
			continue
		}
		assert.Equal(t, 600, w.Height, name)
	}
}

func TestPicturesAreMadeNoLargerThanIsOfUse(t *testing.T) {
	var large bytes.Buffer
	require.NoError(t, png.Encode(&large, image.NewNRGBA(image.Rect(0, 0, 3200, 400))))
	w, err := examine(large.String())
	require.NoError(t, err)
	assert.Equal(t, [2]int{1600, 200}, [2]int{w.Width, w.Height})
	require.NoError(t, png.Encode(&large, image.NewNRGBA(image.Rect(0, 0, 9000, 1))))
	var wide bytes.Buffer
	require.NoError(t, png.Encode(&wide, image.NewNRGBA(image.Rect(0, 0, 9000, 1))))
	_, err = examine(wide.String())
	assert.ErrorContains(t, err, "at most 4000 on a side")
}

// A file that was made to break what reads it breaks a process of ours, not the service.
func TestBrokenTypefacesAreRefusedInASentence(t *testing.T) {
	w, err := examine(string(typeface.Regular))
	require.NoError(t, err)
	assert.Equal(t, house.KindTypeface, w.Kind)
	assert.False(t, w.Bold)
	assert.Contains(t, w.Family, "DejaVu")
	assert.Greater(t, w.Letters, 1000)
	for _, at := range []int{12, 40, 300, 5000, 60000, 200000} {
		broken := bytes.Clone(typeface.Regular)
		for i := at; i < at+4000 && i < len(broken); i++ {
			broken[i] ^= byte(i*7 + 1)
		}
		if _, err := house.Examine(context.Background(), broken); err != nil {
			assert.NotContains(t, err.Error(), "goroutine")
		}
		_, err := house.Examine(context.Background(), typeface.Regular[:at])
		require.Error(t, err)
		assert.Less(t, len(err.Error()), 300)
	}
}

type files map[string][]byte

func (f files) HouseFile(_ context.Context, id string) (job.HouseFile, []byte, error) {
	return job.HouseFile{ID: id, Width: 300, Height: 100}, f[id], nil
}

func TestColoursAreWorkedOutAndWhatCannotBeReadIsSaid(t *testing.T) {
	made := func(s job.HouseStyle) *house.Look {
		l, err := house.Make(context.Background(), s, files{"a": typeface.Regular})
		require.NoError(t, err)
		return l
	}
	assert.Empty(t, house.Plain().Says(), "the service's own colours hold")
	l := made(job.HouseStyle{Name: "Blue", Accent: "#14507a", Ink: "#101820", Series: []string{"#14507a", "#e0a030"}, Regular: "a"})
	assert.Empty(t, l.Says())
	assert.Equal(t, "14507A", l.Accent)
	assert.Len(t, l.Series, 12)
	assert.Positive(t, l.Faces.Shaper("en").Line("Fjord", true).Wide)
	assert.InDelta(t, 21, house.Contrast("000000", "FFFFFF"), 0.01)
	said := strings.Join(made(job.HouseStyle{Accent: "#ffe060", Ink: "#9a9a9a", Series: []string{"#fff8e0", "#fef7df"}}).Says(), "\n")
	assert.Contains(t, said, "The letters (#9A9A9A) have a contrast of 2.8 on white")
	assert.Contains(t, said, "The accent (#FFE060)")
	assert.Contains(t, said, "Series 1 (#FFF8E0) can hardly be seen")
	assert.Contains(t, said, "Series 1 and 2")
	assert.Equal(t, "FFFFFF", made(job.HouseStyle{Accent: "#000080"}).On("000080"))
	w, h := (&house.Logo{Width: 300, Height: 100}).Within(60, 60)
	assert.Equal(t, [2]float64{60, 20}, [2]float64{w, h})
}

// What was written anew is written the same again, so that its number stays.
func TestAPictureIsWrittenTheSameAgain(t *testing.T) {
	opaque := image.NewGray(image.Rect(0, 0, 40, 20))
	for i := range opaque.Pix {
		opaque.Pix[i] = byte(i * 3)
	}
	var gray bytes.Buffer
	require.NoError(t, png.Encode(&gray, opaque))
	for _, data := range []string{drawing, gray.String()} {
		first, err := examine(data)
		require.NoError(t, err)
		again, err := examine(string(first.Data))
		require.NoError(t, err)
		assert.Equal(t, first.Data, again.Data)
	}
}
