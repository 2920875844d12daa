// Package vcs defines what Dorvik needs from a version-control system, in the terms of core: branches, remotes,
// uncommitted work, half-done operations, refusals, and the operations. Package git implements it.
package vcs

import (
	"fmt"
	"strings"
	"time"

	"dorvik.dev/dorvik/internal/core/object"
)

// Branch is the current branch and its upstream.
type Branch struct {
	Name     string    // such as main; empty when detached
	Tip      object.ID // zero when unborn
	Upstream string    // such as origin/main; empty when none is set
	Tracking string    // its local copy, such as refs/remotes/origin/main
	Remote   Remote    // such as origin
	Ref      string    // on the remote, such as refs/heads/main
	Dest     Line      // push destination, if configured separately
	Doubt    string    // why the settings name no destination, so that git would not push; empty if they do
	Nowhere  bool      // the working folder is at no commit, though there are some
	Heads    []Head    // other heads of the branch, in a system whose branches can have several
	Left     []string  // paths that an update left in conflict, and that are joined anew
	Ungroup  bool      // your changes are in no change list, and one commit for that reason; see Ungrouping
	Linear   bool      // its system keeps one row of commits; see Dialect.Linear
	Secret   []string  // subjects of your commits that the system keeps from being pushed
}

// Head is a commit of a branch that no other commit of it builds on.
type Head struct {
	ID     object.ID
	Public bool // others have it
}

// Line names commits that a branch can be joined with or pushed to: a branch of a remote, a branch here, a tag, or a
// branch at an address.
type Line struct {
	Name     string `json:"name"`             // as sentences name it, such as origin/main
	Tracking string `json:"tracking"`         // ref here that holds it, such as refs/remotes/origin/main
	Remote   Remote `json:"remote,omitempty"` // remote or address to ask; empty if it is only here
	Ref      string `json:"ref,omitempty"`    // on the remote, such as refs/heads/main
}

// Branch returns the short name of the branch at the remote, such as main.
func (l Line) Branch() string { return strings.TrimPrefix(l.Ref, "refs/heads/") }

// Follows returns the upstream. Its Name is empty if there is none.
func (b Branch) Follows() Line { return Line{b.Upstream, b.Tracking, b.Remote, b.Ref} }

// To returns the destination of pushes. Its Remote is empty if there is none.
func (b Branch) To() Line {
	if b.Dest.Remote != "" {
		return b.Dest
	}
	return b.Follows()
}

// Aim sets the destination of pushes.
func (b *Branch) Aim(to Line) {
	if b.Doubt = ""; to != b.Follows() {
		b.Dest = to
	}
}

// Full returns the branch's full name.
func (b Branch) Full() string { return "refs/heads/" + b.Name }

// Dirty is a path with uncommitted work.
type Dirty struct {
	Path      string
	Staged    bool // the index differs from the commit
	Unstaged  bool // the file differs from the index
	Untracked bool
	Conflict  bool            // unmerged
	Index     object.Entry    // the index's entry; absent for a conflict
	Stages    [3]object.Entry // for a conflict: the index's entries of base, HEAD's side and the other
	Unmarked  bool            // for a conflict: the system wrote no marks into the file
}

// Sending is what a push changes: one branch of a remote.
type Sending struct {
	Remote Remote
	Ref    string    // full name there
	Tip    object.ID // zero deletes the branch
	// Old is the tip that the push replaces, whatever it is. Zero only adds commits.
	Old  object.ID
	Tags []string // names of tags that go, too
	// Bare says that nothing of the person's goes, so that no hook of theirs runs.
	Bare bool
}

// RefUpdate moves a ref from Old to New. A zero Old creates it and a zero New deletes it.
type RefUpdate struct {
	Name     string
	New, Old object.ID
}

// RefMovedError reports that a ref was not at its expected value.
type RefMovedError struct {
	Name string
	Err  error
}

func (e *RefMovedError) Error() string {
	return fmt.Sprintf("the ref %s was moved by somebody else meanwhile; nothing was changed", e.Name)
}

func (e *RefMovedError) Unwrap() error { return e.Err }

// Setting is a value of the configuration. Own reports that it is the person's and not from a file of the repository,
// which can come with a clone.
type Setting struct {
	Name  string // as git writes it
	Value string
	Own   bool
}

// Named is a branch or a tag with its commit.
type Named struct {
	Name   string // such as main, origin/main, v1.2
	Full   string // such as refs/remotes/origin/main
	Commit object.ID
	Object object.ID // what the ref holds: the commit or, for an annotated tag, the tag
	Remote Remote    // for a remote-tracking branch: the remote, and the full name there
	Ref    string
}

// Tag returns the name of a tag; ok is false if it is none.
func (n Named) Tag() (name string, ok bool) { return strings.CutPrefix(n.Full, tags) }

// Annotated reports whether it is an annotated tag.
func (n Named) Annotated() bool { return n.Object != n.Commit }

const tags = "refs/tags/"

// Line returns the branch or tag as a line.
func (n Named) Line() Line { return Line{n.Name, n.Full, n.Remote, n.Ref} }

// Signed is git's verdict about a commit's signature.
type Signed struct {
	// the letter of git's pretty formats: G good, U good with unknown validity, B bad, E cannot be checked, N none…
	Grade string
	By    string // the signer's name, if known
}

// RefMove is an entry of a reflog: the new value, the time and the message.
type RefMove struct {
	To   object.ID
	When time.Time // zero if the entry has no time
	Why  string
}
