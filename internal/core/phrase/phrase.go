// Package phrase puts words into sentences. It is pure.
package phrase

import (
	"fmt"
	"strings"
	"unicode"
	"unicode/utf8"
)

// Upper is a phrase with a capital at its start.
func Upper(text string) string {
	first, size := utf8.DecodeRuneInString(text)
	if first == utf8.RuneError {
		return text
	}
	return string(unicode.ToUpper(first)) + text[size:]
}

// Sentence makes a sentence of a phrase: with a capital, and a full stop if it has none.
func Sentence(text string) string {
	if text == "" || strings.HasSuffix(text, ".") {
		return Upper(text)
	}
	return Upper(text) + "."
}

// Plural is the word for so many of a thing.
func Plural(n int, one, many string) string {
	if n == 1 {
		return one
	}
	return many
}

// Count is how many of a thing there are, whose plural has an s.
func Count(n int, one string) string {
	return fmt.Sprintf("%d %s", n, Plural(n, one, one+"s"))
}
