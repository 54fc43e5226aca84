// Package console drives the console end to end, in headless Chromium, over the real service: its
// pages, its editors, and what they ask of the service.
package console

import (
	"os"
	"testing"

	"ironbell/test/world"
)

func TestMain(m *testing.M) { os.Exit(world.Run(m)) }
