package plan

import (
	"cmp"
	"context"
	"slices"

	"dorvik.dev/dorvik/internal/core/diff"
	"dorvik.dev/dorvik/internal/core/history"
	"dorvik.dev/dorvik/internal/core/lexing"
	"dorvik.dev/dorvik/internal/core/merge"
	"dorvik.dev/dorvik/internal/core/misfit"
	"dorvik.dev/dorvik/internal/core/object"
	"dorvik.dev/dorvik/internal/core/replay"
	"dorvik.dev/dorvik/internal/vcs"
	"dorvik.dev/dorvik/internal/words"
)

// Misfits returns the edits of a join that will break together. If the search fails it returns none and records that
// in Extras.
func (f *Foresight) Misfits(ctx context.Context, p *Position, j *Join) ([]Misfit, error) {
	t, ok, err := f.misfitTrees(ctx, p, j)
	if err != nil || !ok {
		return nil, err
	}
	select { // one search at a time, because the next one reuses what it read
	case f.searching <- struct{}{}:
		defer func() { <-f.searching }()
	case <-ctx.Done():
		return nil, ctx.Err()
	}
	f.mu.Lock()
	known, ok := f.misfits[t]
	f.mu.Unlock()
	if ok {
		return known, nil
	}
	out, ok, err := Extra(ctx, f.p.Extras, "what will not work together",
		func(ctx context.Context) (out []Misfit, err error) {
			sides, err := f.sidesOf(ctx, t)
			if err != nil {
				return nil, err
			}
			found, err := sides.Find(ctx, t.Joined)
			if err != nil {
				return nil, err
			}
			if slow := sides.Skipped(); len(slow) > 0 {
				f.p.Extras.Skip(NotLookedAt{"what will not work together in " + words.List(words.Some(slow, 3)),
					lexing.ErrSlow.Error()})
			}
			for _, m := range found {
				one := Misfit{Misfit: m}
				if one.ChangedIn, err = f.madeBy(ctx, p, m.Changed); err != nil {
					return nil, err
				}
				if one.UsedIn, err = f.madeBy(ctx, p, m.Used); err != nil {
					return nil, err
				}
				out = append(out, one)
			}
			return out, nil
		})
	if !ok {
		return nil, err
	}
	f.mu.Lock()
	defer f.mu.Unlock()
	if f.misfits == nil || len(f.misfits) > 8 {
		f.misfits = map[misfit.Trees][]Misfit{}
	}
	f.misfits[t] = out
	return out, nil
}

// Lack is a name that a picked commit uses and that an earlier commit of its line brought, which the branch does not
// have.
type Lack struct {
	Name     string
	In, From history.Node // the picked commit, and the earlier one
}

// Lacks returns what picked commits lack on the branch. earlier lists the commits before a picked one that the branch
// does not have. If the search fails it returns none and records that in Extras.
func (f *Foresight) Lacks(ctx context.Context, p *Position, j *Join,
	earlier func(picked history.Node) ([]history.Node, error)) ([]Lack, error) {
	out, _, err := Extra(ctx, f.p.Extras, "what picked commits need of earlier ones",
		func(ctx context.Context) (out []Lack, err error) {
			onto, err := f.p.Tree(ctx, p.Yours)
			if err != nil {
				return nil, err
			}
			for i := range j.Steps {
				st := &j.Steps[i]
				after, err := st.Tree(ctx)
				if err != nil {
					return nil, err
				}
				if !st.Left() && len(st.Commit.Parents) == 1 {
					found, err := f.lacksOf(ctx, st.Commit, onto, after, earlier)
					if err != nil {
						return nil, err
					}
					out = append(out, found...)
				}
				onto = after
			}
			return out, nil
		})
	return out, err
}

// lacksOf returns what one picked commit lacks in the tree that it is put onto.
func (f *Foresight) lacksOf(ctx context.Context, picked history.Node, onto, after object.ID,
	earlier func(history.Node) ([]history.Node, error)) (out []Lack, err error) {
	before, err := earlier(picked)
	if err != nil || len(before) == 0 {
		return nil, err
	}
	base, err := history.FirstParentTree(ctx, f.p.Store, picked.Commit)
	if err != nil {
		return nil, err
	}
	sides, err := misfit.Read(ctx, f.p.Store, base, onto, picked.Tree)
	if err != nil {
		return nil, err
	}
	found, err := sides.Find(ctx, after)
	if err != nil {
		return nil, err
	}
	for _, m := range found {
		if m.Changed.Side != merge.Yours || m.Used.Side != merge.Theirs {
			continue
		}
		from, err := f.broughtBy(ctx, before, m)
		if err != nil {
			return nil, err
		}
		if from.Commit != nil {
			out = append(out, Lack{m.Name, picked, from})
		}
	}
	return out, nil
}

// broughtBy returns the commit, of some from newest to oldest, that brought a name to the file of its definition: the
// oldest that added a line with it or, if its parameters changed, the newest.
func (f *Foresight) broughtBy(ctx context.Context, commits []history.Node, m misfit.Misfit) (from history.Node,
	err error) {
	for _, n := range commits[:min(len(commits), mostLookedInto)] {
		if len(n.Parents) > 1 {
			continue
		}
		adds := false
		var reading error
		if err := history.EachChange(ctx, f.p.Store, n.Commit, func(c object.Change) {
			if c.Path != m.Changed.Path || !c.New.Mode.IsRegular() || reading != nil {
				return
			}
			adds, reading = f.adds(ctx, c, m.Name)
		}); err != nil || reading != nil {
			return from, cmp.Or(err, reading)
		}
		if adds {
			if from = n; m.Kind == misfit.Signature {
				break
			}
		}
	}
	return from, nil
}

// adds reports whether a change adds a line with a name.
func (f *Foresight) adds(ctx context.Context, c object.Change, name string) (bool, error) {
	was := ""
	if c.Old.Mode.IsRegular() {
		text, err := f.p.Store.Text(ctx, c.Old.ID)
		if err != nil {
			return false, err
		}
		was = text
	}
	is, err := f.p.Store.Text(ctx, c.New.ID)
	if err != nil {
		return false, err
	}
	to := diff.Lines(is)
	for _, e := range diff.Histogram(diff.Lines(was), to) {
		if slices.ContainsFunc(to[e.B0:e.B1], func(l string) bool { return misfit.HasWord(l, name) }) {
			return true, nil
		}
	}
	return false, nil
}

// sidesOf returns the relevant changes of both sides. It caches the last result.
func (f *Foresight) sidesOf(ctx context.Context, t misfit.Trees) (sides *misfit.Sides, err error) {
	t.Joined = object.ID{}
	f.mu.Lock()
	known := f.sides
	f.mu.Unlock()
	if known.read != nil && known.of == t {
		return known.read, nil
	}
	if sides = f.p.Scout.sidesOf(ctx, t); sides == nil {
		if sides, err = misfit.Read(ctx, f.p.Store, t.Base, t.Yours, t.Theirs); err != nil {
			return nil, err
		}
	}
	f.mu.Lock()
	defer f.mu.Unlock()
	f.sides.of, f.sides.read = t, sides
	return sides, nil
}

// misfitTrees returns the trees to search. ok is false if nothing is joined.
func (f *Foresight) misfitTrees(ctx context.Context, p *Position, j *Join) (t misfit.Trees, ok bool, err error) {
	if j == nil || j.Refused != nil || p.Trivial() != NotTrivial || p.IsPick() || j.Tree.IsZero() {
		return t, false, nil
	}
	if p.Resumes() != nil && (len(p.Resumes().Merged) != 1 || p.SettlesOnly()) &&
		p.Stuck.Left.Operation != vcs.Rebasing {
		return t, false, nil // the result contains commits of other lines
	}
	for _, one := range []struct {
		commit object.ID
		to     *object.ID
	}{{p.Base(), &t.Base}, {p.Yours, &t.Yours}, {p.Theirs, &t.Theirs}} {
		if one.commit.IsZero() {
			return t, false, nil
		}
		if *one.to, err = f.p.Tree(ctx, one.commit); err != nil {
			return t, false, err
		}
	}
	t.Joined = j.Tree
	return t, true, nil
}

// MisfitsOf returns the misfits of each route of a plan.
func (f *Foresight) MisfitsOf(ctx context.Context, p *Position, pl *Plan) (map[Route][]Misfit, error) {
	out := map[Route][]Misfit{}
	for _, j := range []*Join{pl.Merge, pl.Rebase, pl.Pick} {
		if j == nil {
			continue
		}
		found, err := f.Misfits(ctx, p, j)
		if err != nil {
			return nil, err
		}
		out[j.Route] = found
	}
	return out, nil
}

// madeBy returns the commit that added or removed a line.
func (f *Foresight) madeBy(ctx context.Context, p *Position, at misfit.Place) (history.Node, error) {
	side := p.Divergence.Yours
	if at.Side == merge.Theirs {
		side = p.Divergence.Theirs
	}
	if at.Gone {
		return f.takenOutBy(ctx, side, at)
	}
	n, _, err := f.p.Annotator(side).Editor(ctx, at.Path, []string{at.Text})
	return n, err
}

// mostLookedInto limits the number of commits searched for the removal of a line.
const mostLookedInto = 500

// takenOutBy returns the commit of a side that removed a line.
func (f *Foresight) takenOutBy(ctx context.Context, side []history.Node, at misfit.Place) (out history.Node,
	err error) {
	for _, n := range side[:min(len(side), mostLookedInto)] {
		e, err := f.p.Store.Find(ctx, n.Commit.Tree, at.Path)
		if err != nil {
			return out, err
		}
		has := !e.Absent()
		if has && at.Text != "" && e.Mode.IsRegular() {
			data, err := f.p.Store.Blob(ctx, e.ID)
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

// MendsOf returns the mends for misfits whose solution is certain.
func (f *Foresight) MendsOf(ctx context.Context, p *Position, j *Join, list []Misfit) ([]misfit.Mend, error) {
	if len(list) == 0 {
		return nil, nil
	}
	t, ok, err := f.misfitTrees(ctx, p, j)
	if err != nil || !ok {
		return nil, err
	}
	var bare []misfit.Misfit
	for i := range list {
		bare = append(bare, list[i].Misfit)
	}
	out, _, err := Extra(ctx, f.p.Extras, "how what does not work together can be mended",
		func(context.Context) ([]misfit.Mend, error) {
			return misfit.Mends(ctx, f.p.Store, t, bare)
		})
	return out, err
}

// Holding is a mend and the commit it becomes part of.
type Holding struct {
	misfit.Mend
	In int // step of the join; -1 for the commit with all mends
}

// Holdings assigns each mend to a commit: the one of yours that adds the line or removes what their line uses, so that
// this commit builds by itself. Other mends go into the last commit or the merge commit.
func (f *Foresight) Holdings(ctx context.Context, j *Join, mends []misfit.Mend, unfit []Misfit) (out []Holding,
	err error) {
	for _, m := range mends {
		h := Holding{m, -1}
		of := &unfit[m.Of]
		mine := of.UsedIn
		if of.Used.Side == merge.Theirs {
			mine = of.ChangedIn
		}
		for i := range j.Steps {
			st := &j.Steps[i]
			if mine.Commit == nil || st.Commit.ID != mine.ID || st.Left() || len(m.Before) == 0 {
				continue
			}
			text, ok, err := f.p.TextAfter(ctx, st, m.Path)
			if err != nil {
				return nil, err
			}
			if ok && slices.Contains(diff.Lines(text), m.Before[0]) {
				h.In = i
			}
		}
		out = append(out, h)
	}
	return out, nil
}

// MayHold returns the steps that could contain all of the mends.
func (f *Foresight) MayHold(ctx context.Context, j *Join, held []Holding) (steps []int, err error) {
	for i := range j.Steps {
		can := !j.Steps[i].Left() && len(held) > 0
		for _, m := range held {
			if !can || len(m.Before) == 0 || m.In < 0 || i < m.In {
				can = false
				break
			}
			text, ok, err := f.p.TextAfter(ctx, &j.Steps[i], m.Path)
			if err != nil {
				return nil, err
			}
			can = ok && slices.Contains(diff.Lines(text), m.Before[0])
		}
		if can {
			steps = append(steps, i)
		}
	}
	return steps, nil
}

// TakenMends is the state before mends were taken.
type TakenMends struct {
	Mends    []Mend
	Requests replay.Requests
}
