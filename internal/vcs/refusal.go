package vcs

import (
	"fmt"
	"slices"
	"strings"
)

// RefusalKind is why a push was not accepted, or a remote not reached.
type RefusalKind string

// The reasons. The names are those of `recover --json`.
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
	Gone        RefusalKind = "gone"    // the remote's branch is there no more
	Other       RefusalKind = "unknown"
)

// refusals say each kind in a sentence, and what a person can do about it.
var refusals = map[RefusalKind]struct{ text, next string }{
	Behind: {"somebody pushed first: the remote has commits that yours do not build on", "Look at what is new"},
	Busy: {"the server's copy of the branch is locked: another push is under way there, or one that broke off left " +
		"its lock", "Wait a moment"},
	Protected: {"the branch is protected: the server takes no push to it from you",
		"Push to a branch of its own, and have that joined there"},
	Size:       {"something in these commits is larger than the server takes", "Take it out of the commits"},
	ServerRule: {"the server refused the push by a hook or a rule of its own", "Do what the server asks for"},
	LocalHook:  {"your own pre-push hook stopped the push", "Mend what the hook found"},
	NoAccess:   {"the server knows you, and does not let you in", "Ask for the right to push"},
	NoLogin:    {"the server does not know who you are", "Check your key, or name and password"},
	HostKey: {"the server's key is not the one that is known, or none is known: it may not be the server you mean",
		"Connect to it once with ssh, and look at its key"},
	Unreachable: {"the remote cannot be reached", "Check the network and the remote's address"},
	Missing: {"there is no repository at the remote's address, or it is not shown to you",
		"Check the address with “git remote -v”"},
	Gone:  {"the branch is gone at the remote: somebody deleted it, or gave it another name", "Ask who deleted it"},
	Other: {"the remote did not accept this", "Read what it said"},
}

// Refusal is a push that was not accepted, or a remote that did not answer.
type Refusal struct {
	Kind  RefusalKind
	Short string   // git's own reason, such as "fetch first"
	Words []string // what the server or hook said, line by line
}

func (r *Refusal) Error() string {
	text := refusals[r.Kind].text
	if r.Short != "" {
		text += " (" + r.Short + ")"
	}
	return text
}

// Raced reports whether the server could not write its ref. Another push that is still under way and one that was first
// read alike: where the ref is now tells which.
func (r *Refusal) Raced() bool {
	return slices.ContainsFunc(raced, func(w string) bool { return strings.Contains(r.Short, w) })
}

// raced are the words by which a server says that it could not write its ref.
var raced = []string{"cannot lock ref", "failed to update ref", "incorrect old value"}

// Next is what a person can do before pushing again, without a full stop.
func (r *Refusal) Next() string { return refusals[r.Kind].next }

// HookError says that a hook refused what was to be done.
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

// LockedError says that another git has the index, or a ref, or died while it had.
type LockedError struct {
	Path string
	Err  error
}

func (e *LockedError) Error() string {
	return fmt.Sprintf("another git is at work in this repository, or died at it: %s is there. Wait until it has "+
		"ended; if none runs, remove that file and try again. Nothing was changed", e.Path)
}

func (e *LockedError) Unwrap() error { return e.Err }
