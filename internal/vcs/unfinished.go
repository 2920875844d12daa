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
	Applying  Operation = "am" // patches from mails
	// Unmerged is conflicts in the index without an operation that would go on: a stash brought back, a squashed merge
	// or a pick without a commit leaves them.
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
	short string // its abbreviation; empty for none
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
	Names  []string // that label, reset and merge go by
}

// Unfinished is an operation that git left half done in a working tree.
type Unfinished struct {
	Operation Operation
	Branch    string      // that it is done to; empty where HEAD was on none
	Head      object.ID   // where HEAD is now
	Detached  bool        // and whether it is on no branch now
	Before    object.ID   // where the branch was before it began
	Onto      object.ID   // of a rebase: what the commits go onto
	Merged    []object.ID // of a merge, also where a list makes it: what is merged
	Stopped   object.ID   // the commit it stopped at; zero where it stopped between two
	Done      []Command   // of a list, the one it stopped at last
	Todo      []Command   // and what is to come
	Remade    map[object.ID]object.ID
	Message   string    // prepared for the commit that is to be made, without its comments
	Stash     object.ID // uncommitted work that git put aside before it began
	Noted     bool      // of a rebase: HEAD's message has git's own comments, as more was to become part of it
	Squashing bool      // of a rebase: a squash is among the commits that become part of the one it is at
	Picking   bool      // of a rebase: the commit it stopped at is not made yet, nor dropped
	// the commit that it made and stopped at, to be amended; zero where it stopped before making one
	Amend   object.ID
	Moves   []BranchMove // of other branches, that its list asks for
	Options []Option     // it was begun with, as far as they matter to what is to come
	Parent  int          // of picked commits that join lines
	Patches int          // of patches: how many there are, and
	At      int          // at which it stopped, from 1
	Files   []string     // git's own files of it, under the names of Inside
	Pulled  bool         // it was begun by a pull
}

// BranchMove is the move of another branch that update-ref in a rebase's list asks for.
type BranchMove struct {
	Name string
	From object.ID // where it was when the rebase began
	To   object.ID // where the list has moved it; zero while that line of the list is still to come
}

// Option is an option of an operation, under its name on git's command line.
type Option struct{ Name, Value string }

// Has reports whether the operation was begun with an option.
func (u *Unfinished) Has(name string) bool {
	return slices.ContainsFunc(u.Options, func(o Option) bool { return o.Name == name })
}
