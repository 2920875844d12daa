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
	Reason  string        // why it is offered, if needed
	Because string        // why it may be suggested; empty if it may not
	Text    string        // what the place would hold; empty unless the conflict is a place in a text
	Moved   *Relocation   // what another place would hold too, or nil
	Effect  merge.Decided // what it does, where the conflict is no place in a text
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
	Place               merge.Hunk // of the text
	Base, Yours, Theirs string     // the texts of the place
	Ways                []Option
	// in bytes, of the files that base, yours and theirs have, for a path as a whole; -1 where there is none
	Sizes merge.Three[int]
	// where base, yours and theirs point, of a symbolic link
	Targets   merge.Three[string]
	Suggested Way    // empty where none is better than asking
	Why       string // for a place in a text
	Doubt     string // why nothing is suggested, where something was likely and is not
	Plain     bool   // its file nests too deep, or is too large, to be read by its format: it is settled as plain text
}

// Whole reports whether the question is about a whole path.
func (q *Question) Whole() bool {
	_, lines := q.Subject.(*merge.Lines)
	return !lines
}

// Option returns the option of a way.
func (q *Question) Option(w Way) (Option, bool) {
	for _, o := range q.Ways {
		if o.Way == w {
			return o, true
		}
	}
	return Option{}, false
}

// File is a contested path with its questions. Text is nil unless they are about places in a text.
type File struct {
	Path      string
	From      string // its name before a rename that is part of the conflict
	Also      string // the other place it may have
	Text      *merge.Text
	Questions []*Question
	source    *merge.Conflict
	readable  func() bool
	wild      bool   // a version of it is larger, or nests deeper, than the readers of formats go
	generated bool   // a program makes it
	command   string // that regenerates it, if known
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
