package render

import (
	"bytes"
	"fmt"
	"image/png"
	"sync"

	"ironbell/internal/typeface"

	"golang.org/x/image/font/opentype"
	"gonum.org/v1/plot/font"
	"gonum.org/v1/plot/text"
	"gonum.org/v1/plot/vg"
)

// sheetFace is how the fonts are called in charts and pictures.
const sheetFace = "Sheet"

// faces are the fonts as charts use them, read once.
var faces = sync.OnceValues(func() (*font.Cache, error) {
	var all font.Collection
	for weight, ttf := range map[int][]byte{0: typeface.Regular, 1: typeface.Bold} {
		parsed, err := opentype.Parse(ttf)
		if err != nil {
			return nil, fmt.Errorf("read a font: %w", err)
		}
		f := font.Font{Typeface: sheetFace}
		if weight == 1 {
			f.Weight = 3 // bold
		}
		all = append(all, font.Face{Font: f, Face: parsed})
	}
	return font.NewCache(all), nil
})

// lettering is how texts of charts and pictures are set: as the package for
// charts does it where letters stand one behind the other, and shaped elsewhere.
type lettering struct {
	text.Plain

	letters *letters
	live    bool // a browser will set the texts with faces of its own
}

func newLettering(l *letters) (*lettering, error) {
	cache, err := faces()
	if err != nil {
		return nil, err
	}
	return &lettering{Plain: text.Plain{Fonts: cache}, letters: l}, nil
}

// Box implements text.Handler.
func (h *lettering) Box(txt string, fnt font.Font) (width, height, depth vg.Length) {
	if h.letters.shaper.Plain(txt) {
		return h.Plain.Box(txt, fnt)
	}
	_, height, depth = h.Plain.Box("", fnt)
	return vg.Length(h.line(txt, fnt).Wide) * fnt.Size, height, depth
}

func (h *lettering) line(txt string, fnt font.Font) *typeface.Line {
	return h.letters.shaper.Line(txt, fnt.Weight > 0)
}

// Draw implements text.Handler.
func (h *lettering) Draw(c vg.Canvas, txt string, sty text.Style, pt vg.Point) {
	if h.live || h.letters.shaper.Plain(txt) {
		h.Plain.Draw(c, txt, sty, pt)
		return
	}
	c.Push()
	defer c.Pop()
	c.Translate(pt)
	c.Rotate(sty.Rotation)
	c.SetColor(sty.Color)
	lines := h.Lines(txt)
	top := sty.Height(txt)*vg.Length(sty.YAlign) - h.Extents(sty.Font).Ascent
	for i, line := range lines {
		set := h.line(line, sty.Font)
		at := vg.Point{X: vg.Length(sty.XAlign) * vg.Length(set.Wide) * sty.Font.Size, Y: top + vg.Length(len(lines)-i)*sty.Font.Size}
		for _, run := range set.Runs {
			for _, g := range run.Glyphs {
				h.glyph(c, run.Face, g, at.Add(vg.Point{X: vg.Length(g.X) * sty.Font.Size, Y: vg.Length(g.Y) * sty.Font.Size}),
					sty.Font.Size)
				at.X += vg.Length(g.Advance) * sty.Font.Size
			}
		}
	}
}

// glyph draws one shape.
func (h *lettering) glyph(c vg.Canvas, f *typeface.Face, g typeface.Glyph, at vg.Point, size vg.Length) {
	o := h.letters.shaper.Outline(f, g.ID)
	place := func(x, y float64) vg.Point { return vg.Point{X: at.X + vg.Length(x)*size, Y: at.Y + vg.Length(y)*size} }
	if o.Image != nil {
		if img, err := png.Decode(bytes.NewReader(o.Image)); err == nil {
			c.DrawImage(vg.Rectangle{Min: place(o.Box[0], o.Box[1]), Max: place(o.Box[2], o.Box[3])}, img)
		}
		return
	}
	var path vg.Path
	for _, s := range o.Steps {
		switch s.Kind {
		case 'M':
			if len(path) > 0 {
				path.Close()
			}
			path.Move(place(s.At[0], s.At[1]))
		case 'L':
			path.Line(place(s.At[0], s.At[1]))
		default:
			path.CubeTo(place(s.At[0], s.At[1]), place(s.At[2], s.At[3]), place(s.At[4], s.At[5]))
		}
	}
	if len(path) > 0 {
		path.Close()
		c.Fill(path)
	}
}

// letters sets texts of every script; what no face has is replaced and counted.
// It belongs to one goroutine.
type letters struct {
	shaper *typeface.Shaper
	lost   int
	first  rune
}

// newLetters sets texts in the language and the typefaces of a style.
func newLetters(s *Style) *letters {
	return &letters{shaper: s.Look.Faces.Shaper(s.Locale.Lang)}
}

// missing is what stands for a character without a shape.
const missing = '\ufffd'

func (l *letters) fit(s string) string {
	plain := true
	for i := range len(s) {
		if s[i] >= 0x80 || s[i] < 0x20 {
			plain = false
			break
		}
	}
	if plain {
		return s
	}
	out := make([]rune, 0, len(s))
	for _, r := range s {
		switch {
		case r == '\r':
		case r == '\n':
			out = append(out, r)
		case r == '\u202f' || r == '\u00a0' || r == '\t':
			out = append(out, '\u00a0')
		case l.shaper.Has(r):
			out = append(out, r)
		default:
			if l.lost++; l.lost == 1 {
				l.first = r
			}
			out = append(out, missing)
		}
	}
	return string(out)
}

func (l *letters) says() []string {
	if l.lost == 0 {
		return nil
	}
	return []string{fmt.Sprintf("%d characters that no typeface of this node has, the first of them %q, stand as %c; "+
		"install typefaces with them, or name a folder of such with -typefaces; html and xlsx show them", l.lost, l.first,
		missing)}
}
