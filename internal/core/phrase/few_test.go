package phrase_test

import (
	"testing"

	"ironbell/internal/core/phrase"

	"github.com/stretchr/testify/assert"
)

func TestManyAreListedByTheFirst(t *testing.T) {
	many := make([]string, 25)
	for i := range many {
		many[i] = "a"
	}
	assert.Equal(t, "a, a", phrase.Few(many[:2]))
	assert.Contains(t, phrase.Few(many), " and 5 more")
}
