package notices

import (
	"testing"

	"ironbell/internal/core/job"

	"github.com/stretchr/testify/assert"
)

// Who keeps up hears each notice in its order; who does not hears that something was missed,
// and holds up nobody.
func TestWatchersThatFallBehindAreToldThatTheyMissedSomething(t *testing.T) {
	var w Watchers
	w.Tell(job.Notice{Kind: job.NoticeRun}) // nobody watches yet
	slow, stop := w.Watch()
	quick, stopQuick := w.Watch()
	defer stopQuick()
	for n := range 2 * held {
		told := job.Notice{Kind: job.NoticeRun, ID: job.RunID(n + 1).String()}
		w.Tell(told)
		assert.Equal(t, told, <-quick)
	}
	kinds := map[job.NoticeKind]int{}
	for len(slow) > 0 {
		kinds[(<-slow).Kind]++
	}
	assert.Positive(t, kinds[job.NoticeEverything])
	stop()
	w.Tell(job.Notice{Kind: job.NoticeRun})
	assert.Empty(t, slow)
}
