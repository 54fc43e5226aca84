package db

import (
	"strings"

	"ironbell/internal/core/job"
)

// maxLine bounds a text that is kept, in bytes.
const maxLine = 4_000

// Emptied is a list that is never nil, so that it stands as an empty one.
func Emptied(all []string) []string {
	if all == nil {
		return []string{}
	}
	return all
}

// Bounded cuts a text to the length of a line and takes out what no text column takes.
func Bounded(text string) string {
	text = strings.ReplaceAll(strings.ToValidUTF8(text, "?"), "\x00", "?")
	if len(text) > maxLine {
		text = strings.ToValidUTF8(text[:maxLine], "") + " (cut)"
	}
	return text
}

// Level is the level of a line of a log; info when nothing is said.
func Level(l string) string {
	if l == "" {
		return "info"
	}
	return l
}

// Numbers are ids as the database takes them.
func Numbers(ids []job.RunID) []int64 {
	out := make([]int64, len(ids))
	for i, id := range ids {
		out[i] = int64(id)
	}
	return out
}
