package typeface

import (
	"bytes"
	"errors"
	"fmt"
	"unicode"

	"github.com/go-text/typesetting/font"
	"github.com/go-text/typesetting/font/opentype"
)

// Facts are what a typeface says of itself.
type Facts struct {
	Family  string
	Bold    bool
	Letters int
}

// Weigh reads all of a typeface that is to write what this house writes. The
// error says why it cannot.
func Weigh(data []byte) (Facts, error) {
	ld, err := opentype.NewLoader(bytes.NewReader(data))
	if err != nil {
		return Facts{}, fmt.Errorf("the typeface cannot be read: %w", err)
	}
	if !embeddable(ld) {
		return Facts{}, errors.New("the rights of the typeface forbid to embed it (OS/2 table, fsType); ask its maker for a licence")
	}
	f, err := font.NewFont(ld)
	if err != nil {
		return Facts{}, fmt.Errorf("the typeface cannot be read: %w", err)
	}
	about := f.Describe()
	facts := Facts{Family: about.Family, Bold: about.Aspect.Weight >= font.WeightSemibold}
	for r := 'A'; r <= 'z'; r++ {
		if g, ok := f.NominalGlyph(r); unicode.IsLetter(r) && (!ok || g == 0) {
			return Facts{}, fmt.Errorf("the typeface has no %q; it is to have the letters of Latin at least", r)
		}
	}
	// All that will be asked of it is asked once, here.
	face := &Face{Name: "Weighed", font: f}
	s := (&Library{main: [2]*Face{face, face}, stood: map[seek]*Face{}, own: true}).Shaper("en")
	s.Line("Fjord affix 0123456789 €ÄÖÜé", false)
	for all := f.Cmap.Iter(); all.Next(); {
		_, g := all.Char()
		s.Outline(face, uint32(g))
		facts.Letters++
	}
	return facts, nil
}

// House is this library with a house's own typeface before all others: data of
// TrueType or OpenType files that were weighed. Bold letters are those of the
// first where there is no second.
func (l *Library) House(regular, bold []byte) (*Library, error) {
	out := &Library{files: l.files, stood: map[seek]*Face{}, own: true, built: l.main}
	for i, data := range [][]byte{regular, bold} {
		if len(data) == 0 && i == 1 {
			out.main[1] = out.main[0]
			continue
		}
		all := parse(data, []string{"HouseRegular", "HouseBold"}[i])
		if len(all) != 1 {
			return nil, errors.New("the typeface of the house style cannot be read")
		}
		out.main[i] = all[0]
	}
	return out, nil
}
