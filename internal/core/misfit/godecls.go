package misfit

import (
	"path"
	"slices"
	"strings"

	"dorvik.dev/dorvik/internal/core/merge"
)

// Type-checking a package takes long, so it is done only where an edit of one side can matter to what the other wrote:
// where a new line has the name of something that was declared otherwise, removed or added, where both changed one file
// by the same word, and where an interface, or what a type can do, is not as it was.

// goChanges is what a side changed of what its Go files declare.
type goChanges struct {
	names map[string]bool // of what is new, gone, or declared otherwise
	able  bool            // what an interface asks for, or a type can do, is not as it was
}

func (b *blame) goChanges(side merge.Side) *goChanges {
	out := &goChanges{names: map[string]bool{}}
	files := b.declared(side)
	for p, pair := range files {
		one := b.of(side, p)
		if one.new.Absent() || one.old.Absent() {
			out.names[path.Base(path.Dir(p))] = true // its package may be gone, or new
		}
		for i, list := range pair {
			for _, d := range list {
				if other, ok := find(pair[1-i], d.key); ok && other.head == d.head {
					continue
				}
				out.names[d.name] = true
				if of, _, in := strings.Cut(d.key, "."); in {
					out.names[of] = true
				}
				switch d.kind {
				case "ask", "method", "type":
					out.able = true
				}
			}
		}
	}
	return out
}

// suspects are the folders whose packages may not compile when they are joined, sorted.
func (b *blame) suspects() (out []string) {
	var changes [2]*goChanges
	for i, side := range []merge.Side{merge.Yours, merge.Theirs} {
		changes[i] = b.goChanges(side)
	}
	add := func(one *file) {
		if dir := path.Dir(one.path); path.Ext(one.path) == ".go" && !slices.Contains(out, dir) {
			out = append(out, dir)
		}
	}
	for i, side := range []merge.Side{merge.Yours, merge.Theirs} {
		others := changes[1-i]
		for name := range others.names {
			for _, one := range b.using(side, name) {
				add(one)
			}
		}
		for _, one := range b.sides[i] {
			if other := b.of(side.Other(), one.path); others.able || other != nil && sameWord(one, other) {
				add(one)
			}
		}
	}
	slices.Sort(out)
	return out
}

// sameWord reports whether both sides took a word away, or brought it in, or one the one and the other the other, in a
// file: an import or a variable may be missing then, used by nobody, or there twice.
func sameWord(a, b *file) bool {
	mine := a.words()
	for w, n := range b.words() {
		if n != 0 && mine[w] != 0 {
			return true
		}
	}
	return false
}

// words counts the words that the edits brought in, less those that they took away.
func (f *file) words() map[string]int {
	out := map[string]int{}
	count := func(lines []string, by int) {
		for _, l := range lines {
			for w := range words(l) {
				if w[0] > '9' { // it can be a name
					out[w] += by
				}
			}
		}
	}
	for _, e := range f.edits {
		count(f.from[e.A0:e.A1], -1)
		count(f.to[e.B0:e.B1], 1)
	}
	return out
}

// touchesDeclarations reports whether edits of a file of Go may change what it declares, and not just what its
// functions do. It goes by how gofmt lays a file out: what is declared begins at the left margin, and what closes it
// stands there.
func (f *file) touchesDeclarations() bool {
	if f.old.Absent() || f.new.Absent() {
		return true
	}
	for _, e := range f.edits {
		if !inBody(f.from, e.A0, e.A1) || !inBody(f.to, e.B0, e.B1) {
			return true
		}
	}
	return false
}

// inBody reports whether lines are within the body of one function, and leave its bounds alone. None are where the one
// before them is.
func inBody(lines []string, lo, hi int) bool {
	for i := lo; i < hi; i++ {
		if atMargin(lines[i]) {
			return false
		}
	}
	head := lo - 1
	for head >= 0 && !atMargin(lines[head]) {
		head--
	}
	if head < 0 || !strings.HasPrefix(lines[head], "func ") && !strings.HasPrefix(lines[head], ") ") {
		return false
	}
	return strings.HasSuffix(strings.TrimSpace(lines[head]), "{") // else its parameters go on below
}

// atMargin reports whether a line has something at the left margin that is no comment.
func atMargin(l string) bool {
	return len(l) > 0 && l[0] != ' ' && l[0] != '\t' && l[0] != '\n' && l[0] != '\r' && !strings.HasPrefix(l, "//")
}
