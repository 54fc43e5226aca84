package wallclock

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestAClockIsTurnedForThoseThatAreStarted(t *testing.T) {
	t.Cleanup(func() { ahead.Store(0) })
	t.Setenv(Variable, "")
	require.NoError(t, Read())
	assert.Zero(t, Ahead())

	require.NoError(t, Turn(26*time.Hour))
	assert.WithinDuration(t, time.Now().Add(26*time.Hour), Now(), time.Minute)
	ahead.Store(0)
	require.NoError(t, Read(), "as another process would")
	assert.Equal(t, 26*time.Hour, Ahead())

	t.Setenv(Variable, "tomorrow")
	assert.ErrorContains(t, Read(), "it takes a duration such as 26h")
	assert.Equal(t, 26*time.Hour, Ahead(), "what cannot be read turns nothing")
}
