package recovery

import (
	"cmp"
	"context"
	"fmt"
	"slices"

	"dorvik.dev/dorvik/internal/core/history"
	"dorvik.dev/dorvik/internal/core/object"
	"dorvik.dev/dorvik/internal/core/settle"
	"dorvik.dev/dorvik/internal/plan"
	"dorvik.dev/dorvik/internal/words"
)

// Needs lists earlier commits of the same line that picked commits build on: they changed the files in which the pick
// conflicts, and with them fewer decisions are asked; or they brought names that the pick uses.
type Needs struct {
	Commits []history.Node // oldest first
	Asks    int            // decisions without them
	With    int            // decisions with them
	Names   []string       // names that the pick lacks without them
	Picks   []object.ID    // all to be picked, in their order
}

// Sentences describes them.
func (n *Needs) Sentences() string {
	var subjects []string
	for _, c := range n.Commits {
		subjects = append(subjects, "“"+c.Subject()+"”")
	}
	text := fmt.Sprintf("What is picked builds on %s of its line that your branch does not have: %s.",
		words.Count(len(subjects), "earlier commit", "earlier commits"), words.List(words.Some(subjects, 3)))
	if len(n.Names) > 0 {
		text += fmt.Sprintf(" It uses %s from there.", words.List(words.Some(n.Names, 3)))
	}
	if n.With < n.Asks {
		text += fmt.Sprintf(" With %s, %s asked instead of %d.", words.Is(len(subjects), "it", "them"),
			words.Count(n.With, "decision is", "decisions are"), n.Asks)
	}
	return text
}

// Needs returns what the picks of a position need besides, or nil.
func (w *Workspace) Needs(ctx context.Context, p *plan.Position, j *plan.Join, decisions *settle.Decisions) (*Needs,
	error) {
	return needer{w.Planner}.of(ctx, p, j, decisions)
}

// needer finds what picks need.
type needer struct{ planner *plan.Planner }

// mostNeeded limits the commits that are taken along.
const mostNeeded = 50

// of returns what the picks of a position need, or nil. What is needed can need more in turn.
func (n needer) of(ctx context.Context, p *plan.Position, j *plan.Join, decisions *settle.Decisions) (*Needs, error) {
	if !p.IsPick() || p.Resumes() != nil || p.MovesBack() {
		return nil, nil
	}
	out := &Needs{Asks: j.Open, Picks: plan.IdsOf(p.Divergence.Theirs)}
	needed := map[object.ID]history.Node{}
	at, with := p, j
	for len(needed) < mostNeeded {
		found, err := n.earlier(ctx, at, with, out.Picks)
		if err != nil {
			return nil, err
		}
		lacks, err := n.planner.Foresight.Lacks(ctx, at, with, func(picked history.Node) ([]history.Node, error) {
			return n.before(ctx, at, picked)
		})
		if err != nil {
			return nil, err
		}
		for _, l := range lacks {
			if found[l.From.ID] = l.From; !slices.Contains(out.Names, l.Name) {
				out.Names = append(out.Names, l.Name)
			}
		}
		grows := false
		for id, c := range found {
			if !slices.Contains(out.Picks, id) {
				needed[id], grows = c, true
				out.Picks = append(out.Picks, id)
			}
		}
		if !grows {
			break
		}
		if out.Picks, err = inTheirOrder(ctx, n.planner.Store, out.Picks, p.Yours); err != nil {
			return nil, err
		}
		if at, err = n.planner.Picking(ctx, p.Upstream(), out.Picks, p.PickParent()); err != nil {
			return nil, ctx.Err() // a merge among them: it cannot be picked without saying against which parent
		}
		if with, err = n.planner.Join(ctx, at, plan.Pick, decisions, plan.Amends{}, nil); err != nil {
			return nil, err
		}
	}
	if out.With = with.Open; len(needed) == 0 || out.With >= out.Asks && len(out.Names) == 0 {
		return nil, nil
	}
	for _, id := range out.Picks {
		if c, ok := needed[id]; ok {
			out.Commits = append(out.Commits, c)
		}
	}
	return out, nil
}

// before lists the commits before a picked one that your line does not have, newest first.
func (n needer) before(ctx context.Context, p *plan.Position, picked history.Node) ([]history.Node, error) {
	if picked.Commit == nil || len(picked.Parents) == 0 {
		return nil, nil
	}
	list, err := history.Only(ctx, n.planner.Store, picked.Parents[0], p.Yours)
	return list[:min(len(list), mostNeeded)], err
}

// earlier returns the commits before the picked ones that your line does not have and that changed a file in which the
// pick conflicts.
func (n needer) earlier(ctx context.Context, p *plan.Position, j *plan.Join, picks []object.ID) (
	map[object.ID]history.Node, error) {
	needed := map[object.ID]history.Node{}
	for i := range j.Stops {
		stop := &j.Stops[i]
		if stop.Uncommitted {
			continue
		}
		paths := map[string]bool{}
		for _, f := range stop.Files {
			for _, q := range f.Questions {
				paths[q.Path] = true
			}
		}
		before, err := n.before(ctx, p, stop.Commit)
		if err != nil {
			return nil, err
		}
		for _, c := range before {
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
