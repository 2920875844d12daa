package recovery

import (
	"slices"

	"dorvik.dev/dorvik/internal/core/diff"
	"dorvik.dev/dorvik/internal/core/merge"
	"dorvik.dev/dorvik/internal/core/misfit"
	"dorvik.dev/dorvik/internal/plan"
)

// TakeMends records mends that were offered for a join, each in the commit that it is to be held by. What that changed
// can be put back by GiveBackMends.
func (s *Session) TakeMends(j *plan.Join, held []plan.Holding) (before *plan.TakenMends, err error) {
	before = &plan.TakenMends{Mends: s.Ledger.State().Mends, Wishes: s.Ledger.State().Wishes}
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
		text, ok, err := s.Planner.TextAt(tree, at.path)
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
			err = s.Ledger.AddMend(plan.Mend{Path: at.path, Before: text, After: after})
		} else {
			id := j.Steps[at.in].Commit.ID
			wish := s.Ledger.State().Wishes[id]
			wish.Edits = wish.Edits.With(merge.TextEdit{Path: at.path, Before: text, After: after})
			err = s.Ledger.Wish(id, wish)
		}
		if err != nil {
			return nil, err
		}
	}
	return before, nil
}

// MendByHand records an edit to a file of the joined tree where it belongs: in a rebase the commit that the lines are
// of which it changes, as far as it fits there, else as a mend of the whole. in names what holds it.
func (s *Session) MendByHand(p *plan.Position, j *plan.Join, m plan.Mend) (before *plan.TakenMends, in string,
	err error) {
	before = &plan.TakenMends{Mends: s.Ledger.State().Mends, Wishes: s.Ledger.State().Wishes}
	step, err := s.stepOf(p, j, m)
	if err != nil {
		return nil, "", err
	}
	if step < 0 {
		in, _ = j.MendHolder()
		return before, in, s.Ledger.AddMend(m)
	}
	c := j.Steps[step].Commit
	wish := s.Ledger.State().Wishes[c.ID]
	wish.Edits = wish.Edits.With(merge.TextEdit(m))
	return before, "“" + c.Subject() + "”", s.Ledger.Wish(c.ID, wish)
}

// stepOf finds the step whose commit wrote the lines that a mend changes, or that it stands beside, and whose file it
// fits; -1 for none.
func (s *Session) stepOf(p *plan.Position, j *plan.Join, m plan.Mend) (int, error) {
	if j.Route != plan.Rebase {
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
	n, ok, err := s.Planner.Annotator(p.Divergence.Yours).Editor(m.Path, changed)
	if err != nil || !ok {
		return -1, err
	}
	for i := range j.Steps {
		st := &j.Steps[i]
		if st.Commit.ID != n.ID || st.Left() {
			continue
		}
		text, ok, err := s.Planner.TextAfter(st, m.Path)
		if err != nil || !ok {
			return -1, err
		}
		if t := merge.Merge3(lines, after, diff.Lines(text)); t.Conflicts() == 0 {
			return i, nil
		}
	}
	return -1, nil
}
