package recovery

import (
	"context"

	"dorvik.dev/dorvik/internal/change"
	"dorvik.dev/dorvik/internal/core/object"
	"dorvik.dev/dorvik/internal/hg"
	"dorvik.dev/dorvik/internal/hgapply"
	"dorvik.dev/dorvik/internal/ledger"
	"dorvik.dev/dorvik/internal/plan"
	"dorvik.dev/dorvik/internal/prove"
)

// This file alone knows Mercurial.

// openHg opens the Mercurial repository whose working folder has the given top.
func openHg(ctx context.Context, top string) (*Workspace, error) {
	repo, err := hg.Open(ctx, top)
	if err != nil {
		return nil, err
	}
	tree := &hgapply.WorkTree{Repo: repo}
	return NewWorkspace(Adapter{
		Repo:  repo,
		Store: object.NewOverlay(object.SHA1, repo),
		WorkTree: func(p *plan.Planner) change.WorkTree {
			tree.Planner = p
			return tree
		},
		Mover: func(p *plan.Planner, l *ledger.Ledger, prover *prove.Prover, _ change.WorkTree) change.Mover {
			return hgapply.New(repo, p, l, tree)
		},
		Contains: func(context.Context, string, object.ID, object.ID) bool { return false },
		Recorded: repo.Recorded,
	}), nil
}
