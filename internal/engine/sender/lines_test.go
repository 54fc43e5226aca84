package sender

import (
	"context"
	"testing"
	"time"

	"ironbell/internal/deliver"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// place opens lines and counts them.
type place struct{ opened, closed int }

type wire struct {
	of  *place
	fit bool
}

func (p *place) Open(context.Context) (deliver.Line, error) {
	p.opened++
	return &wire{of: p, fit: true}, nil
}

func (p *place) Test(context.Context) (deliver.Tested, error) { return deliver.Tested{}, nil }

func (w *wire) Send(context.Context, deliver.Handover, func(context.Context) error) (deliver.Result, error) {
	return deliver.Result{}, nil
}
func (w *wire) Fit() bool { return w.fit }
func (w *wire) Close()    { w.of.closed++ }

func TestNobodyHasMoreThanTheirLines(t *testing.T) {
	p := newLines()
	l := &p
	ids, room := l.busy(2, 3)
	assert.Empty(t, ids)
	assert.Equal(t, 3, room)
	connected, end := l.begin(7)
	ids, room = l.busy(2, 3)
	assert.Equal(t, []int64{7}, ids, "nothing more goes to one that is not connected yet")
	assert.Equal(t, 2, room)
	connected()
	connected() // once is enough
	ids, _ = l.busy(2, 3)
	assert.Empty(t, ids)
	secondConnected, secondEnd := l.begin(7)
	secondConnected()
	ids, room = l.busy(2, 3)
	assert.Equal(t, []int64{7}, ids, "it has all the lines that it may have")
	assert.Equal(t, 1, room)
	_, thirdEnd := l.begin(8)
	_, room = l.busy(2, 3)
	assert.Zero(t, room)
	thirdEnd() // without ever being connected
	end()
	ids, room = l.busy(2, 3)
	assert.Empty(t, ids)
	assert.Equal(t, 2, room)
	secondEnd()
	_, room = l.busy(2, 3)
	assert.Equal(t, 3, room)
	assert.Empty(t, l.batches)
	assert.Empty(t, l.dialing)
}

func TestLinesAreUsedAgainWhileTheyAreFitAndOfTheSameSettings(t *testing.T) {
	ctx := context.Background()
	p := newLines()
	l := &p
	first, second := &place{}, &place{}
	take := func(of *place) deliver.Line {
		line, err := l.take(ctx, 7, of)
		require.NoError(t, err)
		return line
	}
	line := take(first)
	l.put(7, first, line)
	assert.Same(t, line, take(first), "one that is idle is used again")
	l.put(7, first, line)
	assert.NotSame(t, line, take(second), "settings that were saved since want another")
	assert.Equal(t, 1, first.closed)

	line = take(first)
	l.put(7, first, line)
	l.idle[7][0].since = time.Now().Add(-freshLine)
	line.(*wire).fit = false
	assert.NotSame(t, line, take(first), "one that rested is asked whether it is still there")

	for range maxIdle + 2 {
		l.put(7, second, &wire{of: second, fit: true})
	}
	assert.Len(t, l.idle[7], maxIdle, "idle ones are bounded")
	l.sweep(true)
	assert.Empty(t, l.idle)
	l.put(7, second, &wire{of: second})
	assert.Empty(t, l.idle, "nothing is kept once everything ended")
}
