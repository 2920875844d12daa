// Package change defines the interface between the job and the code that changes branch and files: what the person
// consents to, why a change is refused, and the operations. Each version-control system implements it.
package change

import (
	"context"
	"time"

	"dorvik.dev/dorvik/internal/core/object"
	"dorvik.dev/dorvik/internal/ledger"
	"dorvik.dev/dorvik/internal/plan"
	"dorvik.dev/dorvik/internal/vcs"
)

// Mover changes branch, index and files. Each change is complete or undone.
type Mover interface {
	// Begin locks the repository and completes or undoes an interrupted change. End unlocks it.
	Begin(ctx context.Context) error
	End()
	// TookBack reports whether Begin undid a change.
	TookBack() bool

	// Accept applies a join. The argument what describes it in the system's own log. If branch or files changed since
	// the join was computed, Accept changes nothing and returns an error.
	Accept(ctx context.Context, p *plan.Position, j *plan.Join, b plan.Built, consent Consent,
		what string) (*ledger.Waypoint, error)
	// GoBack undoes a join. An empty name selects the last one.
	GoBack(ctx context.Context, name string) (*ledger.Waypoint, error)
	// Returning returns the position of an undo that needs decisions.
	Returning(ctx context.Context, wp *ledger.Waypoint) (*plan.Position, error)
	// Switch checks out another branch. If uncommitted work is in the way it changes nothing and returns an
	// *OverwriteError.
	Switch(ctx context.Context, branch string) error
	// AsideAt returns the folder for files that a join moved out of its way. Forget removes all files kept for a
	// waypoint.
	AsideAt(wp *ledger.Waypoint) string
	Forget(wp *ledger.Waypoint) error

	// Sign returns a signed version of a stored commit, or the commit itself if commits are not signed.
	Sign(ctx context.Context, commit object.ID) (object.ID, error)
	// Signatures maps commits to their signed versions.
	Signatures() map[object.ID]object.ID
	// AgreeToHooks permits hooks as long as their content stays the same. AskToPush returns a *HooksError if a push
	// would run other ones.
	AgreeToHooks(ctx context.Context, hooks []*vcs.Hook) error
	AskToPush(ctx context.Context, consent Consent) error
}

// WorkTree describes the working tree. It changes nothing.
type WorkTree interface {
	// Uncommitted reads the uncommitted work on top of a commit. It returns nil if there is none.
	Uncommitted(ctx context.Context, on object.ID, dirty []vcs.Dirty) (*plan.Uncommitted, error)
	// NothingOwn reports whether nothing is staged and all modified files have their old content.
	NothingOwn(dirty []vcs.Dirty) bool
	// InTheWay returns an *OverwriteError if switching to a tree would change uncommitted work.
	InTheWay(ctx context.Context, p *plan.Position, tree object.ID) error
	// AskHidden starts to read the paths that the system ignores on request. The result waits for them.
	AskHidden(ctx context.Context) func() (map[string]bool, error)
	// Touched lists the files that a join changes, and those that may be open in an editor.
	Touched(ctx context.Context, p *plan.Position, tree object.ID) (*Touched, error)
	// HalfDone returns an interrupted change, or nil. alive is true if a process is still working on it.
	HalfDone() (half *HalfDone, alive bool, err error)
}

// Consent lists what the person agreed to, besides the join.
type Consent struct {
	MoveAside        bool   // move untracked files out of the way; undo restores them
	RewritePublished bool   // rewrite commits that are on a remote
	LeaveBranches    bool   // do not move the other branches on a rebase's list
	To               string // branch of the remote to push to; empty for the usual one
	Tags             Tags   // tags that are pushed, too
	Exchange         bool   // replace the commits of the remote branch, which are the person's own
	MakeAnew         bool   // create the remote branch again, which was deleted there
	WithoutHooks     bool   // skip hooks that a commit can change and that have no consent
}

// Tags says which of the tags that belong to a push are pushed, too.
type Tags uint8

// The choices.
const (
	UsualTags Tags = iota // by push.followTags: the annotated ones, or none
	AllTags
	NoTags
)

// Kind is the purpose of a change.
type Kind string

// The kinds.
const (
	Accepting Kind = "accept"
	Undoing   Kind = "undo"
	Switching Kind = "switch"
	Telling   Kind = "tell" // telling the system what the person settled of its conflicts; no file changes
)

// Completed tells that a change of an interrupted run was completed. branch is where a switch went.
func (k Kind) Completed(branch string) string {
	switch k {
	case Undoing:
		return "An earlier run was interrupted while it took your branch back. That was completed."
	case Switching:
		return "An earlier run was interrupted while it switched to " + branch + ". That was completed."
	case Telling:
		return "An earlier run was interrupted while it noted what you settled in your files. That was completed."
	}
	return "An earlier run was interrupted while it changed your branch. That was completed, and “dorvik undo” takes " +
		"it back."
}

// HalfDone is a change that is in progress or was interrupted.
type HalfDone struct {
	Kind     Kind
	Branch   string
	From, To object.ID // the tip before, and after
}

// Sentence describes the change to the person.
func (h *HalfDone) Sentence(underWay bool) string {
	if h.Kind == Switching && underWay {
		return "Dorvik is switching to the branch " + h.Branch +
			" just now. Look again in a moment, and commit nothing " +
			"before."
	}
	if h.Kind == Telling && underWay {
		return "Dorvik is noting what you settled in your files just now. Look again in a moment."
	}
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
	switch h.Kind {
	case Switching:
		what = "while it switched to the branch " + h.Branch
	case Telling:
		what = "while it noted what you settled in your files"
	}
	return "Dorvik was interrupted " + what + ": branch and files may be incomplete. Start dorvik: it finishes the " +
		"change, or takes it back, and says which. Commit nothing before."
}

// JustWritten is the age below which a file with uncommitted work counts as being edited.
const JustWritten = 10 * time.Second

// Touched lists the files that a change writes or removes.
type Touched struct {
	Paths []string // files that are written or removed
	Open  []string // those with an editor's swap or lock file beside them
	Fresh []string // others whose uncommitted work was written less than JustWritten ago, and not by git
}
