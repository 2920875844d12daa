package vcs

import (
	"context"
	"time"

	"dorvik.dev/dorvik/internal/core/object"
)

// This file defines one interface per topic. Each package takes only the interfaces it needs, so its fields show
// what it can do. System combines all of them.

// Where locates a repository.
type Where struct {
	Dir string // top of the working tree
	Own string // the system's own folder, such as .git; Dorvik keeps its files there, too
}

// TaskHere stands for the sign of a task in the setting dorvik.taskForm.
const TaskHere = "{task}"

// Settings reads the configuration.
type Settings interface {
	// Dialect returns how the system's users say things.
	Dialect() Dialect
	// Config returns the value of a key, or an empty string. ConfigPath expands it as a path.
	Config(ctx context.Context, key string) (string, error)
	ConfigPath(ctx context.Context, key string) (string, error)
	// Flag returns a boolean. Duration returns a time: minutes, or a number with a unit.
	Flag(ctx context.Context, key string) (bool, error)
	Duration(ctx context.Context, key string) (time.Duration, error)
	// Values returns all values of a key or, if pattern is true, of all keys that match an expression.
	Values(ctx context.Context, key string, pattern bool) ([]Setting, error)
	// Settings returns the last value of each key that matches an expression.
	Settings(ctx context.Context, pattern string) (map[string]string, error)
	// Committer returns the name and address for new commits.
	Committer(ctx context.Context) (object.Signature, error)
}

// Setter changes the repository's configuration.
type Setter interface {
	SetConfig(ctx context.Context, key, value string) error
	UnsetConfig(ctx context.Context, key string) error
}

// Lines reads branches, tags and other refs.
type Lines interface {
	// Current returns the current branch and its upstream.
	Current(ctx context.Context) (Branch, error)
	// Names returns all branches, remote-tracking branches and tags.
	Names(ctx context.Context) ([]Named, error)
	// Ref returns the target of a full ref name, or the zero id.
	Ref(ctx context.Context, name string) (object.ID, error)
	// Resolve returns the commit of a revision.
	Resolve(ctx context.Context, rev string) (object.ID, error)
	// Reflog returns the recorded moves of a ref, oldest first.
	Reflog(ctx context.Context, ref string) []RefMove
	// OnRemote returns a remote branch or tag that contains a commit, or an empty string.
	OnRemote(ctx context.Context, id object.ID) (string, error)
	// Unpushed reports which of the commits are on no remote. Ancestors of below are not searched.
	Unpushed(ctx context.Context, commits, below []object.ID) (map[object.ID]bool, error)
	// GraphFiles returns commit-graph files, if there are any.
	GraphFiles(ctx context.Context) [][]byte
}

// Signatures verifies the signatures of commits.
type Signatures interface {
	Signature(ctx context.Context, id object.ID) (Signed, error)
}

// Keeper stores commits. It moves no branch.
type Keeper interface {
	// Keep stores commits or trees from an overlay, with all objects they need.
	Keep(ctx context.Context, made *object.Overlay, tips ...object.ID) error
	// HoldAt sets a ref of Dorvik to a commit, which protects it from garbage collection.
	HoldAt(ctx context.Context, name string, at object.ID) error
}

// Pointer moves branches and other refs.
type Pointer interface {
	// UpdateRefs moves all refs or none. The error is a *RefMovedError if a ref does not have its old value.
	UpdateRefs(ctx context.Context, message string, updates ...RefUpdate) error
}

// Checkout is a working tree that Dorvik builds in.
type Checkout struct{ Dir string }

// Checkouts manages these working trees.
type Checkouts interface {
	// OpenCheckout creates the checkout of a name if needed, and switches it to a commit.
	OpenCheckout(ctx context.Context, name string, commit object.ID) (*Checkout, error)
	// FillSubmodules checks out the submodules and returns those that are not available.
	FillSubmodules(ctx context.Context, c *Checkout) (empty []string, err error)
	// ChangedIn returns the modified files.
	ChangedIn(ctx context.Context, c *Checkout) ([]string, error)
	// BuildEnvironment returns the caller's environment without variables that redirect the system, and variables
	// that must be set in addition.
	BuildEnvironment(ctx context.Context) (given, set []string, err error)
}

// Wire communicates with remotes.
type Wire interface {
	Remotes(ctx context.Context) ([]Remote, error)
	// AskBy sets variables for programs that ask the person for passwords.
	AskBy(env []string)
	// Fetch updates the remote-tracking branches. The error is a *Refusal if the remote failed.
	Fetch(ctx context.Context, remote Remote) error
	// FetchRefs fetches single refs. Deepen completes a shallow clone.
	FetchRefs(ctx context.Context, remote Remote, refspecs ...string) error
	Deepen(ctx context.Context, remote Remote) error
	// TrackingOf returns the ref here that a fetch of a remote's branch updates, or an empty string.
	TrackingOf(ctx context.Context, remote Remote, ref string) string
	// RemoteHead asks a remote or an address which branch is its usual one, such as refs/heads/main.
	RemoteHead(ctx context.Context, remote Remote) (ref string, err error)
	// RemoteTip asks the remote for the tip of a branch. It returns the zero id if there is no such branch.
	RemoteTip(ctx context.Context, remote Remote, ref string) (object.ID, error)
	// RemoteTags asks the remote for its tags, by name: the objects that their refs hold.
	RemoteTags(ctx context.Context, remote Remote) (map[string]object.ID, error)
	// RemoteRefs asks the remote for its refs with a full name that begins with one of the prefixes.
	RemoteRefs(ctx context.Context, remote Remote, prefixes ...string) (map[string]object.ID, error)
	// Push changes a branch and returns the messages. Commits are replaced only if the branch is at s.Old. The error
	// is a *Refusal if it was rejected.
	Push(ctx context.Context, s Sending) (said []string, err error)
	// Fetched returns earlier tips of a remote-tracking branch. FetchedAt returns the time of the last fetch.
	Fetched(ctx context.Context, tracking string) []object.ID
	FetchedAt(ctx context.Context, remote Remote, tracking string) time.Time
	// Follow sets the upstream of a branch.
	Follow(ctx context.Context, branch string, remote Remote, ref string) error
}

// Work reads the working tree and half-done operations.
type Work interface {
	Status(ctx context.Context) (Branch, []Dirty, error)
	// Untracked lists the files that are neither known nor ignored.
	Untracked(ctx context.Context) ([]string, error)
	// Busy returns the half-done operation, or an empty string. Unfinished reads its details.
	Busy() Operation
	Unfinished(ctx context.Context) (*Unfinished, error)
	// Uncommented removes the comments from a prepared commit message.
	Uncommented(ctx context.Context, text string) (string, error)
	// SetHead switches to a branch without changing files.
	SetHead(ctx context.Context, branch string, to object.ID, message string) error
}

// Objects reads stored objects.
type Objects interface {
	object.Reader
	// Alone reports whether the first digits of each id are unambiguous. Abbrev returns the configured number of
	// digits.
	Alone(ctx context.Context, ids []object.ID, digits int) (bool, error)
	Abbrev(ctx context.Context) int
	// Loose returns the commits that no ref reaches.
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
	// Inside returns the path of a file in the system's own folder.
	Inside(ctx context.Context, name string) (string, error)
	// Editor returns the editor command. AwaitSettings blocks until the configuration changes.
	Editor(ctx context.Context) (string, error)
	AwaitSettings(ctx context.Context) error
	// CheckedOut returns the folder in which a branch is checked out, or an empty string.
	CheckedOut(ctx context.Context, branch string) (dir string, err error)
	// Named returns a branch by name. Commits returns the commits of a revision range.
	Named(ctx context.Context, name string) (Branch, error)
	Commits(ctx context.Context, rev string) ([]object.ID, error)
}
