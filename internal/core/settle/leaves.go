package settle

import (
	"cmp"
	"context"
	"maps"
	"slices"
	"strings"

	"dorvik.dev/dorvik/internal/core/diff"
	"dorvik.dev/dorvik/internal/core/merge"
	"dorvik.dev/dorvik/internal/core/object"
)

// Leaf is the state in which an option leaves a path.
type Leaf struct {
	Path string
	Side merge.Side // side the file comes from; empty if both contributed
	Tree bool       // it is a directory
	Gone bool       // the path is absent
}

// Leaves lists the states in which an option leaves the paths of a question about whole paths, sorted by path. Removed
// paths are listed only if nothing is left.
func (q *Question) Leaves(o Option) (out []Leaf) {
	switch s := q.Subject.(type) {
	case *merge.Naming:
		out = underNames(s, o)
	case *merge.Versions:
		out = entries(o, s.Yours, s.Theirs)
	case *merge.Lines:
		if out = []Leaf{{Path: q.Path}}; o.Way == Both {
			out = []Leaf{{Path: q.Path, Side: merge.Theirs}, {Path: s.Beside, Side: merge.Yours}}
		}
	case *merge.Clash:
		out = entries(o, s.Yours, s.Theirs)
		for _, m := range o.Effect.Moves {
			if m.To != "" {
				out = append(out, Leaf{Path: m.To})
			}
		}
	}
	slices.SortFunc(out, func(a, b Leaf) int { return cmp.Compare(a.Path, b.Path) })
	if there := slices.DeleteFunc(slices.Clone(out), func(l Leaf) bool { return l.Gone }); len(there) > 0 {
		return there
	}
	return out
}

// entries returns the entries that an option sets, each with its side.
func entries(o Option, yours, theirs object.Entry) (out []Leaf) {
	for _, p := range slices.Sorted(maps.Keys(o.Effect.Entries)) {
		e := o.Effect.Entries[p]
		l := Leaf{Path: p, Side: merge.Theirs, Tree: e.IsTree(), Gone: e.Absent()}
		if e == yours {
			l.Side = merge.Yours
		}
		if yours == theirs {
			l.Side = ""
		}
		out = append(out, l)
	}
	return out
}

// underNames follows the moves of an option of a question of names.
func underNames(n *merge.Naming, o Option) (out []Leaf) {
	there := map[string]bool{n.At: true}
	for _, m := range slices.Concat(n.Yours.Moves, n.Theirs.Moves) {
		there[m.From] = true
	}
	for _, m := range o.Effect.Moves {
		delete(there, m.From)
	}
	for _, m := range o.Effect.Moves {
		if m.To != "" {
			there[m.To] = true
		}
	}
	for p := range there {
		out = append(out, Leaf{Path: p})
	}
	if len(out) == 0 {
		out = []Leaf{{Path: n.At, Gone: true}}
	}
	return out
}

// Whereabouts is the present place of the lines of a deleted file.
type Whereabouts struct {
	Path      string
	Lines, Of int // how many of the side's non-blank lines are there, and of how many
}

// The files that are looked through for the lines of a deleted one, and how large each may be, in bytes.
const (
	mostSearched = 500
	largestThere = 1 << 20
)

// FindLines finds the file, among those that differ between two trees, that received most lines of a text: at least
// half of the meaningful ones. ok is false if there is none. It takes the time of reading the changes, up to a bound.
func FindLines(ctx context.Context, store *object.Overlay, from, to object.ID, text string) (w Whereabouts, ok bool,
	err error) {
	sought := map[string]int{}
	for _, l := range diff.Lines(text) {
		if l = strings.TrimSpace(l); telling(l) {
			sought[l]++
			w.Of++
		}
	}
	if w.Of == 0 {
		return w, false, nil
	}
	changes, err := store.Changes(ctx, from, to)
	if err != nil {
		return w, false, err
	}
	for i, c := range changes {
		if i == mostSearched {
			break
		}
		if !c.New.Mode.IsRegular() {
			continue
		}
		n, err := comeInto(ctx, store, c, sought)
		if err != nil {
			return w, false, err
		}
		if n > w.Lines {
			w.Path, w.Lines = c.Path, n
		}
	}
	return w, 2*w.Lines >= w.Of, nil
}

// comeInto counts the sought lines that a change added to a file.
func comeInto(ctx context.Context, store *object.Overlay, c object.Change, sought map[string]int) (n int, err error) {
	count := map[string]int{}
	for _, e := range []object.Entry{c.New, c.Old} {
		if !e.Mode.IsRegular() {
			continue
		}
		data, err := store.Blob(ctx, e.ID)
		if err != nil {
			return 0, err
		}
		if len(data) > largestThere || !merge.IsText(data) {
			return 0, nil
		}
		for _, l := range diff.Lines(string(data)) {
			if l = strings.TrimSpace(l); sought[l] == 0 {
				continue
			}
			if e == c.New {
				count[l]++
			} else {
				count[l]--
			}
		}
	}
	for l, k := range count {
		n += max(0, min(k, sought[l]))
	}
	return n, nil
}

// telling reports whether a line is meaningful by itself: it has a word of a few letters.
func telling(line string) bool {
	return slices.ContainsFunc(diff.Words(line), func(w string) bool { return len(w) > 2 && diff.IsWord(w) })
}
