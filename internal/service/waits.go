package service

import (
	"context"

	"ironbell/internal/core/job"
)

// Missing says in words what a waiting run still waits for; nothing when it only
// waits for its turn.
func (rs *Runs) Missing(ctx context.Context, run job.Run) ([]string, error) {
	return rs.runs.Missing(ctx, rs.store, run)
}
