package engine

import (
	"context"

	"ironbell/internal/access"
	"ironbell/internal/core/job"
	"ironbell/internal/store"
)

// Nodes lists the nodes that live, with what each works on.
func (e *Engine) Nodes(ctx context.Context) ([]store.Node, error) { return e.store.Nodes(ctx) }

// Finish asks a node to finish what it has and to take no more work, or to work on.
// Its rings, pages and upkeep go on.
func (e *Engine) Finish(ctx context.Context, who job.Person, node string, finish bool) error {
	if err := access.May(who, access.Administer, "", ""); err != nil {
		return err
	}
	return e.store.Do(ctx, func(t *store.Tx) error {
		if err := t.FinishNode(ctx, node, finish); err != nil {
			return err
		}
		return t.Audit(ctx, who.Login, map[bool]string{true: "finish", false: "work on"}[finish], "node", node, nil, nil)
	})
}
