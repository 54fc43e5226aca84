package publisher_test

import (
	"testing"

	"ironbell/internal/localpg/pgtest"
)

func TestMain(m *testing.M) { pgtest.Main(m) }
