package plan

import (
	"context"
	"fmt"
	"slices"

	"dorvik.dev/dorvik/internal/core/merge"
	"dorvik.dev/dorvik/internal/core/object"
)

// takenBack returns a remark for each of your commits whose change they made too and then reverted. Such commits do
// not conflict, so the join would restore the change silently.
func (pn *Planner) takenBack(ctx context.Context, p *Position, j *Join) (out []merge.Remark, err error) {
	back, err := pn.Changes.TakenBack(ctx, pn.Engine, p.Divergence.Yours, p.Divergence.Theirs)
	if err != nil || len(back) == 0 {
		return nil, err
	}
	left := map[object.ID]bool{}
	for i := range j.Steps {
		left[j.Steps[i].Commit.ID] = j.Steps[i].Left()
	}
	for _, n := range slices.Backward(p.Divergence.Yours) {
		if undo, ok := back[n.ID]; ok && !left[n.ID] {
			out = append(out, merge.Remark{Words: fmt.Sprintf("your commit %s “%s” makes a change again that %s "+
				"took back in %s", pn.Short(n.ID), n.Subject(), undo.Author().Name, pn.Short(undo.ID))})
		}
	}
	return out, nil
}
