package misfit

import (
	"cmp"
	"context"
	"slices"
	"strings"
	"sync"

	"dorvik.dev/dorvik/internal/core/diff"
	"dorvik.dev/dorvik/internal/core/lang"
	"dorvik.dev/dorvik/internal/core/merge"
	"dorvik.dev/dorvik/internal/core/object"
)

// Find returns the misfits of two sides, ordered by the place of use. Its time grows with the size of the changed
// files of known languages, and with the files that a suspicion requires, but not with the tree. The error is that of
// reading an object, or the context's.
func Find(ctx context.Context, store *object.Overlay, t Trees) ([]Misfit, error) {
	s, err := Read(ctx, store, t.Base, t.Yours, t.Theirs)
	if err != nil {
		return nil, err
	}
	return s.Find(ctx, t.Joined)
}

// Sides holds the relevant changes of both sides. It can be read before they are joined. It is not safe for concurrent
// use.
type Sides struct{ read *finder } // nil if a side has nothing that can misfit

// Read reads the changes of both sides for Find.
func Read(ctx context.Context, store *object.Overlay, base, yours, theirs object.ID) (*Sides, error) {
	f := &finder{store: store, trees: Trees{Base: base, Yours: yours, Theirs: theirs}, texts: map[object.ID]string{},
		goes: newGoshared(), reads: newReading(), still: map[stillKey]bool{}}
	var changes [2][]object.Change
	for i, side := range []merge.Side{merge.Yours, merge.Theirs} {
		var err error
		if changes[i], err = f.changes(ctx, side); err != nil || len(changes[i]) == 0 {
			return &Sides{}, err
		}
	}
	for i, side := range []merge.Side{merge.Yours, merge.Theirs} {
		if err := f.take(ctx, side, changes[i]); err != nil {
			return nil, err
		}
	}
	return &Sides{f}, nil
}

// Find is the function Find for a tree that the sides were joined to.
func (s *Sides) Find(ctx context.Context, joined object.ID) ([]Misfit, error) {
	if s.read == nil {
		return nil, nil
	}
	f := *s.read
	f.trees.Joined, f.joined = joined, nil
	var out []Misfit
	p := promises{&f, map[*file][][2]form{}}
	for _, find := range []func(context.Context) ([]Misfit, error){f.golang, f.names, f.paths, f.withdrawnNames,
		f.twice,
		p.contracts, p.exports, p.demands, p.grown} {
		found, err := find(ctx)
		if err != nil {
			return nil, err
		}
		out = append(out, found...)
	}
	slices.SortStableFunc(out, func(a, b Misfit) int {
		return cmp.Or(cmp.Compare(a.Used.Path, b.Used.Path), a.Used.Line-b.Used.Line, cmp.Compare(a.Name, b.Name))
	})
	out = slices.CompactFunc(out, func(a, b Misfit) bool {
		return a.Used.Path == b.Used.Path && a.Used.Line == b.Used.Line && a.Name == b.Name &&
			a.Used.Side == b.Used.Side
	})
	out = slices.DeleteFunc(out, func(m Misfit) bool { // the name went with its file, which is its own finding
		return m.Kind == Moved && slices.ContainsFunc(out, func(o Misfit) bool {
			return o.Kind == Moved && o.Used == m.Used && o.Now == m.Now && o.Name != m.Name &&
				strings.ContainsAny(o.Name, "/.")
		})
	})
	return out[:min(len(out), mostFound)], nil
}

// Skipped lists the files that were too large or too slow to lex, in which nothing is found.
func (s *Sides) Skipped() []string {
	if s.read == nil {
		return nil
	}
	return s.read.reads.slow
}

// strung has the languages of both tables, givens and uniques.
var strung = func() map[*lang.Language]bool {
	out := map[*lang.Language]bool{}
	add := func(list []*lang.Language) {
		for _, l := range list {
			out[l] = true
		}
	}
	for _, g := range givens {
		add(g.in)
		add(g.used)
	}
	for _, u := range uniques {
		add(u.in)
	}
	return out
}()

// isKnown reports whether files of this name are read.
func isKnown(p string) bool {
	l := lang.Of(p)
	return languageOf(p) != nil || l.Is(lang.Settings|lang.Paths) || strung[l]
}

// read reads the changes of a side.
func (f *finder) read(ctx context.Context, side merge.Side) error {
	changes, err := f.changes(ctx, side)
	if err != nil {
		return err
	}
	return f.take(ctx, side, changes)
}

// take is read for given changes.
func (f *finder) take(ctx context.Context, side merge.Side, changes []object.Change) (err error) {
	var files []*file
	news := map[string][]*file{}
	for i, c := range changes {
		if ctx.Err() != nil {
			break
		}
		known := isKnown(c.Path)
		if i%readAhead == 0 {
			var ids []object.ID
			for _, next := range changes[i:min(i+readAhead, len(changes))] {
				if isKnown(next.Path) {
					ids = append(ids, next.Old.ID, next.New.ID)
				}
			}
			f.store.Prefetch(ctx, ids...)
		}
		one := &file{path: c.Path, old: c.Old, new: c.New,
			givens: sync.OnceValue(func() []*given { return givensOf(c.Path) })}
		if known {
			if one.was, err = f.text(ctx, c.Old); err != nil {
				return err
			}
			if one.is, err = f.text(ctx, c.New); err != nil {
				return err
			}
		}
		if packed(one.was) || packed(one.is) {
			f.reads.slow = append(f.reads.slow, one.path)
			one.was, one.is = "", ""
		}
		one.from, one.to = diff.Lines(one.was), diff.Lines(one.is)
		one.edits = diff.Histogram(one.from, one.to)
		one.lang = languageOf(c.Path)
		for _, i := range one.added() {
			for w := range words(one.to[i]) {
				if at := news[w]; len(at) == 0 || at[len(at)-1] != one {
					news[w] = append(at, one)
				}
			}
		}
		files = append(files, one)
	}
	slices.SortFunc(files, func(a, b *file) int { return cmp.Compare(a.path, b.path) })
	f.sides[index(side)], f.news[index(side)] = files, news
	return ctx.Err()
}

// mostLine is the length in bytes of the longest line that a person wrote.
const mostLine = 8 << 10

// packed reports whether a text has lines that no person wrote, as those of code that was made smaller have.
func packed(text string) bool {
	for line := range strings.Lines(text) {
		if len(line) > mostLine {
			return true
		}
	}
	return false
}

// changes lists the relevant changes of a side.
func (f *finder) changes(ctx context.Context, side merge.Side) ([]object.Change, error) {
	list, err := f.store.Changes(ctx, f.trees.Base, f.tree(side))
	list = slices.DeleteFunc(list, func(c object.Change) bool {
		return !isKnown(c.Path) && !c.New.Absent() && ordinals(c.Path) == nil
	})
	return list[:min(len(list), mostFiles)], err
}
