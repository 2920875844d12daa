// Package misfit finds edits that join as text but will not work together: one side removed, renamed or changed
// something that new code of the other side uses in its old form. It reads both sides' edits and, on suspicion, the
// joined files around them; it builds nothing, and reports nothing where it is not sure. Go is type-checked (go/types)
// against the sources in the joined tree: an error of the joined package that neither side has is a misfit. In other
// languages definitions are found by how they begin, and lexers tell names from comments and strings.
package misfit

import (
	"slices"

	"dorvik.dev/dorvik/internal/core/diff"
	"dorvik.dev/dorvik/internal/core/merge"
	"dorvik.dev/dorvik/internal/core/object"
)

// Kind is what happened to the thing that no longer fits. Its text is its name in JSON.
type Kind string

// The kinds.
const (
	Renamed    Kind = "renamed"
	Removed    Kind = "removed"
	Moved      Kind = "moved"      // a file moved, or a name is now defined in another file
	Signature  Kind = "signature"  // its parameters, results or type changed
	Duplicate  Kind = "duplicate"  // both sides defined the name
	Key        Kind = "key"        // a name that others use in strings, such as a key of settings, is gone
	Import     Kind = "import"     // an import is gone, or no longer needed
	Implements Kind = "implements" // an interface got more methods
)

// AllListed says of a misfit that one side lists all values but the one that the other added.
const AllListed = "all values are listed"

// Place is a line, from 1, of a side's version of a file. A removed line is one of the base.
type Place struct {
	Side merge.Side
	Path string
	Line int
	Gone bool   // the line is in the base only
	Text string // of the line, with its end
}

// Misfit is a pair of edits that do not work together.
type Misfit struct {
	Kind    Kind
	What    string // what the name is of, or what changed about it; may be empty
	Name    string
	Now     string // its new name or place, if known
	Changed Place  // the edit that removed or changed it
	Used    Place  // the other side's line that needs the old one
	Certain bool   // a compiler would report it, too
}

// Trees are the three versions of a join and its result.
type Trees struct{ Base, Yours, Theirs, Joined object.ID }

// Bounds, so that a look at a large change takes no longer than a person waits.
const (
	mostFiles   = 4000    // most changed files that are read for each side
	largestFile = 1 << 20 // largest file that is read, in bytes
	mostFound   = 200     // most misfits in a result
	readAhead   = 200     // files whose texts are requested at once
)

// file is a file that a side changed.
type file struct {
	path     string
	old, new object.Entry

	was, is string // the texts; empty if there is none
	edits   []diff.Edit
	from    []string // lines
	to      []string

	givens  func() []*given
	lang    *language // nil if the language is not read by its definitions
	defines struct {
		known    bool
		had, has []def
	}
}

// defs returns the definitions of the file before and after the change, or nil for an unknown language.
func (f *file) defs() (had, has []def) {
	if d := &f.defines; !d.known && f.lang != nil && len(f.edits) > 0 {
		d.known, d.had, d.has = true, f.lang.definitions(f.from), f.lang.definitions(f.to)
	}
	return f.defines.had, f.defines.has
}

// touched lists the names whose definitions the edits may have changed: those in removed lines, and the one before
// each edit, whose parameters may extend that far.
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

// added lists the indexes of the new lines.
func (f *file) added() (out []int) {
	for _, e := range f.edits {
		for i := e.B0; i < e.B1; i++ {
			out = append(out, i)
		}
	}
	return out
}

// place returns the Place of a line, given by index; of the base if it is gone.
func (f *file) place(side merge.Side, line int, gone bool) Place {
	lines := f.to
	if gone {
		lines = f.from
	}
	return Place{side, f.path, line + 1, gone, lines[line]}
}

// editAt returns the edit that added a line of the new text.
func (f *file) editAt(line int) (e diff.Edit, ok bool) {
	for _, e := range f.edits {
		if line >= e.B0 && line < max(e.B1, e.B0+1) {
			return e, true
		}
	}
	return diff.Edit{}, false
}

// longestHead is the number of lines over which brackets are followed.
const longestHead = 40
