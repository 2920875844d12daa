package recovery

import (
	"context"
	"errors"
	"maps"
	"slices"
	"strings"

	"dorvik.dev/dorvik/internal/change"
	"dorvik.dev/dorvik/internal/core/history"
	"dorvik.dev/dorvik/internal/core/settle"
	"dorvik.dev/dorvik/internal/ledger"
	"dorvik.dev/dorvik/internal/plan"
	"dorvik.dev/dorvik/internal/prove"
	"dorvik.dev/dorvik/internal/vcs"
)

// Survey is everything Look shows: the position, both routes, and the overlap.
type Survey struct {
	Position *plan.Position
	Plan     *plan.Plan
	Overlap  []plan.Overlap
	State    ledger.State
	InTheWay *change.OverwriteError // nil if nothing is in the way
	Ahead    *plan.Carried          // what carrying would do to the uncommitted work
	Aside    *LeftAside             // work that a pull left in the stash
	Marks    []plan.MarkerFile      // conflict marks already committed in yours
	Drivers  []prove.MergeDriver    // merge drivers that would run with consent
	Needs    *Needs                 // earlier commits that a pick builds on; nil if none
	Forward  *vcs.Line              // where the branch can be put forward into; nil if nowhere
	Tasks    TaskSettings
	Locks    plan.Locks
	Below    []history.Node // the common ancestor, and the one before it
}

// Survey examines the repository. With fetch it asks the remote first.
func (s *Session) Survey(ctx context.Context, fetch bool, progress func(done, of int)) (*Survey, error) {
	return s.SurveyFrom(ctx, fetch, progress, nil)
}

// SurveyFrom is Survey that calls part as soon as the two lines are known, before the routes. It counts the lines of
// the first files only; Planner.CountLines counts the rest.
func (s *Session) SurveyFrom(ctx context.Context, fetch bool, progress func(done, of int), part func(p *plan.Position,
	below []history.Node)) (*Survey, error) {
	if !fetch {
		if p := s.standing(ctx); p != nil {
			v, err := s.surveyOf(ctx, p, s.dirtyOf(ctx, p), progress, part)
			if !errors.Is(err, errMoved) {
				return v, err
			}
		}
	}
	p, err := s.Locate(ctx, fetch)
	if err != nil {
		return nil, err
	}
	return s.surveyOf(ctx, p, func() error { return nil }, progress, part)
}

// standing is Locate without uncommitted work, which is slower to read in large working trees. It returns nil if a
// full Locate is needed.
func (s *Session) standing(ctx context.Context) *plan.Position {
	st := s.Ledger.State()
	if s.Repo.Busy() != "" || st.TakeOver != "" || st.Carry || len(st.Picks) > 0 || st.Rework {
		return nil
	}
	b, err := s.Repo.Current(ctx)
	if err != nil {
		return nil
	}
	s.Lines.ApplyTarget(ctx, &b)
	p, err := stander{s.Workspace}.stand(ctx, b, nil, s.lineNow(b), false)
	if err != nil {
		return nil
	}
	p.Requests = s.Ledger.State().Requests
	return p
}

// errMoved reports that the branch moved during the survey.
var errMoved = errors.New("the branch was moved")

// dirtyOf starts to read uncommitted work. wait adds it to the position.
func (s *Session) dirtyOf(ctx context.Context, p *plan.Position) (wait func() error) {
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

// firstCounted is the number of files whose lines are counted at once, more than a screen shows.
const firstCounted = 100

// surveyOf is Survey for a position. dirty waits for the uncommitted work.
func (s *Session) surveyOf(ctx context.Context, p *plan.Position, dirty func() error, progress func(done, of int),
	part func(p *plan.Position, below []history.Node)) (*Survey, error) {
	v := &Survey{Position: p}
	err := s.Ledger.Sync(p)
	if err != nil {
		return nil, err
	}
	v.State = s.Ledger.State()
	v.Below = s.Planner.Below(ctx, v.Position.Base(), 2)
	if part != nil {
		so := *v.Position // a copy, because uncommitted work is added to the original concurrently
		part(&so, v.Below)
	}
	if err := s.surveyBeside(ctx, v); err != nil {
		return nil, err
	}
	told := make(chan error, 1) // ask git while the routes are computed
	go func() { told <- s.shown(ctx, v.Position, v.Below) }()
	if v.Plan, err = s.Planner.Plan(ctx, v.Position, &v.State.Decisions, progress); err != nil {
		return nil, err
	}
	asking := v.Plan.Asking()
	if v.Needs, err = s.Workspace.Needs(ctx, p, asking, &v.State.Decisions); err != nil {
		return nil, err
	}
	if v.Overlap, err = s.Planner.Overlaps(ctx, v.Position, asking); err != nil {
		return nil, err
	}
	if err := s.Planner.CountLines(ctx, v.Overlap[:min(firstCounted, len(v.Overlap))]); err != nil {
		return nil, err
	}
	if v.Drivers, err = s.Workspace.Drivers.Unagreed(ctx, asking); err != nil {
		return nil, err
	}
	if err := dirty(); err != nil {
		return nil, err
	}
	if err := s.WorkTree.InTheWay(ctx, v.Position, asking.Tree); err != nil && !errors.As(err, &v.InTheWay) {
		return nil, err
	}
	if v.Aside, err = s.LeftAside(ctx); err != nil {
		return nil, err
	}
	const few = 100 // with more commits, Push reports it
	if up := v.Position.Upstream(); len(up.Divergence.Yours) > 0 && len(up.Divergence.Yours) <= few {
		if v.Marks, _, err = s.Planner.ConflictMarkers(ctx, up.Theirs, up.Yours); err != nil {
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
	s.Planner.KnowMe(ctx, v.Position)
	return v, nil
}

// surveyBeside adds what can be done beside a join: an exchange, or putting the branch forward; and the settings of
// tasks. It starts to read the
// hidden paths.
func (s *Session) surveyBeside(ctx context.Context, v *Survey) (err error) {
	if v.Tasks, err = s.Tasks.Settings(ctx); err != nil {
		return err
	}
	if v.Locks, err = locks(ctx, s.Workspace, v.Position); err != nil {
		return err
	}
	v.Position.Exchange, err = s.Planner.Exchange(ctx, v.Position)
	v.Forward = s.Forwards.Line(ctx, v.Position)
	v.Position.Hidden = s.WorkTree.AskHidden(ctx)
	return err
}

// locks returns the locks as they were last, with what you changed that matters to them.
func locks(ctx context.Context, w *Workspace, p *plan.Position) (l plan.Locks, err error) {
	if w.Locks == nil || !w.Locks.Used(ctx) {
		return l, nil
	}
	if l.List, err = w.Locks.Locks(ctx); err != nil {
		return l, err
	}
	if l.Changed, err = w.Planner.Mine(ctx, p); err != nil {
		return l, err
	}
	for _, d := range p.Dirty {
		if !d.Untracked {
			l.Changed[d.Path] = true
		}
	}
	l.Wanted, err = w.Locks.Lockable(ctx, slices.Sorted(maps.Keys(l.Changed)))
	l.Wanted = slices.DeleteFunc(l.Wanted, func(path string) bool {
		return slices.ContainsFunc(l.List, func(one vcs.Lock) bool { return one.Path == path })
	})
	return l, err
}

// shown makes the abbreviated ids of a position unambiguous.
func (s *Session) shown(ctx context.Context, p *plan.Position, below []history.Node) error {
	s.Planner.ShowDigits(s.Repo.Abbrev(ctx))
	ids := append(plan.IdsOf(p.Divergence.Yours), plan.IdsOf(p.Divergence.Theirs)...)
	return s.Planner.TellApart(ctx, append(append(ids, plan.IdsOf(below)...), plan.IdsOf(p.TakenOut)...))
}

// TakeNotice removes and returns the queued sentences.
func (s *Session) TakeNotice() string {
	out := s.Ledger.TakeNotices(0)
	list := s.Planner.Extras.NotLookedAt()
	for _, n := range list[s.toldNotLooked:] {
		out = append(out, n.Sentence())
	}
	s.toldNotLooked = len(list)
	return strings.Join(out, " ")
}

// Glance is what can be seen without locking the ledger.
type Glance struct {
	Position *plan.Position
	Overlap  []plan.Overlap
	Misfits  []plan.Misfit
	InTheWay *change.OverwriteError // nil if nothing is in the way
	Locks    plan.Locks
	Kept     *ledger.State // state of an unfinished recovery; nil if none
	InUse    bool          // another session holds the store, so its state is unknown
}

// Glance examines the repository. With fetch it asks the remote first. It writes nothing else. The branch is compared
// with the line that from names or, if from is empty, with the one of an unfinished recovery.
func (w *Workspace) Glance(ctx context.Context, fetch bool, from string) (*Glance, error) {
	v := &Glance{}
	var err error
	v.Kept, err = ledger.Peek(w.Repo.Where().Own)
	if v.InUse = errors.Is(err, ledger.ErrInUse); err != nil && !v.InUse {
		return nil, err
	}
	if v.Position, err = w.locateFrom(ctx, fetch, from, v.Kept); err != nil {
		return nil, err
	}
	if v.Position.Exchange, err = w.Planner.Exchange(ctx, v.Position); err != nil {
		return nil, err
	}
	if v.Locks, err = locks(ctx, w, v.Position); err != nil {
		return nil, err
	}
	v.Position.Hidden = w.WorkTree.AskHidden(ctx)
	w.Planner.KnowMe(ctx, v.Position)
	j, err := w.Planner.Join(ctx, v.Position, plan.Merge, &settle.Decisions{}, plan.Amends{}, nil)
	if err != nil {
		return nil, err
	}
	if v.Overlap, err = w.Planner.Overlaps(ctx, v.Position, j); err != nil {
		return nil, err
	}
	if err := w.Planner.CountLines(ctx, v.Overlap); err != nil {
		return nil, err
	}
	if v.Misfits, err = w.Planner.Foresight.Misfits(ctx, v.Position, j); err != nil {
		return nil, err
	}
	if err := w.WorkTree.InTheWay(ctx, v.Position, j.Tree); err != nil && !errors.As(err, &v.InTheWay) {
		return nil, err
	}
	return v, nil
}

// locateFrom is Locate for the line that a text names. For an empty text it uses that of kept, which can be nil.
func (w *Workspace) locateFrom(ctx context.Context, fetch bool, from string, kept *ledger.State) (*plan.Position,
	error) {
	b, dirty, err := w.Repo.Status(ctx)
	if err != nil {
		return nil, err
	}
	var line *vcs.Line
	switch {
	case from != "":
		l, err := w.Lines.Find(ctx, from)
		if err != nil {
			return nil, err
		}
		if l.Tracking != b.Tracking {
			line = &l
		}
	case kept != nil && kept.Branch == b.Name:
		line = kept.Line
	}
	return w.locateLine(ctx, b, dirty, line, fetch)
}

// LocateBeside is Locate for the line that a text names.
func (w *Workspace) LocateBeside(ctx context.Context, fetch bool, from string) (*plan.Position, error) {
	return w.locateFrom(ctx, fetch, from, nil)
}
