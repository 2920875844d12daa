// Package change is what a change of branch and files is to those who ask for one: what they consent
// to, why it is refused, and who makes it. How it is made is the business of a system's adapter.
package change

import (
	"context"
	"time"

	"dorvik.dev/dorvik/internal/core/object"
	"dorvik.dev/dorvik/internal/ledger"
	"dorvik.dev/dorvik/internal/plan"
	"dorvik.dev/dorvik/internal/vcs"
)

// Mover changes branch, index and files, whole or not at all.
type Mover interface {
	// Begin takes the repository for this process, and ends what an earlier run was cut off in; End lets it go.
	Begin(ctx context.Context) error
	End()
	// TookBack reports whether Begin took back what an earlier run was cut off in.
	TookBack() bool

	// Accept goes to a join that was built; what is how the system is to remember it. It refuses, changing nothing,
	// where the branch or files in the way changed meanwhile.
	Accept(ctx context.Context, p *plan.Position, j *plan.Join, b plan.Built, consent Consent,
		what string) (*ledger.Waypoint, error)
	// GoBack goes back to before a waypoint; an empty name is the last join.
	GoBack(ctx context.Context, name string) (*ledger.Waypoint, error)
	// Returning is the position of going back to before a waypoint, where that asks something.
	Returning(ctx context.Context, wp *ledger.Waypoint) (*plan.Position, error)
	// AsideAt is where what a join found in its way is kept. Forget removes that, and all else that is kept under a
	// waypoint.
	AsideAt(wp *ledger.Waypoint) string
	Forget(wp *ledger.Waypoint) error

	// Signatures gives, by commits that were made, those that were made of them with a signature.
	Signatures() map[object.ID]object.ID
	// AgreeToHooks has hooks be run, for as long as they are as they are now. AskToPush asks about those of a push.
	AgreeToHooks(ctx context.Context, hooks []*vcs.Hook) error
	AskToPush(ctx context.Context, consent Consent) error
}

// WorkTree tells of the working tree; it changes nothing.
type WorkTree interface {
	// Uncommitted reads the work that is not committed, made on a commit; nil where there is none.
	Uncommitted(ctx context.Context, on object.ID, dirty []vcs.Dirty) (*plan.Uncommitted, error)
	// NothingOwn reports whether all that the system calls changed is as it was, and nothing is staged.
	NothingOwn(dirty []vcs.Dirty) bool
	// InTheWay is an *OverwriteError where going to a tree would change what is not committed.
	InTheWay(ctx context.Context, p *plan.Position, tree object.ID) error
	// AskHidden begins to read what the system was told not to look at, and gives what waits for it.
	AskHidden(ctx context.Context) func() (map[string]bool, error)
	// Touched tells which files a join changes on disk, and which of them may be open in an editor.
	Touched(p *plan.Position, tree object.ID) (*Touched, error)
	// HalfDone gives the change that a run was cut off in, or nil; alive tells that one is being made right now.
	HalfDone() (half *HalfDone, alive bool, err error)
}

// Consent is what the person has agreed to beyond the join itself.
type Consent struct {
	MoveAside        bool // what git does not know and is in the way, brought back by undo
	RewritePublished bool // commits that are on a remote
	LeaveBranches    bool // other branches that a rebase's list moves stay where they are
	MakeAnew         bool // the branch of the remote that is pushed to, which is gone there
	WithoutHooks     bool // those that a commit can change and that were not agreed to are left out
}

// Kind is what a change does for the person.
type Kind string

// The kinds.
const (
	Accepting Kind = "accept"
	Undoing   Kind = "undo"
)

// HalfDone is a change that is being made, or that was cut off.
type HalfDone struct {
	Kind     Kind
	Branch   string
	From, To object.ID // the tip before, and after
}

// Sentence says what is being made, or was cut off.
func (h *HalfDone) Sentence(underWay bool) string {
	if underWay {
		doing, after := "changing", ""
		if h.Kind == Undoing {
			doing, after = "taking", " back"
		}
		return "Dorvik is " + doing + " your branch " + h.Branch + after + " just now. Look again in a moment, and " +
			"commit nothing before."
	}
	what := "while it changed your branch " + h.Branch
	if h.Kind == Undoing {
		what = "while it took your branch " + h.Branch + " back"
	}
	return "Dorvik was cut off " + what + ": branch and files may not be whole. Start dorvik: it finishes the " +
		"change, or takes it back, and says which. Commit nothing before."
}

// JustWritten is how long ago a file with uncommitted work was written, at most, that somebody may still be at.
const JustWritten = 10 * time.Second

// Touched is what a change does to the files on disk.
type Touched struct {
	Paths []string // that are written or removed
	Open  []string // of those, the ones beside which an editor keeps a file
	Fresh []string // and others whose uncommitted work was written less than JustWritten ago, not by git
}
