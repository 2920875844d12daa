package settle

import (
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"slices"

	"dorvik.dev/dorvik/internal/core/merge"
)

// Option is one way to settle a conflict.
type Option struct {
	Way     Way
	also    []Way         // other ways that give the same text
	Reason  string        // why the way is offered, if that needs saying
	Because string        // why the way may be suggested; empty if it may not
	Text    string        // the text the place would hold; empty for other conflicts
	Moved   *Relocation   // the text that another place would hold, or nil
	doubt   string        // why it is offered, and not suggested; empty if it may be suggested
	Effect  merge.Decided // the effect on the tree, for conflicts about a path
}

// Key identifies a conflict by its content: path, kind and the three texts. The same conflict on another route, or
// after new commits of theirs, has the same key.
type Key string

// Question is one decision to make: a contested region of a text or, if Subject is no *merge.Lines, a question about a
// whole path.
type Question struct {
	Path                string
	Kind                merge.ConflictKind
	Key                 Key
	Subject             merge.Subject
	Place               merge.Hunk // the conflict's hunk in the text
	Base, Yours, Theirs string     // the texts of the place
	Ways                []Option
	wholly              []Option // ways that take the whole file from one version
	// sizes in bytes, for a path as a whole; -1 if there is no file
	Sizes merge.Three[int]
	// targets of a symbolic link
	Targets   merge.Three[string]
	Suggested Way    // empty if no way may be suggested
	Why       string // why the way is suggested, for a place in a text
	Doubt     string // why a likely way is not suggested
	Plain     bool   // the file nests too deep, or is too large, for its format's reader: it is settled as plain text
}

// Whole reports whether the question is about a whole path.
func (q *Question) Whole() bool {
	_, lines := q.Subject.(*merge.Lines)
	return !lines
}

// Option returns the option of a way, perhaps under the name of another way that gives the same text.
func (q *Question) Option(w Way) (Option, bool) {
	for _, o := range slices.Concat(q.Ways, q.wholly) {
		if o.Way == w || slices.Contains(o.also, w) {
			return o, true
		}
	}
	return Option{}, false
}

// File is a contested path with its questions. Text is nil unless they are about places in a text.
type File struct {
	Path      string
	From      string // path before a rename, if a rename is part of the conflict
	Also      string // the other possible path
	Text      *merge.Text
	Questions []*Question
	source    *merge.Conflict
	readable  func() bool
	wild      bool   // a version exceeds the limits of the format readers
	generated bool   // the file is generated
	command   string // command that regenerates it, if known
}

// Names lists the paths by which the authors of its conflicts can be found.
func (f *File) Names() (out []string) {
	out = []string{f.Path}
	if n, ok := f.source.Subject.(*merge.Naming); ok {
		out = append(out, n.At, n.Moved)
	}
	out = append(out, f.From, f.Also)
	return slices.DeleteFunc(out, func(p string) bool { return p == "" })
}

func keyOf(c *Question, seen map[Key]int) Key {
	facts := []string{c.Path, string(c.Kind), c.Base, c.Yours, c.Theirs}
	if c.Whole() {
		facts = []string{c.Path, string(c.Kind), c.Subject.Facts()}
	}
	h := sha256.New()
	for _, s := range facts {
		fmt.Fprintf(h, "%d:%s", len(s), s)
	}
	k := Key(hex.EncodeToString(h.Sum(nil)[:16]))
	seen[k]++
	if n := seen[k]; n > 1 {
		k += Key(fmt.Sprintf("-%d", n))
	}
	return k
}
