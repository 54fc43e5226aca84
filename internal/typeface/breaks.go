package typeface

import (
	"strings"
	"unicode"
)

// Leftward tells whether a text is read from right to left: by its first letter
// that has a direction (Unicode Annex 9, rules P2 and P3).
func Leftward(text string) bool {
	for _, r := range text {
		switch {
		case r < 0x80 && (r >= 'a' && r <= 'z' || r >= 'A' && r <= 'Z'):
			return false
		case r < 0x590:
			if unicode.IsLetter(r) {
				return false
			}
		case r == rightToLeftMark:
			return true
		case unicode.IsLetter(r):
			return unicode.In(r, unicode.Hebrew, unicode.Arabic, unicode.Syriac, unicode.Thaana, unicode.Nko,
				unicode.Samaritan, unicode.Mandaic, unicode.Adlam, unicode.Hanifi_Rohingya, unicode.Mende_Kikakui,
				unicode.Yezidi, unicode.Phoenician, unicode.Imperial_Aramaic)
		}
	}
	return false
}

const rightToLeftMark = '\u200f'

// Wrap breaks a paragraph into lines of a width where its script allows it
// (Unicode Annex 14); a piece that is wider than a line is broken between
// letters as they are seen (Annex 29). wide measures a text.
func (s *Shaper) Wrap(text string, width float64, wide func(string) float64) []string {
	var lines []string
	line := ""
	put := func(piece string) {
		if line == "" || wide(strings.TrimRight(line+piece, " ")) <= width {
			line += piece
			return
		}
		lines, line = append(lines, strings.TrimRight(line, " ")), piece
	}
	s.breaks.Init([]rune(text))
	var pieces []string
	for it := s.breaks.LineIterator(); it.Next(); {
		pieces = append(pieces, string(it.Line().Text))
	}
	for _, piece := range pieces {
		if wide(strings.TrimRight(piece, " ")) <= width {
			put(piece)
			continue
		}
		for _, letter := range s.letters(piece) {
			put(letter)
		}
	}
	lines = append(lines, strings.TrimRight(line, " "))
	if Leftward(text) {
		for i := range lines {
			if !Leftward(lines[i]) {
				lines[i] = string(rightToLeftMark) + lines[i]
			}
		}
	}
	return lines
}

// Widest is the width of the widest piece of a text that is not broken, up to a
// most.
func (s *Shaper) Widest(text string, most float64, wide func(string) float64) (widest float64) {
	s.breaks.Init([]rune(text))
	var pieces []string
	for it := s.breaks.LineIterator(); it.Next(); {
		pieces = append(pieces, string(it.Line().Text))
	}
	for _, piece := range pieces {
		if widest >= most {
			return most
		}
		widest = max(widest, min(most, wide(strings.TrimRight(piece, " "))))
	}
	return widest
}

// Cut shortens a text to a width with an ellipsis, between letters as they are
// seen.
func (s *Shaper) Cut(text string, width float64, wide func(string) float64) string {
	if wide(text) <= width {
		return text
	}
	letters := s.letters(text)
	low, high := 0, len(letters)-1
	for low < high {
		mid := (low + high + 1) / 2
		if wide(strings.Join(letters[:mid], "")+"…") <= width {
			low = mid
		} else {
			high = mid - 1
		}
	}
	return strings.TrimRight(strings.Join(letters[:low], ""), " ") + "…"
}

// letters are the letters of a text as they are seen, each with its marks.
func (s *Shaper) letters(text string) (out []string) {
	s.breaks.Init([]rune(text))
	for it := s.breaks.GraphemeIterator(); it.Next(); {
		out = append(out, string(it.Grapheme().Text))
	}
	return out
}
