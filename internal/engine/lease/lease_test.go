package lease

import (
	"context"
	"testing"
	"time"

	"ironbell/internal/core/job"
	"ironbell/internal/store/queue"
	"ironbell/internal/store/sending"

	"github.com/stretchr/testify/assert"
)

// working holds a part and gives the context of its work.
func working(h *Holdings, run int64, no int, lease int64, since time.Time) (queue.Claim, context.Context) {
	ctx, end := context.WithCancelCause(context.Background())
	c := queue.Claim{RunID: job.RunID(run), Part: no, LeaseNo: lease}
	h.Hold(c, end, since)
	return c, ctx
}

// Work ends when its lease was not prolonged in time by this node's own clock, and not before.
func TestWorkEndsWithItsLease(t *testing.T) {
	h := New(10 * time.Second)
	start := time.Now()
	kept, goesOn := working(h, 1, 1, 1, start)
	lost, ends := working(h, 1, 2, 1, start)
	old, alsoEnds := working(h, 2, 1, 3, start)
	renewed := old
	renewed.LeaseNo = 2 // a lease of before is prolonged by nobody
	assert.Empty(t, h.Renewed([]queue.Claim{kept, lost, old}, start, start.Add(9*time.Second)))
	assert.NoError(t, context.Cause(ends))
	got := h.Renewed([]queue.Claim{kept, renewed}, start.Add(5*time.Second), start.Add(11*time.Second))
	assert.ElementsMatch(t, []queue.Claim{lost, old}, got)
	assert.NoError(t, context.Cause(goesOn))
	assert.ErrorIs(t, context.Cause(ends), ErrLost)
	assert.ErrorIs(t, context.Cause(alsoEnds), ErrLost)
	h.Release(lost)
	h.Release(old)
	assert.Empty(t, h.Renewed(nil, start.Add(6*time.Second), start.Add(14*time.Second)))
	parts, _ := h.All()
	assert.Equal(t, []queue.Claim{kept}, parts)
}

// A cancelled run's parts end, and no other's.
func TestACancelledRunEnds(t *testing.T) {
	h := New(time.Minute)
	one, first := working(h, 1, 1, 1, time.Now())
	_, second := working(h, 1, 2, 1, time.Now())
	_, other := working(h, 2, 1, 1, time.Now())
	h.Cancel(one.RunID.String())
	assert.ErrorIs(t, context.Cause(first), ErrCancelled)
	assert.ErrorIs(t, context.Cause(second), ErrCancelled)
	assert.NoError(t, context.Cause(other))
}

// Entries are numbered under the lease that the node has, and under no other.
func TestEntriesAreNumberedUnderTheirLease(t *testing.T) {
	h := New(time.Minute)
	c, _ := working(h, 1, 1, 4, time.Now())
	assert.Equal(t, []int64{1, 2}, []int64{h.Number(c), h.Number(c)})
	before := c
	before.LeaseNo = 3
	assert.Zero(t, h.Number(before))
	h.Release(c)
	assert.Zero(t, h.Number(c))
	again, _ := working(h, 1, 1, 5, time.Now())
	assert.Equal(t, int64(1), h.Number(again), "each lease counts for itself")
	h.HoldSending([]sending.Sending{{ID: 7}, {ID: 8}})
	h.ReleaseSending(sending.Sending{ID: 7})
	_, sendings := h.All()
	assert.Equal(t, []sending.Sending{{ID: 8}}, sendings)
}
