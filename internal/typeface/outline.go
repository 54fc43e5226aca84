package typeface

import (
	"math"

	"github.com/go-text/typesetting/font"
	"github.com/go-text/typesetting/font/opentype"
)

// Outline is a glyph as a document draws it, in parts of the size of the
// letters, upwards.
type Outline struct {
	Steps []Step
	Image []byte // a PNG in place of the outline, for pictures in colour
	Box   [4]float64
}

// Step is one step of an outline: M moves, L draws a line, C a curve with two
// points between; a contour is closed before the next one.
type Step struct {
	Kind byte
	At   [6]float64
}

// Outline gives the shape of a glyph.
func (s *Shaper) Outline(f *Face, id uint32) Outline {
	face, ok := s.faces[f.font]
	if !ok {
		return Outline{}
	}
	em := float64(f.font.Upem())
	var out Outline
	var drawn font.GlyphOutline
	switch data := face.GlyphData(font.GID(id)).(type) {
	case font.GlyphOutline:
		drawn = data
	case font.GlyphBitmap:
		if data.Format == font.PNG {
			if e, ok := face.GlyphExtents(font.GID(id)); ok {
				out.Image = data.Data
				left, top := float64(e.XBearing)/em, float64(e.YBearing)/em
				out.Box = [4]float64{left, top + float64(e.Height)/em, left + float64(e.Width)/em, top}
			}
			return out
		}
	default:
		if o, ok := face.GlyphDataOutline(font.GID(id)); ok {
			drawn = o
		}
	}
	x, y := 0.0, 0.0
	point := func(p font.SegmentPoint) (float64, float64) { return float64(p.X) / em, float64(p.Y) / em }
	for _, seg := range drawn.Segments {
		args := seg.ArgsSlice()
		ax, ay := point(args[0])
		switch len(args) {
		case 1:
			kind := byte('L')
			if seg.Op == opentype.SegmentOpMoveTo {
				kind = 'M'
			}
			out.Steps = append(out.Steps, Step{kind, [6]float64{ax, ay}})
			x, y = ax, ay
		case 2: // a curve of the second degree, raised to the third
			bx, by := point(args[1])
			out.Steps = append(out.Steps, Step{'C', [6]float64{
				x + (ax-x)*2/3, y + (ay-y)*2/3, bx + (ax-bx)*2/3, by + (ay-by)*2/3, bx, by,
			}})
			x, y = bx, by
		case 3:
			bx, by := point(args[1])
			cx, cy := point(args[2])
			out.Steps = append(out.Steps, Step{'C', [6]float64{ax, ay, bx, by, cx, cy}})
			x, y = cx, cy
		}
	}
	out.Box = boxOf(out.Steps)
	return out
}

// boxOf is the room that steps take.
func boxOf(steps []Step) (box [4]float64) {
	for i, step := range steps {
		for n := 0; n < 6 && (n < 2 || step.Kind == 'C'); n += 2 {
			if i == 0 && n == 0 {
				box = [4]float64{step.At[0], step.At[1], step.At[0], step.At[1]}
			}
			box[0], box[2] = math.Min(box[0], step.At[n]), math.Max(box[2], step.At[n])
			box[1], box[3] = math.Min(box[1], step.At[n+1]), math.Max(box[3], step.At[n+1])
		}
	}
	return box
}
