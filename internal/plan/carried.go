package plan

import (
	"io/fs"
	"slices"
	"strings"

	"dorvik.dev/dorvik/internal/core/object"
	"dorvik.dev/dorvik/internal/words"
)

// Uncommitted is work that is not committed, to be brought along by a join: it is replayed onto
// the result like two commits more, which are never made. The first is what was staged, the
// second what the files have beyond that.
type Uncommitted struct {
	On     object.ID // the commit it was made on
	Staged object.ID // a tree: all that the index holds
	Files  object.ID // a tree: all that the files hold
	Paths  []string  // those that are not as committed, as git names them
	Parts  []Part    // of what it is made

	Seen map[string]fs.FileInfo // the files, just before they were read; those that are not there are not in it
}

// What becomes of a path that is carried. The names are those of `recover --json`.
const (
	CarriedSame     = "same"     // the join does not touch it
	CarriedJoined   = "joined"   // it is joined with the result
	CarriedConflict = "conflict" // and a person decided how
)

// CarriedPath is a path with uncommitted work, and what becomes of it.
type CarriedPath struct {
	Path  string `json:"path"`
	State string `json:"state"`
}

// Carried is uncommitted work joined onto a result.
type Carried struct {
	Of     *Uncommitted
	Staged object.ID // trees: what the index is to hold,
	Files  object.ID // and what the files are to hold
	Paths  []CarriedPath
	Asked  int // decisions
}

// Add adds a part, if it holds anything.
func (u *Uncommitted) Add(p Part) {
	if p.Base != p.Tree {
		u.Parts = append(u.Parts, p)
	}
}

// Same reports whether two accounts of uncommitted work hold the same.
func (u *Uncommitted) Same(v *Uncommitted) bool {
	if u == nil || v == nil {
		return u == v
	}
	return u.Staged == v.Staged && u.Files == v.Files && slices.Equal(u.Paths, v.Paths)
}

// Holds is what index and files hold; of nothing uncommitted, what is committed.
func (u *Uncommitted) Holds(committed object.ID) Held {
	if u == nil {
		return Held{committed, committed}
	}
	return Held{u.Staged, u.Files}
}

// Part is uncommitted work of one kind: what leads from one tree to another.
type Part struct {
	Base, Tree object.ID
	Subject    string
	Staged     bool // it is to be staged again
}

// Names are the paths that are carried.
func (c *Carried) Names() (out []string) {
	for _, p := range c.Paths {
		out = append(out, p.Path)
	}
	return out
}

// Sentence says in a line what was carried; empty where nothing was.
func (c *Carried) Sentence() string {
	if c == nil || len(c.Paths) == 0 {
		return ""
	}
	is := map[string][]string{}
	for _, p := range c.Paths {
		is[p.State] = append(is[p.State], p.Path)
	}
	var out []string
	if p := is[CarriedJoined]; len(p) > 0 {
		out = append(out, "joined with the result in "+strings.Join(p, ", "))
	}
	if p := is[CarriedConflict]; len(p) > 0 {
		out = append(out, "as you decided in "+strings.Join(p, ", "))
	}
	if p := is[CarriedSame]; len(p) > 0 {
		out = append(out, "untouched in "+words.List(words.Some(p, 3)))
	}
	return "Your uncommitted work was carried along: " + strings.Join(out, "; ") + "."
}

// Asking are the paths that a person would have to decide about.
func (c *Carried) Asking() (out []string) {
	for _, p := range c.Paths {
		if p.State == CarriedConflict {
			out = append(out, p.Path)
		}
	}
	return out
}

// Held is what index and files hold, as trees.
type Held struct {
	Staged object.ID `json:"staged"`
	Files  object.ID `json:"files"`
}

// Layout is where index and files go with uncommitted work brought along. What the change does
// not touch is not in it: that stays where it is, as it is.
type Layout struct {
	Staged, Files object.ID // trees
	Start         object.ID // the tree that the change starts from, without what goes and is not left alone
	Paths         []string  // with uncommitted work that is not left alone, sorted
}

// Laid is how a change lays out uncommitted work.
type Laid struct {
	*Layout
	Of *Uncommitted
	Is Held // all that index and files hold afterwards
}

// beside reports whether a path cannot be left alone: it is a folder, or in the place of one, of
// what is not.
func (u *Uncommitted) beside(p string, alone, moves map[string]bool) bool {
	for dir := Folder(p); dir != ""; dir = Folder(dir) {
		if is, known := alone[dir]; known && (!is || moves[dir]) {
			return true
		}
	}
	return slices.ContainsFunc(u.Paths, func(q string) bool { return strings.HasPrefix(q, p+"/") }) && moves[p]
}

// Folder is the folder that a path is in; empty at the top.
func Folder(p string) string { return p[:max(0, strings.LastIndexByte(p, '/'))] }
