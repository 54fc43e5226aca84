package access

import (
	"slices"
	"strings"
	"unicode"
	"unicode/utf8"

	"github.com/trustelem/zxcvbn"
)

// Common tells whether a password is among those that are guessed first: of lists of common
// ones, of names, of rows of keys and dates, or made of words that belong to its person. It
// takes longer the longer a password is, so only its beginning is looked at.
func Common(password string, words ...string) bool {
	const looked, enough, ownLeft = 64, 3, 6 // score 3: at least a hundred million guesses
	if letters := []rune(password); len(letters) > looked {
		password = string(letters[:looked])
	}
	left := strings.ToLower(password)
	ours := []string{"iron", "bell", "ironbell"}
	for _, w := range words {
		ours = append(ours,
			strings.FieldsFunc(strings.ToLower(w),
				func(r rune) bool { return !unicode.IsLetter(r) && !unicode.IsDigit(r) })...)
	}
	slices.SortFunc(ours, func(a, b string) int { return len(b) - len(a) })
	for _, w := range ours {
		if len(w) > 2 {
			left = strings.ReplaceAll(left, w, "")
		}
	}
	left = strings.Map(func(r rune) rune {
		if unicode.IsLetter(r) || unicode.IsDigit(r) {
			return r
		}
		return -1
	}, left)
	return utf8.RuneCountInString(left) < ownLeft || zxcvbn.PasswordStrength(password, ours).Score < enough
}
