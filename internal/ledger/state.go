package ledger

import (
	"crypto/sha256"
	"errors"
	"fmt"
	"time"

	"dorvik.dev/dorvik/internal/core/object"
	"dorvik.dev/dorvik/internal/core/replay"
	"dorvik.dev/dorvik/internal/core/settle"
	"dorvik.dev/dorvik/internal/plan"
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
	Yours      object.ID        `json:"yours"` // the tips it was last worked out for
	Theirs     object.ID        `json:"theirs"`
	Route      plan.Route       `json:"route,omitempty"`
	Stage      Stage            `json:"stage"`
	Picks      []object.ID      `json:"picks,omitempty"`       // commits that are brought onto the branch, in order
	PickParent int              `json:"pick_parent,omitempty"` // of those that join lines, what this parent has not
	Decisions  settle.Decisions `json:"decisions"`
	Mends      []plan.Mend      `json:"mends,omitempty"`
	Made       []plan.Made      `json:"made,omitempty"`      // files that commands regenerated
	Requests   replay.Requests  `json:"requests,omitempty"`  // what is to become of single commits
	TakeOver   TakeOver         `json:"take_over,omitempty"` // what git left half done
	Runs       []string         `json:"runs,omitempty"`      // what its list has run on the way
	Carry      bool             `json:"carry,omitempty"`     // uncommitted work is brought along
	// what was read of what joined by itself: the content that a path had
	Read map[string]object.ID `json:"read,omitempty"`
	// conflicts that are put aside for now, and why
	PutAside map[settle.Key]string `json:"put_aside,omitempty"`

	Accepted  *Waypoint     `json:"accepted,omitempty"` // joined here and not pushed yet
	Checked   *Checked      `json:"checked,omitempty"`
	LastCheck time.Duration `json:"last_check,omitempty"`
}

// By is what brought a branch to where it is: one of the routes, Forward or Nothing. Its text is the "route" of
// `logbook --json`.
type By string

// What is no route.
const (
	Forward By = By(plan.FastForward)
	Nothing By = "" // nothing was joined: the branch went back, or what was half done was taken back
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
	case p.MovesBack(), p.SettlesOnly():
		return Nothing
	case p.Trivial() == plan.FastForward:
		return Forward
	}
	return By(j.Route)
}

// Waypoint is an earlier state of the branch, with the join that changed it.
type Waypoint struct {
	Name     string      `json:"name"` // its ref is refs/dorvik/waypoint/NAME
	Branch   string      `json:"branch"`
	Before   object.ID   `json:"before"` // the branch's tip before the join
	After    object.ID   `json:"after"`
	Theirs   object.ID   `json:"theirs"`
	By       By          `json:"route"`
	Time     time.Time   `json:"time"`
	GoneBack bool        `json:"gone_back,omitempty"`
	Return   string      `json:"return,omitempty"`  // the waypoint that the branch went back to by this
	Picks    []object.ID `json:"picks,omitempty"`   // what was picked
	Parent   int         `json:"parent,omitempty"`  // State.PickParent of it
	Counter  string      `json:"counter,omitempty"` // the waypoint of a join that the pick takes back
	Aside    []string    `json:"aside,omitempty"`   // what was in the way, and is kept under its name

	Moves []Move `json:"moves,omitempty"` // of other branches, made with it

	Kept *Kept `json:"kept,omitempty"` // what was not committed, where it was moved

	// How it was decided, so that it can be told afterwards.
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
	Skipped bool          `json:"skipped,omitempty"` // the person went on without
	Took    time.Duration `json:"took"`
}

// Amends returns the changes to the joined tree besides the decisions.
func (st *State) Amends() plan.Amends { return plan.Amends{Mends: st.Mends, Made: st.Made} }

// ErrInUse reports that another Dorvik has the repository open.
var ErrInUse = errors.New("another Dorvik is open in this repository; finish there, or close it")

// Kept describes uncommitted work that a change found. The waypoint keeps the files and the index byte for byte, git's
// files of a half-done operation, and trees of both.
type Kept struct {
	Head      object.ID `json:"head"`                // where HEAD was, where it was on no branch
	Paths     []string  `json:"paths"`               // with uncommitted work that the change moved
	Was       plan.Held `json:"was"`                 // all that index and files held then,
	Is        plan.Held `json:"is"`                  // and right after the change
	Operation string    `json:"operation,omitempty"` // of git, that was left half done,
	State     []string  `json:"state,omitempty"`     // and git's own files of it
	Commit    object.ID `json:"commit"`              // that keeps both
}

// KeptRef returns the ref that protects the uncommitted work.
func (w *Waypoint) KeptRef() string { return "refs/dorvik/kept/" + w.Name }

// HashOf returns the SHA-256 of a text in hex.
func HashOf(s string) string { return fmt.Sprintf("%x", sha256.Sum256([]byte(s))) }

// TakenOver reports whether the change took over a half-done operation.
func (w *Waypoint) TakenOver() bool { return w.Kept != nil && w.Kept.Operation != "" }
