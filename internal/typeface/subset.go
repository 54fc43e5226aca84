package typeface

import (
	"encoding/binary"
	"math"
)

// Subset gathers the glyphs of one face that a document uses, and writes them as
// a font of their own. It belongs to one goroutine.
type Subset struct {
	Face   *Face
	shaper *Shaper
	codes  map[uint32]uint16
	glyphs []uint32 // by code
	texts  []string // what each stands for, where it is always the same
}

// Subset begins to gather glyphs of a face.
func (s *Shaper) Subset(f *Face) *Subset {
	return &Subset{Face: f, shaper: s, codes: map[uint32]uint16{}, glyphs: []uint32{0}, texts: []string{""}}
}

// mostCodes is how many glyphs a font has at most.
const mostCodes = 65000

// Code is the number of a glyph in this font. same tells whether it stands for
// the same text wherever it was used.
func (s *Subset) Code(g Glyph) (code uint16, same bool) {
	code, known := s.codes[g.ID]
	if !known {
		if len(s.glyphs) == mostCodes {
			return 0, false
		}
		code = uint16(len(s.glyphs)) //nolint:gosec // bounded above
		s.codes[g.ID] = code
		s.glyphs, s.texts = append(s.glyphs, g.ID), append(s.texts, g.Text)
	}
	return code, s.texts[code] == g.Text
}

// Texts is what each code stands for; empty where it stands for nothing.
func (s *Subset) Texts() []string { return s.texts }

// Widths are the advances of all codes, in thousandths of the size.
func (s *Subset) Widths() []int {
	out := make([]int, len(s.glyphs))
	for i, id := range s.glyphs {
		out[i] = int(math.Round(1000 * s.shaper.Advance(s.Face, id)))
	}
	return out
}

// CFF writes the font as a Compact Font Format table (Adobe Technical Note 5176)
// whose glyphs are numbered by their codes, a thousand units to the size. box
// holds all of them, in these units.
func (s *Subset) CFF() (table []byte, box [4]int) {
	var shapes [][]byte
	for i, id := range s.glyphs {
		o := s.shaper.Outline(s.Face, id)
		if i == 0 || o.Image != nil {
			o.Steps = nil
		}
		shapes = append(shapes, charstring(o.Steps))
		if len(o.Steps) > 0 {
			box[0], box[1] = min(box[0], int(math.Floor(1000*o.Box[0]))), min(box[1], int(math.Floor(1000*o.Box[1])))
			box[2], box[3] = max(box[2], int(math.Ceil(1000*o.Box[2]))), max(box[3], int(math.Ceil(1000*o.Box[3])))
		}
	}
	head := []byte{1, 0, 4, 4}
	names := index([]byte(s.Face.Name))
	// All glyphs but the first have names of their own, numbered from the first
	// that a font may give.
	const firstName = 391
	called := make([][]byte, 0, len(s.glyphs))
	for i := 1; i < len(s.glyphs); i++ {
		called = append(called, []byte("g"+string(hex16(uint16(i)))))
	}
	strings := index(called...)
	subroutines := index()
	charset := []byte{2}
	charset = binary.BigEndian.AppendUint16(charset, firstName)
	charset = binary.BigEndian.AppendUint16(charset, uint16(max(len(s.glyphs)-2, 0))) //nolint:gosec // bounded
	if len(s.glyphs) == 1 {
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
