package recovery

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"time"

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

// Session is a workspace with the recovery kept in the git directory. Only one
// can be open in a repository at a time.
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

	sharing       *sharing
	toldNotLooked int // how many of those not looked at were told
}

// OpenSession opens the repository that holds a folder and the recovery kept
// there. If an earlier run was ended while it changed branch and files, it is
// finished, or found not to have begun.
func OpenSession(ctx context.Context, dir string) (*Session, error) {
	w, err := OpenWorkspace(ctx, dir)
	if err != nil {
		return nil, err
	}
	return Begin(ctx, w)
}

// Begin is OpenSession for a workspace, which is closed where that fails.
func Begin(ctx context.Context, w *Workspace) (*Session, error) {
	l, damage, err := ledger.Open(w.Repo.Where().Own)
	if err != nil {
		w.Close()
		return nil, err
	}
	l.Tell("%s", damage)
	s := newSession(w, l)
	if err := s.Applier.Begin(ctx); err != nil {
		s.Close()
		return nil, err
	}
	return s, nil
}

// newSession puts what a workspace and a ledger need together.
func newSession(w *Workspace, l *ledger.Ledger) *Session {
	s := &Session{Repo: w.Repo, Workspace: w, Planner: w.Planner, Ledger: l, WorkTree: w.WorkTree,
		Prover:  prove.New(w.Repo, w.Planner, w.Drivers, l),
		History: &lookback.History{Repo: w.Repo, Planner: w.Planner, Ledger: l, Locate: w.History.Locate},
		Mends:   &Mends{w.Planner, l},
		sharing: &sharing{w, l}}
	s.Applier = w.mover(l, s.Prover)
	w.Drivers.Agreed, w.Planner.Files.Recall = l.AgreedTo, s.sharing.recall
	return s
}

// Close saves nothing: all is saved as it happens.
func (s *Session) Close() {
	s.Applier.End()
	s.Ledger.Close()
	s.Workspace.Close()
}

// Decide records decisions, all or none.
func (s *Session) Decide(decided ...settle.Decision) error {
	for i, d := range decided {
		if d.Way != settle.AsBefore {
			continue
		}
		r, ok := s.sharing.recall(d.Key)
		if !ok {
			return errors.New("what was decided before about this is not known any more; say another way")
		}
		decided[i] = r.Decision
	}
	return s.Ledger.Decide(decided...)
}

// ForgetDecisions forgets how conflicts were settled in earlier recoveries, of some or of all, and counts them.
func (s *Session) ForgetDecisions(keys ...settle.Key) (int, error) {
	return s.sharing.forgetDecisions(keys...)
}

// FastForward moves the branch forward to theirs, where nothing of yours is in the way.
func (s *Session) FastForward(ctx context.Context, p *plan.Position, consent change.Consent) (*ledger.Waypoint, error) {
	st := s.Ledger.State()
	j, err := s.Planner.Join(ctx, p, "", &st.Decisions, plan.Amends{}, nil)
	if err != nil {
		return nil, err
	}
	if j.Route = plan.Route(plan.FastForward); p.MovesBack() {
		j.Route = ""
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

// Accept is the one moment at which things change: the commits go to the
// repository, and branch, index and working tree go to the joined state
// together. It refuses, changing nothing, if the branch or files in the way
// changed meanwhile.
func (s *Session) Accept(ctx context.Context, p *plan.Position, j *plan.Join, b plan.Built,
	consent change.Consent) (*ledger.Waypoint, error) {
	tip, err := s.Planner.Store.Commit(b.Tip)
	if err != nil {
		return nil, err
	}
	return s.Applier.Accept(ctx, p, j, b, consent, reflog(p, j, tip.Subject()))
}

// reflog is what the reflogs say of a join whose tip has a subject, in the words that git has for it.
func reflog(p *plan.Position, j *plan.Join, subject string) string {
	switch {
	case p.MovesBack():
		return "reset: moving to " + p.Theirs.String()
	case p.Trivial() == plan.FastForward:
		return "merge " + p.Branch.Upstream + ": Fast-forward"
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
	return "merge " + p.Branch.Upstream + ": Merge made by dorvik."
}

// Pushed is how a push went.
type Pushed struct {
	Tip      object.ID
	Holds    object.ID    // what the remote said it holds afterwards
	Refusal  *vcs.Refusal // nil if it was accepted
	Said     []string     // by the hook here, and by the server
	Unsure   bool         // it failed, and the remote did not say whether it holds the tip all the same
	WentBack bool         // the join was undone, to be made again on what is new
}

// PushTip pushes the branch's tip, never forcing, and asks the remote again
// what it holds. If somebody pushed first, the join is undone and the remote
// fetched, so that it can be made again with the decisions kept. What was picked
// stays: it is to be joined with what is new like any other commit of yours.
func (s *Session) PushTip(ctx context.Context, p *plan.Position, consent change.Consent) (*Pushed, error) {
	if err := s.Applier.AskToPush(ctx, consent); err != nil {
		return nil, err
	}
	b, _, err := s.Repo.Status(ctx)
	if err != nil {
		return nil, err
	}
	want := p.Yours
	if s.Ledger.State().Accepted != nil {
		want = s.Ledger.State().Accepted.After
	}
	if b.Name != p.Branch.Name || b.Tip != want {
		return nil, &change.MovedError{Branch: p.Branch.Name}
	}
	out := &Pushed{Tip: b.Tip}
	to := b.To()
	gone, err := s.gone(ctx, to)
	if err != nil {
		return nil, err
	}
	if gone && !consent.MakeAnew {
		out.Refusal = &vcs.Refusal{Kind: vcs.Gone, Short: to.Name}
		return out, nil
	}
	out.Said, err = s.Repo.Push(ctx, to.Remote, to.Ref, b.Tip)
	if errors.As(err, &out.Refusal) && ctx.Err() == nil {
		s.confirm(ctx, p, to, out)
		err = nil
	}
	if out.Refusal != nil {
		if a := s.Ledger.State().Accepted; out.Refusal.Kind == vcs.Behind && a != nil && a.Route != plan.Pick &&
			!a.TakenOver() {
			if _, err := s.Applier.GoBack(ctx, a.Name); err == nil {
				out.WentBack = true
				return out, s.Ledger.Reach(ledger.Look)
			}
		}
		return out, nil
	}
	if err != nil {
		return nil, err
	}
	if out.Holds, err = s.Repo.RemoteTip(ctx, to.Remote, to.Ref); err != nil {
		return out, fmt.Errorf("the push was accepted, but then the remote did not answer: %w", err)
	}
	e := ledger.LogEntry{What: ledger.Sent, When: time.Now(), Branch: b.Name, From: p.Upstream().Theirs, To: b.Tip}
	if a := s.Ledger.State().Accepted; a != nil {
		e.Waypoint, e.Route = a.Name, a.Route
		s.sharing.tellShared(s.sharing.share(ctx, to.Remote, a.Decisions))
	}
	s.Ledger.Noted(s.Ledger.Store.Log(e))
	return out, s.Ledger.Pushed(b.Name)
}

// confirm asks the remote what it holds after a refusal: what was said is one thing, what is so another.
func (s *Session) confirm(ctx context.Context, p *plan.Position, to vcs.Dest, out *Pushed) {
	at, err := s.Repo.RemoteTip(ctx, to.Remote, to.Ref)
	out.Unsure = err != nil
	switch r := out.Refusal; {
	case err != nil:
	case at == out.Tip:
		out.Refusal = nil
	case r.Kind == vcs.Behind && r.Raced() && at == p.Upstream().Theirs && p.Upstream().Branch.To() == to:
		r.Kind = vcs.Busy // nothing is new there: it was the lock
	}
}

// gone reports whether a branch of the remote that there was is there no more: a push would make it
// anew, and whoever deleted it would not be asked.
func (s *Session) gone(ctx context.Context, to vcs.Dest) (bool, error) {
	known, err := s.Repo.Ref(ctx, to.Tracking)
	if err != nil || known.IsZero() {
		return false, err
	}
	at, err := s.Repo.RemoteTip(ctx, to.Remote, to.Ref)
	var refused *vcs.Refusal
	if errors.As(err, &refused) {
		return false, nil // the push will say why
	}
	return err == nil && at.IsZero(), err
}

// SettleBy takes a route, empty for the one kept or else the suggested one, and settles each
// open conflict by the first of the ways that it offers. Settling one stop of a rebase can
// change the next, so it joins again, stop by stop, until nothing more can be settled.
func (s *Session) SettleBy(ctx context.Context, p *plan.Position, route plan.Route, prefer []settle.Way) (*plan.Join,
	error) {
	st := s.Ledger.State()
	switch {
	case p.Resumes() != nil:
		route = p.Resumes().Route(p)
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

// Price works out what it would cost to have a commit be as wished. Nothing is written.
func (w *Workspace) Price(ctx context.Context, p *plan.Position, st *ledger.State, now *plan.Join, commit object.ID,
	wish replay.Wish) (*plan.Price, error) {
	then := *p
	then.Wishes = maps.Clone(p.Wishes)
	if then.Wishes == nil {
		then.Wishes = replay.Wishes{}
	}
	then.Wishes[commit] = wish
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
	pr := &plan.Price{Asks: j.Open, Lost: j.Refused}
	for _, l := range after {
		if !slices.ContainsFunc(before, l.Same) {
			pr.Left = append(pr.Left, l)
		}
	}
	return pr, nil
}
