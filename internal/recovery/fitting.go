package recovery

import (
	"context"
	"slices"

	"dorvik.dev/dorvik/internal/core/diff"
	"dorvik.dev/dorvik/internal/core/history"
	"dorvik.dev/dorvik/internal/core/misfit"
	"dorvik.dev/dorvik/internal/core/object"
)

// Misfit is two edits that join as text and will not work together, with the commits that made them. A commit is zero
// where it is not known.
type Misfit struct {
	misfit.Misfit
	ChangedIn, UsedIn history.Node
}

// Misfits finds what of a join will not work together. There are none where nothing is joined.
func (w *Workspace) Misfits(ctx context.Context, p *Position, j *Join) ([]Misfit, error) {
	if j == nil || j.Refused != nil || p.Trivial() != NotTrivial || p.Resume != nil || p.Picking || j.Tree.IsZero() {
		return nil, nil
	}
	var t misfit.Trees
	for commit, to := range map[object.ID]*object.ID{p.Base(): &t.Base, p.Yours: &t.Yours, p.Theirs: &t.Theirs} {
		if commit.IsZero() {
			return nil, nil
		}
		tree, err := w.Tree(commit)
		if err != nil {
			return nil, err
		}
		*to = tree
	}
	t.Joined = j.Tree
	w.mu.Lock()
	known, ok := w.misfits[t]
	w.mu.Unlock()
	if ok {
		return known, nil
	}
	found, err := misfit.Find(ctx, w.Store, t)
	if err != nil {
		return nil, err
	}
	var out []Misfit
	for _, m := range found {
		one := Misfit{Misfit: m}
		if one.ChangedIn, err = w.madeBy(p, m.Changed); err != nil {
			return nil, err
		}
		if one.UsedIn, err = w.madeBy(p, m.Used); err != nil {
			return nil, err
		}
		out = append(out, one)
	}
	w.mu.Lock()
	defer w.mu.Unlock()
	if w.misfits == nil || len(w.misfits) > 8 {
		w.misfits = map[misfit.Trees][]Misfit{}
	}
	w.misfits[t] = out
	return out, nil
}

// MisfitsOf finds those of the routes of a plan.
func (w *Workspace) MisfitsOf(ctx context.Context, p *Position, pl *Plan) (map[Route][]Misfit, error) {
	out := map[Route][]Misfit{}
	for _, j := range []*Join{pl.Merge, pl.Rebase} {
		if j == nil {
			continue
		}
		found, err := w.Misfits(ctx, p, j)
		if err != nil {
			return nil, err
		}
		out[j.Route] = found
	}
	return out, nil
}

// madeBy finds the commit that wrote a line of a side, or that took it out.
func (w *Workspace) madeBy(p *Position, at misfit.Place) (history.Node, error) {
	side := p.Divergence.Yours
	if at.Side == "theirs" {
		side = p.Divergence.Theirs
	}
	if at.Gone {
		return w.takenOutBy(side, at)
	}
	n, _, err := w.Annotator(side).Editor(at.Path, []string{at.Text})
	return n, err
}

// mostLookedInto is how many commits of a side are looked into for the one that took a line out.
const mostLookedInto = 500

// takenOutBy finds the first commit of a side, the newest first, whose file has not got a line, or is not there.
func (w *Workspace) takenOutBy(side []history.Node, at misfit.Place) (out history.Node, err error) {
	for _, n := range side[:min(len(side), mostLookedInto)] {
		e, err := w.Store.Find(n.Commit.Tree, at.Path)
		if err != nil {
			return out, err
		}
		has := !e.Absent()
		if has && at.Text != "" && e.Mode.IsRegular() {
			data, err := w.Store.Blob(e.ID)
			if err != nil {
				return out, err
			}
			has = slices.Contains(diff.Lines(string(data)), at.Text)
		}
		if has {
			break
		}
		out = n
	}
	return out, nil
}
