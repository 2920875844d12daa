package recovery

import (
	"context"
	"errors"
	"fmt"
	"strings"

	"dorvik.dev/dorvik/internal/core/history"
	"dorvik.dev/dorvik/internal/core/object"
	"dorvik.dev/dorvik/internal/core/settle"
	"dorvik.dev/dorvik/internal/vcs"
)

// Survey is where things stand, with both routes worked out: all that is said before a choice.
type Survey struct {
	Position *Position
	Plan     *Plan
	Overlap  []Overlap
	State    State
	InTheWay *OverwriteError // nil where nothing is
	Ahead    *Carried        // what would become of uncommitted work that is in the way
	Aside    *LeftAside      // work that a pull left in the stash
	Marks    []MarkerFile    // conflict marks that are committed in yours already
	Drivers  []MergeDriver   // merge drivers that would run if they were agreed to
	Below    []history.Node  // the common ancestor, and the one before it
}

// Survey looks where things stand, asking the remote first if told to.
func (s *Session) Survey(ctx context.Context, fetch bool, progress func(done, of int)) (*Survey, error) {
	return s.SurveyFrom(ctx, fetch, progress, nil)
}

// SurveyFrom is Survey that hands over where the two lines part, with what is below that, as soon as it is known: the
// routes take longer. Of the files that both or one changed, the lines of the first are counted; CountLines does the
// rest.
func (s *Session) SurveyFrom(ctx context.Context, fetch bool, progress func(done, of int), part func(p *Position,
	below []history.Node)) (*Survey, error) {
	if !fetch {
		if p := s.standing(ctx); p != nil {
			v, err := s.survey(ctx, p, s.dirtyOf(ctx, p), progress, part)
			if !errors.Is(err, errMoved) {
				return v, err
			}
		}
	}
	p, err := s.Locate(ctx, fetch)
	if err != nil {
		return nil, err
	}
	return s.survey(ctx, p, func() error { return nil }, progress, part)
}

// standing is Locate without uncommitted work, which in a large working tree takes longer to find than the two lines;
// nil where that changes where one stands, or where that cannot be known: Locate says why.
func (s *Session) standing(ctx context.Context) *Position {
	if s.Repo.Busy() != "" || s.state.Carry || len(s.state.Picks) > 0 {
		return nil
	}
	s.forgetStuck()
	b, err := s.Repo.Current(ctx)
	if err != nil {
		return nil
	}
	p, err := s.stand(ctx, b, nil, false)
	if err != nil {
		return nil
	}
	p.Wishes = s.state.Wishes
	return p
}

// errMoved says that the branch is not where it was a moment ago.
var errMoved = errors.New("the branch was moved")

// dirtyOf begins to look for uncommitted work, and gives what waits for it and adds it to the position.
func (s *Session) dirtyOf(ctx context.Context, p *Position) (wait func() error) {
	type status struct {
		branch vcs.Branch
		dirty  []vcs.Dirty
		err    error
	}
	found := make(chan status, 1)
	go func() {
		var st status
		st.branch, st.dirty, st.err = s.Repo.Status(ctx)
		found <- st
	}()
	return func() error {
		st := <-found
		if st.err == nil && (st.branch.Name != p.Branch.Name || st.branch.Tip != p.Yours) {
			st.err = errMoved
		}
		p.Dirty = st.dirty
		return st.err
	}
}

// firstCounted is of how many files lines are counted at once: more than a screen shows of them.
const firstCounted = 100

// survey is Survey of a position. dirty waits until the uncommitted work is known.
func (s *Session) survey(ctx context.Context, p *Position, dirty func() error, progress func(done, of int),
	part func(p *Position, below []history.Node)) (*Survey, error) {
	v := &Survey{Position: p}
	err := s.Sync(p)
	if err != nil {
		return nil, err
	}
	v.State = s.State()
	v.Below = s.below(v.Position.Base(), 2)
	if part != nil {
		so := *v.Position // uncommitted work is added to the other while this is drawn
		part(&so, v.Below)
	}
	v.Position.hidden = s.askHidden(ctx)
	told := make(chan error, 1) // git is asked for this while the routes are worked out
	go func() { told <- s.shown(ctx, v.Position, v.Below) }()
	if v.Plan, err = s.Plan(ctx, v.Position, &v.State.Decisions, progress); err != nil {
		return nil, err
	}
	asking := v.Plan.Asking()
	if v.Overlap, err = s.Overlaps(ctx, v.Position, asking); err != nil {
		return nil, err
	}
	if err := s.CountLines(ctx, v.Overlap[:min(firstCounted, len(v.Overlap))]); err != nil {
		return nil, err
	}
	if v.Drivers, err = s.Unagreed(ctx, asking); err != nil {
		return nil, err
	}
	if err := dirty(); err != nil {
		return nil, err
	}
	if err := s.InTheWay(ctx, v.Position, asking.Tree); err != nil && !errors.As(err, &v.InTheWay) {
		return nil, err
	}
	if v.Aside, err = s.LeftAside(ctx); err != nil {
		return nil, err
	}
	const few = 100 // of more, Push tells
	if up := v.Position.Upstream(); len(up.Divergence.Yours) > 0 && len(up.Divergence.Yours) <= few {
		if v.Marks, _, err = s.ConflictMarkers(ctx, up.Theirs, up.Yours); err != nil {
			return nil, err
		}
	}
	if over := v.InTheWay; over != nil && !over.Unknown && !over.Hidden && !asking.Tree.IsZero() {
		if v.Ahead, err = s.Ahead(ctx, v.Position, asking.Tree, &v.State.Decisions); err != nil {
			return nil, err
		}
	}
	if err := <-told; err != nil {
		return nil, err
	}
	s.knowMe(ctx, v.Position)
	return v, nil
}

// shown has the ids that are shown of a position be told apart.
func (s *Session) shown(ctx context.Context, p *Position, below []history.Node) error {
	if n := s.Repo.Abbrev(ctx); n > leastDigits {
		s.digits.Store(int32(n))
	}
	ids := append(idsOf(p.Divergence.Yours), idsOf(p.Divergence.Theirs)...)
	return s.tellApart(ctx, append(append(ids, idsOf(below)...), idsOf(p.TakenOut)...))
}

// below lists a commit and those before it along their first parents, at most n.
func (w *Workspace) below(id object.ID, n int) (out []history.Node) {
	for !id.IsZero() && len(out) < n {
		c, err := w.Store.Commit(id)
		if err != nil {
			break // a shallow clone ends here
		}
		out = append(out, history.Node{ID: id, Commit: c})
		if len(c.Parents) == 0 {
			break
		}
		id = c.Parents[0]
	}
	return out
}

// Underway reports whether a route was taken and the recovery is beyond the choice.
func (st *State) Underway() bool { return st.Stage > Choose && st.Route != "" }

// TakeNotice gives what the person has to be told, each thing once.
func (s *Session) TakeNotice() string {
	out := s.notices
	s.notices = nil
	list := s.NotLookedAt()
	for _, n := range list[s.toldNotLooked:] {
		out = append(out, n.Sentence())
	}
	s.toldNotLooked = len(list)
	return strings.Join(out, " ")
}

// tell adds a sentence, or several, to what the person has to be told.
func (s *Session) tell(format string, args ...any) {
	if text := fmt.Sprintf(format, args...); text != "" {
		s.notices = append(s.notices, text)
	}
}

// Glance is where things stand as it can be seen without opening the recovery kept here.
type Glance struct {
	Position *Position
	Overlap  []Overlap
	Misfits  []Misfit
	InTheWay *OverwriteError // nil where nothing is
	Kept     *State          // of an unfinished recovery; nil where there is none
	InUse    bool            // a session is open here, and what is kept is not known
}

// Glance looks where things stand, asking the remote first if told to. Nothing else is written.
func (w *Workspace) Glance(ctx context.Context, fetch bool) (*Glance, error) {
	v := &Glance{}
	var err error
	if v.Position, err = w.Locate(ctx, fetch); err != nil {
		return nil, err
	}
	v.Position.hidden = w.askHidden(ctx)
	w.knowMe(ctx, v.Position)
	j, err := w.Join(ctx, v.Position, Merge, &settle.Decisions{}, Amends{}, nil)
	if err != nil {
		return nil, err
	}
	if v.Overlap, err = w.Overlaps(ctx, v.Position, j); err != nil {
		return nil, err
	}
	if err := w.CountLines(ctx, v.Overlap); err != nil {
		return nil, err
	}
	if v.Misfits, err = w.Misfits(ctx, v.Position, j); err != nil {
		return nil, err
	}
	if err := w.InTheWay(ctx, v.Position, j.Tree); err != nil && !errors.As(err, &v.InTheWay) {
		return nil, err
	}
	v.Kept, err = Peek(w)
	if v.InUse = errors.Is(err, ErrInUse); v.InUse {
		err = nil
	}
	return v, err
}
