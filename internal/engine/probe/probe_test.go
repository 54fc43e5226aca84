package probe

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"ironbell/internal/engine/node"
)

func TestProbesComeLessAndLessOften(t *testing.T) {
	e := &Prober{node: &node.Node{FirstProbe: 5 * time.Second}}
	last := time.Duration(0)
	for probes := range 40 {
		wait := e.probeWait(probes)
		assert.GreaterOrEqual(t, wait, last)
		assert.LessOrEqual(t, wait, probeLongest)
		last = wait
	}
	assert.Equal(t, 5*time.Second, e.probeWait(0))
	assert.Equal(t, probeLongest, last)
}
