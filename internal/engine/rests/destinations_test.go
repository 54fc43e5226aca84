package rests

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestNamesStandInAShellAsTheyAre(t *testing.T) {
	for name, want := range map[string]string{
		"authority": "authority", "company mail": "'company mail'", "Oren's $HOME": `'Oren'\''s $HOME'`, "a`b": "'a`b'",
		`a"b`: `'a"b'`,
	} {
		assert.Equal(t, want, quoted(name))
	}
}
