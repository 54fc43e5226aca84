// Package test drives the real programs end to end: the service on loopback
// through its client, its API and its console, with real PostgreSQL, the
// stand-in mail server and headless Chromium.
package test

import (
	"os"
	"testing"

	"ironbell/test/world"
)

func TestMain(m *testing.M) { os.Exit(world.Run(m)) }
