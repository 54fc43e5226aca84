package probe

import (
	"testing"
	"time"

	"ironbell/internal/engine/node"

	"github.com/stretchr/testify/assert"
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
