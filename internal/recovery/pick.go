package recovery

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"dorvik.dev/dorvik/internal/core/history"
	"dorvik.dev/dorvik/internal/core/object"
	"dorvik.dev/dorvik/internal/core/replay"
	"dorvik.dev/dorvik/internal/core/settle"
	"dorvik.dev/dorvik/internal/vcs"
)

// commits looks up what each of revs names: a commit, or those of a range such as
// A..B. They come in the order given, of a range the oldest first.
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

// picking returns the position of single commits that are brought onto home.Yours: they are theirs, the last one given
// first. The error is a *replay.PickedMergeError if one of them joins lines and parent does not say which parent its
// change is taken against.
func (w *Workspace) picking(ctx context.Context, home *Position, picks []object.ID, parent int) (*Position, error) {
	yours := home.Yours
	p := &Position{Branch: home.Branch, Yours: yours, Theirs: picks[len(picks)-1], Picking: true, PickParent: parent,
		Home: home}
	var err error
	if p.Divergence, err = history.Diverge(ctx, w.Store, p.Yours, p.Theirs); err != nil {
		return nil, err
	}
	apart := map[object.ID]bool{} // known not to be in your line
	for _, n := range p.Divergence.Theirs {
		apart[n.ID] = true
	}
	p.Divergence.Theirs = nil
	p.Own = p.Divergence.Yours
	for _, id := range slices.Backward(picks) {
		c, err := w.Store.Commit(id)
		if err != nil {
			return nil, err
		}
		n := history.Node{ID: id, Commit: c}
		if len(c.Parents) > 1 && (parent < 1 || parent > len(c.Parents)) {
			return nil, &replay.PickedMergeError{Commit: n, Parent: parent}
		}
		p.Divergence.Theirs = append(p.Divergence.Theirs, n)
		if apart[id] {
			continue
		}
		// One of your own line can have been taken back since.
		since, err := history.Diverge(ctx, w.Store, yours, id)
		if err != nil {
			return nil, err
		}
		if len(since.Theirs) == 0 && len(since.Yours) >= len(p.Own) {
			p.Own = append(slices.Clip(since.Yours), n)
		}
	}
	return p, nil
}

// alone returns the position of a commit that nothing is to be joined with.
func alone(b vcs.Branch, at object.ID) *Position {
	return &Position{Branch: b, Yours: at, Theirs: at, Divergence: &history.Divergence{}}
}

// PlanPick works out what bringing single commits onto a revision, or onto the
// branch if that is empty, makes and asks. Nothing is written.
func (w *Workspace) PlanPick(ctx context.Context, yours string, revs []string, parent int) (*Position, *Join, error) {
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
	p, err := w.picking(ctx, alone(b, onto), picks, parent)
	if err != nil {
		return nil, nil, err
	}
	j, err := w.Join(ctx, p, Pick, &settle.Decisions{}, Amends{}, nil)
	return p, j, err
}

// Pick has the session bring single commits onto the branch from here on, until
// that is accepted, or dropped. Decisions made before are kept. Of a commit that joins lines,
// what it changed against a parent, from 1, is meant.
func (s *Session) Pick(ctx context.Context, revs []string, parent int) error {
	picks, err := s.commits(ctx, revs)
	if err != nil {
		return err
	}
	b, err := s.Repo.Current(ctx)
	if err != nil {
		return err
	}
	if b.Name == "" || b.Tip.IsZero() {
		_, err := s.Locate(ctx, false) // which says what is in the way
		return err
	}
	if _, err := s.picking(ctx, alone(b, b.Tip), picks, parent); err != nil {
		return err
	}
	if !slices.Equal(s.state.Picks, picks) || s.state.PickParent != parent {
		s.state.Stage = Look
		s.state.Mends, s.state.Made = nil, nil
	}
	s.state.Branch, s.state.Picks, s.state.PickParent, s.state.Route = b.Name, picks, parent, Pick
	return s.save()
}

// DropPick goes back to joining the branch with its upstream.
func (s *Session) DropPick() error {
	s.state.Picks, s.state.PickParent, s.state.Route, s.state.Stage = nil, 0, "", Look
	s.state.Mends, s.state.Made = nil, nil
	return s.save()
}

// Locate is Workspace.Locate, or while commits are picked where they stand to the
// branch.
func (s *Session) Locate(ctx context.Context, fetch bool) (*Position, error) {
	home, err := s.Home(ctx, fetch)
	if err != nil || home.Stuck != nil || len(s.state.Picks) == 0 || s.state.Branch != home.Branch.Name {
		return home, err
	}
	p, err := s.picking(ctx, home, s.state.Picks, s.state.PickParent)
	if err != nil {
		return nil, err
	}
	p.Carried = home.Carried
	if p.Counter, err = s.counterOf(ctx, s.state.Picks); err != nil {
		return nil, err
	}
	p.Dirty, p.Asked, p.Unanswered = home.Dirty, home.Asked, home.Unanswered
	return p, nil
}

// counterOf names the waypoint whose join a pick takes back; empty where it is no such pick.
func (s *Session) counterOf(ctx context.Context, picks []object.ID) (string, error) {
	if len(picks) != 1 {
		return "", nil
	}
	points, err := s.store.waypoints()
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

// Home is Locate without picked commits: where the branch stands to its upstream, with the
// uncommitted work that is carried, or what git left half done and is taken over. The error is a
// *StuckError where nobody said yet what is to become of that.
func (s *Session) Home(ctx context.Context, fetch bool) (home *Position, err error) {
	taking := s.Repo.Busy() != ""
	if !taking && s.state.TakeOver != "" { // conflicts without an operation only the index tells of
		st, serr := s.Stuck(ctx)
		if serr != nil {
			return nil, serr
		}
		taking = st != nil
	}
	if taking {
		home, err = s.locateStuck(ctx, fetch)
	} else {
		s.forgetStuck()
		home, err = s.Workspace.Locate(ctx, fetch)
		if err == nil && (s.state.Carry || s.nothingOwn(home.Dirty)) {
			home.Carried, err = s.uncommitted(ctx, home.Yours, home.Dirty)
		}
	}
	if err == nil {
		home.Wishes = s.state.Wishes
	}
	return home, err
}
