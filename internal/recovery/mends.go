package recovery

import (
	"context"
	"slices"

	"dorvik.dev/dorvik/internal/core/diff"
	"dorvik.dev/dorvik/internal/core/merge"
	"dorvik.dev/dorvik/internal/core/misfit"
	"dorvik.dev/dorvik/internal/ledger"
	"dorvik.dev/dorvik/internal/plan"
)

// Mends stores mends in the commits they belong to.
type Mends struct {
	planner *plan.Planner
	ledger  *ledger.Ledger
}

// Take stores offered mends. before restores the earlier state with Ledger.GiveBackMends.
func (m *Mends) Take(ctx context.Context, j *plan.Join, held []plan.Holding) (before *plan.TakenMends, err error) {
	before = &plan.TakenMends{Mends: m.ledger.State().Mends, Requests: m.ledger.State().Requests}
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
			if tree, err = j.Steps[at.in].Tree(ctx); err != nil {
				return nil, err
			}
		}
		text, ok, err := m.planner.TextAt(ctx, tree, at.path)
		if err != nil {
			return nil, err
		}
		list := byPlace[at]
		if at.in >= 0 { // the line may have another number in that commit
			list = slices.Clone(list)
			lines := diff.Lines(text)
			for i := range list {
				list[i].Line = slices.Index(lines, list[i].Before[0]) + 1
			}
			list = slices.DeleteFunc(list, func(one misfit.Mend) bool { return one.Line == 0 }) // mended already
		}
		after := misfit.Apply(text, list)
		if !ok || after == text {
			continue
		}
		if at.in < 0 {
			err = m.ledger.AddMend(plan.Mend{Path: at.path, Before: text, After: after})
		} else {
			id := j.Steps[at.in].Commit.ID
			request := m.ledger.State().Requests[id]
			request.Edits = request.Edits.With(merge.TextEdit{Path: at.path, Before: text, After: after})
			err = m.ledger.Request(id, request)
		}
		if err != nil {
			return nil, err
		}
	}
	return before, nil
}

// ByHand stores an edit of a joined file: in the rebased commit that wrote the changed lines if it applies there, else
// as a mend of the whole. in names the commit.
func (m *Mends) ByHand(ctx context.Context, p *plan.Position, j *plan.Join, mend plan.Mend) (before *plan.TakenMends,
	in string,
	err error) {
	before = &plan.TakenMends{Mends: m.ledger.State().Mends, Requests: m.ledger.State().Requests}
	step, err := m.stepOf(ctx, p, j, mend)
	if err != nil {
		return nil, "", err
	}
	if step < 0 {
		in, _ = j.MendHolder()
		return before, in, m.ledger.AddMend(mend)
	}
	c := j.Steps[step].Commit
	request := m.ledger.State().Requests[c.ID]
	request.Edits = request.Edits.With(merge.TextEdit(mend))
	return before, "“" + c.Subject() + "”", m.ledger.Request(c.ID, request)
}

// stepOf returns the step that wrote the changed lines, or -1.
func (m *Mends) stepOf(ctx context.Context, p *plan.Position, j *plan.Join, mend plan.Mend) (int, error) {
	if j.Route != plan.Rebase {
		return -1, nil
	}
	lines, after := diff.Lines(mend.Before), diff.Lines(mend.After)
	var changed []string
	for _, e := range diff.Histogram(lines, after) {
		lo := e.A0
		if e.A0 == e.A1 {
			lo = max(0, e.A0-1)
		}
		changed = append(changed, lines[lo:max(e.A1, min(lo+1, len(lines)))]...)
	}
	n, ok, err := m.planner.Annotator(p.Divergence.Yours).Editor(ctx, mend.Path, changed)
	if err != nil || !ok {
		return -1, err
	}
	for i := range j.Steps {
		st := &j.Steps[i]
		if st.Commit.ID != n.ID || st.Left() {
			continue
		}
		text, ok, err := m.planner.TextAfter(ctx, st, mend.Path)
		if err != nil || !ok {
			return -1, err
		}
		if t := merge.Merge3(lines, after, diff.Lines(text)); t.Conflicts() == 0 {
			return i, nil
		}
	}
	return -1, nil
}
