// Package misfit finds edits that join as text and will not work together: one side took away, renamed or changed
// something, and what the other side wrote at the same time uses it as it was. It reads both sides' edits and, where
// those raise a suspicion, the joined files around them; nothing is built. It is quiet where it is not sure.
//
// Go is checked by its own type checker (go/types), against the sources that are in the joined tree: what the joined
// package does not compile for, and neither side's does, is a misfit. Other languages are read by how their
// definitions begin, and by lexers for what is a name and what a comment or a string.
package misfit

import (
	"slices"

	"dorvik.dev/dorvik/internal/core/diff"
	"dorvik.dev/dorvik/internal/core/merge"
	"dorvik.dev/dorvik/internal/core/object"
)

// Kind is what happened to the thing that does not fit. The names are those of the JSON.
type Kind string

// The kinds.
const (
	Renamed    Kind = "renamed"
	Removed    Kind = "removed"
	Moved      Kind = "moved"      // a file, or a name that is defined in another file now
	Signature  Kind = "signature"  // it takes, gives or is something else
	Duplicate  Kind = "duplicate"  // both defined it
	Key        Kind = "key"        // of a file of settings
	Import     Kind = "import"     // it is no longer imported, or no longer needed
	Implements Kind = "implements" // an interface asks for more
)

// Place is a line, from 1, of a side's version of a file. For what is gone it is that of the base.
type Place struct {
	Side merge.Side
	Path string
	Line int
	Gone bool   // the line is of the base
	Text string // of the line, with its end
}

// Misfit is a pair of edits that do not fit.
type Misfit struct {
	Kind    Kind
	Name    string
	Now     string // what it is called now, or where it is, if that is known
	Changed Place  // the edit that took away or changed it
	Used    Place  // the line of the other side that needs it as it was
	Certain bool   // a compiler would say so, too
}

// Trees are those of the three, and what they were joined to.
type Trees struct{ Base, Yours, Theirs, Joined object.ID }

// Bounds, so that a look at a large change takes no longer than a person waits.
const (
	mostFiles   = 4000    // changed files that are read, of each side
	largestFile = 1 << 20 // bytes of a file that is read
	mostFound   = 200     // misfits that are told
	readAhead   = 200     // files whose texts are asked for at once
)

// file is one that a side changed.
type file struct {
	path     string
	old, new object.Entry

	was, is string // the texts; empty where there is none
	edits   []diff.Edit
	from    []string // lines
	to      []string

	lang    *language // nil where it is none that is read by its definitions
	defines struct {
		known    bool
		had, has []def
	}
}

// defs returns what the file defined, and defines; nothing where its language is not read so.
func (f *file) defs() (had, has []def) {
	if d := &f.defines; !d.known && f.lang != nil && len(f.edits) > 0 {
		d.known, d.had, d.has = true, f.lang.definitions(f.from), f.lang.definitions(f.to)
	}
	return f.defines.had, f.defines.has
}

// touched lists the names whose definitions the edits may have changed, each once: those defined in lines that are
// gone, and the one before each edit, whose parameters may go on so far.
func (f *file) touched() (names []string) {
	if f.lang == nil {
		return nil
	}
	add := func(lines []string) bool {
		list := f.lang.definitions(lines)
		for _, d := range list {
			if !slices.Contains(names, d.name) {
				names = append(names, d.name)
			}
		}
		return len(list) > 0
	}
	for _, e := range f.edits {
		add(f.from[e.A0:e.A1])
		for i := e.A0 - 1; i >= max(0, e.A0-longestHead) && !add(f.from[i:i+1]); i-- {
		}
	}
	return names
}

// added lists the lines that are new, from 0.
func (f *file) added() (out []int) {
	for _, e := range f.edits {
		for i := e.B0; i < e.B1; i++ {
			out = append(out, i)
		}
	}
	return out
}

// place returns a line of the file, from 0, of the base if it is gone.
func (f *file) place(side merge.Side, line int, gone bool) Place {
	lines := f.to
	if gone {
		lines = f.from
	}
	return Place{side, f.path, line + 1, gone, lines[line]}
}

// editAt returns the edit that made a line of the new text, from 0.
func (f *file) editAt(line int) (e diff.Edit, ok bool) {
	for _, e := range f.edits {
		if line >= e.B0 && line < max(e.B1, e.B0+1) {
			return e, true
		}
	}
	return diff.Edit{}, false
}

// longestHead is over how many lines brackets are read.
const longestHead = 40
