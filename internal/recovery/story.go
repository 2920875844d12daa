package recovery

import (
	"context"
	"fmt"
	"slices"

	"dorvik.dev/dorvik/internal/core/history"
	"dorvik.dev/dorvik/internal/core/object"
	"dorvik.dev/dorvik/internal/core/settle"
)

// Story is a recovery as it is told to others: the one that is under way, or the last one that
// was made here.
type Story struct {
	Position  *Position
	Plan      *Plan
	Overlap   []Overlap
	Join      *Join // by the route taken, or else the suggested one
	Chosen    bool  // the route was taken
	Questions []Attributed
	Left      []LeftOut
	Checked   *Checked
	Waypoint  *Waypoint // nil where the result is not on the branch yet
	Pushed    bool      // the remote has it
	Differs   bool      // worked out anew, the join comes to another tree than was made
	Others    []Other
	Below     []history.Node // the common ancestor, and the one before it
	Me        string         // e-mail of the person at the keyboard
	Who       string         // and their name
	Tip       object.ID      // of the result, once it is made
	Made      []history.Node // of a rebase or a pick, once it is made: the commits as they are now, newest first
}

// Story tells the recovery that is under way or, where nothing is, the last one made here; with a
// waypoint's name, that one.
func (w *Workspace) Story(ctx context.Context, name string) (*Story, error) {
	points, err := w.waypoints()
	if err != nil {
		return nil, fmt.Errorf("what was done here cannot be told: %w", err)
	}
	st, err := Peek(w)
	if err != nil {
		return nil, err
	}
	if st == nil {
		st = &State{}
	}
	return w.story(ctx, name, st, points)
}

// Story is Workspace.Story with what is kept in the session.
func (s *Session) Story(ctx context.Context, name string) (*Story, error) {
	points, err := s.store.waypoints()
	if err != nil {
		return nil, err
	}
	st := s.State()
	return s.story(ctx, name, &st, points)
}

func (w *Workspace) story(ctx context.Context, name string, st *State, points []*Waypoint) (*Story, error) {
	s := &Story{}
	b, err := w.Repo.Current(ctx)
	if err != nil {
		return nil, err
	}
	if who, err := w.Repo.Committer(ctx); err == nil {
		s.Me, s.Who = who.Email, who.Name
	}
	var open error // why nothing is under way
	if name == "" {
		if s.Position, open = w.locate(ctx, b, nil, false); open == nil && len(st.Picks) > 0 && st.Branch == b.Name {
			if s.Position, err = w.picking(ctx, s.Position, st.Picks, st.PickParent); err != nil {
				return nil, err
			}
		}
		if open == nil {
			s.Position.Wishes = st.Wishes
		}
		if open == nil && s.Position.Trivial() == NotTrivial {
			return s, w.tell(ctx, s, st.Route, &st.Decisions, st.Amends(), st.Checked)
		}
	}
	i := len(points) - 1
	for ; i >= 0; i-- {
		if p := points[i]; p.Name == name || name == "" && p.Branch == b.Name && !p.GoneBack {
			break
		}
	}
	switch {
	case i < 0 && name != "":
		return nil, &Blocked{"There is no waypoint " + name + " here.",
			"Without a name the last one made here is told."}
	case i < 0 && open != nil:
		return nil, open
	case i < 0:
		return nil, &Blocked{"There is nothing to draw: nothing is to be joined here, and nothing was.",
			"The history can be drawn all the same: “dorvik draw history”."}
	}
	s.Waypoint = points[i]
	return s, w.retell(ctx, s, b.Tracking)
}

// retell tells a join that was made.
func (w *Workspace) retell(ctx context.Context, s *Story, tracking string) error {
	p := s.Waypoint
	b, err := w.Repo.Current(ctx)
	if err != nil {
		return err
	}
	if p.Route == Pick {
		s.Position, err = w.picking(ctx, alone(b, p.Before), p.Picks, p.Parent)
		if err != nil {
			return err
		}
		s.Position.Home = s.Position
	} else {
		s.Position = &Position{Branch: b, Yours: p.Before, Theirs: p.Theirs}
		if err := w.part(ctx, s.Position); err != nil {
			return err
		}
	}
	s.Position.Branch.Name, s.Position.Past = p.Branch, true
	s.Tip, s.Position.Wishes = p.After, p.Wishes
	if tracking != "" {
		up, err := w.Repo.Ref(ctx, tracking)
		if err != nil {
			return err
		}
		if !up.IsZero() {
			if s.Pushed, err = history.IsAncestor(ctx, w.Store, p.After, up); err != nil {
				return err
			}
		}
	}
	if p.Route != Merge {
		onto := p.Theirs
		if p.Route == Pick {
			onto = p.Before
		}
		if s.Made, err = history.Only(ctx, w.Store, p.After, onto); err != nil {
			return err
		}
	}
	return w.tell(ctx, s, p.Route, &settle.Decisions{List: p.Decisions}, Amends{p.Mends, w.madeAt(p)}, p.Checked)
}

// tell works out what there is to tell of a position.
func (w *Workspace) tell(ctx context.Context, s *Story, route Route, decisions *settle.Decisions, by Amends,
	checked *Checked) error {
	var err error
	p := s.Position
	s.Below = w.below(p.Base(), 2)
	if s.Plan, err = w.Plan(ctx, p, decisions, nil); err != nil {
		return err
	}
	if s.Overlap, err = w.Overlaps(ctx, p, s.Plan.Asking()); err != nil {
		return err
	}
	if err := w.CountLines(ctx, s.Overlap); err != nil {
		return err
	}
	if s.Chosen = route != ""; !s.Chosen {
		route = s.Plan.Suggested
	}
	if p.Trivial() != NotTrivial {
		return nil // moved forward: nothing was joined
	}
	if s.Join, err = w.Join(ctx, p, route, decisions, by, nil); err != nil {
		return err
	}
	if !s.Tip.IsZero() {
		made, err := w.Tree(s.Tip)
		if err != nil {
			return err
		}
		s.Differs = made != s.Join.Tree
	}
	if s.Questions, err = w.Attribute(p, s.Join, decisions); err != nil {
		return err
	}
	if s.Left, err = w.LeftOut(ctx, p, s.Join, decisions); err != nil {
		return err
	}
	if checked != nil && checked.Tree == s.Join.Tree {
		s.Checked = checked
	}
	if !p.Picking {
		s.Others, err = w.Others(ctx, p.Divergence.Theirs, p.Theirs, s.Join.Tree)
	}
	return err
}

// Commits lists the commits of both sides, newest first.
func (s *Story) Commits() []history.Node {
	all := slices.Concat(s.Position.Divergence.Yours, s.Position.Divergence.Theirs)
	slices.SortStableFunc(all, func(a, b history.Node) int { return int(b.Author().When - a.Author().When) })
	return all
}
