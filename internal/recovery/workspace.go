// Package recovery is the job itself as a state machine: where one stands, the
// routes, the decisions, the check, the one moment at which things change, the
// push, and the way back. It holds every rule of the job; the screens and the
// commands only ask it.
package recovery

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"sync"
	"sync/atomic"
	"time"

	"dorvik.dev/dorvik/internal/check"
	"dorvik.dev/dorvik/internal/core/history"
	"dorvik.dev/dorvik/internal/core/merge"
	"dorvik.dev/dorvik/internal/core/object"
	"dorvik.dev/dorvik/internal/core/replay"
	"dorvik.dev/dorvik/internal/core/settle"
	"dorvik.dev/dorvik/internal/git"
	"dorvik.dev/dorvik/internal/words"
)

// Workspace is a repository with the engine over it. Nothing it computes is
// written until Session.Accept, or a check, needs it.
type Workspace struct {
	Repo  *git.Repo
	Store *object.Overlay

	engine  *merge.Engine
	files   *settle.Files
	changes *replay.Changes

	unrelated   bool                   // lines without a common ancestor may be joined, too
	agreed      func(line string) bool // to a command that is run; nil where nothing is kept
	driverLimit time.Duration
	digits      atomic.Int32 // of an id, as people are shown it

	mu         sync.Mutex
	annotators map[[2]object.ID]*history.Annotator // by the newest and the oldest commit
	outside    outsideAttributes
}

// OpenWorkspace opens the repository that holds a folder.
func OpenWorkspace(ctx context.Context, dir string) (*Workspace, error) {
	repo, err := git.Open(ctx, dir)
	if err != nil {
		return nil, err
	}
	store := object.NewOverlay(repo.Format, repo)
	w := &Workspace{Repo: repo, Store: store, engine: merge.NewEngine(store), files: settle.NewFiles(store),
		changes: replay.NewChanges(store), annotators: map[[2]object.ID]*history.Annotator{},
		driverLimit: check.DriverLimit}
	w.digits.Store(leastDigits)
	w.engine.Contains = w.submoduleContains
	w.engine.Outside = w.attributes
	w.engine.Drive = w.drive
	return w, nil
}

// AllowUnrelated has lines without a common ancestor be joined, too.
func (w *Workspace) AllowUnrelated() { w.unrelated = true }

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
func (w *Workspace) Close() { w.Repo.Close() }

// Blocked says that the job cannot be done here as things are, and what to do.
type Blocked struct{ What, Next string }

func (b *Blocked) Error() string { return b.What + " " + b.Next }

// Position is where yours and theirs stand to each other.
type Position struct {
	Branch        git.Branch
	Yours, Theirs object.ID
	Divergence    *history.Divergence
	// on your line and once in theirs, which has been rewritten since; not among Parted.Yours
	TakenOut   []history.Node
	Dirty      []git.Dirty
	Asked      time.Time // when the remote was asked just now; zero if it was not
	Known      time.Time // when it was last fetched from; zero where that is not known
	Unanswered error     // why the remote did not answer

	Picking    bool           // theirs is single commits that are brought onto yours, newest first
	Home       *Position      // then: where the branch stands to its upstream,
	Own        []history.Node // the commits of your line that may have made their changes before,
	PickParent int            // and against which parent a picked merge is meant, from 1
}

// Base is the common ancestor, or the zero id.
func (p *Position) Base() object.ID {
	if len(p.Divergence.Bases) == 0 {
		return object.ID{}
	}
	return p.Divergence.Bases[0]
}

// Trivial is how the two lines join without work: FastForward where yours has
// nothing new, UpToDate where theirs has nothing new, else NotTrivial.
func (p *Position) Trivial() Trivial {
	switch {
	case p.Picking:
		return NotTrivial
	case len(p.Divergence.Theirs) == 0:
		return UpToDate
	case len(p.Divergence.Yours) == 0:
		return FastForward
	}
	return NotTrivial
}

// NothingToDo reports whether both sides hold the same commits.
func (p *Position) NothingToDo() bool {
	return len(p.Divergence.Theirs) == 0 && len(p.Divergence.Yours) == 0 && !p.Picking
}

// Trivial names a join without work, as `plan --json` does.
type Trivial string

// The joins without work.
const (
	NotTrivial  Trivial = ""
	FastForward Trivial = "fast-forward"
	UpToDate    Trivial = "up-to-date"
)

// Locate reads where the branch and its upstream stand. With fetch the remote is
// asked first; if it does not answer, the local copy is used and the position
// says so. Reasons why nothing can be done come as *Blocked.
func (w *Workspace) Locate(ctx context.Context, fetch bool) (*Position, error) {
	b, dirty, err := w.Repo.Status(ctx)
	if err != nil {
		return nil, err
	}
	return w.locate(ctx, b, dirty, fetch)
}

func (w *Workspace) locate(ctx context.Context, b git.Branch, dirty []git.Dirty, fetch bool) (*Position, error) {
	var err error
	if op := w.Repo.Unfinished(); op != "" {
		return nil, &Blocked{"A git " + op + " is half done here.",
			fmt.Sprintf("Finish it, or go back with “git %s --abort”; then start dorvik again.", op)}
	}
	switch {
	case b.Name == "":
		return nil, &Blocked{"You are on no branch (a detached HEAD at " + b.Tip.Prefix(12) + ").",
			"Go to your branch with “git switch”, or make one here with “git switch -c NAME”."}
	case b.Tip.IsZero():
		return nil, &Blocked{"The branch " + b.Name + " has no commit yet.", "There is nothing to join; commit first."}
	case b.Upstream == "":
		return nil, &Blocked{"The branch " + b.Name + " follows no branch of a remote.",
			fmt.Sprintf("Say which one with “git branch --set-upstream-to=origin/%s”, or push it for the first time "+
				"with “git push -u origin %s”.", b.Name, b.Name)}
	}
	p := &Position{Branch: b, Yours: b.Tip, Dirty: dirty}
	if fetch {
		if err := w.Repo.Fetch(ctx, b.Remote); err == nil {
			p.Asked = time.Now()
		} else if ctx.Err() != nil {
			return nil, err
		} else {
			p.Unanswered = err
		}
	}
	p.Known = w.Repo.FetchedAt(ctx, b.Tracking)
	if p.Theirs, err = w.Repo.Ref(ctx, b.Tracking); err != nil {
		return nil, err
	}
	if p.Theirs.IsZero() {
		return nil, &Blocked{"There is no copy of " + b.Upstream + " here, and perhaps no such branch on " +
			b.Remote + ".",
			fmt.Sprintf("Fetch it with “git fetch %s”, or make it with “git push %s %s”.", b.Remote, b.Remote, b.Name)}
	}
	if err := w.part(ctx, p); err != nil {
		return nil, err
	}
	w.takenOut(ctx, p)
	return p, nil
}

// takenOut tells the commits of your line that came from the remote's branch and
// are in it no more: it was rewritten. They are not yours to replay. Where theirs
// has nothing new they stay among yours, as a push would bring them back.
func (w *Workspace) takenOut(ctx context.Context, p *Position) {
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

// Rewritten says in a sentence that the remote's branch was rewritten, and what
// that means; empty where it was not.
func (p *Position) Rewritten() string {
	n := len(p.TakenOut)
	switch {
	case n == 0:
		return ""
	case len(p.Divergence.Theirs) == 0:
		return fmt.Sprintf("%s was set back: %s that it held before, up to “%s”, are in it no more. They are still in "+
			"your line, and a push would bring them back.",
			p.Branch.Upstream, words.Count(n, "commit", "commits"), p.TakenOut[0].Subject())
	}
	return fmt.Sprintf("%s was rewritten: %s that it held before, up to “%s”, are in it no more. They are not yours: "+
		"a rebase leaves them behind, and a merge would bring them back.",
		p.Branch.Upstream, words.Count(n, "commit", "commits"), p.TakenOut[0].Subject())
}

// Compare is Stand for any two revisions; empty ones stand for the branch and
// its upstream. It does not look for uncommitted work.
func (w *Workspace) Compare(ctx context.Context, yours, theirs string) (*Position, error) {
	b, err := w.Repo.Current(ctx)
	if err != nil {
		return nil, err
	}
	if yours == "" && theirs == "" {
		return w.locate(ctx, b, nil, false)
	}
	if yours == "" {
		yours = "HEAD"
	}
	if theirs == "" {
		if theirs = b.Tracking; theirs == "" {
			return nil, &Blocked{"The branch follows no branch of a remote.", "Name the other side with --theirs."}
		}
	}
	p := &Position{Branch: b}
	if p.Yours, err = w.Repo.Resolve(ctx, yours); err != nil {
		return nil, err
	}
	if p.Theirs, err = w.Repo.Resolve(ctx, theirs); err != nil {
		return nil, err
	}
	return p, w.part(ctx, p)
}

func (w *Workspace) part(ctx context.Context, p *Position) error {
	var err error
	if p.Divergence, err = history.Diverge(ctx, w.Store, p.Yours, p.Theirs); err != nil {
		if errors.Is(err, object.ErrMissing) {
			return fmt.Errorf("reading the history: %w; see what “git fsck” says", err)
		}
		return err
	}
	if p.Trivial() != NotTrivial || len(p.Divergence.Bases) > 0 || w.unrelated && !p.Divergence.Cut {
		return nil
	}
	if p.Divergence.Cut {
		return &Blocked{"This clone is shallow, and the point where the two lines part lies before its first commit.",
			"Get the rest of the history with “git fetch --unshallow”."}
	}
	return &Blocked{"The two lines have no common ancestor: they are two unrelated histories.",
		"Check that the branch follows the right branch of the right remote. To join them all the same, start with " +
			"dorvik --unrelated."}
}

// Annotator tells which commits of a side touch a path. What it found out is
// remembered for the next call.
func (w *Workspace) Annotator(side []history.Node) *history.Annotator {
	if len(side) == 0 {
		return history.NewAnnotator(w.Store, nil)
	}
	key := [2]object.ID{side[0].ID, side[len(side)-1].ID}
	w.mu.Lock()
	defer w.mu.Unlock()
	if w.annotators[key] == nil {
		w.annotators[key] = history.NewAnnotator(w.Store, side)
	}
	return w.annotators[key]
}

// Tree gives the tree of a commit.
func (w *Workspace) Tree(commit object.ID) (object.ID, error) {
	c, err := w.Store.Commit(commit)
	if err != nil {
		return object.ID{}, err
	}
	return c.Tree, nil
}
