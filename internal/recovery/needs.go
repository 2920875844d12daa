package recovery

import (
	"cmp"
	"context"
	"slices"

	"dorvik.dev/dorvik/internal/core/history"
	"dorvik.dev/dorvik/internal/core/object"
	"dorvik.dev/dorvik/internal/core/settle"
	"dorvik.dev/dorvik/internal/plan"
)

// Needs lists earlier commits of the same line that picked commits build on: they changed the files in which the pick
// conflicts, and with them fewer decisions are asked.
type Needs struct {
	Commits []history.Node // oldest first
	Asks    int            // decisions without them
	With    int            // decisions with them
	Picks   []object.ID    // all to be picked, in their order
}

// needer finds what picks need.
type needer struct{ planner *plan.Planner }

// mostNeeded limits the commits that are taken along.
const mostNeeded = 50

// of returns what the picks of a position need, or nil.
func (n needer) of(ctx context.Context, p *plan.Position, j *plan.Join, decisions *settle.Decisions) (*Needs, error) {
	if !p.IsPick() || p.Resumes() != nil || j.Open == 0 {
		return nil, nil
	}
	picks := plan.IdsOf(p.Divergence.Theirs)
	needed, err := n.earlier(ctx, p, j, picks)
	if err != nil || len(needed) == 0 {
		return nil, err
	}
	out := &Needs{Asks: j.Open}
	for _, c := range needed {
		out.Commits = append(out.Commits, c)
		picks = append(picks, c.ID)
	}
	if out.Picks, err = inTheirOrder(ctx, n.planner.Store, picks, p.Yours); err != nil {
		return nil, err
	}
	slices.SortFunc(out.Commits, func(a, b history.Node) int {
		return cmp.Compare(slices.Index(out.Picks, a.ID), slices.Index(out.Picks, b.ID))
	})
	with, err := n.planner.Picking(ctx, p.Upstream(), out.Picks, p.PickParent())
	if err != nil {
		return nil, nil // a merge among them: it cannot be picked without saying against which parent
	}
	all, err := n.planner.Join(ctx, with, plan.Pick, decisions, plan.Amends{}, nil)
	if err != nil {
		return nil, err
	}
	if out.With = all.Open; out.With >= out.Asks {
		return nil, nil
	}
	return out, nil
}

// earlier returns the commits before the picked ones that your line does not have and that changed a file in which the
// pick conflicts.
func (n needer) earlier(ctx context.Context, p *plan.Position, j *plan.Join, picks []object.ID) (
	map[object.ID]history.Node, error) {
	needed := map[object.ID]history.Node{}
	for i := range j.Stops {
		stop := &j.Stops[i]
		if stop.Uncommitted || stop.Commit.Commit == nil || len(stop.Commit.Parents) == 0 {
			continue
		}
		paths := map[string]bool{}
		for _, f := range stop.Files {
			for _, q := range f.Questions {
				paths[q.Path] = true
			}
		}
		before, err := history.Only(ctx, n.planner.Store, stop.Commit.Parents[0], p.Yours)
		if err != nil {
			return nil, err
		}
		for _, c := range before[:min(len(before), mostNeeded)] {
			if len(c.Parents) > 1 || slices.Contains(picks, c.ID) {
				continue
			}
			if err := history.EachChange(ctx, n.planner.Store, c.Commit, func(ch object.Change) {
				if paths[ch.Path] {
					needed[c.ID] = c
				}
			}); err != nil {
				return nil, err
			}
		}
	}
	return needed, nil
}

// inTheirOrder sorts commits so that each comes after its ancestors among them. Others keep their order.
func inTheirOrder(ctx context.Context, store *object.Overlay, ids []object.ID, below object.ID) ([]object.ID, error) {
	rank := map[object.ID]int{} // commits up to it that are not in below: an ancestor has fewer
	for _, id := range ids {
		list, err := history.Only(ctx, store, id, below)
		if err != nil {
			return nil, err
		}
		rank[id] = len(list)
	}
	out := slices.Clone(ids)
	slices.SortStableFunc(out, func(a, b object.ID) int { return cmp.Compare(rank[a], rank[b]) })
	return out, nil
}
