package service

import (
	"regexp"
	"slices"
	"strings"
	"unicode"
	"unicode/utf8"

	"ironbell/internal/core/fault"
)

var onlyDigits = regexp.MustCompile(`^[0-9]+$`)

// CheckName tells what is wrong with the name of a record.
func CheckName(v *fault.Invalid, where, name string) {
	switch {
	case strings.TrimSpace(name) == "":
		v.Add(where, "it needs a name")
	case strings.TrimSpace(name) != name:
		v.Add(where, "the name begins or ends with a blank")
	case utf8.RuneCountInString(name) > 200:
		v.Add(where, "the name is longer than 200 characters")
	case onlyDigits.MatchString(name):
		v.Add(where, "a name of digits only would be taken for a number; add a letter")
	case strings.Contains(name, "/"):
		v.Add(where, "the name holds a slash")
	case strings.ContainsFunc(name, unseen):
		v.Add(where,
			"the name holds a character that nobody sees, such as a control character or a blank of no width; "+
				"write it anew")
	case strings.Contains(name, "  "):
		v.Add(where, "the name holds two blanks in a row, which look like one")
	}
}

// blanks are letters and signs by their class that show nothing (Unicode, property
// Default_Ignorable_Code_Point, and the empty Braille cell).
var blanks = []rune{0x034F, 0x115F, 0x1160, 0x17B4, 0x17B5, 0x2800, 0x3164, 0xFFA0}

// joiners join or part letters, or choose their form: some scripts are not written without.
// Names that differ only by them are one (name_key in the schema).
var joiners = []rune{0x200C, 0x200D, 0xFE0E, 0xFE0F}

// unseen tells whether a character cannot be seen, or not told from a blank.
func unseen(r rune) bool {
	if r == ' ' || slices.Contains(joiners, r) {
		return false
	}
	return unicode.In(r, unicode.C, unicode.Z) || slices.Contains(blanks, r) ||
		unicode.Is(unicode.Variation_Selector, r)
}
