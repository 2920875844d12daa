// Package plan works out what a join would be: both routes, what each asks and leaves out, what
// will not fit together, and how what was left half done is gone on with. Everything it makes
// lives in memory; it has no way to write a file, a ref or an index.
package plan

import (
	"context"
	"sync"
	"sync/atomic"
	"time"

	"dorvik.dev/dorvik/internal/core/history"
	"dorvik.dev/dorvik/internal/core/merge"
	"dorvik.dev/dorvik/internal/core/misfit"
	"dorvik.dev/dorvik/internal/core/object"
	"dorvik.dev/dorvik/internal/core/replay"
	"dorvik.dev/dorvik/internal/core/settle"
	"dorvik.dev/dorvik/internal/vcs"
)

// Source is what planning asks of the version-control system, beyond the objects. It only reads.
type Source interface {
	// Committer is the person at the keyboard, as new commits name them.
	Committer(ctx context.Context) (object.Signature, error)
	// Resolve gives the commit that a revision means.
	Resolve(ctx context.Context, rev string) (object.ID, error)
	// Settings gives the settings whose keys an expression matches.
	Settings(ctx context.Context, pattern string) (map[string]string, error)
	// Unpushed tells which of some commits are on no remote; what is below others need not be looked at.
	Unpushed(ctx context.Context, commits, below []object.ID) (map[object.ID]bool, error)
	// OnRemote names a branch or tag of a remote that holds a commit; empty where none does.
	OnRemote(ctx context.Context, id object.ID) (string, error)
	// Uncommented is a prepared message without its comments.
	Uncommented(ctx context.Context, text string) (string, error)
	// Alone reports whether no two objects of the repository share the first digits of one of some ids.
	Alone(ctx context.Context, ids []object.ID, digits int) (bool, error)
	// Reflog gives the moves of a ref that are remembered here, the oldest first.
	Reflog(ctx context.Context, ref string) []vcs.RefMove
}

// Planner joins two lines by either route.
type Planner struct {
	*Reader
	Engine    *merge.Engine
	Files     *settle.Files
	Changes   *replay.Changes
	Accounts  *Accounts
	Foresight *Foresight
	Resumer   *Resumer
	Extras    *Extras

	Scout *Scout // nil where none was sent out

	unrelated bool // lines without a common ancestor may be joined, too
	mu        sync.Mutex
	typed     map[settle.Key]string // between conflict marks that git left, which still stand
}

// New is a planner over the objects of a repository.
func New(store *object.Overlay, source Source) *Planner {
	p := &Planner{
		Reader:  &Reader{Store: store, Source: source, annotators: map[[2]object.ID]*history.Annotator{}},
		Engine:  merge.NewEngine(store),
		Files:   settle.NewFiles(store),
		Changes: replay.NewChanges(store),
		Extras:  &Extras{Limit: extraLimit},
	}
	p.digits.Store(leastDigits)
	p.Accounts = &Accounts{p}
	p.Foresight = &Foresight{p: p, searching: make(chan struct{}, 1)}
	p.Resumer = &Resumer{p}
	return p
}

// Reader reads texts, lines and histories.
type Reader struct {
	Store  *object.Overlay
	Source Source
	digits atomic.Int32 // of an id, as people are shown it

	mu         sync.Mutex
	annotators map[[2]object.ID]*history.Annotator // by the newest and the oldest commit
}

// Accounts tells what a result leaves out of either side.
type Accounts struct{ p *Planner }

// Resumer works out how what was left half done is gone on with.
type Resumer struct{ p *Planner }

// Foresight finds edits that join and will not work together, and what to do about each.
type Foresight struct {
	p *Planner

	mu      sync.Mutex
	misfits map[misfit.Trees][]Misfit
	sides   struct { // what they were searched in last
		of   misfit.Trees // without what they are joined to
		read *misfit.Sides
	}
	searching chan struct{} // holds one while misfits are searched
}

// Extras runs what the job can do without, and keeps what of it failed.
type Extras struct {
	Limit time.Duration // for all of them together

	mu     sync.Mutex
	took   time.Duration // for the position that was located last
	failed []NotLookedAt
}
