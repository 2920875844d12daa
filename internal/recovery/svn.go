package recovery

import (
	"context"

	"dorvik.dev/dorvik/internal/change"
	"dorvik.dev/dorvik/internal/core/object"
	"dorvik.dev/dorvik/internal/ledger"
	"dorvik.dev/dorvik/internal/plan"
	"dorvik.dev/dorvik/internal/prove"
	"dorvik.dev/dorvik/internal/svn"
	"dorvik.dev/dorvik/internal/svnapply"
)

// This file alone knows Subversion.

// openSvn opens the working copy of Subversion with the given top.
func openSvn(ctx context.Context, top string) (*Workspace, error) {
	repo, err := svn.Open(ctx, top)
	if err != nil {
		return nil, err
	}
	tree := &svnapply.WorkTree{Repo: repo}
	return NewWorkspace(Adapter{
		Repo:  repo,
		Store: object.NewOverlay(object.SHA1, repo),
		WorkTree: func(p *plan.Planner) change.WorkTree {
			tree.Planner = p
			return tree
		},
		Mover: func(p *plan.Planner, l *ledger.Ledger, _ *prove.Prover, _ change.WorkTree) change.Mover {
			return svnapply.New(repo, p, l, tree)
		},
		Lone: func(path string) bool {
			_, _, property := svn.PropertyOf(path)
			return property
		},
		Ruled:    svn.Ruled,
		Locks:    repo.Held,
		Contains: func(context.Context, string, object.ID, object.ID) bool { return false },
	}), nil
}
