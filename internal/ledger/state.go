package ledger

import (
	"crypto/sha256"
	"errors"
	"fmt"
	"time"

	"dorvik.dev/dorvik/internal/core/object"
	"dorvik.dev/dorvik/internal/core/replay"
	"dorvik.dev/dorvik/internal/core/rule"
	"dorvik.dev/dorvik/internal/core/settle"
	"dorvik.dev/dorvik/internal/plan"
	"dorvik.dev/dorvik/internal/proposal"
	"dorvik.dev/dorvik/internal/vcs"
)

// Stage is a step of the job.
type Stage int

// The stages, in the order of the job.
const (
	Look Stage = iota
	Choose
	Settle
	Check
	Push
)

func (s Stage) String() string {
	return [...]string{"Look", "Choose", "Settle", "Check", "Push"}[s]
}

// State is the stored recovery.
type State struct {
	Branch     string           `json:"branch,omitempty"`
	Yours      object.ID        `json:"yours"` // tips for which the join was last computed
	Theirs     object.ID        `json:"theirs"`
	Route      plan.Route       `json:"route,omitempty"`
	Stage      Stage            `json:"stage"`
	Picks      []object.ID      `json:"picks,omitempty"`       // commits to pick, in order
	PickParent int              `json:"pick_parent,omitempty"` // mainline parent for picked merges
	Rework     bool             `json:"rework,omitempty"`      // change one's own commits that are not pushed
	Line       *vcs.Line        `json:"line,omitempty"`        // line to join with; nil for the upstream
	Decisions  settle.Decisions `json:"decisions"`
	Mends      []plan.Mend      `json:"mends,omitempty"`
	Made       []plan.Made      `json:"made,omitempty"`      // regenerated files
	Message    string           `json:"message,omitempty"`   // message of the merge commit, if it was written
	Requests   replay.Requests  `json:"requests,omitempty"`  // requests about single commits
	TakeOver   TakeOver         `json:"take_over,omitempty"` // how git's half-done operation is taken over
	Runs       []string         `json:"runs,omitempty"`      // commands that its list ran so far
	Carry      bool             `json:"carry,omitempty"`     // carry uncommitted work along
	// Read has the content of each path that the person reviewed.
	Read map[string]object.ID `json:"read,omitempty"`
	// PutAside has conflicts postponed for now, and why.
	PutAside map[settle.Key]string `json:"put_aside,omitempty"`

	Lasting

	Accepted *Waypoint `json:"accepted,omitempty"` // the join that is not pushed yet
	Checked  *Checked  `json:"checked,omitempty"`
}

// Lasting is what stays when a recovery ends or another branch is checked out.
type Lasting struct {
	// Targets has the remote branches, such as origin/main, that branches are pushed to where git's settings leave it
	// open.
	Targets map[string]string `json:"targets,omitempty"`
	// Refusals has the last refusal of a push to each remote branch, until one is accepted.
	Refusals map[string]Refused `json:"refusals,omitempty"`
	// Rules has what the server of each remote asks of commits, as learned from its refusals.
	Rules map[string][]rule.Rule `json:"rules,omitempty"`
	// Usual has the other line that each branch was joined with last.
	Usual map[string]vcs.Line `json:"usual,omitempty"`
	// Row is a row of proposals that was begun; nil if none was.
	Row *proposal.Row `json:"row,omitempty"`
	// LastTask is the sign of the task that was taken last from the list of tasks.
	LastTask  string        `json:"last_task,omitempty"`
	LastCheck time.Duration `json:"last_check,omitempty"`
}

// Refused is a push that a server refused.
type Refused struct {
	Kind  vcs.RefusalKind `json:"kind"`
	Words []string        `json:"words,omitempty"`
	When  time.Time       `json:"when"`
}

// Aside reports that the branch takes no push, so that another branch has to.
func (r *Refused) Aside() bool { return (&vcs.Refusal{Kind: r.Kind}).Step() == vcs.PushAside }

// Why describes the refusal without the server's words.
func (r *Refused) Why() string { return (&vcs.Refusal{Kind: r.Kind}).Error() }

// By is what brought a branch to where it is: one of the routes, Forward or Nothing. Its text is the "route" of
// `logbook --json`.
type By string

// What is no route.
const (
	Forward By = By(plan.FastForward)
	Nothing By = "" // nothing was joined: an undo, or an abandoned operation
)

// Is reports whether it is a route.
func (b By) Is(r plan.Route) bool { return b == By(r) }

// Route returns the route; it is empty for Forward and Nothing.
func (b By) Route() plan.Route {
	if b == Forward {
		return ""
	}
	return plan.Route(b)
}

// byOf returns what brings a branch to a join's result.
func byOf(p *plan.Position, j *plan.Join) By {
	switch {
	case p.MovesBack(), p.Commits(), p.SettlesOnly():
		return Nothing
	case p.Trivial() == plan.FastForward:
		return Forward
	}
	return By(j.Route)
}

// Waypoint is an earlier state of the branch, with the join that changed it.
type Waypoint struct {
	Name     string      `json:"name"` // name of the ref refs/dorvik/waypoint/NAME
	Branch   string      `json:"branch"`
	Before   object.ID   `json:"before"` // the branch's tip before
	After    object.ID   `json:"after"`
	Theirs   object.ID   `json:"theirs"`
	By       By          `json:"route"`
	Time     time.Time   `json:"time"`
	GoneBack bool        `json:"gone_back,omitempty"`
	Return   string      `json:"return,omitempty"`  // the waypoint that this one restored
	Commits  bool        `json:"commits,omitempty"` // uncommitted work was committed
	Line     *vcs.Line   `json:"line,omitempty"`    // joined line; nil for the upstream
	Message  string      `json:"message,omitempty"` // see State.Message
	Picks    []object.ID `json:"picks,omitempty"`   // picked commits
	Parent   int         `json:"parent,omitempty"`  // see State.PickParent
	Counter  string      `json:"counter,omitempty"` // the waypoint of a join that the pick reverts
	Aside    []string    `json:"aside,omitempty"`   // files that were in the way, kept under the waypoint's name

	Moves []Move `json:"moves,omitempty"` // moves of other branches made with it

	Kept *Kept `json:"kept,omitempty"` // uncommitted work that was moved

	// Decisions and the rest record how it was decided, for looking back.
	Decisions []settle.Decision `json:"decisions,omitempty"`
	Mends     []plan.Mend       `json:"mends,omitempty"`
	Made      []plan.Made       `json:"made,omitempty"`
	Requests  replay.Requests   `json:"requests,omitempty"`
	Checked   *Checked          `json:"checked,omitempty"`
}

// Move is the move of another branch. Undo reverts it too.
type Move struct {
	Branch string    `json:"branch"` // a full ref name
	From   object.ID `json:"from"`
	To     object.ID `json:"to"`
}

// Ref returns the ref that protects the commits from before the join.
func (w *Waypoint) Ref() string { return "refs/dorvik/waypoint/" + w.Name }

// Checked is the result of the check of a tree.
type Checked struct {
	Tree    object.ID     `json:"tree"`
	Command string        `json:"command"`
	Passed  bool          `json:"passed"`
	Skipped bool          `json:"skipped,omitempty"` // the person skipped the check
	Took    time.Duration `json:"took"`
}

// Amends returns the changes to the joined tree besides the decisions.
func (st *State) Amends() plan.Amends {
	return plan.Amends{Mends: st.Mends, Made: st.Made, Message: st.Message}
}

// ErrInUse reports that another Dorvik has the repository open.
var ErrInUse = errors.New("another Dorvik is open in this repository; finish there, or close it")

// Kept describes uncommitted work that a change found. The waypoint keeps the files and the index byte for byte, git's
// files of a half-done operation, and trees of both.
type Kept struct {
	Head      object.ID `json:"head"`                // HEAD, if it was detached
	Paths     []string  `json:"paths"`               // paths with uncommitted work that the change moved
	Was       plan.Held `json:"was"`                 // index and files before the change
	Is        plan.Held `json:"is"`                  // index and files right after the change
	Operation string    `json:"operation,omitempty"` // git's half-done operation
	State     []string  `json:"state,omitempty"`     // git's state files of it
	Commit    object.ID `json:"commit"`              // commit that keeps Was and Is
	GaveBack  bool      `json:"gave_back,omitempty"` // the operation was taken back, not finished
}

// KeptRef returns the ref that protects the uncommitted work.
func (w *Waypoint) KeptRef() string { return "refs/dorvik/kept/" + w.Name }

// HashOf returns the SHA-256 of a text in hex.
func HashOf(s string) string { return fmt.Sprintf("%x", sha256.Sum256([]byte(s))) }

// TakenOver reports whether the change took over a half-done operation.
func (w *Waypoint) TakenOver() bool { return w.Kept != nil && w.Kept.Operation != "" }
