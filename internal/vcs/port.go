package vcs

import (
	"context"
	"time"

	"dorvik.dev/dorvik/internal/core/object"
)

// What a system tells of a repository, and what it can do there, is an interface a topic. A room takes
// those it needs: what it can do is seen from what it holds, and no system has to pretend the rest.

// Where is where a repository is.
type Where struct {
	Dir string // top of the working tree
	Own string // the folder that the system keeps its own things in; Dorvik keeps its there, too
}

// Settings are what a person and a repository have set.
type Settings interface {
	// Config is the value of a key; empty where it is not set. ConfigPath is one that is a path.
	Config(ctx context.Context, key string) (string, error)
	ConfigPath(ctx context.Context, key string) (string, error)
	// Flag is one that is yes or no, and Duration one that is a time: minutes, or with a unit.
	Flag(ctx context.Context, key string) (bool, error)
	Duration(ctx context.Context, key string) (time.Duration, error)
	// Values are all values of a key or, with pattern, of all keys that an expression matches.
	Values(ctx context.Context, key string, pattern bool) ([]Setting, error)
	// Settings are the last values of all keys that an expression matches.
	Settings(ctx context.Context, pattern string) (map[string]string, error)
	// Committer is the person at the keyboard, as new commits name them.
	Committer(ctx context.Context) (object.Signature, error)
}

// Setter changes settings of the repository.
type Setter interface {
	SetConfig(ctx context.Context, key, value string) error
	UnsetConfig(ctx context.Context, key string) error
}

// Lines are the lines of work: where they are, and what of them is published.
type Lines interface {
	// Current is the branch one is on, with what it follows.
	Current(ctx context.Context) (Branch, error)
	// Names are all branches, copies of remote ones, and tags.
	Names(ctx context.Context) ([]Named, error)
	// Ref is what a full name points at; the zero id where it is not there.
	Ref(ctx context.Context, name string) (object.ID, error)
	// Resolve gives the commit that a revision means.
	Resolve(ctx context.Context, rev string) (object.ID, error)
	// Reflog gives the moves of a ref that are remembered here, the oldest first.
	Reflog(ctx context.Context, ref string) []RefMove
	// OnRemote names a branch or tag of a remote that holds a commit; empty where none does.
	OnRemote(ctx context.Context, id object.ID) (string, error)
	// Unpushed tells which of some commits are on no remote; what is below others need not be looked at.
	Unpushed(ctx context.Context, commits, below []object.ID) (map[object.ID]bool, error)
	// GraphFiles are files in which the system keeps the shape of the history; none where it keeps none.
	GraphFiles(ctx context.Context) [][]byte
}

// Signatures are what the system finds about who signed a commit.
type Signatures interface {
	Signature(ctx context.Context, id object.ID) (Signed, error)
}

// Keeper puts commits in the repository. It moves no branch.
type Keeper interface {
	// Keep hands commits or trees that were made in memory over to the repository, with all that they need.
	Keep(ctx context.Context, made *object.Overlay, tips ...object.ID) error
	// HoldAt has a name of Dorvik's own be at a commit, so that the system does not throw that away.
	HoldAt(ctx context.Context, name string, at object.ID) error
}

// Pointer moves branches and other names.
type Pointer interface {
	// UpdateRefs moves refs all together or not at all, each only if it is still at its old value.
	UpdateRefs(ctx context.Context, message string, updates ...RefUpdate) error
}

// Checkout is a working tree of Dorvik's own, by its folder.
type Checkout struct{ Dir string }

// Checkouts are such working trees, in which the joined code is built.
type Checkouts interface {
	// OpenCheckout brings the checkout in a folder to a commit, and makes it if it is not there.
	OpenCheckout(ctx context.Context, dir string, commit object.ID) (*Checkout, error)
	// FillSubmodules brings submodules into it, and names those that are not to be had.
	FillSubmodules(ctx context.Context, c *Checkout) (empty []string, err error)
	// ChangedIn names the files of it that are not as committed.
	ChangedIn(ctx context.Context, c *Checkout) ([]string, error)
	// BuildEnvironment is the caller's environment without what would point the system elsewhere from there, and what
	// has to be set there.
	BuildEnvironment() (given, set []string)
}

// Wire talks to remotes, and tells what is known of them.
type Wire interface {
	Remotes(ctx context.Context) ([]Remote, error)
	// Fetch brings the local copy of a remote's branches up to date; what failed at the remote comes as *Refusal.
	Fetch(ctx context.Context, remote Remote) error
	// FetchRef brings a single ref of a remote's, and Deepen the rest of a history that was cut short.
	FetchRef(ctx context.Context, remote Remote, refspec string) error
	Deepen(ctx context.Context, remote Remote) error
	// RemoteTip asks the remote itself where a branch is; the zero id where it has none of that name.
	RemoteTip(ctx context.Context, remote Remote, ref string) (object.ID, error)
	// Push offers a commit to a branch, never forcing, and gives what was said; not accepted, it is a *Refusal.
	Push(ctx context.Context, remote Remote, ref string, tip object.ID) (said []string, err error)
	// Fetched are the tips that a local copy of a remote's branch has had, and FetchedAt when it was last asked for.
	Fetched(ctx context.Context, tracking string) []object.ID
	FetchedAt(ctx context.Context, remote Remote, tracking string) time.Time
	// Follow has a branch follow one of a remote.
	Follow(ctx context.Context, branch string, remote Remote, ref string) error
}

// Work is what is done in the working tree: what is not committed, and what the system left half done.
type Work interface {
	Status(ctx context.Context) (Branch, []Dirty, error)
	// Busy names what was left half done; empty where nothing was. Unfinished reads it.
	Busy() Operation
	Unfinished(ctx context.Context) (*Unfinished, error)
	// Uncommented is a prepared message without its comments.
	Uncommented(ctx context.Context, text string) (string, error)
	// SetHead goes to a branch, or off any, where the files need not change.
	SetHead(ctx context.Context, branch string, to object.ID, message string) error
}

// Objects are what is stored, by their ids.
type Objects interface {
	object.Reader
	// Alone reports whether no two objects share the first digits of one of some ids; Abbrev is how many digits the
	// system itself shows.
	Alone(ctx context.Context, ids []object.ID, digits int) (bool, error)
	Abbrev(ctx context.Context) int
	// Loose gives those of some commits that nothing leads to.
	Loose(ctx context.Context, ids []object.ID) ([]object.ID, error)
	Close()
}

// System is a repository of a version-control system.
type System interface {
	Settings
	Setter
	Lines
	Signatures
	Keeper
	Pointer
	Checkouts
	Wire
	Work
	Objects
	Where() Where
	// Inside is the path of a file that the system keeps under a name.
	Inside(ctx context.Context, name string) (string, error)
	// Editor is the command of the person's editor, and AwaitSettings returns when settings were changed.
	Editor(ctx context.Context) (string, error)
	AwaitSettings(ctx context.Context) error
	// Named is a branch by its name, whether one is on it or not, and Commits the commits that a revision means.
	Named(ctx context.Context, name string) (Branch, error)
	Commits(ctx context.Context, rev string) ([]object.ID, error)
}
