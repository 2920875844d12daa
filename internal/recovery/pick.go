package recovery

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"dorvik.dev/dorvik/internal/core/object"
	"dorvik.dev/dorvik/internal/core/settle"
	"dorvik.dev/dorvik/internal/plan"
	"dorvik.dev/dorvik/internal/vcs"
)

// commits resolves revisions and ranges such as A..B. Commits of a range come oldest first.
func (w *Workspace) commits(ctx context.Context, revs []string) ([]object.ID, error) {
	var out []object.ID
	for _, rev := range revs {
		ids, err := w.Repo.Commits(ctx, rev)
		if err != nil {
			return nil, err
		}
		for _, id := range ids {
			if !slices.Contains(out, id) {
				out = append(out, id)
			}
		}
	}
	if len(out) == 0 {
		return nil, fmt.Errorf("there is no commit in %s to pick", strings.Join(revs, ", "))
	}
	return out, nil
}

// PlanPick computes a pick onto a revision, or onto the branch if it is empty. It writes nothing.
func (w *Workspace) PlanPick(ctx context.Context, yours string, revs []string, parent int) (*plan.Position,
	*plan.Join, error) {
	b, err := w.Repo.Current(ctx)
	if err != nil {
		return nil, nil, err
	}
	if yours == "" {
		yours = "HEAD"
	}
	onto, err := w.Repo.Resolve(ctx, yours)
	if err != nil {
		return nil, nil, err
	}
	picks, err := w.commits(ctx, revs)
	if err != nil {
		return nil, nil, err
	}
	p, err := w.Planner.Picking(ctx, plan.Alone(b, onto), picks, parent)
	if err != nil {
		return nil, nil, err
	}
	j, err := w.Planner.Join(ctx, p, plan.Pick, &settle.Decisions{}, plan.Amends{}, nil)
	return p, j, err
}

// Pick selects commits to be picked onto the branch. Earlier decisions stay. parent, from 1, selects the change of a
// merge.
func (s *Session) Pick(ctx context.Context, revs []string, parent int) error {
	picks, err := s.Workspace.commits(ctx, revs)
	if err != nil {
		return err
	}
	b, err := s.Repo.Current(ctx)
	if err != nil {
		return err
	}
	if b.Name == "" || b.Tip.IsZero() {
		_, err := s.Locate(ctx, false) // the error says what prevents it
		return err
	}
	if picks, err = inTheirOrder(ctx, s.Planner.Store, picks, b.Tip); err != nil {
		return err
	}
	if _, err := s.Planner.Picking(ctx, plan.Alone(b, b.Tip), picks, parent); err != nil {
		return err
	}
	return s.Ledger.Pick(b.Name, picks, parent)
}

// Locate is Workspace.Locate that includes picks and half-done operations.
func (s *Session) Locate(ctx context.Context, fetch bool) (*plan.Position, error) {
	home, err := s.Home(ctx, fetch)
	st := s.Ledger.State()
	if err != nil || home.Stuck != nil || len(st.Picks) == 0 || st.Branch != home.Branch.Name {
		return home, err
	}
	p, err := s.Planner.Picking(ctx, home, st.Picks, st.PickParent)
	if err != nil {
		return nil, err
	}
	p.Carried = home.Carried
	counter, err := s.counterOf(ctx, st.Picks)
	if err != nil {
		return nil, err
	}
	if k, ok := p.Kind.(*plan.Picking); ok {
		k.Counter = counter
	}
	p.Dirty, p.Asked, p.Unanswered = home.Dirty, home.Asked, home.Unanswered
	return p, nil
}

// counterOf returns the waypoint whose join the pick reverts, or an empty string.
func (s *Session) counterOf(ctx context.Context, picks []object.ID) (string, error) {
	if len(picks) != 1 {
		return "", nil
	}
	points, err := s.Ledger.Store.Waypoints()
	if err != nil {
		return "", err
	}
	for _, w := range points {
		at, err := s.Repo.Ref(ctx, w.CounterRef())
		if err != nil {
			return "", err
		}
		if at == picks[0] {
			return w.Name, nil
		}
	}
	return "", nil
}

// lineNow returns the line that the branch is joined with, or nil for its upstream.
func (s *Session) lineNow(b vcs.Branch) *vcs.Line {
	if st := s.Ledger.State(); st.Branch == b.Name {
		return st.Line
	}
	return nil
}

// atLine is Workspace.Locate with the line that was selected.
func (s *Session) atLine(ctx context.Context, fetch bool) (*plan.Position, error) {
	b, dirty, err := s.Repo.Status(ctx)
	if err != nil {
		return nil, err
	}
	s.Lines.ApplyTarget(ctx, &b)
	return s.Workspace.locateLine(ctx, b, dirty, s.lineNow(b), fetch)
}

// reworking returns the position for changing one's own commits, if that was selected and is possible.
func (s *Session) reworking(home *plan.Position) *plan.Position {
	st := s.Ledger.State()
	if !st.Rework || st.Branch != home.Branch.Name || WhyNoRework(home) != "" {
		return home
	}
	p := *home
	p.Kind = plan.Reworking{Home: home}
	return &p
}

// WhyNoRework returns why the commits of a position cannot be changed one by one without joining anything, or an empty
// string.
func WhyNoRework(p *plan.Position) string {
	yours := p.Divergence.Yours
	switch {
	case p.IsPick() || p.Stuck != nil || p.FromLine() != nil || len(yours) == 0 || p.Theirs.IsZero():
		return "There is no commit of yours here that could be changed."
	case len(p.Divergence.Theirs) > 0:
		return "Join first: your commits can be changed while they are replayed."
	}
	for _, n := range yours {
		if len(n.Parents) > 1 {
			return "One of your commits joins two lines. Undo the join with u, change your commits while they are " +
				"replayed, and join again."
		}
	}
	return ""
}

// Home is Locate without picked commits: where the branch stands to its upstream, with the
// uncommitted work that is carried, or what git left half done and is taken over. The error is a
// *StuckError where nobody said yet what is to become of that.
func (s *Session) Home(ctx context.Context, fetch bool) (home *plan.Position, err error) {
	taking := s.Repo.Busy() != ""
	if !taking && s.Ledger.State().TakeOver != "" { // only the index records conflicts without an operation
		st, serr := s.Workspace.Stuck(ctx)
		if serr != nil {
			return nil, serr
		}
		taking = st != nil
	}
	if taking {
		home, err = s.locateStuck(ctx, fetch)
	} else {
		s.Ledger.ForgetStuck()
		home, err = s.atLine(ctx, fetch)
		if err == nil && (s.Ledger.State().Carry || s.WorkTree.NothingOwn(home.Dirty)) {
			home.Carried, err = s.WorkTree.Uncommitted(ctx, home.Yours, home.Dirty)
		}
	}
	if err == nil {
		home = s.reworking(home)
		home.Requests = s.Ledger.State().Requests
	}
	return home, err
}
