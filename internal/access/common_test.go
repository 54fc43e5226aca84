package access_test

import (
	"strings"
	"testing"

	"ironbell/internal/access"

	"github.com/stretchr/testify/assert"
)

func TestCommonPasswordsAreKnown(t *testing.T) {
	for _, p := range []string{
		"", "password12", "Password123!", "qwertyuiop", "1234567890", "aaaaaaaaaaaa",
		"abcdefghijkl", "mara.quill.2026", "ironbell-ironbell", strings.Repeat("ab1", 300),
	} {
		assert.True(t, access.Common(p, "mara", "Mara Quill", "mara.quill@tarnwick.example"), p)
	}
	for _, p := range []string{"harbour-lantern", "slipway-lantern", "steep harbour wall", "zwölf graue Möwen"} {
		assert.False(t, access.Common(p, "mara", "Mara Quill", "mara.quill@tarnwick.example"), p)
	}
}
