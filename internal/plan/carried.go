package plan

import (
	"context"
	"io/fs"
	"slices"
	"strings"

	"dorvik.dev/dorvik/internal/core/object"
	"dorvik.dev/dorvik/internal/words"
)

// Uncommitted is uncommitted work that a join carries along. It is replayed like two commits that are never made: the
// staged changes, and the other changes of files.
type Uncommitted struct {
	On     object.ID // the commit it is based on
	Staged object.ID // tree of the index
	Files  object.ID // tree of the working files
	Paths  []string  // modified paths, as git names them
	Parts  []Part    // the parts it consists of

	Seen map[string]fs.FileInfo // states of the files just before they were read; absent files are missing
}

// What becomes of a path that is carried. The names are those of `recover --json`.
const (
	carriedSame     = "same"     // the join does not touch it
	carriedJoined   = "joined"   // joined with the result
	CarriedConflict = "conflict" // a person decided
)

// CarriedPath is the outcome for one path with uncommitted work.
type CarriedPath struct {
	Path  string `json:"path"`
	State string `json:"state"`
}

// Carried is uncommitted work merged onto a result.
type Carried struct {
	Of     *Uncommitted
	Staged object.ID // tree for the index
	Files  object.ID // tree for the files
	Paths  []CarriedPath
	Asked  int // number of decisions
}

// Add adds a part unless it is empty.
func (u *Uncommitted) Add(p Part) {
	if p.Base != p.Tree {
		u.Parts = append(u.Parts, p)
	}
}

// Onto returns a tree with the uncommitted files in it.
func (u *Uncommitted) Onto(ctx context.Context, store *object.Overlay, tree object.ID) (object.ID, error) {
	set := map[string]object.Entry{}
	for _, p := range u.Paths {
		e, err := store.Find(ctx, u.Files, p)
		if err != nil {
			return tree, err
		}
		set[p] = e
	}
	return store.Edit(ctx, tree, set)
}

// Same reports whether both have the same content.
func (u *Uncommitted) Same(v *Uncommitted) bool {
	if u == nil || v == nil {
		return u == v
	}
	return u.Staged == v.Staged && u.Files == v.Files && slices.Equal(u.Paths, v.Paths)
}

// Holds returns the trees of index and files. u may be nil if nothing is uncommitted.
func (u *Uncommitted) Holds(committed object.ID) Held {
	if u == nil {
		return Held{committed, committed}
	}
	return Held{u.Staged, u.Files}
}

// Part is one kind of uncommitted work: the difference between two trees.
type Part struct {
	Base, Tree object.ID
	Subject    string
	Staged     bool // stage the path again
}

// Names returns the carried paths.
func (c *Carried) Names() (out []string) {
	for _, p := range c.Paths {
		out = append(out, p.Path)
	}
	return out
}

// Sentence describes what was carried, or is empty.
func (c *Carried) Sentence() string {
	if c == nil || len(c.Paths) == 0 {
		return ""
	}
	is := map[string][]string{}
	for _, p := range c.Paths {
		is[p.State] = append(is[p.State], p.Path)
	}
	var out []string
	if p := is[carriedJoined]; len(p) > 0 {
		out = append(out, "joined with the result in "+strings.Join(p, ", "))
	}
	if p := is[CarriedConflict]; len(p) > 0 {
		out = append(out, "as you decided in "+strings.Join(p, ", "))
	}
	if p := is[carriedSame]; len(p) > 0 {
		out = append(out, "untouched in "+words.List(words.Some(p, 3)))
	}
	return "Your uncommitted work was carried along: " + strings.Join(out, "; ") + "."
}

// Asking returns the paths that need a decision.
func (c *Carried) Asking() (out []string) {
	for _, p := range c.Paths {
		if p.State == CarriedConflict {
			out = append(out, p.Path)
		}
	}
	return out
}

// Held is the content of index and files, as trees.
type Held struct {
	Staged object.ID `json:"staged"`
	Files  object.ID `json:"files"`
}

// Layout is the target of index and files in a change that carries uncommitted work. It leaves out paths that the
// change does not touch.
type Layout struct {
	Staged, Files object.ID // trees
	Start         object.ID // tree at the start of the change, without removed paths that have uncommitted work
	Paths         []string  // sorted paths with uncommitted work that changes
}

// Laid is a layout with the work that it carries.
type Laid struct {
	*Layout
	Of *Uncommitted
	Is Held // index and files afterwards
}

// beside reports whether a path must move because it contains, or is inside, a path that moves.
func (u *Uncommitted) beside(p string, alone, moves map[string]bool) bool {
	for dir := Folder(p); dir != ""; dir = Folder(dir) {
		if is, known := alone[dir]; known && (!is || moves[dir]) {
			return true
		}
	}
	return slices.ContainsFunc(u.Paths, func(q string) bool { return strings.HasPrefix(q, p+"/") }) && moves[p]
}

// Folder returns the parent folder of a path, or an empty string.
func Folder(p string) string { return p[:max(0, strings.LastIndexByte(p, '/'))] }
