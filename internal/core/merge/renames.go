package merge

import (
	"bytes"
	"cmp"
	"context"
	"hash/maphash"
	"maps"
	"path"
	"slices"
	"strings"

	"dorvik.dev/dorvik/internal/core/diff"
	"dorvik.dev/dorvik/internal/core/object"
)

// Rename is a path that one side moved.
type Rename struct{ From, To string }

// minSimilar is the part of the larger file, in bytes, that must be equal for a rename. Files of one base name are
// compared first.
const minSimilar = 0.5

// Renames finds the new places of those files of a tree that another tree lacks, among the ones asked for.
func (e *Engine) Renames(ctx context.Context, from, to object.ID, gone map[string]bool) ([]Rename, error) {
	list, _, err := e.renamesBetween(ctx, from, to, gone)
	return list, err
}

// CameFrom finds the file of a tree that another tree has at a path now, or "". Other new files do not compete for it.
func (e *Engine) CameFrom(ctx context.Context, from, to object.ID, at string) (string, error) {
	f := finder{engine: e, relevant: map[string]bool{}, contents: map[object.ID]*diff.Bag{},
		seed: maphash.MakeSeed()}
	empty := e.Store.Format().Sum(object.KindBlob, nil)
	if err := e.Store.EachChange(ctx, from, to, func(c object.Change) {
		switch {
		case c.New.Absent() && c.Old.ID != empty:
			f.sources = append(f.sources, &source{path: c.Path, entry: c.Old})
			f.relevant[c.Path] = true
		case c.Old.Absent() && c.Path == at:
			f.targets = append(f.targets, &target{path: c.Path, entry: c.New})
		}
	}); err != nil || len(f.targets) == 0 {
		return "", err
	}
	slices.SortFunc(f.sources, func(a, b *source) int { return strings.Compare(a.path, b.path) })
	f.exact()
	if err := f.similar(ctx); err != nil || len(f.found) == 0 {
		return "", err
	}
	return f.found[0].From, nil
}

// renamesBetween finds the renames of one side that matter to a merge: those whose source the other side changed or
// deleted too (relevant). Exact ones come first, then the only pairs of one base name, then the rest, best first.
func (e *Engine) renamesBetween(ctx context.Context, base, side object.ID, relevant map[string]bool) (found []Rename,
	uncompared int, err error) {
	f := finder{engine: e, relevant: relevant, contents: map[object.ID]*diff.Bag{}, seed: maphash.MakeSeed()}
	empty := e.Store.Format().Sum(object.KindBlob, nil)
	var sources []source
	var targets []target
	if err := e.Store.EachChange(ctx, base, side, func(c object.Change) {
		switch {
		case c.New.Absent() && c.Old.ID != empty:
			sources = append(grow(sources), source{path: c.Path, entry: c.Old})
		case c.Old.Absent() && c.New.ID != empty:
			targets = append(grow(targets), target{path: c.Path, entry: c.New})
		}
	}); err != nil {
		return nil, 0, err
	}
	f.sources = make([]*source, len(sources))
	for i := range sources {
		f.sources[i] = &sources[i]
	}
	f.targets = make([]*target, len(targets))
	for i := range targets {
		f.targets[i] = &targets[i]
	}
	// The walk's order differs from that of paths where a directory and a file have one name.
	bySource := func(a, b *source) int { return strings.Compare(a.path, b.path) }
	if !slices.IsSortedFunc(f.sources, bySource) {
		slices.SortFunc(f.sources, bySource)
	}
	byTarget := func(a, b *target) int { return strings.Compare(a.path, b.path) }
	if !slices.IsSortedFunc(f.targets, byTarget) {
		slices.SortFunc(f.targets, byTarget)
	}
	f.recorded()
	f.exact()
	f.sources = slices.DeleteFunc(f.sources, func(s *source) bool {
		return s.used || !relevant[s.path] ||
			!s.entry.Mode.IsRegular()
	})
	if err := f.sameNames(ctx); err != nil {
		return nil, 0, err
	}
	if err := f.similar(ctx); err != nil {
		return nil, 0, err
	}
	return f.found, f.uncompared, nil
}

type source struct {
	path  string
	entry object.Entry
	used  bool
}

type target struct {
	path  string
	entry object.Entry
	used  bool
	from  *source // source with the same content, if found
}

type finder struct {
	engine  *Engine
	sources []*source
	targets []*target

	relevant map[string]bool // sources whose renames matter
	contents map[object.ID]*diff.Bag
	seed     maphash.Seed

	uncompared int // sources left out because there were too many pairs
	found      []Rename
}

func (f *finder) pair(s *source, t *target) {
	s.used, t.used = true, true
	if f.relevant[s.path] {
		f.found = append(f.found, Rename{s.path, t.path})
	}
}

// recorded pairs files whose renames are recorded, over any number of steps.
func (f *finder) recorded() {
	of := f.engine.Recorded
	if of == nil || len(f.sources) == 0 {
		return
	}
	left := make(map[string]*source, len(f.sources))
	for _, s := range f.sources {
		left[s.path] = s
	}
	for _, t := range f.targets {
		seen := map[string]bool{t.path: true}
		for next := of(t.path); len(next) > 0 && !t.used; {
			var before []string
			for _, path := range next {
				if seen[path] {
					continue
				}
				seen[path] = true
				if s := left[path]; s != nil && !s.used && s.entry.Mode.SameType(t.entry.Mode) {
					f.pair(s, t)
					break
				}
				before = append(before, of(path)...)
			}
			next = before
		}
	}
}

// exact pairs equal contents, first those of one base name.
func (f *finder) exact() {
	first := make(map[object.ID]int, len(f.sources)) // by content: its first source, from 1
	next := make([]int, len(f.sources)+1)            // by source: the next one with the same content, or 0
	for i := len(f.sources); i > 0; i-- {
		id := f.sources[i-1].entry.ID
		next[i], first[id] = first[id], i
	}
	for _, anyName := range []bool{false, true} {
		for _, t := range f.targets {
			for i := first[t.entry.ID]; i > 0 && !t.used; i = next[i] {
				s := f.sources[i-1]
				fits := s.entry.Mode == t.entry.Mode || s.entry.Mode.IsRegular() && t.entry.Mode.IsRegular()
				if fits && !s.used && (anyName || path.Base(s.path) == path.Base(t.path)) {
					t.from = s
					f.pair(s, t)
				}
			}
		}
	}
}

// sameNames pairs files of one base name that are three quarters equal: if only one source and one target have that
// name, or if the target is in the directory to which most unchanged files beside the source moved.
func (f *finder) sameNames(ctx context.Context) error {
	sources, targets := map[string][]*source{}, map[string][]*target{}
	for _, s := range f.sources {
		sources[path.Base(s.path)] = append(sources[path.Base(s.path)], s)
	}
	at := map[string]*target{}
	for _, t := range f.targets {
		if !t.used {
			targets[path.Base(t.path)] = append(targets[path.Base(t.path)], t)
			at[t.path] = t
		}
	}
	var went map[string]string
	pairs := make([]*target, len(f.sources))
	var read []object.ID
	for i, s := range f.sources {
		dir, name := path.Split(s.path)
		switch {
		case len(targets[name]) == 0:
			continue
		case len(sources[name]) == 1 && len(targets[name]) == 1:
			pairs[i] = targets[name][0]
		default:
			if went == nil {
				went = f.whereDirectoriesWent()
			}
			to, ok := went[dir]
			if !ok {
				continue
			}
			pairs[i] = at[to+name]
		}
		if pairs[i] != nil {
			read = append(read, s.entry.ID, pairs[i].entry.ID)
		}
	}
	f.engine.Store.Prefetch(ctx, read...)
	for i, s := range f.sources {
		t := pairs[i]
		if t == nil || t.used {
			continue
		}
		score, err := f.similarity(ctx, s.entry, t.entry)
		if err != nil {
			return err
		}
		if score >= (1+minSimilar)/2 {
			f.pair(s, t)
		}
	}
	return nil
}

// whereDirectoriesWent maps each directory that contains a remaining source to the one to which most of its unchanged
// files moved. Names of directories end in a slash.
func (f *finder) whereDirectoriesWent() map[string]string {
	counts := map[string]map[string]int{}
	for _, s := range f.sources {
		dir, _ := path.Split(s.path)
		counts[dir] = map[string]int{}
	}
	for _, t := range f.targets {
		if t.from == nil {
			continue
		}
		from, name := path.Split(t.from.path)
		if to, same := path.Split(t.path); counts[from] != nil && name == same {
			counts[from][to]++
		}
	}
	went := map[string]string{}
	for from, to := range counts {
		best := 0
		for _, dir := range slices.Sorted(maps.Keys(to)) {
			if to[dir] > best {
				best, went[from] = to[dir], dir
			}
		}
	}
	return went
}

// similar pairs the rest by content, the most similar first, and among equals those of one base name.
func (f *finder) similar(ctx context.Context) error {
	sources := slices.DeleteFunc(slices.Clone(f.sources), func(s *source) bool { return s.used })
	targets := slices.DeleteFunc(slices.Clone(f.targets), func(t *target) bool { return t.used })
	if len(sources)*len(targets) > f.engine.pairs {
		f.uncompared = len(sources)
		return nil
	}
	if len(sources) == 0 || len(targets) == 0 {
		return nil
	}
	var read []object.ID
	for _, s := range sources {
		read = append(read, s.entry.ID)
	}
	for _, t := range targets {
		if t.entry.Mode.IsRegular() {
			read = append(read, t.entry.ID)
		}
	}
	f.engine.Store.Prefetch(ctx, read...)
	var all []candidate
	for _, t := range targets {
		if err := ctx.Err(); err != nil {
			return err
		}
		best, err := f.candidates(ctx, sources, t)
		if err != nil {
			return err
		}
		all = append(all, best...)
	}
	slices.SortStableFunc(all, candidate.compare)
	for _, c := range all {
		if !c.s.used && !c.t.used {
			f.pair(c.s, c.t)
		}
	}
	return nil
}

// candidate is a possible source of a target.
type candidate struct {
	s     *source
	t     *target
	score float64
	named bool // source and target have the same base name
}

// compare orders the better candidate first.
func (a candidate) compare(b candidate) int {
	if c := cmp.Compare(b.score, a.score); c != 0 || a.named == b.named {
		return c
	}
	if a.named {
		return -1
	}
	return 1
}

// candidates returns the best few sources of a target. More are hardly ever needed.
func (f *finder) candidates(ctx context.Context, sources []*source, t *target) ([]candidate, error) {
	const few = 4
	var of []candidate
	for _, s := range sources {
		score, err := f.similarity(ctx, s.entry, t.entry)
		if err != nil {
			return nil, err
		}
		if score >= minSimilar {
			of = append(of, candidate{s, t, score, path.Base(s.path) == path.Base(t.path)})
		}
	}
	slices.SortStableFunc(of, candidate.compare)
	return of[:min(len(of), few)], nil
}

// content returns a file's content as a bag of lines.
func (f *finder) content(ctx context.Context, id object.ID) (*diff.Bag, error) {
	if b := f.contents[id]; b != nil {
		return b, nil
	}
	data, err := f.engine.Store.Blob(ctx, id)
	if err != nil {
		return nil, err
	}
	size := len(data)
	if IsText(data) && bytes.Contains(data, []byte("\r\n")) {
		data = bytes.ReplaceAll(data, []byte("\r\n"), []byte("\n"))
	}
	b := diff.NewBag(f.seed, data, size)
	f.contents[id] = b
	return b, nil
}

// similarity returns the part of the larger of two files that both share, from 0 to 1. Only files are compared; links
// and submodules must be equal.
func (f *finder) similarity(ctx context.Context, a, b object.Entry) (float64, error) {
	if !a.Mode.IsRegular() || !b.Mode.IsRegular() {
		return 0, nil
	}
	x, err := f.content(ctx, a.ID)
	if err != nil {
		return 0, err
	}
	y, err := f.content(ctx, b.ID)
	if err != nil {
		return 0, err
	}
	return x.Similarity(y, minSimilar), nil
}
