package vcs

import (
	"context"
	"io"
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

// Keeper puts commits in the repository, and names on them.
type Keeper interface {
	// AddPack hands over objects as a pack, as write writes it; write gives their number, 0 for no pack at all.
	AddPack(ctx context.Context, write func(w io.Writer) (int, error)) error
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
