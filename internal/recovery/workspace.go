// Package recovery is the job itself as a state machine: where one stands, the
// routes, the decisions, the check, the one moment at which things change, the
// push, and the way back. It holds every rule of the job; the screens and the
// commands only ask it.
package recovery

import (
	"context"
	"errors"
	"os"
	"path/filepath"
	"time"

	"dorvik.dev/dorvik/internal/apply"
	"dorvik.dev/dorvik/internal/check"
	"dorvik.dev/dorvik/internal/core/history"
	"dorvik.dev/dorvik/internal/core/object"
	"dorvik.dev/dorvik/internal/git"
	"dorvik.dev/dorvik/internal/lookback"
	"dorvik.dev/dorvik/internal/plan"
	"dorvik.dev/dorvik/internal/prove"
	"dorvik.dev/dorvik/internal/vcs"
)

// Workspace is a repository with the engine over it. It can be had by several at once: nothing it
// computes is written.
type Workspace struct {
	Repo     *git.Repo
	Planner  *plan.Planner
	Drivers  *prove.Drivers
	WorkTree *apply.WorkTree
	History  *lookback.History

	shared *[]object.ID // trees of decisions of colleagues; nil where they were not looked up
}

// OpenWorkspace opens the repository that holds a folder.
func OpenWorkspace(ctx context.Context, dir string) (*Workspace, error) {
	repo, err := git.Open(ctx, dir)
	if err != nil {
		return nil, err
	}
	return newWorkspace(repo, object.NewOverlay(repo.Format, repo)), nil
}

// newWorkspace is the engine over a repository.
func newWorkspace(repo *git.Repo, store *object.Overlay) *Workspace {
	planner := plan.New(store, repo)
	w := &Workspace{Repo: repo, Planner: planner, WorkTree: &apply.WorkTree{Repo: repo, Planner: planner},
		Drivers: &prove.Drivers{Repo: repo, Planner: planner, Limit: check.DriverLimit},
		History: &lookback.History{Repo: repo, Planner: planner}}
	w.History.Locate = func(ctx context.Context, b vcs.Branch) (*plan.Position, error) {
		return w.locateBranch(ctx, b, nil, false)
	}
	planner.Engine.Contains = w.submoduleContains
	planner.Engine.Outside = w.Drivers.Attributes
	planner.Engine.Drive = w.Drivers.Drive
	planner.Files.Maker = w.maker
	return w
}

// submoduleContains asks the submodule itself, where it is present.
func (w *Workspace) submoduleContains(ctx context.Context, path string, older, newer object.ID) bool {
	dir := filepath.Join(w.Repo.Dir, filepath.FromSlash(path))
	if _, err := os.Lstat(filepath.Join(dir, ".git")); err != nil {
		return false // not present: git would answer for the repository around it
	}
	sub, err := git.Open(ctx, dir)
	if err != nil {
		return false
	}
	defer sub.Close()
	held, err := history.IsAncestor(ctx, object.NewOverlay(sub.Format, sub), older, newer)
	return err == nil && held
}

// Close lets the repository go.
func (w *Workspace) Close() {
	if w.Planner.Scout != nil {
		w.Planner.Scout.Stop()
	}
	w.Repo.Close()
}

// Locate reads where the branch and its upstream stand. With fetch the remote is
// asked first; if it does not answer, the local copy is used and the position
// says so. Reasons why nothing can be done come as *Blocked.
func (w *Workspace) Locate(ctx context.Context, fetch bool) (*plan.Position, error) {
	b, dirty, err := w.Repo.Status(ctx)
	if err != nil {
		return nil, err
	}
	return w.locateBranch(ctx, b, dirty, fetch)
}

func (w *Workspace) locateBranch(ctx context.Context, b vcs.Branch, dirty []vcs.Dirty, fetch bool) (*plan.Position,
	error) {
	if w.Repo.Busy() != "" || plan.HasConflicts(dirty) {
		st, err := w.Stuck(ctx)
		if err != nil {
			return nil, err
		}
		if st != nil {
			return nil, &plan.StuckError{Stuck: st}
		}
	}
	return w.stand(ctx, b, dirty, fetch)
}

// stand is locate for a branch, whatever is half done.
func (w *Workspace) stand(ctx context.Context, b vcs.Branch, dirty []vcs.Dirty, fetch bool) (*plan.Position, error) {
	w.Planner.Extras.Begin()
	var err error
	switch {
	case b.Name == "":
		return nil, w.offBranch(ctx, b.Tip)
	case b.Tip.IsZero():
		return nil, &plan.Blocked{What: "The branch " + b.Name + " has no commit yet.",
			Next: "There is nothing to join; commit first."}
	case b.Upstream == "" && b.Dest.Remote == "":
		return nil, w.withoutUpstream(ctx, b)
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

// ask fetches from the remotes of what the branch follows and of where it is pushed.
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
			if locked := (*git.LockedError)(nil); ctx.Err() != nil || errors.As(err, &locked) { // it did answer
				return err
			}
			p.Unanswered = err
		} else if w.shares(ctx) {
			_ = w.fetchShared(ctx, remote) // what is here already serves
		}
	}
	if p.Unanswered == nil {
		p.Asked = time.Now()
	}
	return nil
}

// destination finds where git would push the branch. Where that is another branch than the one it
// follows and exists, the two lines that are joined are yours and that one: the push is accepted only
// if it is contained.
func (w *Workspace) destination(ctx context.Context, p *plan.Position) error {
	b := &p.Branch
	if b.Dest.Remote == "" || b.Dest.Remote == b.Remote && b.Dest.Ref == b.Ref {
		return nil
	}
	at, err := w.Repo.Ref(ctx, b.Dest.Tracking)
	if err != nil || at.IsZero() && b.Upstream != "" {
		return err // it is pushed there for the first time
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

// takenOut tells the commits of your line that came from the remote's branch and
// are in it no more: it was rewritten. They are not yours to replay. Where theirs
// has nothing new they stay among yours, as a push would bring them back.
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
	for _, id := range w.Repo.Fetched(ctx, p.Branch.Tracking) {
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

// Compare is Locate for any two revisions; empty ones stand for the branch and
// its upstream, of which the remote is asked first with fetch. It does not look for uncommitted work.
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
				Next: "Name the other side with --theirs."}
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

// part is Part, which offers to get more of the history where a shallow clone ends too early.
func (w *Workspace) part(ctx context.Context, p *plan.Position) error {
	err := w.Planner.Part(ctx, p)
	if errors.Is(err, plan.ErrCut) {
		return w.cutOff(p.Branch)
	}
	return err
}

// maker is settle.Files.Maker: the command that is known by the kind of the file or else the one that
// dorvik.generate names.
func (w *Workspace) maker(_, known string) string {
	if known == "" {
		known, _ = w.Repo.Config(context.Background(), "dorvik.generate")
	}
	return known
}
