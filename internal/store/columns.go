package store

import "ironbell/internal/core/job"

// columns collects rows for unnest.
type columns struct {
	run   []int64
	parts []int32
	lease []int64
	n     []int64
}

// part adds the key of a part.
func (c *columns) part(run job.RunID, part int) {
	c.run, c.parts = append(c.run, int64(run)), append(c.parts, int32(part)) //nolint:gosec // parts are counted
}

