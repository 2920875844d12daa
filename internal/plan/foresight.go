package plan

import (
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

// Misfits finds what of a join will not work together. There are none where nothing is joined. Where the search fails
// it finds none, and NotLookedAt tells that.
func (f *Foresight) Misfits(ctx context.Context, p *Position, j *Join) ([]Misfit, error) {
	t, ok, err := f.misfitTrees(p, j)
	if err != nil || !ok {
		return nil, err
	}
	select { // one search after the other: what the one has read the next need not
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
				if one.ChangedIn, err = f.madeBy(p, m.Changed); err != nil {
					return nil, err
				}
				if one.UsedIn, err = f.madeBy(p, m.Used); err != nil {
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

// sidesOf reads what both sides changed, as far as it could misfit, unless it was read before.
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

// misfitTrees are the trees that are looked into; ok is false where nothing is joined.
func (f *Foresight) misfitTrees(p *Position, j *Join) (t misfit.Trees, ok bool, err error) {
	if j == nil || j.Refused != nil || p.Trivial() != NotTrivial || p.IsPick() || j.Tree.IsZero() {
		return t, false, nil
	}
	if p.Resumes() != nil && (len(p.Resumes().Merged) != 1 || p.SettlesOnly()) &&
		p.Stuck.Left.Operation != vcs.Rebasing {
		return t, false, nil // other commits than the two lines' are in it
	}
	for _, one := range []struct {
		commit object.ID
		to     *object.ID
	}{{p.Base(), &t.Base}, {p.Yours, &t.Yours}, {p.Theirs, &t.Theirs}} {
		if one.commit.IsZero() {
			return t, false, nil
		}
		if *one.to, err = f.p.Tree(one.commit); err != nil {
			return t, false, err
		}
	}
	t.Joined = j.Tree
	return t, true, nil
}

// MisfitsOf finds those of the routes of a plan.
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

// madeBy finds the commit that wrote a line of a side, or that took it out.
func (f *Foresight) madeBy(p *Position, at misfit.Place) (history.Node, error) {
	side := p.Divergence.Yours
	if at.Side == merge.Theirs {
		side = p.Divergence.Theirs
	}
	if at.Gone {
		return f.takenOutBy(side, at)
	}
	n, _, err := f.p.Annotator(side).Editor(at.Path, []string{at.Text})
	return n, err
}

// mostLookedInto is how many commits of a side are looked into for the one that took a line out.
const mostLookedInto = 500

// takenOutBy finds the first commit of a side, the newest first, whose file has not got a line, or is not there.
func (f *Foresight) takenOutBy(side []history.Node, at misfit.Place) (out history.Node, err error) {
	for _, n := range side[:min(len(side), mostLookedInto)] {
		e, err := f.p.Store.Find(n.Commit.Tree, at.Path)
		if err != nil {
			return out, err
		}
		has := !e.Absent()
		if has && at.Text != "" && e.Mode.IsRegular() {
			data, err := f.p.Store.Blob(e.ID)
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
func (f *Foresight) MendsOf(ctx context.Context, p *Position, j *Join, list []Misfit) ([]misfit.Mend, error) {
	if len(list) == 0 {
		return nil, nil
	}
	t, ok, err := f.misfitTrees(p, j)
	if err != nil || !ok {
		return nil, err
	}
	var bare []misfit.Misfit
	for i := range list {
		bare = append(bare, list[i].Misfit)
	}
	out, _, err := Extra(ctx, f.p.Extras, "how what does not work together can be mended",
		func(context.Context) ([]misfit.Mend, error) {
			return misfit.Mends(f.p.Store, t, bare)
		})
	return out, err
}

// Holding is a mend with what it becomes part of: one of your commits that are made again, so that it builds by
// itself, or what mends go into at all.
type Holding struct {
	misfit.Mend
	In int // the step of the join; -1 for the one that holds all mends
}

// Holdings tells which commit each mend belongs into: in a rebase the one of yours that brings the line in, or that
// takes away what a line of theirs uses, as long as that commit has the line; else the last, or the merge commit.
func (f *Foresight) Holdings(j *Join, mends []misfit.Mend, unfit []Misfit) (out []Holding, err error) {
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
			text, ok, err := f.p.TextAfter(st, m.Path)
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

// MayHold lists the steps of a rebase of which each could hold all of some mends: it has the lines that they change,
// and is none before those that need them.
func (f *Foresight) MayHold(j *Join, held []Holding) (steps []int, err error) {
	for i := range j.Steps {
		can := !j.Steps[i].Left() && len(held) > 0
		for _, m := range held {
			if !can || len(m.Before) == 0 || m.In < 0 || i < m.In {
				can = false
				break
			}
			text, ok, err := f.p.TextAfter(&j.Steps[i], m.Path)
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

// TakenMends is what there was before mends were taken.
type TakenMends struct {
	Mends  []Mend
	Wishes replay.Wishes
}
