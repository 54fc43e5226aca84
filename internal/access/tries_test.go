package access_test

import (
	"fmt"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"ironbell/internal/access"

	"github.com/stretchr/testify/assert"
)

func TestFailedTriesAreCountedForEachPairAndAddress(t *testing.T) {
	now := time.Date(2026, 11, 28, 9, 0, 30, 0, time.UTC)
	var tries access.Tries
	var let atomic.Int64
	var all sync.WaitGroup
	for range 200 { // all at once
		all.Go(func() {
			if tries.Take(now, "mara", "192.0.2.7") {
				let.Add(1)
			}
		})
	}
	all.Wait()
	assert.Equal(t, int64(10), let.Load(), "tries that are made at once count together")
	assert.False(t, tries.Take(now, "MARA", "192.0.2.7"))
	assert.True(t, tries.Take(now, "mara", "192.0.2.8"), "nobody shuts others out: from elsewhere she may sign in")
	assert.True(t, tries.Take(now, "joren", "192.0.2.7"))
	for n := range 200 {
		tries.Take(now, fmt.Sprint("login ", n), "192.0.2.7")
	}
	assert.False(t, tries.Take(now, "one more", "192.0.2.7"), "an address has a limit of its own")
	for range 500 {
		assert.True(t, tries.Take(now, "mara", "192.0.2.9"))
		tries.GiveBack(now, "mara", "192.0.2.9")
	}
	assert.True(t, tries.Take(now.Add(time.Minute), "mara", "192.0.2.7"), "a minute later")
	tries.GiveBack(now, "mara", "192.0.2.7") // of the minute before
	for range 9 {
		assert.True(t, tries.Take(now.Add(time.Minute), "mara", "192.0.2.7"))
	}
	assert.False(t, tries.Take(now.Add(time.Minute), "mara", "192.0.2.7"))
}
