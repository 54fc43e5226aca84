package render

import (
	"fmt"
	"sync"

	"codeberg.org/go-fonts/dejavu/dejavusanscondensed"
	"codeberg.org/go-fonts/dejavu/dejavusanscondensedbold"
	"golang.org/x/image/font/opentype"
	"golang.org/x/image/font/sfnt"
	"gonum.org/v1/plot/font"
	"gonum.org/v1/plot/text"
)

// The fonts of pages, pictures and charts: they have Latin with all its marks,
// Greek, Cyrillic and many signs. What they do not have is shown as a sign of
// its own and said, never left out.
var (
	regularFont = dejavusanscondensed.TTF
	boldFont    = dejavusanscondensedbold.TTF
)

// typeface is how the fonts are called in charts and pictures.
const typeface = "Sheet"

// faces are the fonts as charts use them, read once.
var faces = sync.OnceValues(func() (*font.Cache, error) {
	var all font.Collection
	for weight, ttf := range map[int][]byte{0: regularFont, 1: boldFont} {
		parsed, err := opentype.Parse(ttf)
		if err != nil {
			return nil, fmt.Errorf("read a font: %w", err)
		}
		f := font.Font{Typeface: typeface}
		if weight == 1 {
			f.Weight = 3 // bold
		}
		all = append(all, font.Face{Font: f, Face: parsed})
	}
	return font.NewCache(all), nil
})

// lettering is how texts of charts and pictures are set.
func lettering() (text.Handler, error) {
	cache, err := faces()
	if err != nil {
		return nil, err
	}
	return text.Plain{Fonts: cache}, nil
}

// covered reads which characters the fonts have.
var covered = sync.OnceValues(func() (*sfnt.Font, error) { return sfnt.Parse(regularFont) })

// letters replaces what the fonts do not have and counts it. It belongs to one
// goroutine.
type letters struct {
	known map[rune]bool
	buf   sfnt.Buffer
	lost  int
	first rune
}

func newLetters() *letters { return &letters{known: map[rune]bool{}} }

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
		case l.has(r):
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

func (l *letters) has(r rune) bool {
	if r < 0x20 || r > 0xffff {
		return false
	}
	if had, ok := l.known[r]; ok {
		return had
	}
	f, err := covered()
	has := false
	if err == nil {
		n, err := f.GlyphIndex(&l.buf, r)
		has = err == nil && n != 0
	}
	l.known[r] = has
	return has
}

func (l *letters) says() []string {
	if l.lost == 0 {
		return nil
	}
	return []string{fmt.Sprintf("%d characters that the document's font does not have, the first of them %q, stand "+
		"as %c; html and xlsx show them", l.lost, l.first, missing)}
}
