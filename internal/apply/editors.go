package apply

import (
	"context"

	"dorvik.dev/dorvik/internal/change"
	"dorvik.dev/dorvik/internal/core/object"
	"dorvik.dev/dorvik/internal/plan"
)

// Touched lists the files that a join changes, and which of them seem to be open in an editor.
func (w *WorkTree) Touched(ctx context.Context, p *plan.Position, tree object.ID) (*change.Touched, error) {
	from, err := w.Planner.Tree(ctx, p.Head())
	if err != nil {
		return nil, err
	}
	own, err := w.ownWork(ctx, p)
	if err != nil {
		return nil, err
	}
	return w.dir().Touched(ctx, from, tree, own)
}

// ownWork returns the paths with uncommitted work of the person, without those that a half-done operation of git
// wrote.
func (w *WorkTree) ownWork(ctx context.Context, p *plan.Position) (map[string]bool, error) {
	own := map[string]bool{}
	if p.Stuck == nil {
		for _, d := range p.Dirty {
			own[d.Path] = !d.Untracked
		}
		return own, nil
	}
	if p.Carried == nil {
		return own, nil
	}
	for _, part := range p.Carried.Parts {
		if err := w.Planner.Store.EachChange(ctx, part.Base, part.Tree,
			func(c object.Change) { own[c.Path] = true }); err != nil {
			return nil, err
		}
	}
	return own, nil
}
