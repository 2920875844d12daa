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
	"slices"
	"sync"
	"sync/atomic"
	"time"

	"dorvik.dev/dorvik/internal/check"
	"dorvik.dev/dorvik/internal/core/history"
	"dorvik.dev/dorvik/internal/core/merge"
	"dorvik.dev/dorvik/internal/core/misfit"
	"dorvik.dev/dorvik/internal/core/object"
	"dorvik.dev/dorvik/internal/core/replay"
	"dorvik.dev/dorvik/internal/core/settle"
	"dorvik.dev/dorvik/internal/git"
	"dorvik.dev/dorvik/internal/vcs"
	"dorvik.dev/dorvik/internal/words"
)

// Workspace is a repository with the engine over it. Nothing it computes is
// written until Session.Accept, or a check, needs it.
type Workspace struct {
	Repo  *git.Repo
	Store *object.Overlay

	scout   *scout // nil where none was sent out
	engine  *merge.Engine
	files   *settle.Files
	changes *replay.Changes
	shared  *[]object.ID // trees of decisions of colleagues; nil where they were not looked up

	unrelated   bool                   // lines without a common ancestor may be joined, too
	agreed      func(line string) bool // to a command that is run; nil where nothing is kept
	driverLimit time.Duration
	digits      atomic.Int32 // of an id, as people are shown it

	extraLimit time.Duration

	mu          sync.Mutex
	extraTook   time.Duration // by foresight and diagnosis, for the position that was located last
	notLookedAt []NotLookedAt
	typed       map[settle.Key]string               // between conflict marks that git left, which still stand
	annotators  map[[2]object.ID]*history.Annotator // by the newest and the oldest commit
	outside     outsideAttributes
	names       struct { // of the files of a tree, the last that was asked for
		in object.ID
		of *check.Naming
	}
	misfits map[misfit.Trees][]Misfit
	sides   struct { // what they were searched in last
		of   misfit.Trees // without what they are joined to
		read *misfit.Sides
	}
	searching chan struct{} // holds one while misfits are searched
	graphOnce sync.Once
	graph     *history.Graph
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
	w := &Workspace{Repo: repo, Store: store, engine: merge.NewEngine(store), files: settle.NewFiles(store),
		changes: replay.NewChanges(store), annotators: map[[2]object.ID]*history.Annotator{},
		driverLimit: check.DriverLimit, extraLimit: extraLimit, searching: make(chan struct{}, 1)}
	w.digits.Store(leastDigits)
	w.engine.Contains = w.submoduleContains
	w.engine.Outside = w.attributes
	w.engine.Drive = w.drive
	w.files.Maker = w.maker
	return w
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
func (w *Workspace) Close() {
	if w.scout != nil {
		w.scout.stop()
	}
	w.Repo.Close()
}

// Blocked says that the job cannot be done here as things are, and what to do.
type Blocked struct{ What, Next string }

func (b *Blocked) Error() string { return b.What + " " + b.Next }

// Position is where yours and theirs stand to each other.
type Position struct {
	Branch        vcs.Branch
	Yours, Theirs object.ID
	Divergence    *history.Divergence
	// on your line and once in theirs, which has been rewritten since; not among Parted.Yours
	TakenOut   []history.Node
	Dirty      []vcs.Dirty
	Asked      time.Time // when the remote was asked just now; zero if it was not
	Known      time.Time // when it was last fetched from; zero where that is not known
	Unanswered error     // why the remote did not answer

	Follows string // what the branch follows, where it is pushed to another that is joined instead
	Beside  int    // commits of that which are in neither line

	Me        string             // the e-mail of the person at the keyboard; empty where it is not known
	Elsewhere map[object.ID]bool // of theirs, commits of that person that were not made in this clone

	hidden func() (map[string]bool, error) // waits for what git was told not to look at; nil where it was not asked

	Stuck  *Stuck  // what git left half done, and is taken over
	Resume *Resume // how it is gone on with; nil where it is joined anew

	Return  string        // the waypoint that is gone back to
	Stash   object.ID     // what is brought back from the stash instead
	Wishes  replay.Wishes // what is to become of single commits of yours
	Carried *Uncommitted  // what is to be brought along; nil where it stays as it is

	Past       bool           // it is told afterwards: what is on a remote now need not have been there then
	Picking    bool           // theirs is single commits that are brought onto yours, newest first
	Home       *Position      // then: where the branch stands to its upstream,
	Own        []history.Node // the commits of your line that may have made their changes before,
	Counter    string         // the waypoint of a join that this takes back; empty for a pick of somebody's commits
	PickParent int            // and against which parent a picked merge is meant, from 1
}

// Head is the commit that index and files are based on. Where git left a rebase half done it is not the branch's tip.
func (p *Position) Head() object.ID {
	if p.Stuck != nil {
		return p.Stuck.Head
	}
	return p.Yours
}

// tip is the commit that the branch is at. Where git left picks half done it is beyond Yours, which is where they
// began.
func (p *Position) tip() object.ID {
	if p.Stuck != nil {
		return p.Stuck.tip()
	}
	return p.Yours
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
	case p.Picking, p.Resume != nil:
		return NotTrivial
	case p.Return != "":
		return FastForward // to what was before
	case len(p.Divergence.Theirs) == 0:
		return UpToDate
	case len(p.Divergence.Yours) == 0:
		return FastForward
	}
	return NotTrivial
}

// NothingToDo reports whether both sides hold the same commits.
func (p *Position) NothingToDo() bool {
	return len(p.Divergence.Theirs) == 0 && len(p.Divergence.Yours) == 0 && !p.Picking && p.Resume == nil
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

func (w *Workspace) locate(ctx context.Context, b vcs.Branch, dirty []vcs.Dirty, fetch bool) (*Position, error) {
	if w.Repo.Busy() != "" || hasConflicts(dirty) {
		st, err := w.Stuck(ctx)
		if err != nil {
			return nil, err
		}
		if st != nil {
			return nil, &StuckError{st}
		}
	}
	return w.stand(ctx, b, dirty, fetch)
}

// stand is locate for a branch, whatever is half done.
func (w *Workspace) stand(ctx context.Context, b vcs.Branch, dirty []vcs.Dirty, fetch bool) (*Position, error) {
	w.mu.Lock()
	w.extraTook = 0
	w.mu.Unlock()
	var err error
	switch {
	case b.Name == "":
		return nil, w.offBranch(ctx, b.Tip)
	case b.Tip.IsZero():
		return nil, &Blocked{"The branch " + b.Name + " has no commit yet.", "There is nothing to join; commit first."}
	case b.Upstream == "" && b.Dest.Remote == "":
		return nil, w.withoutUpstream(ctx, b)
	}
	p := &Position{Branch: b, Yours: b.Tip, Dirty: dirty}
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
func (w *Workspace) ask(ctx context.Context, p *Position) error {
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
func (w *Workspace) destination(ctx context.Context, p *Position) error {
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
		more, err := history.Only(ctx, w.Store, up, b.Tip, at)
		if err == nil {
			p.Beside = len(more)
		}
	}
	b.Upstream, b.Tracking, b.Remote, b.Ref = b.Dest.Name, b.Dest.Tracking, b.Dest.Remote, b.Dest.Ref
	return nil
}

// Triangle says where the branch is pushed, where that is not what it follows; empty where it is.
func (p *Position) Triangle() string {
	b := p.Branch
	switch {
	case p.Follows != "":
		text := fmt.Sprintf("%s follows %s, and git pushes it to %s: so it is joined with that.", b.Name, p.Follows,
			b.Upstream)
		if p.Beside > 0 {
			text += fmt.Sprintf(" %s has %s there.", p.Follows, words.Count(p.Beside, "commit beside, which stays",
				"commits beside, which stay"))
		}
		return text
	case b.To().Name != b.Upstream:
		return fmt.Sprintf("%s follows %s, with which it is joined, and git pushes it to %s, which is new there.",
			b.Name, b.Upstream, b.To().Name)
	}
	return ""
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
		return fmt.Sprintf("%s was set back: %s that it held before, up to “%s”, %s no longer in it. Your line still "+
			"has %[5]s, and a push would bring %[5]s back.", p.Branch.Upstream, words.Count(n, "commit", "commits"),
			p.TakenOut[0].Subject(), words.Is(n, "is", "are"), words.Is(n, "it", "them"))
	}
	var made []string
	for _, c := range p.Divergence.Theirs {
		if name := c.Commit.Committer.Name; !slices.Contains(made, name) {
			made = append(made, name)
		}
	}
	return fmt.Sprintf("%s was rewritten: %s that it held before, up to “%s”, %s place came "+
		"%s, made by %s. What went is not yours: a rebase leaves it behind, and a merge would bring it back.",
		p.Branch.Upstream, words.Count(n, "commit", "commits"), p.TakenOut[0].Subject(),
		words.Is(n, "is no longer in it. In its", "are no longer in it. In their"),
		words.Count(len(p.Divergence.Theirs), "commit", "commits"), words.List(words.Some(made, 3)))
}

// Compare is Locate for any two revisions; empty ones stand for the branch and
// its upstream, of which the remote is asked first with fetch. It does not look for uncommitted work.
func (w *Workspace) Compare(ctx context.Context, yours, theirs string, fetch bool) (*Position, error) {
	b, err := w.Repo.Current(ctx)
	if err != nil {
		return nil, err
	}
	if yours == "" && theirs == "" {
		return w.locate(ctx, b, nil, fetch)
	}
	p := &Position{Branch: b}
	if yours == "" {
		yours = "HEAD"
	}
	if theirs == "" {
		if theirs = b.Tracking; theirs == "" {
			return nil, &Blocked{"The branch follows no branch of a remote.", "Name the other side with --theirs."}
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

func (w *Workspace) part(ctx context.Context, p *Position) (err error) {
	if p.Divergence = w.scout.partOf(p.Yours, p.Theirs); p.Divergence == nil {
		p.Divergence, err = history.Diverge(ctx, w.Store, p.Yours, p.Theirs)
	}
	switch {
	case errors.Is(err, object.ErrMissing):
		return fmt.Errorf("reading the history: %w; see what “git fsck” says", err)
	case err != nil:
		return err
	case p.Trivial() != NotTrivial || len(p.Divergence.Bases) > 0 || w.unrelated && !p.Divergence.Cut:
		return nil
	case p.Divergence.Cut:
		return w.cutOff(p.Branch)
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
