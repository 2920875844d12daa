package vcs

import (
	"fmt"
	"maps"
	"slices"
	"strings"
)

// RefusalKind is why a push was not accepted or a remote not reached.
type RefusalKind string

// The reasons. Each has a row in the table below.
const (
	Behind       RefusalKind = "behind"    // the remote has commits that yours do not build on
	Busy         RefusalKind = "busy"      // the server's copy of the branch is locked
	Protected    RefusalKind = "protected" // nobody, or not everybody, may push to the branch
	NoRewrite    RefusalKind = "no-rewrite"
	NoDelete     RefusalKind = "no-delete"
	InUse        RefusalKind = "in-use"  // the branch is checked out in the remote's working tree
	Size         RefusalKind = "size"    // something is larger than the server takes
	Quota        RefusalKind = "quota"   // the repository is larger than the server allows
	Message      RefusalKind = "message" // a message, an author or a sign-off is not as the server asks
	Secret       RefusalKind = "secret"  // the server found a password or a key in the commits
	LargeObjects RefusalKind = "large-objects"
	Submodule    RefusalKind = "submodule" // a commit of a submodule was not pushed
	Shallow      RefusalKind = "shallow"   // the server takes no commits from a shallow clone
	ServerRule   RefusalKind = "rule"      // a hook or a rule on the server said no
	LocalHook    RefusalKind = "hook"      // the pre-push hook here said no
	Locked       RefusalKind = "locked"    // somebody holds a lock on a file that changes
	Store        RefusalKind = "store"     // the server could not write
	NoAccess     RefusalKind = "access"
	NoLogin      RefusalKind = "login"        // the server does not know who you are
	HostUnknown  RefusalKind = "host-unknown" // ssh does not know the server's key yet
	HostKey      RefusalKind = "host-key"     // the server's key is another one than before
	NoHost       RefusalKind = "no-host"      // there is no server of that name
	TimedOut     RefusalKind = "timeout"      // the server did not answer in time
	Proxy        RefusalKind = "proxy"
	Certificate  RefusalKind = "certificate"
	Unreachable  RefusalKind = "unreachable"
	Moved        RefusalKind = "moved"   // the repository has another address
	Missing      RefusalKind = "missing" // there is no repository at the remote's address
	Gone         RefusalKind = "gone"    // the remote no longer has the branch
	Other        RefusalKind = "unknown"
)

// Step is what a person can do about a refusal. Screens offer it as a key.
type Step uint8

// The steps.
const (
	PushAgain   Step = iota // once something outside Dorvik is done
	LookAgain               // look at what is new
	Wait                    // push again by itself
	PushAside               // push to another branch of the remote
	ChangeWork              // reword commits, edit their files, or leave one out
	GetHistory              // get the rest of the history of a shallow clone
	CreateThere             // create the branch at the remote again
	GoBackFirst             // undo what was rewritten, or join
)

// refusalRow is everything that the program says about a kind of refusal. Rows are written without field names, so a
// row that lacks a field does not compile.
type refusalRow struct {
	head string // the first sentence
	why  string // without a full stop
	next string // what a person can do, without a full stop
	step Step
	json string // the kind in `push --json`, which scripts know
}

const (
	refused    = "The push was refused."
	notThrough = "The push did not get through."
)

var refusals = map[RefusalKind]refusalRow{
	Behind: {refused, "somebody pushed first: the remote has commits that yours do not build on",
		"Look at what is new", LookAgain, "behind"},
	Busy: {refused, "the server's copy of the branch is locked: another push is running there, or an interrupted " +
		"one left its lock", "Wait a moment", Wait, "busy"},
	Protected: {refused, "the branch is protected: the server accepts no push to it from you",
		"Push to another branch, and ask for that to be joined there", PushAside, "protected"},
	NoRewrite: {refused, "the server never replaces commits of this branch", "Join the two lines instead of " +
		"exchanging them", GoBackFirst, "rule"},
	NoDelete: {refused, "the server lets nobody delete this branch", "Ask who looks after the server", PushAgain,
		"rule"},
	InUse: {refused, "somebody works in the remote repository itself, on this very branch", "Push to another branch, " +
		"and have that joined there", PushAside, "rule"},
	Size: {refused, "something in these commits is larger than the server takes", "Take it out of the commits",
		ChangeWork, "size"},
	Quota: {refused, "the repository would be larger than the server allows",
		"Take out what is large, or ask for more " +
			"room", ChangeWork, "size"},
	Message: {refused, "the server's words speak of the message, its task, the author or the sign-off",
		"Write the messages as it asks",
		ChangeWork, "message"},
	Secret: {refused, "the server's words speak of a password, a key or a token in these commits",
		"Take it out of the commits, " +
			"and replace it where it is used: it may have been seen", ChangeWork, "secret"},
	LargeObjects: {refused, "large files that the commits name were not uploaded", "Upload them with “git lfs push " +
		"--all REMOTE”; if they are not here either, add the files again", PushAgain, "rule"},
	Submodule: {"The push was stopped here.", "a commit of a submodule that yours name was not pushed", "Push it in " +
		"the submodule's folder", PushAgain, "rule"},
	Shallow: {refused, "this clone is shallow, and the server needs the whole history", "Get the rest of the history",
		GetHistory, "shallow"},
	ServerRule: {refused, "the server refused the push by a hook or a rule of its own", "Do what the server asks for",
		ChangeWork, "rule"},
	LocalHook: {"The push was stopped here.", "your own pre-push hook stopped the push", "Fix what the hook found",
		ChangeWork, "hook"},
	Locked: {refused, "somebody holds a lock on a file that you change", "Ask who holds it", PushAgain, "busy"},
	Store: {refused, "the server could not store the commits: its disk is full or may not be written",
		"Ask who looks " +
			"after the server", PushAgain, "unknown"},
	NoAccess: {refused, "the server knows you but denies access", "Ask for the right to push", PushAgain,
		"access"},
	NoLogin: {refused, "the server does not know who you are", "Check your key, or name and password",
		PushAgain, "login"},
	HostUnknown: {notThrough, "the server is not known to ssh yet, and nothing says that it is the one you mean",
		"Connect to it once with ssh, and compare its fingerprint with one that you trust", PushAgain,
		"host-key"},
	HostKey: {notThrough, "the server's key is another one than before: it may not be the server you mean",
		"Ask who looks after it why the key changed, before you accept it", PushAgain, "host-key"},
	NoHost: {notThrough, "there is no server of that name, or the network does not find it",
		"Check the network and the remote's address", PushAgain, "unreachable"},
	TimedOut: {notThrough, "the server did not answer in time", "Check the network", PushAgain,
		"unreachable"},
	Proxy: {notThrough, "the proxy between you and the server refused", "Check http.proxy and the variable https_proxy",
		PushAgain, "unreachable"},
	Certificate: {notThrough, "the server's certificate is not one that this computer trusts",
		"Ask who looks after the server", PushAgain, "unreachable"},
	Unreachable: {notThrough, "the remote cannot be reached", "Check the network and the remote's address", PushAgain,
		"unreachable"},
	Moved: {notThrough, "the repository has another address by now", "Set the address that the server names with " +
		"“git remote set-url”", PushAgain, "gone"},
	Missing: {notThrough, "there is no repository at the remote's address, or it is not shown to you",
		"Check the remote's address", PushAgain, "gone"},
	Gone: {"Nothing was pushed.", "the branch is gone at the remote: somebody deleted it, or gave it another name",
		"Ask who deleted it", CreateThere, "gone"},
	Other: {refused, "the remote did not accept this", "Read what it said", PushAgain, "unknown"},
}

// RefusalKinds returns all kinds, sorted.
func RefusalKinds() []RefusalKind { return slices.Sorted(maps.Keys(refusals)) }

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
	// Went is how many of the commits are at the remote all the same, of Of. It is zero for a system that takes all or
	// none.
	Went, Of int
}

func (r *Refusal) Error() string {
	text := r.Kind.row().why
	if r.Went > 0 {
		text = fmt.Sprintf("%d of %d change lists are checked in, and at the next one %s", r.Went, r.Of, text)
	}
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

// Step returns what a person can do about it.
func (r *Refusal) Step() Step { return r.Kind.row().step }

// JSON returns the kind as scripts know it.
func (r *Refusal) JSON() string { return r.Kind.row().json }

// Command returns the next step as a command, or an empty string.
func (r *Refusal) Command() string { return steps[r.Step()].command }

// steps says of each step how it is taken on the screen, and by a command.
var steps = [...]struct{ again, command string }{
	PushAgain:   {"then push again with enter", "dorvik push"},
	LookAgain:   {"enter shows both lines", "dorvik recover --push"},
	Wait:        {"then push again with enter", "dorvik push"},
	PushAside:   {"enter pushes to another branch, r to this one again", "dorvik push --to BRANCH"},
	ChangeWork:  {"enter shows your commits, to change them; r pushes again", "dorvik"},
	GetHistory:  {"enter gets it and pushes again", "git fetch --unshallow"},
	CreateThere: {"then press enter again to create it there", ""},
	GoBackFirst: {"enter shows both lines", "dorvik recover --route merge --push"},
}

// Again returns how the step is taken on the screen, without a full stop.
func (r *Refusal) Again() string { return steps[r.Step()].again }

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
	return fmt.Sprintf("another program is working in this repository, or died while it did: %s exists. Wait until it "+
		"ends; if none runs, remove that file and try again. Nothing was changed", e.Path)
}

func (e *LockedError) Unwrap() error { return e.Err }
