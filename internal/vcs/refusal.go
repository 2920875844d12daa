package vcs

import (
	"fmt"
	"slices"
	"strings"
)

// RefusalKind is why a push was not accepted or a remote not reached. Its text is its name in `recover --json`.
type RefusalKind string

// The reasons. Each has a row in the table below.
const (
	Behind      RefusalKind = "behind"    // the remote has commits that yours do not build on
	Busy        RefusalKind = "busy"      // the server's copy of the branch is locked
	Protected   RefusalKind = "protected" // nobody, or not everybody, may push to the branch
	Size        RefusalKind = "size"      // something is larger than the server takes
	ServerRule  RefusalKind = "rule"      // a hook or a rule on the server said no
	LocalHook   RefusalKind = "hook"      // the pre-push hook here said no
	NoAccess    RefusalKind = "access"
	NoLogin     RefusalKind = "login"    // the server does not know who you are
	HostKey     RefusalKind = "host-key" // it is not known whether the server is the right one
	Unreachable RefusalKind = "unreachable"
	Missing     RefusalKind = "missing" // there is no repository at the remote's address
	Gone        RefusalKind = "gone"    // the remote no longer has the branch
	Other       RefusalKind = "unknown"
)

// refusalRow is everything that the program says about a kind of refusal. Rows are written without field names, so a
// row that lacks a field does not compile.
type refusalRow struct {
	head  string // the first sentence
	why   string // without a full stop
	next  string // what a person can do, without a full stop
	again string // what follows "then"
}

const (
	refused    = "The push was refused."
	notThrough = "The push did not get through."
	pushAgain  = "push again with enter"
)

var refusals = map[RefusalKind]refusalRow{
	Behind: {refused, "somebody pushed first: the remote has commits that yours do not build on",
		"Look at what is new", pushAgain},
	Busy: {refused, "the server's copy of the branch is locked: another push is running there, or an interrupted " +
		"one left its lock", "Wait a moment", pushAgain},
	Protected: {refused, "the branch is protected: the server accepts no push to it from you",
		"Push to another branch, and ask for that to be joined there", pushAgain},
	Size: {refused, "something in these commits is larger than the server takes", "Take it out of the commits",
		pushAgain},
	ServerRule: {refused, "the server refused the push by a hook or a rule of its own", "Do what the server asks for",
		pushAgain},
	LocalHook: {"The push was stopped here.", "your own pre-push hook stopped the push", "Fix what the hook found",
		pushAgain},
	NoAccess: {refused, "the server knows you but denies access", "Ask for the right to push", pushAgain},
	NoLogin: {refused, "the server does not know who you are", "Check your key, or name and password",
		pushAgain},
	HostKey: {notThrough, "the server's key is unknown or has changed: it may not be the server you " +
		"mean", "Connect to it once with ssh, and look at its key", pushAgain},
	Unreachable: {notThrough, "the remote cannot be reached", "Check the network and the remote's address", pushAgain},
	Missing: {notThrough, "there is no repository at the remote's address, or it is not shown to you",
		"Check the address with “git remote -v”", pushAgain},
	Gone: {"Nothing was pushed.", "the branch is gone at the remote: somebody deleted it, or gave it another name",
		"Ask who deleted it", "press enter again to create it there"},
	Other: {refused, "the remote did not accept this", "Read what it said", pushAgain},
}

// row returns the row of a kind. It panics for a kind that has none.
func (k RefusalKind) row() refusalRow {
	r, ok := refusals[k]
	if !ok {
		panic(fmt.Sprintf("no kind of refusal %q", string(k)))
	}
	return r
}

// Refusal is a rejected push, or a remote that did not answer.
type Refusal struct {
	Kind  RefusalKind
	Short string   // git's own reason, such as "fetch first"
	Words []string // what the server or hook said, line by line
}

func (r *Refusal) Error() string {
	text := r.Kind.row().why
	if r.Short != "" {
		text += " (" + r.Short + ")"
	}
	return text
}

// Raced reports whether the server could not write its ref. An unfinished push and a faster one look alike here; the
// ref's present value tells which it was.
func (r *Refusal) Raced() bool {
	return slices.ContainsFunc(raced, func(w string) bool { return strings.Contains(r.Short, w) })
}

// raced lists a server's words for a ref that it could not write.
var raced = []string{"cannot lock ref", "failed to update ref", "incorrect old value"}

// Head returns the first sentence about the refusal.
func (r *Refusal) Head() string { return r.Kind.row().head }

// Next returns what a person can do before pushing again, without a full stop.
func (r *Refusal) Next() string { return r.Kind.row().next }

// Again returns how to push after that, without a full stop.
func (r *Refusal) Again() string { return r.Kind.row().again }

// HookError reports that a hook refused an operation.
type HookError struct {
	Name string
	Said []string // on both its outputs
	Code int
}

func (e *HookError) Error() string {
	said := ""
	if len(e.Said) > 0 {
		said = ": " + strings.Join(e.Said, "; ")
	}
	return fmt.Sprintf("the hook %s ended with %d%s", e.Name, e.Code, said)
}

// LockedError reports a lock of another git on the index or a ref, or one that a killed git left.
type LockedError struct {
	Path string
	Err  error
}

func (e *LockedError) Error() string {
	return fmt.Sprintf("another git is working in this repository, or died while it did: %s exists. Wait until it "+
		"ends; if none runs, remove that file and try again. Nothing was changed", e.Path)
}

func (e *LockedError) Unwrap() error { return e.Err }
