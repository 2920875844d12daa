package plan

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"dorvik.dev/dorvik/internal/core/history"
	"dorvik.dev/dorvik/internal/core/object"
	"dorvik.dev/dorvik/internal/core/replay"
	"dorvik.dev/dorvik/internal/vcs"
	"dorvik.dev/dorvik/internal/words"
)

// Blocked is the error for a situation in which the job cannot start. What describes it, Next is the next step.
type Blocked struct {
	What, Next string
	Remedy     Remedy // what a person can do instead
	Waypoint   string // waypoint, for UndoPushed
}

// Remedy is what a person can do about a Blocked on purpose. Commands and screens name their own way to do it.
type Remedy int

// The remedies.
const (
	NoRemedy      Remedy = iota
	JoinUnrelated        // join two lines without a common ancestor
	UndoPushed           // undo a pushed join
	NameTheirs           // name the other side
)

func (b *Blocked) Error() string { return b.What + " " + b.Next }

// Position describes how your line and their line relate. It is the input of every plan.
type Position struct {
	Branch        vcs.Branch
	Yours, Theirs object.ID
	Divergence    *history.Divergence
	// TakenOut has commits of your line that were in theirs before it was rewritten. They are not in Parted.Yours.
	TakenOut   []history.Node
	Dirty      []vcs.Dirty
	Asked      time.Time // when the remote was asked just now; zero if it was not
	Known      time.Time // when it was last fetched from; zero if unknown
	Unanswered error     // why the remote did not answer

	Follows string // the upstream, if another line is joined because the branch is pushed there
	Beside  int    // commits of the upstream that are in neither line

	Exchange *Exchange // the remote branch has earlier forms of your commits; nil if not, or not looked at

	Me        string             // e-mail of the person at the keyboard; empty if unknown
	Elsewhere map[object.ID]bool // commits of theirs that the person made in another clone

	Hidden func() (map[string]bool, error) // waits for the paths that git ignores on request; nil if not asked

	Kind Kind // kind of position; nil means Following
	// Stuck is git's half-done operation: continued or, if Kind is Following, joined again.
	Stuck    *Stuck
	Requests replay.Requests // requests about single commits of yours
	Carried  *Uncommitted    // uncommitted work to carry along; nil to leave it
	Past     bool            // the position is in the past: remotes may have changed since
}

// Kind tells what a position is for. It is one of Following, Starting, Reworking, *FromLine, *Picking, *Resuming,
// Returning, BringingBack and Committing.
type Kind interface{ kind() }

// Following joins a branch with its upstream. It is the default.
type Following struct{}

// Starting is a branch without an upstream, whose commits go to a new branch of a remote.
type Starting struct{ To vcs.Line }

// Reworking changes your own commits that are not pushed. Nothing is joined.
type Reworking struct{ Home *Position }

// FromLine joins a branch with another line than its upstream.
type FromLine struct {
	Line vcs.Line
	Home *Position // position of the branch relative to its upstream; nil if it has none
}

// Picking copies single commits onto your line. Position.Divergence.Theirs lists them, newest first.
type Picking struct {
	Home    *Position      // position of the branch relative to its upstream
	Own     []history.Node // commits of your line that may have the same changes
	Counter string         // waypoint of the join that this reverts; empty for a pick
	Parent  int            // mainline parent of a picked merge, from 1
}

// Resuming continues an operation that was left half done.
type Resuming struct {
	Resume *Resume
	Picks  *Picking // nil for a merge or a rebase
}

// Returning moves the branch back to where it was before a waypoint.
type Returning struct{ Waypoint string }

// Committing makes a commit of uncommitted work.
type Committing struct{}

// BringingBack restores work that a pull left in the stash.
type BringingBack struct{ Stash object.ID }

func (Following) kind()    {}
func (Starting) kind()     {}
func (Reworking) kind()    {}
func (*FromLine) kind()    {}
func (*Picking) kind()     {}
func (*Resuming) kind()    {}
func (Returning) kind()    {}
func (BringingBack) kind() {}
func (Committing) kind()   {}

// FromLine returns the other line that is joined, or nil if it is the upstream.
func (p *Position) FromLine() *FromLine {
	k, _ := p.Kind.(*FromLine)
	return k
}

// BringsIn reports whether another line is brought in as one commit on top, as in a system that keeps one row of
// commits.
func (p *Position) BringsIn() bool { return p.Branch.Linear && p.FromLine() != nil }

// Reworks reports whether your own commits are changed, and nothing is joined.
func (p *Position) Reworks() bool {
	_, is := p.Kind.(Reworking)
	return is
}

// Line returns the line that yours is joined with.
func (p *Position) Line() vcs.Line {
	switch k := p.Kind.(type) {
	case *FromLine:
		return k.Line
	case Starting:
		return k.To
	case Reworking:
		return k.Home.Line()
	case *Resuming:
		if p.Stuck != nil && p.Stuck.With.Name != "" {
			return p.Stuck.With
		}
	}
	return p.Branch.Follows()
}

// To returns the line that the branch is pushed to.
func (p *Position) To() vcs.Line {
	if k, ok := p.Upstream().Kind.(Starting); ok {
		return k.To
	}
	return p.Upstream().Branch.To()
}

// Asks names the remote that was asked for theirs. It is empty if theirs is only here.
func (p *Position) Asks() string { return p.Line().Remote.String() }

// picks returns the picking of commits, or nil.
func (p *Position) picks() *Picking {
	switch k := p.Kind.(type) {
	case *Picking:
		return k
	case *Resuming:
		return k.Picks
	}
	return nil
}

// IsPick reports whether single commits are copied onto your line.
func (p *Position) IsPick() bool { return p.picks() != nil }

// Own lists those of your commits that may contain the changes of the picked ones already.
func (p *Position) Own() []history.Node {
	if k := p.picks(); k != nil {
		return k.Own
	}
	return nil
}

// Counter returns the waypoint of the join that the pick reverts, or an empty string.
func (p *Position) Counter() string {
	if k := p.picks(); k != nil {
		return k.Counter
	}
	return ""
}

// PickParent returns the parent, from 1, that a picked merge is compared with; 0 for none.
func (p *Position) PickParent() int {
	if k := p.picks(); k != nil {
		return k.Parent
	}
	return 0
}

// Resumes returns how to continue the half-done operation, or nil.
func (p *Position) Resumes() *Resume {
	if k, ok := p.Kind.(*Resuming); ok {
		return k.Resume
	}
	return nil
}

// SettledBefore lists the files whose conflicts the person settled in a half-done operation that is being finished.
func (p *Position) SettledBefore() []string {
	if p.Resumes() == nil || p.Stuck == nil {
		return nil
	}
	return p.Stuck.Settled
}

// Commits reports whether a commit is made of uncommitted work, and nothing is joined.
func (p *Position) Commits() bool {
	_, is := p.Kind.(Committing)
	return is
}

// MovesBack reports whether the branch or the files return to an earlier state, so that nothing is joined.
func (p *Position) MovesBack() bool {
	switch p.Kind.(type) {
	case Returning, BringingBack:
		return true
	}
	return false
}

// Stash returns the stash commit to restore, or the zero id.
func (p *Position) Stash() object.ID {
	k, _ := p.Kind.(BringingBack)
	return k.Stash
}

// Head returns the commit that index and files are based on. In a half-done rebase it differs from the branch's tip.
func (p *Position) Head() object.ID {
	if p.Stuck != nil {
		return p.Stuck.Left.Head
	}
	return p.Yours
}

// Tip returns the commit the branch is at. In half-done picks it is newer than Yours, where they started.
func (p *Position) Tip() object.ID {
	if p.Stuck != nil {
		return p.Stuck.Tip()
	}
	return p.Yours
}

// Base returns the first common ancestor, or the zero id.
func (p *Position) Base() object.ID {
	if len(p.Divergence.Bases) == 0 {
		return object.ID{}
	}
	return p.Divergence.Bases[0]
}

// Trivial returns FastForward if you have no new commits, UpToDate if they have none, and NotTrivial otherwise.
func (p *Position) Trivial() Trivial {
	switch {
	case p.IsPick(), p.Resumes() != nil, p.Reworks():
		return NotTrivial
	case p.MovesBack(), p.Commits():
		return FastForward // an undo goes to the state before
	case len(p.Divergence.Theirs) == 0:
		return UpToDate
	case len(p.Divergence.Yours) == 0 && !p.BringsIn():
		return FastForward
	}
	return NotTrivial
}

// NothingToDo reports whether both sides hold the same commits.
func (p *Position) NothingToDo() bool {
	_, starts := p.Kind.(Starting)
	return len(p.Divergence.Theirs) == 0 && len(p.Divergence.Yours) == 0 && !p.IsPick() && p.Resumes() == nil && !starts
}

// Trivial names a join that needs no work, as `plan --json` writes it.
type Trivial string

// The joins without work.
const (
	NotTrivial  Trivial = ""
	FastForward Trivial = "fast-forward"
	UpToDate    Trivial = "up-to-date"
)

// OtherHeads describes other heads of the branch, and commits that are kept from being pushed. It is empty without
// them.
func (p *Position) OtherHeads(short func(object.ID) string, in vcs.Dialect) string {
	var here, there []string
	for _, h := range p.Branch.Heads {
		if h.ID == p.Theirs || h.ID == p.Yours {
			continue
		}
		if h.Public {
			there = append(there, short(h.ID))
		} else {
			here = append(here, short(h.ID))
		}
	}
	var out []string
	if n := len(here); n > 0 {
		out = append(out, fmt.Sprintf("%s has %s here, %s: a push leaves %s out.", p.Branch.Name, words.Count(n,
			"more head",
			"more heads"), words.List(words.Some(here, 3)), words.Is(n, "it", "them")))
	}
	if n := len(there); n > 0 {
		out = append(out, fmt.Sprintf("Others have %s of %s, %s: %s not joined now. Press c to join another line.",
			words.Count(n, "more head", "more heads"), p.Branch.Name, words.List(words.Some(there, 3)),
			words.Is(n, "it is", "they are")))
	}
	if n := len(p.Branch.Secret); n > 0 {
		var subjects []string
		for _, s := range p.Branch.Secret {
			subjects = append(subjects, "“"+s+"”")
		}
		out = append(out, fmt.Sprintf("%s of yours %s secret, and a push leaves %s out: %s. %s lets %[3]s go.",
			words.Count(n, "commit", "commits"), words.Is(n, "is", "are"), words.Is(n, "it", "them"),
			words.List(words.Some(subjects, 3)), in.LetGo))
	}
	return strings.Join(out, " ")
}

// Triangle describes where the branch is pushed if it follows another one. Otherwise it is empty.
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

// Rewritten explains that the remote branch was rewritten. It is empty if it was not.
func (p *Position) Rewritten() string {
	n := len(p.TakenOut)
	switch {
	case n == 0:
		return ""
	case len(p.Divergence.Theirs) == 0:
		return fmt.Sprintf("%s was set back: %s that it held before, up to “%s”, %s no longer in it. Your line still "+
			"has %[5]s, and a push would bring %[5]s back.", p.Line().Name, words.Count(n, "commit", "commits"),
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
		p.Line().Name, words.Count(n, "commit", "commits"), p.TakenOut[0].Subject(),
		words.Is(n, "is no longer in it. In its", "are no longer in it. In their"),
		words.Count(len(p.Divergence.Theirs), "commit", "commits"), words.List(words.Some(made, 3)))
}

// Alone returns the position of a commit with nothing to join.
func Alone(b vcs.Branch, at object.ID) *Position {
	return &Position{Branch: b, Yours: at, Theirs: at, Divergence: &history.Divergence{}}
}

// SettlesOnly reports whether the conflicts belong to no merge or rebase. Settling them makes no commit.
func (p *Position) SettlesOnly() bool {
	return p.Stuck != nil && p.Stuck.Left.Operation == vcs.Unmerged
}
