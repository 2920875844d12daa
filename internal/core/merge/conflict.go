package merge

import (
	"fmt"
	"strings"

	"dorvik.dev/dorvik/internal/core/object"
)

// ConflictKind is the kind of a conflict. Its text is its name in `plan --json`.
type ConflictKind string

// The kinds, as they are written for programs.
const (
	Content       ConflictKind = "content"
	AddAdd        ConflictKind = "add/add"
	ModifyDelete  ConflictKind = "modify/delete"
	FileDirectory ConflictKind = "file/directory"
	ModeBits      ConflictKind = "mode"
	Type          ConflictKind = "type"
	Symlink       ConflictKind = "symlink"
	Binary        ConflictKind = "binary"
	Submodule     ConflictKind = "submodule"
	RenameDelete  ConflictKind = "rename/delete"
	RenameRename  ConflictKind = "rename/rename"
	RenameAdd     ConflictKind = "rename/add"

	DirectoryRename ConflictKind = "directory-rename"
)

// Conflict is a question at a path that joining two trees raises. Questions about places and names never decide about
// contents: those are joined where the file is for now, and are conflicts of their own.
type Conflict struct {
	Path    string
	Kind    ConflictKind
	Subject Subject
}

// Subject is the subject of a conflict: *Lines, *Versions, *Clash or *Naming.
type Subject interface {
	// Sides returns the entries of base, yours and theirs; absent entries for a conflict about names.
	Sides() (base, yours, theirs object.Entry)
	// Facts distinguishes the subject from every other one at its path.
	Facts() string
}

// Lines is a text with places that both sides changed.
type Lines struct {
	Base, Yours, Theirs object.Entry
	From                string // path before a rename, if a rename is part of the conflict
	Text                *Text
	Mode                object.Mode // mode of the joined file
	Modes               bool        // the sides' modes conflict too, and Mode is unknown
	Beside              string      // a free path for yours, if the two files can both be kept; else empty
}

// Versions is a path with two versions, one of which may be missing, of which one must be taken whole. For ModeBits
// only the modes differ.
type Versions struct {
	Base, Yours, Theirs object.Entry
	From                string
	Why                 string // why the file is not joined line by line; empty if it is not text
	Beside              string // a free path for yours, if both can be kept; else empty
}

// Clash is a path that is a file on one side and a directory on the other.
type Clash struct {
	Base, Yours, Theirs object.Entry // Yours or Theirs is a tree
	// renamed files that move into the directory if it stays; until then they keep their old names
	Within []Move
	Beside string // a free path for the file, if both are kept
}

// Naming is a file, or two, for which the sides want different paths.
type Naming struct {
	At     string // where the file is until the name is decided
	From   string // the file's path before a side renamed it, if one did
	Also   string // the other possible path, beside the conflict's
	Placer Side   // the side that put the file at At, if a directory moved
	Moved  string // example of a file that moved with that directory

	Yours, Theirs Placing
}

// Placing is the effect of taking one side of a Naming.
type Placing struct {
	Name  string // path the file gets; empty if it is left out
	Moves []Move // all applied at once
}

// Move moves a file or, with Tree, a directory. An empty To removes it. It does nothing if nothing stands at From.
type Move struct {
	From, To string
	Tree     bool
}

// Sides implements Subject.
func (l *Lines) Sides() (base, yours, theirs object.Entry) { return l.Base, l.Yours, l.Theirs }

// Sides implements Subject.
func (v *Versions) Sides() (base, yours, theirs object.Entry) { return v.Base, v.Yours, v.Theirs }

// Sides implements Subject.
func (c *Clash) Sides() (base, yours, theirs object.Entry) { return c.Base, c.Yours, c.Theirs }

// Sides implements Subject.
func (n *Naming) Sides() (base, yours, theirs object.Entry) { return base, yours, theirs }

func entries(list ...object.Entry) string {
	var b strings.Builder
	for _, e := range list {
		fmt.Fprintf(&b, "%o %s\n", e.Mode, e.ID)
	}
	return b.String()
}

// Facts implements Subject.
func (l *Lines) Facts() string { return entries(l.Base, l.Yours, l.Theirs) + l.From }

// Facts implements Subject.
func (v *Versions) Facts() string { return entries(v.Base, v.Yours, v.Theirs) + v.From }

// Facts implements Subject.
func (c *Clash) Facts() string {
	return entries(c.Base, c.Yours, c.Theirs) + fmt.Sprintf("%+v", c.Within)
}

// Facts implements Subject.
func (n *Naming) Facts() string {
	return fmt.Sprintf("%q %q %+v %+v", n.At, n.From, n.Yours.Moves, n.Theirs.Moves)
}

// Of returns the placing of a side.
func (n *Naming) Of(s Side) Placing {
	if s == Theirs {
		return n.Theirs
	}
	return n.Yours
}

// File returns the side that has the file.
func (c *Clash) File() Side {
	if c.Yours.IsTree() {
		return Theirs
	}
	return Yours
}

// From returns the path of a conflict's file before it was renamed, or "".
func (c *Conflict) From() string {
	switch s := c.Subject.(type) {
	case *Lines:
		return s.From
	case *Versions:
		return s.From
	case *Naming:
		return s.From
	}
	return ""
}

// Also returns the other path that a question of names is about, or "".
func (c *Conflict) Also() string {
	if n, ok := c.Subject.(*Naming); ok {
		return n.Also
	}
	return ""
}

// Paths lists every path that deciding the conflict can change.
func (c *Conflict) Paths() []string {
	out := []string{c.Path}
	add := func(moves []Move) {
		for _, m := range moves {
			out = append(out, m.From)
			if m.To != "" {
				out = append(out, m.To)
			}
		}
	}
	switch s := c.Subject.(type) {
	case *Naming:
		out = append(out, s.At)
		add(s.Yours.Moves)
		add(s.Theirs.Moves)
	case *Clash:
		add(s.Within)
	}
	return out
}
