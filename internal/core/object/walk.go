package object

import (
	"context"
	"fmt"
	"maps"
	"slices"
	"strings"

	"dorvik.dev/dorvik/internal/core/parallel"
)

// Find returns the entry at a slash-separated path below a tree, or the zero Entry.
func (o *Overlay) Find(ctx context.Context, tree ID, path string) (Entry, error) {
	name, rest, deeper := strings.Cut(path, "/")
	c, err := o.cursor(ctx, tree)
	if err != nil {
		return Entry{}, err
	}
	for c.next() {
		if c.Name != name {
			continue
		}
		if !deeper {
			return c.Entry, nil
		}
		if c.IsTree() {
			return o.Find(ctx, c.ID, rest)
		}
	}
	return Entry{}, c.fail(tree)
}

// FindAll finds several sorted paths and reads each directory once. It omits paths that do not exist.
func (o *Overlay) FindAll(ctx context.Context, tree ID, paths []string) (map[string]Entry, error) {
	found := make(map[string]Entry, len(paths))
	return found, o.findBelow(ctx, tree, paths, 0, found)
}

// findBelow is FindAll for paths that begin with the same directories, whose names take up cut bytes.
func (o *Overlay) findBelow(ctx context.Context, tree ID, paths []string, cut int, found map[string]Entry) error {
	var names []string
	var exact []string   // by name: the wanted path that ends here; empty if none does
	var below [][]string // by name: the rests of wanted paths that go on below
	places := map[string]int{}
	for len(paths) > 0 {
		name, _, deeper := strings.Cut(paths[0][cut:], "/")
		i, known := places[name]
		if !known {
			i, places[name] = len(names), len(names)
			names, exact, below = append(names, name), append(exact, ""), append(below, nil)
		}
		n := 1
		if deeper {
			for dir := paths[0][:cut+len(name)+1]; n < len(paths) && strings.HasPrefix(paths[n], dir); n++ {
			}
			below[i] = paths[:n]
		} else {
			exact[i] = paths[0]
		}
		paths = paths[n:]
	}
	var trees []Entry
	var in []int
	if err := o.Pick(ctx, tree, names, func(i int, e Entry) {
		if exact[i] != "" {
			found[exact[i]] = e.Detached()
		}
		if len(below[i]) > 0 && e.IsTree() {
			trees, in = append(trees, e), append(in, i)
		}
	}); err != nil {
		return err
	}
	ids := make([]ID, len(trees))
	for k := range trees {
		ids[k] = trees[k].ID
	}
	o.Prefetch(ctx, ids...)
	for k, e := range trees {
		if err := o.findBelow(ctx, e.ID, below[in[k]], cut+len(e.Name)+1, found); err != nil {
			return err
		}
	}
	return nil
}

// Pick looks up names in a directory. It calls found with the index of each name that exists.
func (o *Overlay) Pick(ctx context.Context, tree ID, names []string, found func(i int, e Entry)) error {
	c, err := o.cursor(ctx, tree)
	if err != nil {
		return err
	}
	wanted := newNames(names)
	for c.next() {
		if i := wanted.index(c.Name); i >= 0 {
			found(i, c.Entry)
		}
	}
	return c.fail(tree)
}

// names finds names in a list. For a few names a scan is faster than a hash.
type names struct {
	list []string
	at   map[string]int // index by name; nil for few names
}

func newNames(list []string) names {
	n := names{list: list}
	if len(list) > 4 {
		n.at = make(map[string]int, len(list))
		for i, name := range list {
			n.at[name] = i
		}
	}
	return n
}

// index returns the index of a name, or -1.
func (n *names) index(name string) int {
	if n.at == nil {
		return slices.Index(n.list, name)
	}
	if i, ok := n.at[name]; ok {
		return i
	}
	return -1
}

// Finder finds many paths in a few trees and caches the directories. It is not safe for concurrent use.
type Finder struct {
	store *Overlay
	dirs  map[ID]map[string]Entry
}

// NewFinder returns a Finder over a store.
func NewFinder(store *Overlay) *Finder { return &Finder{store, map[ID]map[string]Entry{}} }

// Find is Overlay.Find.
func (f *Finder) Find(ctx context.Context, tree ID, path string) (Entry, error) {
	name, rest, deeper := strings.Cut(path, "/")
	dir, ok := f.dirs[tree]
	if !ok {
		entries, err := f.store.Tree(ctx, tree)
		if err != nil {
			return Entry{}, err
		}
		dir = make(map[string]Entry, len(entries))
		for _, e := range entries {
			dir[e.Name] = e
		}
		f.dirs[tree] = dir
	}
	e := dir[name]
	switch {
	case !deeper:
		return e, nil
	case e.IsTree():
		return f.Find(ctx, e.ID, rest)
	}
	return Entry{}, nil
}

// cursor returns a cursor before the first entry of a tree. The zero id is an empty tree.
func (o *Overlay) cursor(ctx context.Context, tree ID) (cursor, error) {
	if tree.IsZero() {
		return cursor{}, nil
	}
	data, err := o.content(ctx, tree, KindTree)
	return newCursor(o.format, data), err
}

func (c *cursor) fail(tree ID) error {
	if c.err != nil {
		return fmt.Errorf("tree %s: %w", tree, c.err)
	}
	return nil
}

// Change is a path at which two trees differ.
type Change struct {
	Path     string
	Old, New Entry // absent if the path was added or removed
}

// Changes lists the files that differ between two trees, in the path order of Walk. It reads only subtrees that
// differ.
func (o *Overlay) Changes(ctx context.Context, old, new ID) ([]Change, error) {
	var out []Change
	err := o.EachChange(ctx, old, new, func(c Change) { out = append(out, c) })
	return out, err
}

// EachChange calls visit for each change that Changes would list.
func (o *Overlay) EachChange(ctx context.Context, old, new ID, visit func(c Change)) error {
	return o.changesBelow(ctx, "", old, new, visit)
}

func (o *Overlay) changesBelow(ctx context.Context, prefix string, old, new ID, emit func(Change)) error {
	if old == new {
		return nil
	}
	var later []Change // changes from the first directory on
	var below []ID
	if err := o.WalkDifferences(ctx, func(name string, at []Entry) error {
		c := Change{prefix + name, at[0], at[1]}
		if at[0].IsTree() || at[1].IsTree() {
			below = append(below, at[0].Subtree(), at[1].Subtree())
		} else if len(later) == 0 {
			emit(c)
			return nil
		}
		later = append(later, c)
		return nil
	}, old, new); err != nil {
		return err
	}
	o.Prefetch(ctx, below...)
	for _, c := range later {
		x, y := c.Old.Subtree(), c.New.Subtree()
		if c.Old.IsTree() {
			c.Old = Entry{}
		}
		if c.New.IsTree() {
			c.New = Entry{}
		}
		if !c.Old.Absent() || !c.New.Absent() {
			emit(c)
		}
		if x == y {
			continue
		}
		if err := o.changesBelow(ctx, c.Path+"/", x, y, emit); err != nil {
			return err
		}
	}
	return nil
}

// Walk walks several trees together and calls visit once per name with the entry of each tree. The entry is absent if
// a tree lacks the name; the zero id is an empty tree. Walk reuses the slice. Trees sort a directory "a" after a file
// "a.b"; a name that is a file in one tree and a directory in another still gets one call.
func (o *Overlay) Walk(ctx context.Context, visit func(name string, at []Entry) error, trees ...ID) error {
	return o.walkBelow(ctx, visit, false, trees)
}

// WalkDifferences is Walk without the names whose entries are equal in all trees.
func (o *Overlay) WalkDifferences(ctx context.Context, visit func(name string, at []Entry) error, trees ...ID) error {
	return o.walkBelow(ctx, func(name string, at []Entry) error {
		for _, e := range at[1:] {
			if !e.Same(at[0]) {
				return visit(name, at)
			}
		}
		return nil
	}, true, trees)
}

func (o *Overlay) walkBelow(ctx context.Context, visit func(name string, at []Entry) error, differing bool,
	trees []ID) error {
	w := walker{at: make([]Entry, len(trees)), cursors: make([]cursor, len(trees))}
	for i, t := range trees {
		c, err := o.cursor(ctx, t)
		if err != nil {
			return err
		}
		w.cursors[i] = c
		w.cursors[i].next()
	}
	for {
		if differing && len(w.ahead) == 0 {
			passEqual(w.cursors)
		}
		first := w.first()
		if first.Absent() {
			for i := range w.cursors {
				if err := w.cursors[i].fail(trees[i]); err != nil {
					return err
				}
			}
			return nil
		}
		w.take(first)
		if err := visit(first.Name, w.at); err != nil {
			return err
		}
	}
}

// walker walks trees together.
type walker struct {
	cursors []cursor
	at      []Entry // by tree: its entry of the current name
	ahead   []Entry // by tree: a directory that was visited before its place
}

// first returns the first entry of any tree that was not visited.
func (w *walker) first() (first Entry) {
	for i := range w.cursors {
		c := &w.cursors[i]
		for len(w.ahead) > 0 && c.IsTree() && hasName(w.ahead, c.Name) {
			c.next()
		}
		if !c.Absent() && (first.Absent() || inTreeOrder(c.Entry, first) < 0) {
			first = c.Entry
		}
	}
	return first
}

// take collects the entry of each tree with the name of an entry.
func (w *walker) take(first Entry) {
	ahead := false
	for i := range w.cursors {
		c := &w.cursors[i]
		w.at[i] = Entry{}
		switch {
		case c.Name == first.Name:
			w.at[i] = c.Entry
			c.next()
		case !first.IsTree() && !c.Absent():
			// The same name may follow as a directory. It cannot have come before as one: directories sort last.
			dir := Entry{Name: first.Name, Mode: ModeTree}
			for later := *c; !later.Absent() && inTreeOrder(later.Entry, dir) <= 0; later.next() {
				if later.Name == first.Name {
					w.at[i], ahead = later.Entry, true
					break
				}
			}
		}
	}
	if ahead {
		w.ahead = append(w.ahead, first)
	}
}

// passEqual moves all cursors over the entries in which they agree.
func passEqual(cursors []cursor) {
	c := &cursors[0]
	start, same := c.from, common(cursors)
	passed := 0 // equal entries need no parsing; only their end matters
	for !c.Absent() {
		end := strings.IndexByte(c.raw[start+passed:start+same], 0)
		if end < 0 || passed+end+1+c.size > same {
			break
		}
		passed += end + 1 + c.size
	}
	if passed == 0 {
		return
	}
	for i := range cursors {
		at := &cursors[i]
		at.to = at.from + passed
		at.next()
	}
}

// common returns the length in bytes of the content that all cursors share from their positions. It compares all at
// once, because two of them may agree to the end while a third differs in one entry.
func common(cursors []cursor) (n int) {
	first := cursors[0].raw[cursors[0].from:]
	end := len(first)
	for i := range cursors[1:] {
		end = min(end, len(cursors[i+1].raw)-cursors[i+1].from)
	}
	for step := 64; step > 0; step /= 64 { // compare 64 bytes at once, then single bytes
	pieces:
		for ; end-n >= step; n += step {
			for i := range cursors[1:] {
				c := &cursors[i+1]
				if c.raw[c.from+n:c.from+n+step] != first[n:n+step] {
					break pieces
				}
			}
		}
	}
	return n
}

func hasName(entries []Entry, name string) bool {
	return slices.ContainsFunc(entries, func(e Entry) bool { return e.Name == name })
}

// Edit returns the tree that results from setting paths in a tree. An absent entry removes its path. Directories that
// become empty go too. It reads and creates only the directories of the paths.
func (o *Overlay) Edit(ctx context.Context, tree ID, set map[string]Entry) (ID, error) {
	if len(set) == 0 {
		return tree, nil
	}
	return o.editBelow(ctx, tree, slices.Sorted(maps.Keys(set)), 0, set)
}

// editBelow is Edit for sorted paths that begin with the same directories, whose names take up cut bytes.
func (o *Overlay) editBelow(ctx context.Context, tree ID, paths []string, cut int, set map[string]Entry) (ID, error) {
	here, below := byName(paths, cut, set)
	old, err := o.cursor(ctx, tree)
	if err != nil {
		return ID{}, err
	}
	for c := old; len(below) > 0 && c.next(); {
		if _, ok := here[c.Name]; !ok && below[c.Name] != nil {
			here[c.Name] = c.Entry
		}
	}
	names := slices.Collect(maps.Keys(below))
	ids := make([]ID, len(names))
	if err := parallel.Do(len(names), fewTogether, func(i int) (err error) {
		ids[i], err = o.editBelow(ctx, here[names[i]].Subtree(), below[names[i]], cut+len(names[i])+1, set)
		return err
	}); err != nil {
		return ID{}, err
	}
	for i, name := range names {
		if !ids[i].IsZero() {
			here[name] = Entry{name, ModeTree, ids[i]}
		} else if here[name].IsTree() {
			here[name] = Entry{}
		}
	}
	return o.replace(old, tree, here)
}

// fewTogether is the number of directories that one processor makes before others join.
const fewTogether = 8

// byName groups paths by their names in one directory: entries that are set there, and paths in each subdirectory.
func byName(paths []string, cut int, set map[string]Entry) (here map[string]Entry, below map[string][]string) {
	here, below = map[string]Entry{}, map[string][]string{}
	for from := 0; from < len(paths); {
		name, _, deeper := strings.Cut(paths[from][cut:], "/")
		if !deeper {
			e := set[paths[from]]
			e.Name = name
			here[name] = e
			from++
			continue
		}
		to := from + 1
		for dir := paths[from][:cut+len(name)+1]; to < len(paths) && strings.HasPrefix(paths[to], dir); {
			to++
		}
		below[name] = paths[from:to]
		from = to
	}
	return here, below
}

// replace returns a copy of a tree with some names set. The cursor stands at its start. It copies the rest byte for
// byte.
func (o *Overlay) replace(old cursor, tree ID, here map[string]Entry) (ID, error) {
	var put []Entry
	for _, e := range here {
		if !e.Absent() {
			put = append(put, e)
		}
	}
	slices.SortFunc(put, inTreeOrder)
	out := make([]byte, 0, len(old.raw)+64*len(put))
	kept := 0 // bytes of the old tree that were copied or skipped
	for old.next() {
		for len(put) > 0 && inTreeOrder(put[0], old.Entry) < 0 {
			out = put[0].appendTo(append(out, old.raw[kept:old.from]...))
			kept, put = old.from, put[1:]
		}
		_, replaced := here[old.Name]
		if replaced || old.odd {
			out = append(out, old.raw[kept:old.from]...)
			kept = old.to
		}
		if old.odd && !replaced { // git writes today's modes into each tree that it makes
			out = old.Entry.appendTo(out)
		}
	}
	if err := old.fail(tree); err != nil {
		return ID{}, err
	}
	out = append(out, old.raw[kept:]...)
	for _, e := range put {
		out = e.appendTo(out)
	}
	if len(out) == 0 {
		return ID{}, nil
	}
	return o.Put(KindTree, out), nil
}

// EmptyTree adds the tree without entries and returns its id.
func (o *Overlay) EmptyTree() ID { return o.PutTree(nil) }
