package recovery

import (
	"context"
	"maps"
	"slices"

	"dorvik.dev/dorvik/internal/core/diff"
	"dorvik.dev/dorvik/internal/core/history"
	"dorvik.dev/dorvik/internal/core/merge"
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
	t, ok, err := w.misfitTrees(p, j)
	if err != nil || !ok {
		return nil, err
	}
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

// misfitTrees are the trees that are looked into; ok is false where nothing is joined.
func (w *Workspace) misfitTrees(p *Position, j *Join) (t misfit.Trees, ok bool, err error) {
	if j == nil || j.Refused != nil || p.Trivial() != NotTrivial || p.Resume != nil || p.Picking || j.Tree.IsZero() {
		return t, false, nil
	}
	for _, one := range []struct {
		commit object.ID
		to     *object.ID
	}{{p.Base(), &t.Base}, {p.Yours, &t.Yours}, {p.Theirs, &t.Theirs}} {
		if one.commit.IsZero() {
			return t, false, nil
		}
		if *one.to, err = w.Tree(one.commit); err != nil {
			return t, false, err
		}
	}
	t.Joined = j.Tree
	return t, true, nil
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
	if at.Side == merge.Theirs {
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

// MendsOf derives the mends of what will not fit, where it is certain what they are, for a joined tree.
func (w *Workspace) MendsOf(p *Position, j *Join, list []Misfit) ([]misfit.Mend, error) {
	if len(list) == 0 {
		return nil, nil
	}
	t, ok, err := w.misfitTrees(p, j)
	if err != nil || !ok {
		return nil, err
	}
	var bare []misfit.Misfit
	for i := range list {
		bare = append(bare, list[i].Misfit)
	}
	return misfit.Mends(w.Store, t, bare)
}

// TakeMends records mends that were offered for a joined tree, one for each file.
func (s *Session) TakeMends(j *Join, mends []misfit.Mend) error {
	byPath := map[string][]misfit.Mend{}
	for _, m := range mends {
		byPath[m.Path] = append(byPath[m.Path], m)
	}
	for _, p := range slices.Sorted(maps.Keys(byPath)) {
		before, ok, err := s.TextAt(j.Tree, p)
		if err != nil {
			return err
		}
		if after := misfit.Apply(before, byPath[p]); ok && after != before {
			if err := s.AddMend(Mend{Path: p, Before: before, After: after}); err != nil {
				return err
			}
		}
	}
	return nil
}
