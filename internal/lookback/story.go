package lookback

import (
	"context"
	"fmt"
	"slices"

	"dorvik.dev/dorvik/internal/core/history"
	"dorvik.dev/dorvik/internal/core/object"
	"dorvik.dev/dorvik/internal/core/settle"
	"dorvik.dev/dorvik/internal/ledger"
	"dorvik.dev/dorvik/internal/plan"
	"dorvik.dev/dorvik/internal/vcs"
)

// Story is a recovery as it is told to others: the one under way, or the last one made here.
type Story struct {
	Position  *plan.Position
	Plan      *plan.Plan
	Overlap   []plan.Overlap
	Join      *plan.Join // by the chosen route, or else the suggested one
	Chosen    bool       // a route was chosen
	Questions []plan.Attributed
	Left      []plan.LeftOut
	Checked   *ledger.Checked
	Waypoint  *ledger.Waypoint // nil if the result is not on the branch yet
	Pushed    bool             // the remote has it
	Differs   bool             // computing the join again gives another tree
	Others    []Other
	Below     []history.Node // the common ancestor and its parent
	Me        string         // e-mail of the person at the keyboard
	Who       string         // name of that person
	Tip       object.ID      // tip of the result, once it exists
	Made      []history.Node // for a finished rebase or pick: the new commits, newest first
}

// Story returns the recovery under way or, if there is none, the last one made here. With a waypoint's name it returns
// that one.
func (h *History) Story(ctx context.Context, name string) (*Story, error) {
	points, err := h.waypoints()
	if err != nil {
		return nil, fmt.Errorf("what was done here cannot be told: %w", err)
	}
	st, err := h.state()
	if err != nil {
		return nil, err
	}
	return h.storyOf(ctx, name, st, points)
}

func (h *History) storyOf(ctx context.Context, name string, st *ledger.State, points []*ledger.Waypoint) (*Story,
	error) {
	s := &Story{}
	b, err := h.Repo.Current(ctx)
	if err != nil {
		return nil, err
	}
	if who, err := h.Repo.Committer(ctx); err == nil {
		s.Me, s.Who = who.Email, who.Name
	}
	var open error // why no join is under way
	if name == "" {
		var line *vcs.Line
		if st.Branch == b.Name {
			line = st.Line
		}
		if s.Position, open = h.Locate(ctx, b, line); open == nil && len(st.Picks) > 0 && st.Branch == b.Name {
			if s.Position, err = h.Planner.Picking(ctx, s.Position, st.Picks, st.PickParent); err != nil {
				return nil, err
			}
		}
		if open == nil {
			s.Position.Requests = st.Requests
		}
		if open == nil && s.Position.Trivial() == plan.NotTrivial {
			return s, h.tell(ctx, s, st.Route, &st.Decisions, st.Amends(), st.Checked)
		}
	}
	i := len(points) - 1
	for ; i >= 0; i-- {
		if p := points[i]; p.Name == name || name == "" && p.Branch == b.Name && !p.GoneBack && !p.Commits {
			break
		}
	}
	switch {
	case i < 0 && name != "":
		return nil, &plan.Blocked{What: "There is no waypoint " + name + " here.",
			Next: "Without a name the last one made here is told."}
	case i < 0 && open != nil:
		return nil, open
	case i < 0:
		return nil, &plan.Blocked{What: "There is nothing to draw: nothing is to be joined here, and nothing was.",
			Next: "The history can be drawn all the same: “dorvik draw history”."}
	}
	s.Waypoint = points[i]
	return s, h.retell(ctx, s, b.Tracking)
}

// retell fills in the story of a finished join.
func (h *History) retell(ctx context.Context, s *Story, tracking string) error {
	p := s.Waypoint
	b, err := h.Repo.Current(ctx)
	if err != nil {
		return err
	}
	if p.By.Is(plan.Pick) {
		s.Position, err = h.Planner.Picking(ctx, plan.Alone(b, p.Before), p.Picks, p.Parent)
		if err != nil {
			return err
		}
		if k, ok := s.Position.Kind.(*plan.Picking); ok {
			k.Home = s.Position
		}
	} else {
		s.Position = before(b, p)
		if err := h.Planner.Part(ctx, s.Position); err != nil {
			return err
		}
	}
	s.Position.Branch.Name, s.Position.Past = p.Branch, true
	s.Tip, s.Position.Requests = p.After, p.Requests
	if tracking != "" {
		up, err := h.Repo.Ref(ctx, tracking)
		if err != nil {
			return err
		}
		if !up.IsZero() {
			if s.Pushed, err = history.IsAncestor(ctx, h.Planner.Store, p.After, up); err != nil {
				return err
			}
		}
	}
	if !p.By.Is(plan.Merge) {
		onto := p.Theirs
		if p.By.Is(plan.Pick) {
			onto = p.Before
		}
		if s.Made, err = history.Only(ctx, h.Planner.Store, p.After, onto); err != nil {
			return err
		}
	}
	return h.tell(ctx, s, p.By.Route(), &settle.Decisions{List: p.Decisions},
		plan.Amends{Mends: p.Mends, Made: h.MadeAt(ctx, p)}, p.Checked)
}

// tell fills in the story of a position.
func (h *History) tell(ctx context.Context, s *Story, route plan.Route, decisions *settle.Decisions, by plan.Amends,
	checked *ledger.Checked) error {
	var err error
	p := s.Position
	s.Below = h.Planner.Below(ctx, p.Base(), 2)
	if s.Plan, err = h.Planner.Plan(ctx, p, decisions, nil); err != nil {
		return err
	}
	if s.Overlap, err = h.Planner.Overlaps(ctx, p, s.Plan.Asking()); err != nil {
		return err
	}
	if err := h.Planner.CountLines(ctx, s.Overlap); err != nil {
		return err
	}
	if s.Chosen = route != ""; !s.Chosen {
		route = s.Plan.Suggested
	}
	if p.Trivial() != plan.NotTrivial {
		return nil // fast-forward: nothing was joined
	}
	if s.Join, err = h.Planner.Join(ctx, p, route, decisions, by, nil); err != nil {
		return err
	}
	if route == plan.Merge && s.Join.Open > 0 && !s.Tip.IsZero() {
		if decisions, by, err = h.asMade(ctx, s, decisions, by); err != nil {
			return err
		}
		if s.Join, err = h.Planner.Join(ctx, p, route, decisions, by, nil); err != nil {
			return err
		}
	}
	if !s.Tip.IsZero() {
		made, err := h.Planner.Tree(ctx, s.Tip)
		if err != nil {
			return err
		}
		s.Differs = made != s.Join.Tree
	}
	if s.Questions, err = h.Planner.Attribute(ctx, p, s.Join, decisions); err != nil {
		return err
	}
	if s.Left, err = h.Planner.Accounts.LeftOut(ctx, p, s.Join, decisions); err != nil {
		return err
	}
	if checked != nil && checked.Tree == s.Join.Tree {
		s.Checked = checked
	}
	if !p.IsPick() {
		s.Others, err = h.Others(ctx, p.Divergence.Theirs, p.Theirs, s.Join.Tree)
	}
	return err
}

// Commits lists the commits of both sides, newest first.
func (s *Story) Commits() []history.Node {
	all := slices.Concat(s.Position.Divergence.Yours, s.Position.Divergence.Theirs)
	slices.SortStableFunc(all, func(a, b history.Node) int { return int(b.Author().When - a.Author().When) })
	return all
}

// MadeAt returns the files that commands made at a waypoint. It skips those that can no longer be read.
func (h *History) MadeAt(ctx context.Context, p *ledger.Waypoint) (out []plan.Made) {
	for _, m := range p.Made {
		text, ok, err := h.Planner.TextOf(ctx, p.After, m.Path)
		if err == nil && ok {
			m.Text = text
			out = append(out, m)
		}
	}
	return out
}
