// Package faults drives the real programs end to end while something goes wrong: nodes are
// killed, lines break, disks fill, others send what they should not; and over upgrades,
// copies and weeks. What the service promises must hold all the same.
package faults

import (
	"os"
	"testing"

	"ironbell/test/world"
)

func TestMain(m *testing.M) { os.Exit(world.Run(m)) }
