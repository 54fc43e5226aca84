package typeface

import (
	"encoding/binary"
	"fmt"
	"math"
	"slices"
	"strconv"
)

// Subset gathers what a document writes in one face, and writes it as a font of
// its own: a code for each cluster, whose marks stand at their places in its shape,
// so that every reader finds what it stands for. It belongs to one goroutine.
type Subset struct {
	Face   *Face
	shaper *Shaper
	codes  map[string]uint16
	shapes [][]Glyph // by code
}

// Subset begins to gather what is written in a face.
func (s *Shaper) Subset(f *Face) *Subset {
	return &Subset{Face: f, shaper: s, codes: map[string]uint16{}, shapes: [][]Glyph{nil}}
}

// mostCodes is how many codes a font has at most.
const mostCodes = 65000

// Code is the number of a cluster in this font; 0, which draws nothing, when there
// are too many.
func (s *Subset) Code(cluster []Glyph) uint16 {
	key := strconv.AppendQuote(nil, textOf(cluster))
	for _, g := range cluster {
		key = fmt.Appendf(key, " %d %.0f %.0f %.0f", g.ID, 1000*g.Advance, 1000*g.X, 1000*g.Y)
	}
	code, known := s.codes[string(key)]
	if !known && len(s.shapes) < mostCodes {
		code = uint16(len(s.shapes)) //nolint:gosec // bounded above
		s.codes[string(key)] = code
		s.shapes = append(s.shapes, slices.Clone(cluster))
	}
	return code
}

// textOf is what a cluster stands for.
func textOf(cluster []Glyph) (text string) {
	for _, g := range cluster {
		text += g.Text
	}
	return text
}

// Width is how far what follows a cluster stands from it, in thousandths of the size.
func Width(cluster []Glyph) int {
	wide := 0.0
	for _, g := range cluster {
		wide += g.Advance
	}
	return int(math.Round(1000 * wide))
}

// Texts is what each code stands for; empty where it stands for nothing.
func (s *Subset) Texts() (all []string) {
	for _, cluster := range s.shapes {
		all = append(all, textOf(cluster))
	}
	return all
}

// Widths are those of all codes.
func (s *Subset) Widths() (all []int) {
	for _, cluster := range s.shapes {
		all = append(all, Width(cluster))
	}
	return all
}

// outline is a cluster as one shape.
func (s *Subset) outline(cluster []Glyph) (steps []Step) {
	x := 0.0
	for _, g := range cluster {
		if o := s.shaper.Outline(s.Face, g.ID); o.Image == nil {
			for _, step := range o.Steps {
				for n := 0; n < len(step.At); n += 2 {
					step.At[n] += x + g.X
					step.At[n+1] += g.Y
				}
				steps = append(steps, step)
			}
		}
		x += g.Advance
	}
	return steps
}

// CFF writes the font as a Compact Font Format table (Adobe Technical Note 5176)
// whose glyphs are numbered by their codes, a thousand units to the size. box
// holds all of them, in these units.
func (s *Subset) CFF() (table []byte, box [4]int) {
	var shapes [][]byte
	for _, cluster := range s.shapes {
		steps := s.outline(cluster)
		shapes = append(shapes, charstring(steps))
		if b := boxOf(steps); len(steps) > 0 {
			box[0], box[1] = min(box[0], int(math.Floor(1000*b[0]))), min(box[1], int(math.Floor(1000*b[1])))
			box[2], box[3] = max(box[2], int(math.Ceil(1000*b[2]))), max(box[3], int(math.Ceil(1000*b[3])))
		}
	}
	head := []byte{1, 0, 4, 4}
	names := index([]byte(s.Face.Name))
	// All glyphs but the first have names of their own, numbered from the first
	// that a font may give.
	const firstName = 391
	called := make([][]byte, 0, len(s.shapes))
	for i := 1; i < len(s.shapes); i++ {
		called = append(called, []byte("g"+string(hex16(uint16(i)))))
	}
	strings := index(called...)
	subroutines := index()
	charset := []byte{2}
	charset = binary.BigEndian.AppendUint16(charset, firstName)
	charset = binary.BigEndian.AppendUint16(charset, uint16(max(len(s.shapes)-2, 0))) //nolint:gosec // bounded
	if len(s.shapes) == 1 {
		charset = []byte{0}
	}
	drawn := index(shapes...)
	private := append(append(number(0), 20), append(number(0), 21)...) // default and nominal width

	top := func(charsetAt, drawnAt, privateAt int) []byte {
		var d []byte
		for _, v := range box {
			d = append(d, number(v)...)
		}
		d = append(d, 5)
		d = append(append(d, number(charsetAt)...), 15)
		d = append(append(d, number(drawnAt)...), 17)
		return append(append(append(d, number(len(private))...), number(privateAt)...), 18)
	}
	// Numbers are written at one length, so that the places are known at once.
	at := len(head) + len(names) + len(index(top(0, 0, 0))) + len(strings) + len(subroutines)
	charsetAt := at
	drawnAt := charsetAt + len(charset)
	privateAt := drawnAt + len(drawn)
	for _, part := range [][]byte{
		head, names, index(top(charsetAt, drawnAt, privateAt)), strings, subroutines, charset, drawn, private,
	} {
		table = append(table, part...)
	}
	return table, box
}

func hex16(v uint16) []byte {
	const digits = "0123456789abcdef"
	return []byte{digits[v>>12], digits[v>>8&15], digits[v>>4&15], digits[v&15]}
}

// number writes an integer of a dictionary, always in five bytes.
func number(v int) []byte {
	return binary.BigEndian.AppendUint32([]byte{29}, uint32(int32(v))) //nolint:gosec // places in a table of some megabytes
}

// index writes byte strings with their places.
func index(all ...[]byte) []byte {
	out := binary.BigEndian.AppendUint16(nil, uint16(len(all))) //nolint:gosec // bounded by mostCodes
	if len(all) == 0 {
		return out
	}
	out = append(out, 4)
	at := uint32(1)
	out = binary.BigEndian.AppendUint32(out, at)
	for _, one := range all {
		at += uint32(len(one)) //nolint:gosec // outlines of some kilobytes
		out = binary.BigEndian.AppendUint32(out, at)
	}
	for _, one := range all {
		out = append(out, one...)
	}
	return out
}

// charstring writes an outline (Adobe Technical Note 5177, type 2).
func charstring(steps []Step) []byte {
	const lineTo, curveTo, moveTo, end = 5, 8, 21, 14
	var out []byte
	x, y := 0, 0
	put := func(ax, ay float64) {
		nx, ny := int(math.Round(1000*ax)), int(math.Round(1000*ay))
		out = operand(operand(out, nx-x), ny-y)
		x, y = nx, ny
	}
	for _, s := range steps {
		put(s.At[0], s.At[1])
		switch s.Kind {
		case 'M':
			out = append(out, moveTo)
		case 'L':
			out = append(out, lineTo)
		default:
			put(s.At[2], s.At[3])
			put(s.At[4], s.At[5])
			out = append(out, curveTo)
		}
	}
	return append(out, end)
}

func operand(out []byte, v int) []byte {
	switch {
	case v >= -107 && v <= 107:
		return append(out, byte(v+139))
	case v >= 108 && v <= 1131:
		v -= 108
		return append(out, byte(v>>8+247), byte(v)) //nolint:gosec // the lower byte
	case v >= -1131 && v <= -108:
		v = -v - 108
		return append(out, byte(v>>8+251), byte(v)) //nolint:gosec // the lower byte
	}
	v = max(-32768, min(32767, v))
	return append(out, 28, byte(v>>8), byte(v)) //nolint:gosec // two bytes
}
