package vcs

import (
	"slices"

	"dorvik.dev/dorvik/internal/core/object"
)

// Operation is an operation that git can leave half done. Its text is its name in `look --json`.
type Operation string

// The operations.
const (
	Merging   Operation = "merge"
	Rebasing  Operation = "rebase"
	Picking   Operation = "pick"
	Reverting Operation = "revert"
	Applying  Operation = "am" // applying mailed patches
	// Unmerged means conflicts in the index without an operation to continue. A stash that was applied, a squashed
	// merge or a pick without a commit leaves them.
	Unmerged Operation = "unmerged"
)

// Verb is the command of a line in a rebase's list. Verbs without a row in the table are unknown to Dorvik.
type Verb string

// The verbs.
const (
	Pick      Verb = "pick"
	Reword    Verb = "reword"
	Edit      Verb = "edit"
	Squash    Verb = "squash"
	Fixup     Verb = "fixup"
	Drop      Verb = "drop"
	Revert    Verb = "revert"
	Exec      Verb = "exec"
	Break     Verb = "break"
	Label     Verb = "label"
	Reset     Verb = "reset"
	Merge     Verb = "merge"
	UpdateRef Verb = "update-ref"
)

// Takes is what follows a verb.
type Takes int

// What can follow a verb.
const (
	Text   Takes = iota // anything, or nothing
	Commit              // one commit
	Names               // labels; a merge can name a commit after -C or -c
)

// verbRow is what the program knows about a verb. Rows are written without field names, so a row that lacks a field
// does not compile.
type verbRow struct {
	verb  Verb
	short string // one-letter form; empty for none
	takes Takes
	joins bool // the commit becomes part of the one before it
}

var verbs = []verbRow{
	{Pick, "p", Commit, false},
	{Reword, "r", Commit, false},
	{Edit, "e", Commit, false},
	{Squash, "s", Commit, true},
	{Fixup, "f", Commit, true},
	{Drop, "d", Commit, false},
	{Revert, "", Commit, false},
	{Exec, "x", Text, false},
	{Break, "b", Text, false},
	{Label, "l", Names, false},
	{Reset, "t", Names, false},
	{Merge, "m", Names, false},
	{UpdateRef, "u", Text, false},
}

// ParseVerb returns the verb of a word or an abbreviation. An unknown word becomes a Verb as it is.
func ParseVerb(word string) Verb {
	for _, r := range verbs {
		if word == string(r.verb) || word == r.short {
			return r.verb
		}
	}
	return Verb(word)
}

// row returns the row of a verb, or an empty one for a verb that is not known.
func (v Verb) row() verbRow {
	for _, r := range verbs {
		if r.verb == v {
			return r
		}
	}
	return verbRow{}
}

// Known reports whether the verb is one of the table.
func (v Verb) Known() bool { return v.row().verb != "" }

// Takes returns what follows the verb.
func (v Verb) Takes() Takes { return v.row().takes }

// Joins reports whether the commit of the line becomes part of the one before it.
func (v Verb) Joins() bool { return v.row().joins }

// Command is a line of a list that git works through.
type Command struct {
	Verb   Verb
	Commit object.ID
	Flag   string   // -C or -c, of a fixup or a merge; empty for none
	Rest   string   // what follows the verb
	Names  []string // labels of label, reset and merge
}

// Unfinished is an operation that git left half done in a working tree.
type Unfinished struct {
	Operation Operation
	By        string      // the system that left it, such as git
	Branch    string      // the branch it changes; empty if HEAD was detached
	Head      object.ID   // where HEAD is now
	Detached  bool        // whether HEAD is detached now
	Before    object.ID   // where the branch was before it began
	Onto      object.ID   // for a rebase: the new base of the commits
	Merged    []object.ID // for a merge, also on a list: the commits that are merged
	Stopped   object.ID   // the commit at which it stopped; zero if between two commits
	Done      []Command   // completed steps of a list, the current one last
	Todo      []Command   // remaining steps
	Remade    map[object.ID]object.ID
	Message   string    // message prepared for the next commit, without comments
	Stash     object.ID // stash of the uncommitted work that git set aside
	Noted     bool      // for a rebase: HEAD's message has git's comments about squashed commits
	Squashing bool      // for a rebase: the current chain of commits contains a squash
	Picking   bool      // for a rebase: the commit at which it stopped is neither made nor dropped yet
	// the commit that was made and can be amended; zero if it stopped before making one
	Amend   object.ID
	Moves   []BranchMove // moves of other branches on its list
	Options []Option     // options it was started with that matter for the rest
	Parent  int          // mainline parent for picked merges
	Patches int          // for patches: their number, and
	At      int          // the one at which it stopped, from 1
	Files   []string     // git's state files, as names for Inside
	Pulled  bool         // a pull started it
	// Temporary lists commits that the system made for it. They go when it ends, unless the result has them.
	Temporary []object.ID
	// Edits is a commit with the uncommitted work of before, on top of Before; zero if nothing recorded that.
	Edits object.ID
	// Unshelving says that it brings back work that had been put aside. Spent are state files that go with that only
	// when it is finished.
	Unshelving bool
	Spent      []string
}

// BranchMove is the move of another branch that update-ref in a rebase's list asks for.
type BranchMove struct {
	Name string
	From object.ID // tip when the rebase began
	To   object.ID // new tip; zero if the list has not reached it
}

// Option is an option of an operation, under its name on the system's command line.
type Option struct{ Name, Value string }

// KeepsReplaced is the option with which commits that are made again stay as they were, too.
const KeepsReplaced = "keep"

// Has reports whether the operation was begun with an option.
func (u *Unfinished) Has(name string) bool {
	return slices.ContainsFunc(u.Options, func(o Option) bool { return o.Name == name })
}
