package service

import (
	"context"

	"ironbell/internal/access"
	"ironbell/internal/core/job"
	"ironbell/internal/installation"
	"ironbell/internal/store"
	"ironbell/internal/store/operation"
)

// Nodes lists the nodes that live, with what each works on.
func (in *Installation) Nodes(ctx context.Context) ([]operation.Node, error) {
	return in.store.Nodes(ctx)
}

// Finish asks a node to finish what it has and to take no more work, or to work on.
// Its rings, pages and upkeep go on.
func (in *Installation) Finish(ctx context.Context, who job.Person, node string, finish bool) error {
	if err := access.May(who, access.Administer, "", ""); err != nil {
		return err
	}
	return in.store.Do(ctx, func(t *store.Tx) error {
		if err := t.FinishNode(ctx, node, finish); err != nil {
			return err
		}
		return t.Audit(ctx, who.Login, map[bool]string{true: "finish", false: "work on"}[finish], "node", node, nil,
			nil)
	})
}

// Is tells what this installation knows of itself.
func (in *Installation) Is(ctx context.Context) (installation.Installation, error) {
	return in.installation.Is(ctx)
}

// State tells what an operator must know. Its error is that the database does not answer.
func (in *Installation) State(ctx context.Context) (job.ServiceState, error) {
	return in.installation.State(ctx)
}
