package recovery

import (
	"context"
	"maps"
	"slices"
	"strings"

	"dorvik.dev/dorvik/internal/core/diff"
	"dorvik.dev/dorvik/internal/core/history"
	"dorvik.dev/dorvik/internal/core/merge"
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
	before, err := w.LeftOut(p, now, &st.Decisions)
	if err != nil {
		return nil, err
	}
	after, err := w.LeftOut(&then, j, &st.Decisions)
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

// dropped lists what a commit that was left out by wish did and the joined tree does not hold.
func (w *Workspace) dropped(n history.Node, side merge.Side, joined object.ID) (out []LeftOut, err error) {
	before, err := history.FirstParentTree(w.Store, n.Commit)
	if err != nil {
		return nil, err
	}
	changes, err := w.Store.Changes(before, n.Tree)
	if err != nil {
		return nil, err
	}
	for _, c := range changes {
		is, err := w.Store.Find(joined, c.Path)
		if err != nil {
			return nil, err
		}
		switch {
		case is.Same(c.New) || c.New.Absent() && is.Absent():
		case c.New.Absent():
			out = append(out, deleted(side, c.Path))
		case !c.New.Mode.IsRegular() || !is.Mode.IsRegular():
			out = append(out, wholeFile(side, c.Path))
		default:
			list, err := w.droppedLines(c, side, is)
			if err != nil {
				return nil, err
			}
			out = append(out, list...)
		}
	}
	return out, nil
}

// droppedLines is dropped for a file that the joined tree has.
func (w *Workspace) droppedLines(c object.Change, side merge.Side, is object.Entry) (out []LeftOut, err error) {
	if c.Old.Mode != c.New.Mode && is.Mode != c.New.Mode && c.Old.Mode.IsRegular() {
		out = append(out, LeftOut{Side: side, Path: c.Path, What: GivenMode, Text: c.New.Mode.Describe()})
	}
	var texts [3][]string
	for i, e := range []object.Entry{c.Old, c.New, is} {
		if !e.Mode.IsRegular() {
			continue // new
		}
		data, err := w.Store.Blob(e.ID)
		if err != nil {
			return nil, err
		}
		if !merge.IsText(data) {
			if is.ID == c.New.ID {
				return out, nil
			}
			return append(out, wholeFile(side, c.Path)), nil
		}
		texts[i] = diff.Lines(string(data))
	}
	base, edited, result := texts[0], texts[1], texts[2]
	held, stands := unchanged(edited, result), unchanged(base, result)
	fewer := map[string]int{} // how many times fewer a line is there: another of the same text is not this one
	for _, l := range edited {
		fewer[l]++
	}
	for _, l := range result {
		fewer[l]--
	}
	for _, e := range diff.Histogram(base, edited) {
		lost := 0
		for i := e.B0; i < e.B1; i++ {
			if held[i] && fewer[edited[i]] <= 0 || strings.TrimSpace(edited[i]) == "" {
				continue
			}
			lost++
			out = append(out, LeftOut{Side: side, Path: c.Path, Line: i + 1, What: GivenLine,
				Text: strings.TrimSpace(edited[i]), whole: edited[i : i+1]})
		}
		for i := e.A0; i < e.A1 && lost == 0; i++ {
			if stands[i] && strings.TrimSpace(base[i]) != "" {
				out = append(out, LeftOut{Side: side, Path: c.Path, What: GivenDeletion, Text: "deleted",
					Kept: strings.TrimSpace(base[i]), whole: base[i : i+1]})
			}
		}
	}
	return out, nil
}
