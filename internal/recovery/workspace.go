// Package recovery runs the job: it locates the branch, joins the lines, settles conflicts, checks, accepts, pushes
// and undoes. It contains the rules of the job. Screens and commands only call it.
package recovery

import (
	"context"
	"errors"
	"time"

	"dorvik.dev/dorvik/internal/change"
	"dorvik.dev/dorvik/internal/check"
	"dorvik.dev/dorvik/internal/core/history"
	"dorvik.dev/dorvik/internal/core/object"
	"dorvik.dev/dorvik/internal/ledger"
	"dorvik.dev/dorvik/internal/lookback"
	"dorvik.dev/dorvik/internal/plan"
	"dorvik.dev/dorvik/internal/prove"
	"dorvik.dev/dorvik/internal/vcs"
)

// Workspace is a repository opened for reading. Several can be open at once.
type Workspace struct {
	Repo     vcs.System
	Planner  *plan.Planner
	Drivers  *prove.Drivers
	WorkTree change.WorkTree
	History  *lookback.History

	mover  func(l *ledger.Ledger, p *prove.Prover) change.Mover
	shared *[]object.ID // trees of colleagues' decisions; nil if not read
}

// Adapter connects a repository of some version-control system with a Workspace.
type Adapter struct {
	Repo  vcs.System
	Store *object.Overlay // overlay on the repository's objects

	WorkTree func(p *plan.Planner) change.WorkTree
	Mover    func(p *plan.Planner, l *ledger.Ledger, prover *prove.Prover, tree change.WorkTree) change.Mover
	// Contains reports whether a submodule's commit is an ancestor of another one.
	Contains func(ctx context.Context, path string, older, newer object.ID) bool
}

// NewWorkspace opens a workspace over any version-control system.
func NewWorkspace(a Adapter) *Workspace {
	planner := plan.New(a.Store, a.Repo)
	w := &Workspace{Repo: a.Repo, Planner: planner, WorkTree: a.WorkTree(planner),
		Drivers: &prove.Drivers{Repo: a.Repo, Planner: planner, Limit: check.DriverLimit},
		History: &lookback.History{Repo: a.Repo, Planner: planner}}
	w.mover = func(l *ledger.Ledger, p *prove.Prover) change.Mover { return a.Mover(planner, l, p, w.WorkTree) }
	w.History.Locate = func(ctx context.Context, b vcs.Branch) (*plan.Position, error) {
		return w.locateBranch(ctx, b, nil, false)
	}
	planner.Engine.Contains = a.Contains
	planner.Engine.Outside = w.Drivers.Attributes
	planner.Engine.Drive = w.Drivers.Drive
	planner.Files.Maker = w.maker
	return w
}

// Close releases the repository.
func (w *Workspace) Close() {
	if w.Planner.Scout != nil {
		w.Planner.Scout.Stop()
	}
	w.Repo.Close()
}

// Locate determines how the branch and its upstream relate. With fetch it asks the remote first. If that fails it uses
// the local copy and sets Position.Unanswered. If the job cannot start, the error is a *plan.Blocked.
func (w *Workspace) Locate(ctx context.Context, fetch bool) (*plan.Position, error) {
	b, dirty, err := w.Repo.Status(ctx)
	if err != nil {
		return nil, err
	}
	return w.locateBranch(ctx, b, dirty, fetch)
}

func (w *Workspace) locateBranch(ctx context.Context, b vcs.Branch, dirty []vcs.Dirty, fetch bool) (*plan.Position,
	error) {
	return w.locateLine(ctx, b, dirty, nil, fetch)
}

// locateLine is locateBranch for another line than the upstream, if line is not nil.
func (w *Workspace) locateLine(ctx context.Context, b vcs.Branch, dirty []vcs.Dirty, line *vcs.Line, fetch bool) (
	*plan.Position, error) {
	if w.Repo.Busy() != "" || plan.HasConflicts(dirty) {
		st, err := w.Stuck(ctx)
		if err != nil {
			return nil, err
		}
		if st != nil {
			return nil, &plan.StuckError{Stuck: st}
		}
	}
	return w.stand(ctx, b, dirty, line, fetch)
}

// stand is Locate for a given branch, and for another line than its upstream if line is not nil. It ignores half-done
// operations.
func (w *Workspace) stand(ctx context.Context, b vcs.Branch, dirty []vcs.Dirty, line *vcs.Line, fetch bool) (
	*plan.Position, error) {
	w.Planner.Extras.Begin()
	var err error
	switch {
	case b.Name == "":
		return nil, w.offBranch(ctx, b.Tip)
	case b.Tip.IsZero():
		return nil, &plan.Blocked{What: "The branch " + b.Name + " has no commit yet.",
			Next: "There is nothing to join; commit first."}
	case line != nil:
		return w.standFrom(ctx, b, dirty, *line, fetch)
	case b.Upstream == "" && b.Dest.Remote == "":
		remote, err := w.newAt(ctx, b)
		if err != nil {
			return nil, err
		}
		return w.starting(ctx, b, dirty, remote, fetch)
	}
	p := &plan.Position{Branch: b, Yours: b.Tip, Dirty: dirty}
	if fetch {
		if err := w.ask(ctx, p); err != nil {
			return nil, err
		}
	}
	if err := w.destination(ctx, p); err != nil {
		return nil, err
	}
	b = p.Branch
	p.Known = w.Repo.FetchedAt(ctx, b.Remote, b.Tracking)
	if p.Theirs, err = w.Repo.Ref(ctx, b.Tracking); err != nil {
		return nil, err
	}
	if p.Theirs.IsZero() {
		return nil, w.notThere(b, !p.Asked.IsZero())
	}
	if err := w.part(ctx, p); err != nil {
		return nil, err
	}
	w.takenOut(ctx, p)
	return p, nil
}

// ask fetches from the upstream's remote and from the remote that the branch is pushed to.
func (w *Workspace) ask(ctx context.Context, p *plan.Position) error {
	remotes := []vcs.Remote{p.Branch.Remote, p.Branch.Dest.Remote}
	if remotes[0] == remotes[1] {
		remotes = remotes[:1]
	}
	for _, remote := range remotes {
		if remote == "" {
			continue
		}
		if err := w.Repo.Fetch(ctx, remote); err != nil {
			if locked := (*vcs.LockedError)(nil); ctx.Err() != nil || errors.As(err, &locked) { // the remote answered
				return err
			}
			p.Unanswered = err
		} else if w.shares(ctx) {
			_ = w.fetchShared(ctx, remote) // on failure use the decisions that are here
		}
	}
	if p.Unanswered == nil {
		p.Asked = time.Now()
	}
	return nil
}

// destination determines where git would push the branch. If that is another existing branch than the upstream, the
// join is with that one, because the push must contain it.
func (w *Workspace) destination(ctx context.Context, p *plan.Position) error {
	b := &p.Branch
	if b.Dest.Remote == "" || b.Dest.Remote == b.Remote && b.Dest.Ref == b.Ref {
		return nil
	}
	at, err := w.Repo.Ref(ctx, b.Dest.Tracking)
	if err != nil || at.IsZero() && b.Upstream != "" {
		return err // the first push creates the branch
	}
	p.Follows = b.Upstream
	if up, err := w.Repo.Ref(ctx, b.Tracking); err == nil && !up.IsZero() && b.Tracking != "" {
		more, err := history.Only(ctx, w.Planner.Store, up, b.Tip, at)
		if err == nil {
			p.Beside = len(more)
		}
	}
	b.Upstream, b.Tracking, b.Remote, b.Ref = b.Dest.Name, b.Dest.Tracking, b.Dest.Remote, b.Dest.Ref
	return nil
}

// takenOut finds your commits that were once in the remote branch and were removed by a rewrite. They are not
// replayed. If the remote has nothing new they still count as yours, because a push would bring them back.
func (w *Workspace) takenOut(ctx context.Context, p *plan.Position) {
	mine := map[object.ID]history.Node{}
	for _, n := range p.Divergence.Yours {
		mine[n.ID] = n
	}
	out := map[object.ID]bool{}
	var mark func(id object.ID)
	mark = func(id object.ID) {
		if n, ok := mine[id]; ok && !out[id] {
			out[id] = true
			for _, parent := range n.Parents {
				mark(parent)
			}
		}
	}
	for _, id := range w.Repo.Fetched(ctx, p.Line().Tracking) {
		mark(id)
	}
	if len(out) == 0 {
		return
	}
	var left []history.Node
	for _, n := range p.Divergence.Yours {
		if out[n.ID] {
			p.TakenOut = append(p.TakenOut, n)
		} else {
			left = append(left, n)
		}
	}
	if len(p.Divergence.Theirs) > 0 {
		p.Divergence.Yours = left
	}
}

// Compare is Locate for two revisions. Empty ones select the branch and its upstream. It ignores uncommitted work.
func (w *Workspace) Compare(ctx context.Context, yours, theirs string, fetch bool) (*plan.Position, error) {
	b, err := w.Repo.Current(ctx)
	if err != nil {
		return nil, err
	}
	if yours == "" && theirs == "" {
		return w.locateBranch(ctx, b, nil, fetch)
	}
	p := &plan.Position{Branch: b}
	if yours == "" {
		yours = "HEAD"
	}
	if theirs == "" {
		if theirs = b.Tracking; theirs == "" {
			return nil, &plan.Blocked{What: "The branch follows no branch of a remote.",
				Next: "Name the other side.", Remedy: plan.NameTheirs}
		}
		if fetch {
			if err := w.ask(ctx, p); err != nil {
				return nil, err
			}
		}
		p.Known = w.Repo.FetchedAt(ctx, b.Remote, b.Tracking)
	}
	if p.Yours, err = w.Repo.Resolve(ctx, yours); err != nil {
		return nil, err
	}
	if p.Theirs, err = w.Repo.Resolve(ctx, theirs); err != nil {
		return nil, err
	}
	return p, w.part(ctx, p)
}

// part is Planner.Part with an offer to fetch more history for a shallow clone.
func (w *Workspace) part(ctx context.Context, p *plan.Position) error {
	err := w.Planner.Part(ctx, p)
	if errors.Is(err, plan.ErrCut) {
		return w.cutOff(p.Branch)
	}
	return err
}

// maker returns the command that generates a file: the known one, or dorvik.generate.
func (w *Workspace) maker(_, known string) string {
	if known == "" {
		known, _ = w.Repo.Config(context.Background(), "dorvik.generate")
	}
	return known
}
