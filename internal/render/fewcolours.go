package render

import (
	"cmp"
	"encoding/binary"
	"image"
	"image/color"
	"slices"
)

// fewColours is a drawing in the 256 colours that it has most of; the others, of
// which edges are made, become the nearest of them. Drawings are large plain areas:
// they are packed in a quarter of the time so, and into half the bytes.
func fewColours(img image.Image) image.Image {
	from, ok := img.(*image.RGBA)
	if !ok || from.Stride != 4*from.Rect.Dx() || len(from.Pix) < 4 {
		return img
	}
	const most = 256
	type tone struct {
		dots, at uint32 // four bytes of a dot; how many there are of it
		id       int
	}
	var tones []tone
	type run struct{ id, n int }
	var runs []run
	ids := map[uint32]int{}
	for pix, last := from.Pix, ^binary.LittleEndian.Uint32(from.Pix); len(pix) >= 4; pix = pix[4:] {
		dot := binary.LittleEndian.Uint32(pix)
		if dot != last {
			id, had := ids[dot]
			if !had {
				id = len(tones)
				ids[dot] = id
				tones = append(tones, tone{at: dot, id: id})
			}
			if dot>>24 != 0xff {
				return img // seen through
			}
			runs, last = append(runs, run{id: id}), dot
		}
		runs[len(runs)-1].n++
	}
	for _, r := range runs {
		tones[r.id].dots += uint32(r.n) //nolint:gosec // of a picture
	}
	slices.SortFunc(tones, func(a, b tone) int { return cmp.Or(cmp.Compare(b.dots, a.dots), cmp.Compare(a.at, b.at)) })
	palette := make(color.Palette, min(len(tones), most))
	places := make([]uint8, len(tones))
	for i, t := range tones {
		if i < most {
			palette[i] = color.RGBA{uint8(t.at), uint8(t.at >> 8), uint8(t.at >> 16), 0xff} //nolint:gosec // its bytes
			places[t.id] = uint8(i)
			continue
		}
		nearest, least := 0, int64(1)<<40
		for n := range most {
			if d := apart(t.at, tones[n].at); d < least {
				nearest, least = n, d
			}
		}
		places[t.id] = uint8(nearest)
	}
	to := image.NewPaletted(from.Rect, palette)
	pix := to.Pix
	for _, r := range runs {
		place := places[r.id]
		for i := range pix[:r.n] {
			pix[i] = place
		}
		pix = pix[r.n:]
	}
	return to
}

// apart is how far two dots are from each other.
func apart(a, b uint32) (sum int64) {
	for range 3 {
		d := int64(a&0xff) - int64(b&0xff)
		sum += d * d
		a, b = a>>8, b>>8
	}
	return sum
}
