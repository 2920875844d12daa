package recovery

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

// Misfit is two edits that join as text and will not work together, with the commits that made them. A commit is zero
// where it is not known.
type Misfit struct {
	misfit.Misfit
	ChangedIn, UsedIn history.Node
}

// Misfits finds what of a join will not work together. There are none where nothing is joined. Where the search fails
// it finds none, and NotLookedAt tells that.
func (w *Workspace) Misfits(ctx context.Context, p *Position, j *Join) ([]Misfit, error) {
	t, ok, err := w.misfitTrees(p, j)
	if err != nil || !ok {
		return nil, err
	}
	select { // one search after the other: what the one has read the next need not
	case w.searching <- struct{}{}:
		defer func() { <-w.searching }()
	case <-ctx.Done():
		return nil, ctx.Err()
	}
	w.mu.Lock()
	known, ok := w.misfits[t]
	w.mu.Unlock()
	if ok {
		return known, nil
	}
	out, ok, err := extra(ctx, w, "what will not work together", func(ctx context.Context) (out []Misfit, err error) {
		sides, err := w.sidesOf(ctx, t)
		if err != nil {
			return nil, err
		}
		found, err := sides.Find(ctx, t.Joined)
		if err != nil {
			return nil, err
		}
		if slow := sides.Skipped(); len(slow) > 0 {
			w.skipped(NotLookedAt{"what will not work together in " + words.List(words.Some(slow, 3)),
				lexing.ErrSlow.Error()})
		}
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
		return out, nil
	})
	if !ok {
		return nil, err
	}
	w.mu.Lock()
	defer w.mu.Unlock()
	if w.misfits == nil || len(w.misfits) > 8 {
		w.misfits = map[misfit.Trees][]Misfit{}
	}
	w.misfits[t] = out
	return out, nil
}

// sidesOf reads what both sides changed, as far as it could misfit, unless it was read before.
func (w *Workspace) sidesOf(ctx context.Context, t misfit.Trees) (sides *misfit.Sides, err error) {
	t.Joined = object.ID{}
	w.mu.Lock()
	known := w.sides
	w.mu.Unlock()
	if known.read != nil && known.of == t {
		return known.read, nil
	}
	if sides = w.scout.sidesOf(ctx, t); sides == nil {
		if sides, err = misfit.Read(ctx, w.Store, t.Base, t.Yours, t.Theirs); err != nil {
			return nil, err
		}
	}
	w.mu.Lock()
	defer w.mu.Unlock()
	w.sides.of, w.sides.read = t, sides
	return sides, nil
}

// misfitTrees are the trees that are looked into; ok is false where nothing is joined.
func (w *Workspace) misfitTrees(p *Position, j *Join) (t misfit.Trees, ok bool, err error) {
	if j == nil || j.Refused != nil || p.Trivial() != NotTrivial || p.Picking || j.Tree.IsZero() {
		return t, false, nil
	}
	if p.Resume != nil && (len(p.Resume.Merged) != 1 || p.SettlesOnly()) && p.Stuck.Operation != vcs.Rebasing {
		return t, false, nil // other commits than the two lines' are in it
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
	for _, j := range []*Join{pl.Merge, pl.Rebase, pl.Pick} {
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
func (w *Workspace) MendsOf(ctx context.Context, p *Position, j *Join, list []Misfit) ([]misfit.Mend, error) {
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
	out, _, err := extra(ctx, w, "how what does not work together can be mended", func(context.Context) ([]misfit.Mend,
		error) {
		return misfit.Mends(w.Store, t, bare)
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
func (w *Workspace) Holdings(j *Join, mends []misfit.Mend, unfit []Misfit) (out []Holding, err error) {
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
			text, ok, err := w.TextAfter(st, m.Path)
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
func (w *Workspace) MayHold(j *Join, held []Holding) (steps []int, err error) {
	for i := range j.Steps {
		can := !j.Steps[i].Left() && len(held) > 0
		for _, m := range held {
			if !can || len(m.Before) == 0 || m.In < 0 || i < m.In {
				can = false
				break
			}
			text, ok, err := w.TextAfter(&j.Steps[i], m.Path)
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

// TakeMends records mends that were offered for a join, each in the commit that it is to be held by. What that changed
// can be put back by GiveBackMends.
func (s *Session) TakeMends(j *Join, held []Holding) (before *TakenMends, err error) {
	before = &TakenMends{mends: s.state.Mends, wishes: s.state.Wishes}
	type place struct {
		in   int
		path string
	}
	byPlace, order := map[place][]misfit.Mend{}, []place{}
	for _, h := range held {
		at := place{h.In, h.Path}
		if byPlace[at] == nil {
			order = append(order, at)
		}
		byPlace[at] = append(byPlace[at], h.Mend)
	}
	for _, at := range order {
		tree := j.Tree
		if at.in >= 0 {
			if tree, err = j.Steps[at.in].Tree(); err != nil {
				return nil, err
			}
		}
		text, ok, err := s.TextAt(tree, at.path)
		if err != nil {
			return nil, err
		}
		list := byPlace[at]
		if at.in >= 0 { // the line may be elsewhere in that commit
			list = slices.Clone(list)
			lines := diff.Lines(text)
			for i := range list {
				list[i].Line = slices.Index(lines, list[i].Before[0]) + 1
			}
			list = slices.DeleteFunc(list, func(m misfit.Mend) bool { return m.Line == 0 }) // it is mended there
		}
		after := misfit.Apply(text, list)
		if !ok || after == text {
			continue
		}
		if at.in < 0 {
			err = s.AddMend(Mend{Path: at.path, Before: text, After: after})
		} else {
			id := j.Steps[at.in].Commit.ID
			wish := s.state.Wishes[id]
			wish.Edits = wish.Edits.With(merge.TextEdit{Path: at.path, Before: text, After: after})
			err = s.Wish(id, wish)
		}
		if err != nil {
			return nil, err
		}
	}
	return before, nil
}

// TakenMends is what there was before mends were taken.
type TakenMends struct {
	mends  []Mend
	wishes replay.Wishes
}

// GiveBackMends takes back what TakeMends did.
func (s *Session) GiveBackMends(before *TakenMends) error {
	s.state.Mends, s.state.Wishes, s.state.Checked = before.mends, before.wishes, nil
	return s.save()
}

// MendByHand records an edit to a file of the joined tree where it belongs: in a rebase the commit that the lines are
// of which it changes, as far as it fits there, else as a mend of the whole. in names what holds it.
func (s *Session) MendByHand(p *Position, j *Join, m Mend) (before *TakenMends, in string, err error) {
	before = &TakenMends{mends: s.state.Mends, wishes: s.state.Wishes}
	step, err := s.stepOf(p, j, m)
	if err != nil {
		return nil, "", err
	}
	if step < 0 {
		in, _ = j.MendHolder()
		return before, in, s.AddMend(m)
	}
	c := j.Steps[step].Commit
	wish := s.state.Wishes[c.ID]
	wish.Edits = wish.Edits.With(merge.TextEdit(m))
	return before, "“" + c.Subject() + "”", s.Wish(c.ID, wish)
}

// stepOf finds the step whose commit wrote the lines that a mend changes, or that it stands beside, and whose file it
// fits; -1 for none.
func (s *Session) stepOf(p *Position, j *Join, m Mend) (int, error) {
	if j.Route != Rebase {
		return -1, nil
	}
	lines, after := diff.Lines(m.Before), diff.Lines(m.After)
	var changed []string
	for _, e := range diff.Histogram(lines, after) {
		lo := e.A0
		if e.A0 == e.A1 {
			lo = max(0, e.A0-1)
		}
		changed = append(changed, lines[lo:max(e.A1, min(lo+1, len(lines)))]...)
	}
	n, ok, err := s.Annotator(p.Divergence.Yours).Editor(m.Path, changed)
	if err != nil || !ok {
		return -1, err
	}
	for i := range j.Steps {
		st := &j.Steps[i]
		if st.Commit.ID != n.ID || st.Left() {
			continue
		}
		text, ok, err := s.TextAfter(st, m.Path)
		if err != nil || !ok {
			return -1, err
		}
		if t := merge.Merge3(lines, after, diff.Lines(text)); t.Conflicts() == 0 {
			return i, nil
		}
	}
	return -1, nil
}
