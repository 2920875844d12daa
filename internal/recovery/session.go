package recovery

import (
	"context"
	"errors"
	"maps"
	"slices"

	"dorvik.dev/dorvik/internal/change"
	"dorvik.dev/dorvik/internal/core/object"
	"dorvik.dev/dorvik/internal/core/replay"
	"dorvik.dev/dorvik/internal/core/settle"
	"dorvik.dev/dorvik/internal/ledger"
	"dorvik.dev/dorvik/internal/lookback"
	"dorvik.dev/dorvik/internal/plan"
	"dorvik.dev/dorvik/internal/prove"
	"dorvik.dev/dorvik/internal/vcs"
)

// Session is a workspace with its ledger, opened for changes. Only one can be open per repository.
type Session struct {
	Repo      vcs.System
	Workspace *Workspace
	Planner   *plan.Planner
	Ledger    *ledger.Ledger
	Prover    *prove.Prover
	WorkTree  change.WorkTree
	Applier   change.Mover
	History   *lookback.History

	Mends *Mends
	Lines *Lines
	Push  *Pusher

	Commits *Commits
	Tasks   *Tasks

	Forwards *Forwards

	sharing       *sharing
	toldNotLooked int // number of remarks about foresight that were reported
}

// Begin opens a session over a workspace. It closes the workspace on error.
func Begin(ctx context.Context, w *Workspace) (*Session, error) {
	l, damage, err := ledger.Open(w.Repo.Where().Own)
	if err != nil {
		w.Close()
		return nil, err
	}
	l.Tell("%s", damage)
	s := newSession(w, l)
	err = s.Applier.Begin(ctx)
	if err == nil {
		err = s.Commits.End(ctx) // of a process that was killed while it was choosing
	}
	if err != nil {
		s.Close()
		return nil, err
	}
	return s, nil
}

// newSession connects the rooms.
func newSession(w *Workspace, l *ledger.Ledger) *Session {
	s := &Session{Repo: w.Repo, Workspace: w, Planner: w.Planner, Ledger: l, WorkTree: w.WorkTree,
		Prover:  prove.New(w.Repo, w.Planner, w.Drivers, l),
		History: &lookback.History{Repo: w.Repo, Planner: w.Planner, Ledger: l, Locate: w.History.Locate},
		Mends:   &Mends{w.Planner, l},
		Lines:   &Lines{w.Repo, l},
		sharing: &sharing{w, l}}
	s.Applier, s.Push = w.mover(l, s.Prover), &Pusher{s: s}
	s.Tasks = &Tasks{w.Repo, w.Planner, s.Prover, l}
	s.Commits = &Commits{w.Repo, w.Planner, s.WorkTree, s.Applier}
	s.Forwards = &Forwards{w.Repo, w.Planner, l, s.Applier, s.Lines}
	w.Drivers.Agreed, w.Planner.Files.Recall = l.AgreedTo, s.sharing.recall
	return s
}

// Close releases the repository. Everything is stored already.
func (s *Session) Close() {
	s.Applier.End()
	s.Ledger.Close()
	s.Workspace.Close()
}

// Decide records all decisions or none. It resolves settle.AsBefore to the remembered decision.
func (s *Session) Decide(decided ...settle.Decision) error {
	for i, d := range decided {
		if d.Way != settle.AsBefore {
			continue
		}
		r, ok := s.sharing.recall(d.Key)
		if !ok {
			return errors.New("the earlier decision about this is no longer known; choose another way")
		}
		decided[i] = r.Decision
	}
	return s.Ledger.Decide(decided...)
}

// ForgetDecisions forgets remembered decisions, all of them or those with the keys, and returns their number.
func (s *Session) ForgetDecisions(keys ...settle.Key) (int, error) {
	return s.sharing.forgetDecisions(keys...)
}

// FastForward moves the branch forward to theirs.
func (s *Session) FastForward(ctx context.Context, p *plan.Position, consent change.Consent) (*ledger.Waypoint, error) {
	st := s.Ledger.State()
	j, err := s.Planner.Join(ctx, p, "", &st.Decisions, plan.Amends{}, nil)
	if err != nil {
		return nil, err
	}
	b, err := s.Planner.Build(ctx, p, j)
	if err != nil {
		return nil, err
	}
	wp, err := s.Accept(ctx, p, j, b, consent)
	if err == nil && !p.Stash().IsZero() {
		s.Ledger.Noted(s.Ledger.Agree(ledger.BroughtBack(p.Stash())))
	}
	return wp, err
}

// Accept stores the commits and moves branch, index and files to the joined state, all or nothing. It fails if branch
// or files changed since the join was computed.
func (s *Session) Accept(ctx context.Context, p *plan.Position, j *plan.Join, b plan.Built,
	consent change.Consent) (*ledger.Waypoint, error) {
	tip, err := s.Planner.Store.Commit(ctx, b.Tip)
	if err != nil {
		return nil, err
	}
	return s.Applier.Accept(ctx, p, j, b, consent, reflog(p, j, tip.Subject()))
}

// reflog returns git's usual reflog message for a join.
func reflog(p *plan.Position, j *plan.Join, subject string) string {
	switch {
	case p.MovesBack():
		return "reset: moving to " + p.Theirs.String()
	case p.Trivial() == plan.FastForward:
		return "merge " + p.Line().Name + ": Fast-forward"
	case j.Route == plan.Rebase:
		onto := p.Theirs
		if p.Resumes() != nil {
			onto = p.Stuck.Left.Onto
		}
		return "rebase (finish): refs/heads/" + p.Branch.Name + " onto " + onto.String()
	case j.Route == plan.Pick && p.Resumes() != nil && p.Stuck.Left.Operation == vcs.Reverting:
		return "revert: " + subject
	case j.Route == plan.Pick:
		return "cherry-pick: " + subject
	case len(j.Stops) > 0 || p.Resumes() != nil:
		return "commit (merge): " + subject
	}
	return "merge " + p.Line().Name + ": Merge made by dorvik."
}

// SettleBy selects a route and settles conflicts by the first preferred way that each offers. An empty route selects
// the stored or the suggested one. It joins again after each stop, because a decision can change later stops.
func (s *Session) SettleBy(ctx context.Context, p *plan.Position, route plan.Route, prefer []settle.Way) (*plan.Join,
	error) {
	st := s.Ledger.State()
	switch {
	case p.Resumes() != nil:
		route = p.Resumes().Route(p)
	case p.Reworks():
		route = plan.Rebase
	case p.IsPick():
		route = plan.Pick
	case route == "" && st.Route != "":
		route = st.Route
	case route == "":
		pl, err := s.Planner.Plan(ctx, p, &st.Decisions, nil)
		if err != nil {
			return nil, err
		}
		route = pl.Suggested
	}
	if err := s.Ledger.TakeRoute(route); err != nil {
		return nil, err
	}
	for {
		st = s.Ledger.State()
		j, err := s.Planner.Join(ctx, p, route, &st.Decisions, st.Amends(), nil)
		if err != nil {
			return nil, err
		}
		if j.Refused != nil {
			return nil, j.Refused
		}
		next := j.Preferred(&st.Decisions, prefer)
		if len(next) == 0 {
			return j, nil
		}
		if err := s.Decide(next...); err != nil {
			return nil, err
		}
	}
}

// Cost computes the cost of a request about one commit.
func (w *Workspace) Cost(ctx context.Context, p *plan.Position, st *ledger.State, now *plan.Join, commit object.ID,
	request replay.Request) (*plan.Cost, error) {
	then := *p
	then.Requests = maps.Clone(p.Requests)
	if then.Requests == nil {
		then.Requests = replay.Requests{}
	}
	then.Requests[commit] = request
	j, err := w.Planner.Join(ctx, &then, st.Route, &st.Decisions, st.Amends(), nil)
	if err != nil {
		return nil, err
	}
	before, err := w.Planner.Accounts.LeftOut(ctx, p, now, &st.Decisions)
	if err != nil {
		return nil, err
	}
	after, err := w.Planner.Accounts.LeftOut(ctx, &then, j, &st.Decisions)
	if err != nil {
		return nil, err
	}
	pr := &plan.Cost{Asks: j.Open, Lost: j.Refused}
	for _, l := range after {
		if !slices.ContainsFunc(before, l.Same) {
			pr.Left = append(pr.Left, l)
		}
	}
	return pr, nil
}
