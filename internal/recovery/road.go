package recovery

import (
	"context"
	"maps"
	"slices"

	"dorvik.dev/dorvik/internal/core/history"
	"dorvik.dev/dorvik/internal/core/object"
	"dorvik.dev/dorvik/internal/core/replay"
)

// Wish says what is to become of one commit of yours, beyond its being replayed; the zero wish is
// none. A position that is to show it is located anew, or has its Wishes replaced by the state's.
func (s *Session) Wish(commit object.ID, wish replay.Wish) error {
	wishes := maps.Clone(s.state.Wishes)
	if wishes == nil {
		wishes = replay.Wishes{}
	}
	if wishes[commit] = wish; wish == (replay.Wish{}) {
		delete(wishes, commit)
	}
	if wish.Leave != s.state.Wishes[commit].Leave || wish.Into != s.state.Wishes[commit].Into ||
		wish.Edits != s.state.Wishes[commit].Edits {
		s.state.Checked = nil // it may be another tree
	}
	s.state.Wishes = wishes
	return s.save()
}

// FilesOf lists the files that a replayed commit changes and that are text after it.
func (w *Workspace) FilesOf(st *replay.Step) (out []string, err error) {
	before, err := history.FirstParentTree(w.Store, st.Commit.Commit)
	if err != nil {
		return nil, err
	}
	changes, err := w.Store.Changes(before, st.Commit.Tree)
	if err != nil {
		return nil, err
	}
	for _, c := range changes {
		if _, ok, err := w.TextAfter(st, c.Path); err != nil {
			return nil, err
		} else if ok {
			out = append(out, c.Path)
		}
	}
	return out, nil
}

// forgetWishes drops those about commits that are no longer yours to be replayed.
func (st *State) forgetWishes(p *Position) {
	if st.Accepted != nil || len(st.Wishes) == 0 {
		return
	}
	kept := replay.Wishes{}
	keep := func(id object.ID) {
		if w, ok := st.Wishes[id]; ok {
			kept[id] = w
		}
	}
	for _, n := range p.Divergence.Yours {
		keep(n.ID)
	}
	if p.Resume != nil {
		for _, t := range p.Resume.Todo {
			keep(t.Commit.ID)
		}
	}
	st.Wishes = kept
}

// Price is what a wish costs.
type Price struct {
	Left []LeftOut // that the result would not hold, beyond what it leaves out now
	Asks int       // decisions that would be open
	Lost error     // why the route could not be taken then
}

// Price works out what it would cost to have a commit be as wished. Nothing is written.
func (w *Workspace) Price(ctx context.Context, p *Position, st *State, now *Join, commit object.ID,
	wish replay.Wish) (*Price, error) {
	then := *p
	then.Wishes = maps.Clone(p.Wishes)
	if then.Wishes == nil {
		then.Wishes = replay.Wishes{}
	}
	then.Wishes[commit] = wish
	j, err := w.Join(ctx, &then, st.Route, &st.Decisions, st.Amends(), nil)
	if err != nil {
		return nil, err
	}
	before, err := w.LeftOut(ctx, p, now, &st.Decisions)
	if err != nil {
		return nil, err
	}
	after, err := w.LeftOut(ctx, &then, j, &st.Decisions)
	if err != nil {
		return nil, err
	}
	pr := &Price{Asks: j.Open, Lost: j.Refused}
	for _, l := range after {
		if !slices.ContainsFunc(before, l.same) {
			pr.Left = append(pr.Left, l)
		}
	}
	return pr, nil
}

// same reports whether two entries of an account are about the same thing.
func (l LeftOut) same(m LeftOut) bool {
	return l.Side == m.Side && l.Path == m.Path && l.Line == m.Line && l.Text == m.Text && l.What == m.What
}
