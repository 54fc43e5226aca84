package enginetest

import (
	"context"
	"sync/atomic"

	"ironbell/internal/localpg/lossy"
	"ironbell/internal/store"
	"ironbell/internal/task"

	"github.com/stretchr/testify/require"
)

// Lossy is a line to the office's database that swallows answers, and the records over it.
func (o *Office) Lossy() (*lossy.Line, *store.Store) {
	o.t.Helper()
	line, dsn, err := lossy.Open(o.DSN)
	require.NoError(o.t, err)
	o.t.Cleanup(line.Close)
	s, err := store.Open(o.Ctx, dsn, store.Options{Conns: 10})
	require.NoError(o.t, err)
	o.t.Cleanup(s.Close)
	return line, s
}

// Effects counts the tasks that are carried out with the word effect.
func (k *Strain) Effects() *atomic.Int64 {
	n := &atomic.Int64{}
	k.Mean("effect", func(context.Context, task.Work) (task.Result, error) {
		n.Add(1)
		return task.Result{}, nil
	})
	return n
}
