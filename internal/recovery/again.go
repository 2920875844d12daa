package recovery

import (
	"context"

	"dorvik.dev/dorvik/internal/core/settle"
	"dorvik.dev/dorvik/internal/plan"
)

// DecideAlso records a decision about a conflict, and the same one about conflicts of later commits that ask the same:
// in which order what was added at one place stands. It returns how many those are.
func DecideAlso(ctx context.Context, s *Session, p *plan.Position, q plan.Attributed, d settle.Decision) (also int,
	err error) {
	if err := s.Decide(d); err != nil || !orders(q.Question, d.Way) ||
		s.Ledger.State().Route == plan.Merge { // a merge asks once
		return 0, err
	}
	for at := q.Stop; ; also++ {
		st := s.Ledger.State()
		j, err := s.Planner.Join(ctx, p, st.Route, &st.Decisions, st.Amends(), nil)
		if err != nil {
			return also, err
		}
		open, err := s.Planner.Attribute(ctx, p, j, &st.Decisions)
		if err != nil {
			return also, err
		}
		var next *plan.Attributed
		for i := range open {
			o := &open[i]
			if o.Decision == nil && o.Stop > at && o.Question.Path == q.Question.Path && orders(o.Question, d.Way) &&
				o.Question.Yours == q.Question.Yours {
				next = o
				break
			}
		}
		if next == nil {
			return also, nil
		}
		if at = next.Stop; s.Decide(settle.Decision{Key: next.Question.Key, Way: d.Way}) != nil {
			return also, nil // it stays open
		}
	}
}

// orders reports whether a way settles a conflict by the order of what both sides added.
func orders(q *settle.Question, way settle.Way) bool {
	if q.Whole() || q.Base != "" || q.Yours == "" || q.Theirs == "" {
		return false
	}
	switch way {
	case settle.YoursTheirs, settle.TheirsYours, settle.Sorted:
		_, has := q.Option(way)
		return has
	}
	return false
}
