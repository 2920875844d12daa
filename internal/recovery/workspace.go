// Package recovery runs the job: it locates the branch, joins the lines, settles conflicts, checks, accepts, pushes
// and undoes. It contains the rules of the job. Screens and commands only call it.
package recovery

import (
	"context"
	"errors"

	"dorvik.dev/dorvik/internal/change"
	"dorvik.dev/dorvik/internal/check"
	"dorvik.dev/dorvik/internal/core/object"
	"dorvik.dev/dorvik/internal/ledger"
	"dorvik.dev/dorvik/internal/lookback"
	"dorvik.dev/dorvik/internal/plan"
	"dorvik.dev/dorvik/internal/proposal"
	"dorvik.dev/dorvik/internal/prove"
	"dorvik.dev/dorvik/internal/reflock"
	"dorvik.dev/dorvik/internal/vcs"
)

// Workspace is a repository opened for reading. Several can be open at once.
type Workspace struct {
	Repo     vcs.System
	Planner  *plan.Planner
	Drivers  *prove.Drivers
	WorkTree change.WorkTree
	History  *lookback.History
	Lines    *Lines
	Locks    vcs.Locking // nil where there are none

	Proposals *proposal.Board

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
	// Recorded returns the paths that a file was recorded to be a copy of. It is nil for a system without such records.
	Recorded func(path string) []string
	// Locks are nil where there are none.
	Locks vcs.Locking
	// Lone reports whether nothing can stand beside what is at a path. It is nil where anything can.
	Lone func(path string) bool
	// Ruled returns how contents are joined that have rules of their own. It is nil for a system without such.
	Ruled func(path string) func(base, yours, theirs []byte) ([]byte, bool)
}

// NewWorkspace opens a workspace over any version-control system.
func NewWorkspace(a Adapter) *Workspace {
	planner := plan.New(a.Store, a.Repo)
	w := &Workspace{Repo: a.Repo, Planner: planner, WorkTree: a.WorkTree(planner),
		Drivers: &prove.Drivers{Repo: a.Repo, Planner: planner, Limit: check.DriverLimit},
		History: &lookback.History{Repo: a.Repo, Planner: planner}, Lines: &Lines{repo: a.Repo},
		Proposals: proposal.New(a.Repo, planner)}
	if w.Locks = a.Locks; w.Locks == nil && a.Repo.Dialect().FreeRefs {
		w.Locks = &reflock.Locks{Repo: a.Repo, Store: a.Store}
	}
	w.mover = func(l *ledger.Ledger, p *prove.Prover) change.Mover { return a.Mover(planner, l, p, w.WorkTree) }
	w.History.Locate = func(ctx context.Context, b vcs.Branch, line *vcs.Line) (*plan.Position, error) {
		return w.locateLine(ctx, b, nil, line, false)
	}
	planner.Engine.Contains, planner.Engine.Recorded, planner.Engine.Ruled = a.Contains, a.Recorded, a.Ruled
	planner.Engine.Lone = a.Lone
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
	return stander{w}.stand(ctx, b, dirty, line, fetch)
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
			if err := (stander{w}).ask(ctx, p); err != nil {
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
