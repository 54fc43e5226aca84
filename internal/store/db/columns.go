package db

import (
	"ironbell/internal/core/job"
)

// Columns collects rows for unnest.
type Columns struct {
	Run   []int64
	Parts []int32
	Lease []int64
	N     []int64
}

// Part adds the key of a part.
func (c *Columns) Part(run job.RunID, part int) {
	c.Run, c.Parts = append(c.Run, int64(run)), append(c.Parts, int32(part)) //nolint:gosec // parts are counted
}
