package typeface

import (
	"slices"
	"strings"
	"unicode"

	"github.com/go-text/typesetting/bidi"
	"github.com/go-text/typesetting/di"
	"github.com/go-text/typesetting/font"
	"github.com/go-text/typesetting/language"
	"github.com/go-text/typesetting/segmenter"
	"github.com/go-text/typesetting/shaping"
	"golang.org/x/image/math/fixed"
)

// Glyph is one shape of a face at its place. Measures are in parts of the size
// of the letters.
type Glyph struct {
	ID      uint32
	Advance float64 // to where the next one stands
	X, Y    float64 // from where it would stand by itself; Y upwards
	Text    string  // what it stands for: all of its cluster, the others of which stand for nothing
	Cluster int     // glyphs of one cluster follow each other and have the same
}

// Run is a part of a line in one face, from left to right as it is seen.
type Run struct {
	Face     *Face
	Glyphs   []Glyph
	Text     string // as it is read
	Plain    bool   // it needs no shaping: the built-in face writes it letter by letter
	Leftward bool   // it is read from right to left
	Wide     float64
}

// Clusters are the glyphs of a run, parted by what they stand for together: a
// letter with its marks, or several letters in one shape.
func (r Run) Clusters() (all [][]Glyph) {
	for from := 0; from < len(r.Glyphs); {
		to := from + 1
		for to < len(r.Glyphs) && r.Glyphs[to].Cluster == r.Glyphs[from].Cluster {
			to++
		}
		all = append(all, r.Glyphs[from:to])
		from = to
	}
	return all
}

// Line is a text of one line, set.
type Line struct {
	Runs []Run // from left to right
	Wide float64
}

// Bounds of what a shaper remembers.
const (
	mostKept    = 200_000 // bytes of all lines
	mostLetters = 2000    // of a line
)

// Shaper sets lines. It belongs to one goroutine.
type Shaper struct {
	library *Library
	tongue  string
	engine  shaping.HarfbuzzShaper
	parts   shaping.Segmenter
	order   bidi.Paragraph
	breaks  segmenter.Segmenter
	faces   map[*font.Font]*font.Face
	back    map[*font.Font]*Face
	lines   map[string]*Line
	bolds   map[string]*Line
	kept    int // bytes of the lines that are remembered
	script  language.Script
	bold    bool
	han     string        // the language of Chinese letters in the text at hand
	simple  [1 << 16]byte // what is known of each letter: 1 plain, 2 not
}

// Shaper begins to set texts of a language (BCP 47).
func (l *Library) Shaper(tongue string) *Shaper {
	return &Shaper{
		library: l, tongue: tongue, faces: map[*font.Font]*font.Face{}, back: map[*font.Font]*Face{},
		lines: map[string]*Line{}, bolds: map[string]*Line{},
	}
}

// plainScript tells whether a script is written letter by letter from left to
// right, and the built-in face is made for it.
func plainScript(s language.Script) bool {
	switch s {
	case language.Latin, language.Greek, language.Cyrillic, language.Armenian, language.Georgian, language.Common:
		return true
	}
	return false
}

// Plain tells whether a text needs no shaping: the built-in face writes it
// letter by letter.
func (s *Shaper) Plain(text string) bool {
	if s.library.own {
		return text == ""
	}
	for i := range len(text) {
		if text[i] >= 0x80 {
			return s.plain(text[i:])
		}
	}
	return true
}

func (s *Shaper) plain(text string) bool {
	for _, r := range text {
		if r < 0x80 {
			continue
		}
		if int(r) >= len(s.simple) {
			return false
		}
		if s.simple[r] == 0 {
			s.simple[r] = 2
			if plainScript(language.LookupScript(r)) && !unicode.In(r, unicode.M, unicode.Cf) && s.library.main[0].has(r) {
				s.simple[r] = 1
			}
		}
		if s.simple[r] == 2 {
			return false
		}
	}
	return true
}

// Has tells whether there is a face with a letter, or whether it is one that
// has no shape of its own.
func (s *Shaper) Has(r rune) bool {
	if unicode.In(r, unicode.Cf, unicode.Variation_Selector, unicode.Zs) {
		return true
	}
	if r < 0x20 || r > unicode.MaxRune || unicode.In(r, unicode.Cc, unicode.Cs, unicode.Co) {
		return false
	}
	return s.library.face(seek{letter: r, script: language.LookupScript(r), tongue: s.tongue}) != nil
}

// SetScript implements shaping.FontmapScript.
func (s *Shaper) SetScript(script language.Script) { s.script = script }

// ResolveFace implements shaping.Fontmap.
func (s *Shaper) ResolveFace(r rune) *font.Face {
	script := s.script
	if own := language.LookupScript(r); own.Strong() && own != language.Unknown {
		script = own
	}
	face := s.library.face(seek{letter: r, script: script, tongue: s.han, bold: s.bold})
	if face == nil {
		face = s.library.Main(s.bold)
	}
	f, ok := s.faces[face.font]
	if !ok {
		f = font.NewFace(face.font)
		s.faces[face.font], s.back[face.font] = f, face
	}
	return f
}

// unit is the size in which texts are shaped: all measures are parts of it.
const unit = 1000

// Line sets a text of one line.
func (s *Shaper) Line(text string, bold bool) *Line {
	known := s.lines
	if bold {
		known = s.bolds
	}
	if l, ok := known[text]; ok {
		return l
	}
	l := s.line([]rune(text), bold)
	if len(text) <= mostLetters {
		if s.kept += len(text); s.kept > mostKept {
			clear(s.lines)
			clear(s.bolds)
			s.kept = 0
		}
		known[text] = l
	}
	return l
}

func (s *Shaper) line(text []rune, bold bool) *Line {
	l := &Line{}
	if len(text) == 0 {
		return l
	}
	for i, r := range text {
		if endsLine(r) { // the order of letters is that of one line
			text[i] = ' '
		}
	}
	s.bold, s.han = bold, s.hanOf(text)
	levels := make([]bidi.Level, len(text))
	runs := s.order.Segment(text, bidi.LeftToRight)
	for i := range runs.NumRuns() {
		r := runs.Run(i)
		for at := r.Start; at < r.End; at++ {
			levels[at] = r.Level
		}
	}
	in := shaping.Input{
		Text: text, RunEnd: len(text), Size: fixed.I(unit), Direction: di.DirectionLTR,
		Language: language.NewLanguage(s.tongue),
	}
	var of []bidi.Level
	for _, part := range slices.Clone(s.parts.Split(in, s)) {
		out := s.engine.Shape(part)
		run := Run{Face: s.back[part.Face.Font], Text: string(text[part.RunStart:part.RunEnd])}
		run.Leftward = part.Direction == di.DirectionRTL
		run.Plain = !s.library.own && run.Face.main && !run.Leftward && s.Plain(run.Text)
		last, bearer := -1, 0
		for i, g := range out.Glyphs {
			set := Glyph{
				ID: uint32(g.GlyphID), Advance: parts(g.Advance), X: parts(g.XOffset), Y: parts(g.YOffset),
				Cluster: g.TextIndex(),
			}
			switch at := g.TextIndex(); {
			case at != last:
				set.Text, last, bearer = string(text[at:at+g.RunesCount()]), at, i
			case set.Advance > run.Glyphs[bearer].Advance: // a letter tells its marks, too
				set.Text, run.Glyphs[bearer].Text, bearer = run.Glyphs[bearer].Text, "", i
			}
			if set.Text == " " {
				set.Advance = min(set.Advance, widestSpace) // that of faces with pictures is as wide as a picture
			}
			run.Glyphs = append(run.Glyphs, set)
			run.Wide += set.Advance
		}
		l.Runs, l.Wide = append(l.Runs, run), l.Wide+run.Wide
		of = append(of, levels[part.RunStart])
	}
	reorder(l.Runs, of)
	return l
}

// endsLine tells what would begin a paragraph of its own (Unicode Annex 9, class B).
func endsLine(r rune) bool {
	return r == '\n' || r == '\r' || r >= 0x1c && r <= 0x1e || r == '\u0085' || r == '\u2029'
}

// widestSpace is how wide a space between words is at most.
const widestSpace = 0.35

// hanOf is the language whose forms of Chinese letters a text has: its own where
// the output says one, else that of the letters beside them.
func (s *Shaper) hanOf(text []rune) string {
	for _, has := range []string{"zh", "ja", "ko"} {
		if strings.HasPrefix(s.tongue, has) {
			return s.tongue
		}
	}
	for _, r := range text {
		switch {
		case r < 0x1100:
		case unicode.In(r, unicode.Hiragana, unicode.Katakana):
			return "ja"
		case unicode.Is(unicode.Hangul, r):
			return "ko"
		}
	}
	return s.tongue
}

func parts(v fixed.Int26_6) float64 { return float64(v) / 64 / unit }

// reorder puts runs into the order in which they are seen (Unicode Annex 9, rule
// L2).
func reorder(runs []Run, levels []bidi.Level) {
	highest := bidi.Level(0)
	for _, l := range levels {
		highest = max(highest, l)
	}
	for level := highest; level > 0; level-- {
		for from := 0; from < len(runs); from++ {
			to := from
			for to < len(runs) && levels[to] >= level {
				to++
			}
			if to > from {
				slices.Reverse(runs[from:to])
				slices.Reverse(levels[from:to])
				from = to
			}
		}
	}
}
