// Package replay applies commits one by one to another tip as pure computation: what a rebase makes, without a working
// tree.
package replay

import (
	"context"
	"crypto/sha256"
	"encoding/binary"
	"fmt"
	"hash"
	"maps"
	"slices"
	"strconv"
	"strings"
	"sync"

	"golang.org/x/sync/errgroup"

	"dorvik.dev/dorvik/internal/core/diff"
	"dorvik.dev/dorvik/internal/core/history"
	"dorvik.dev/dorvik/internal/core/merge"
	"dorvik.dev/dorvik/internal/core/object"
	"dorvik.dev/dorvik/internal/core/parallel"
)

// ChangeID identifies what a commit changes, wherever its lines stand. Commits with equal ChangeIDs make the same
// change.
type ChangeID [sha256.Size]byte

// nearby is the number of unchanged lines around a hunk that count as part of the change, so that "add a brace"
// differs from place to place.
const nearby = 3

// Changes computes and caches what commits change. It is safe for concurrent use.
type Changes struct {
	store *object.Overlay
	mu    sync.Mutex
	paths map[object.ID]pathsID
	full  map[object.ID]ChangeID
	last  standing

	comparing sync.Mutex // held while two lines are compared; guards known
	known     sameFound
}

// pathsID is the paths and modes that a commit changes, which is cheap to compute. Commits with different ones make
// different changes.
type pathsID struct {
	id      ChangeID
	changes []object.Change // in path order; none for merges and empty commits
}

// NewChanges returns an empty cache over a store.
func NewChanges(store *object.Overlay) *Changes {
	return &Changes{store: store, paths: map[object.ID]pathsID{}, full: map[object.ID]ChangeID{}}
}

// Of returns the ChangeID of a commit against its first parent. ok is false for merges and for commits that change
// nothing.
func (c *Changes) Of(ctx context.Context, n history.Node) (id ChangeID, ok bool, err error) {
	p, err := c.pathsOf(ctx, n)
	if err != nil || len(p.changes) == 0 {
		return id, false, err
	}
	c.mu.Lock()
	id, ok = c.full[n.ID]
	c.mu.Unlock()
	if ok {
		return id, true, nil
	}
	if id, err = c.sum(ctx, p); err != nil {
		return id, false, err
	}
	c.mu.Lock()
	c.full[n.ID] = id
	c.mu.Unlock()
	return id, true, nil
}

// summed is sum with a cache.
func (c *Changes) summed(ctx context.Context, p pathsID) func() (ChangeID, error) {
	return sync.OnceValues(func() (ChangeID, error) { return c.sum(ctx, p) })
}

// sum returns the ChangeID of changes.
func (c *Changes) sum(ctx context.Context, p pathsID) (id ChangeID, err error) {
	h := sha256.New()
	h.Write(p.id[:])
	for _, ch := range p.changes {
		if err := hashChange(ctx, h, c.store, ch); err != nil {
			return id, err
		}
	}
	h.Sum(id[:0])
	return id, nil
}

// pathsOf returns the paths that a commit changes.
func (c *Changes) pathsOf(ctx context.Context, n history.Node) (pathsID, error) {
	return c.pathsAmong(ctx, nil, n)
}

// pathsAmong is pathsOf for a commit whose parent is probably one of some commits.
func (c *Changes) pathsAmong(ctx context.Context, t trees, n history.Node) (pathsID, error) {
	c.mu.Lock()
	p, ok := c.paths[n.ID]
	c.mu.Unlock()
	if ok || len(n.Parents) > 1 {
		return p, nil
	}
	before, err := t.before(ctx, c.store, n)
	if err != nil {
		return p, err
	}
	if p.changes, err = c.store.Changes(ctx, before, n.Tree); err != nil {
		return p, err
	}
	for i, ch := range p.changes { // the ids are kept for each commit
		p.changes[i].Old, p.changes[i].New = ch.Old.Detached(), ch.New.Detached()
	}
	p.sort()
	c.mu.Lock()
	c.paths[n.ID] = p
	c.mu.Unlock()
	return p, nil
}

// trees caches the trees of commits, because the next commit needs them again.
type trees map[object.ID]object.ID

func treesOf(lines ...[]history.Node) trees {
	size := 0
	for _, line := range lines {
		size += len(line)
	}
	t := make(trees, size)
	for _, line := range lines {
		for _, n := range line {
			t[n.ID] = n.Tree
		}
	}
	return t
}

// before returns the tree of a commit's first parent.
func (t trees) before(ctx context.Context, store *object.Overlay, n history.Node) (object.ID, error) {
	if len(n.Parents) > 0 {
		if tree, ok := t[n.Parents[0]]; ok {
			return tree, nil
		}
	}
	return history.FirstParentTree(ctx, store, n.Commit)
}

// sort sorts the changes and computes their id.
func (p *pathsID) sort() {
	slices.SortFunc(p.changes, func(a, b object.Change) int { return strings.Compare(a.Path, b.Path) })
	var list []byte
	for _, ch := range p.changes {
		// An unchanged mode is not part of the change.
		before, after := ch.Old.Mode, ch.New.Mode
		if before == after && before.IsRegular() {
			before, after = object.ModeFile, object.ModeFile
		}
		list = strconv.AppendQuote(list, ch.Path)
		list = binary.BigEndian.AppendUint32(list, uint32(before))
		list = binary.BigEndian.AppendUint32(list, uint32(after))
	}
	p.id = sha256.Sum256(list)
}

// readTogether is the number of consecutive commits that one processor reads, because their trees build on each other.
const readTogether = 6

// each calls a function for each commit, on all processors.
func each(ctx context.Context, commits []history.Node, look func(i int) error) error {
	return parallel.Do(len(commits), readTogether, func(i int) error {
		if err := ctx.Err(); err != nil {
			return err
		}
		return look(i)
	})
}

// read computes pathsOf for commits.
func (c *Changes) read(ctx context.Context, t trees, commits []history.Node) error {
	return each(ctx, commits, func(i int) error {
		_, err := c.pathsAmong(ctx, t, commits[i])
		return err
	})
}

// standing returns the entries of a tree at the paths that commits change. It caches the last result.
func (c *Changes) standing(ctx context.Context, tree object.ID, commits []history.Node) (map[string]object.Entry,
	error) {
	c.mu.Lock()
	last := c.last
	c.mu.Unlock()
	if last.found != nil && last.tree == tree && sameNodes(last.commits, commits) {
		return last.found, nil
	}
	paths := map[string]bool{}
	for _, n := range commits {
		p, err := c.pathsOf(ctx, n)
		if err != nil {
			return nil, err
		}
		for _, ch := range p.changes {
			paths[ch.Path] = true
		}
	}
	found, err := c.store.FindAll(ctx, tree, slices.Sorted(maps.Keys(paths)))
	if err != nil {
		return nil, err
	}
	c.mu.Lock()
	c.last = standing{tree, commits, found}
	c.mu.Unlock()
	return found, nil
}

// standing is the entries of a tree at the paths that commits change.
type standing struct {
	tree    object.ID
	commits []history.Node
	found   map[string]object.Entry
}

// Same maps commits of yours to those of theirs that make the same change, also in files that one of the two lines
// (each newest first) renamed. It skips changes that a later commit of theirs reverts exactly, unless yours reverts
// them too. It reads contents only if paths and modes agree, and directories of theirs only if those above agree or a
// rename may matter. It caches the last result, because a line is replayed after each decision.
func (c *Changes) Same(ctx context.Context, engine *merge.Engine, yours,
	theirs []history.Node) (map[object.ID]history.Node, error) {
	found, err := c.findSame(ctx, engine, yours, theirs, false)
	return found.same, err
}

// TakenBack maps commits of yours to the commits of theirs that reverted the same change exactly, where theirs had
// made it too. It skips changes that yours reverted as well. It costs at most what Same costs.
func (c *Changes) TakenBack(ctx context.Context, engine *merge.Engine, yours,
	theirs []history.Node) (map[object.ID]history.Node, error) {
	if len(theirs) < 2 {
		return nil, nil // a change and its revert are two commits
	}
	found, err := c.findSame(ctx, engine, yours, theirs, true)
	return found.back, err
}

// sameFound is the result for two lines.
type sameFound struct {
	yours, theirs []history.Node
	same, back    map[object.ID]history.Node
}

// findSame compares two lines unless they were compared last. One call compares at a time. If only what theirs reverted
// is asked for, it may stop early, with empty results.
func (c *Changes) findSame(ctx context.Context, engine *merge.Engine, yours, theirs []history.Node,
	onlyBack bool) (sameFound, error) {
	c.comparing.Lock()
	defer c.comparing.Unlock()
	if c.known.same != nil && sameNodes(c.known.yours, yours) && sameNodes(c.known.theirs, theirs) {
		return c.known, nil
	}
	found, err := c.compare(ctx, engine, yours, theirs, onlyBack)
	if err == nil && found.same != nil {
		c.known = found
	}
	return found, err
}

func sameNodes(a, b []history.Node) bool {
	return slices.EqualFunc(a, b, func(a, b history.Node) bool { return a.ID == b.ID })
}

func (c *Changes) compare(ctx context.Context, engine *merge.Engine, yours, theirs []history.Node,
	onlyBack bool) (sameFound, error) {
	none := sameFound{}
	t := treesOf(yours, theirs)
	if err := c.read(ctx, t, yours); err != nil {
		return none, err
	}
	candidates := make([]bool, len(theirs))
	var renaming bool
	var both errgroup.Group // the two read different objects
	both.Go(func() (err error) { renaming, err = c.mayRename(ctx, yours, theirs); return err })
	both.Go(func() error { return c.alike(ctx, t, yours, theirs, candidates) })
	if err := both.Wait(); err != nil {
		return none, err
	}
	var renamedByYou, renamedByThem map[string]string
	if renaming {
		if err := c.read(ctx, t, theirs); err != nil {
			return none, err
		}
		var err error
		if renamedByThem, err = c.renamed(ctx, engine, theirs, yours); err != nil {
			return none, err
		}
	}
	byPaths, err := c.byPaths(ctx, theirs, renamedByThem, func(at int) bool { return renaming || candidates[at] })
	if err != nil {
		return none, err
	}
	if renaming {
		if onlyBack && !anyReverts(byPaths) {
			return none, nil
		}
		if renamedByYou, err = c.renamed(ctx, engine, yours, theirs); err != nil {
			return none, err
		}
	}
	return c.match(ctx, yours, theirs, renamedByYou, byPaths)
}

// match finds for each commit of yours the commits of theirs that make or revert the same change.
func (c *Changes) match(ctx context.Context, yours, theirs []history.Node, renamedByYou map[string]string,
	byPaths map[ChangeID][]variant) (found sameFound, err error) {
	none := sameFound{}
	found = sameFound{yours, theirs, map[object.ID]history.Node{}, map[object.ID]history.Node{}}
	takes := map[ChangeID]int{} // changes that newer commits of yours revert
	for _, n := range yours {
		all, err := c.variants(ctx, n, renamedByYou)
		if err != nil {
			return none, err
		}
		made, undone, err := c.madeIn(ctx, byPaths, all)
		if err != nil {
			return none, err
		}
		switch {
		case made == nil:
			continue
		case undone != nil && undone.at < made.at:
			id, err := all[0].id()
			if err != nil {
				return none, err
			}
			if takes[id] == 0 {
				found.back[n.ID] = undone.of
				continue
			}
			takes[id]--
		default:
			id, err := c.summed(ctx, all[0].changes.inverse())()
			if err != nil {
				return none, err
			}
			takes[id]++
		}
		found.same[n.ID] = made.of
	}
	return found, nil
}

// madeIn returns the newest commit of a line that makes the same change as a commit, and the newest that reverts it.
// Either may be nil.
func (c *Changes) madeIn(ctx context.Context, byPaths map[ChangeID][]variant, variants []variant) (made,
	undone *variant, err error) {
	for _, v := range variants {
		if made, err = newest(made, v, byPaths); err != nil {
			return nil, nil, err
		}
		if made == nil {
			continue
		}
		back := v.changes.inverse()
		if undone, err = newest(undone, variant{paths: back.id, id: c.summed(ctx, back)}, byPaths); err != nil {
			return nil, nil, err
		}
	}
	return made, undone, nil
}

// byPaths groups the variants of a line's relevant commits by their paths, newest first.
func (c *Changes) byPaths(ctx context.Context, line []history.Node, back map[string]string, of func(at int) bool) (
	map[ChangeID][]variant, error) {
	out := map[ChangeID][]variant{}
	for at, n := range line {
		if !of(at) {
			continue
		}
		all, err := c.variants(ctx, n, back)
		if err != nil {
			return nil, err
		}
		for _, v := range all {
			v.at = at
			out[v.paths] = append(out[v.paths], v)
		}
	}
	return out, nil
}

// alike marks the commits of theirs that may change the same paths as one of yours.
func (c *Changes) alike(ctx context.Context, t trees, yours, theirs []history.Node, candidates []bool) error {
	var mine []pathsID
	for _, n := range yours {
		p, err := c.pathsOf(ctx, n)
		if err != nil {
			return err
		}
		mine = append(mine, p)
	}
	a := newAlike(c.store, mine)
	return each(ctx, theirs, func(i int) (err error) {
		before, err := t.before(ctx, c.store, theirs[i])
		if err == nil && len(theirs[i].Parents) < 2 {
			candidates[i], err = a.mayBe(ctx, before, theirs[i].Tree)
		}
		return err
	})
}

// mayRename reports whether one of two lines may have renamed a file that the other edits.
func (c *Changes) mayRename(ctx context.Context, yours, theirs []history.Node) (bool, error) {
	if len(yours) == 0 || len(theirs) == 0 {
		return false, nil
	}
	there, err := c.standing(ctx, theirs[0].Tree, yours)
	if err != nil {
		return false, err
	}
	for _, n := range yours {
		p, err := c.pathsOf(ctx, n)
		if err != nil {
			return false, err
		}
		for _, ch := range p.changes {
			_, stands := there[ch.Path]
			if ch.New.Absent() || !ch.Old.Absent() && !stands {
				return true, nil
			}
		}
	}
	return false, nil
}

// anyReverts reports whether one of a line's commits may revert another, by their paths.
func anyReverts(byPaths map[ChangeID][]variant) bool {
	for _, list := range byPaths {
		for _, v := range list {
			back := v.changes.inverse()
			if slices.ContainsFunc(byPaths[back.id], func(o variant) bool { return o.at != v.at }) {
				return true
			}
		}
	}
	return false
}

// newest returns the newer of a variant and the newest of others with the same change as v. Either may be nil.
func newest(known *variant, v variant, others map[ChangeID][]variant) (*variant, error) {
	for _, other := range others[v.paths] {
		if known != nil && known.at <= other.at {
			break
		}
		a, err := v.id()
		if err != nil {
			return nil, err
		}
		b, err := other.id()
		if err != nil {
			return nil, err
		}
		if a == b {
			return &other, nil
		}
	}
	return known, nil
}

// inverse returns the changes that revert these.
func (p *pathsID) inverse() pathsID {
	out := pathsID{changes: slices.Clone(p.changes)}
	for i, ch := range out.changes {
		out.changes[i].Old, out.changes[i].New = ch.New, ch.Old
	}
	out.sort()
	return out
}

// renamed maps the new names of files that a line renamed and the other line edits to their old names.
func (c *Changes) renamed(ctx context.Context, engine *merge.Engine, line, other []history.Node) (map[string]string,
	error) {
	if len(line) == 0 {
		return nil, nil
	}
	edited, gone := map[string]bool{}, map[string]bool{}
	each := func(line []history.Node, visit func(ch object.Change)) error {
		for _, n := range line {
			p, err := c.pathsOf(ctx, n)
			if err != nil {
				return err
			}
			for _, ch := range p.changes {
				visit(ch)
			}
		}
		return nil
	}
	if err := each(other, func(ch object.Change) {
		if !ch.Old.Absent() && !ch.New.Absent() {
			edited[ch.Path] = true
		}
	}); err != nil {
		return nil, err
	}
	if err := each(line, func(ch object.Change) {
		if ch.New.Absent() && edited[ch.Path] {
			gone[ch.Path] = true
		}
	}); err != nil || len(gone) == 0 {
		return nil, err
	}
	start, err := history.FirstParentTree(ctx, c.store, line[len(line)-1].Commit)
	if err != nil {
		return nil, err
	}
	list, err := engine.Renames(ctx, start, line[0].Tree, gone)
	if err != nil {
		return nil, err
	}
	back := map[string]string{}
	for _, r := range list {
		back[r.To] = r.From
	}
	return back, nil
}

// variant is the changes of a commit under the present or former names of files.
type variant struct {
	of      history.Node
	at      int // index of the commit in its line, newest first
	changes pathsID
	paths   ChangeID                 // id of the paths and modes alone
	id      func() (ChangeID, error) // id of the whole change, computed on demand
}

// variants returns a commit's changes as they are and, if it edits renamed files, under their old names. Merges and
// empty commits have none.
func (c *Changes) variants(ctx context.Context, n history.Node, back map[string]string) ([]variant, error) {
	p, err := c.pathsOf(ctx, n)
	if err != nil || len(p.changes) == 0 {
		return nil, err
	}
	out := []variant{{of: n, changes: p, paths: p.id, id: func() (ChangeID, error) {
		id, _, err := c.Of(ctx, n)
		return id, err
	}}}
	var old pathsID
	for i, ch := range p.changes {
		from, ok := back[ch.Path]
		if !ok || ch.Old.Absent() || ch.New.Absent() {
			continue
		}
		if old.changes == nil {
			old.changes = slices.Clone(p.changes)
		}
		old.changes[i].Path = from
	}
	if old.changes != nil {
		old.sort()
		out = append(out, variant{of: n, changes: old, paths: old.id, id: c.summed(ctx, old)})
	}
	return out, nil
}

func hashChange(ctx context.Context, h hash.Hash, store *object.Overlay, ch object.Change) error {
	if ch.Old.ID == ch.New.ID {
		return nil // a mode alone, which is among the paths
	}
	var lines [2][]string
	for i, e := range []object.Entry{ch.Old, ch.New} {
		if e.Absent() {
			continue
		}
		if !e.Mode.IsRegular() {
			fmt.Fprintf(h, "ids %s %s\n", ch.Old.ID, ch.New.ID)
			return nil
		}
		data, err := store.Blob(ctx, e.ID)
		if err != nil {
			return err
		}
		if !merge.IsText(data) {
			fmt.Fprintf(h, "ids %s %s\n", ch.Old.ID, ch.New.ID)
			return nil
		}
		lines[i] = diff.Lines(string(data))
	}
	a, b := lines[0], lines[1]
	put := func(sign byte, lines []string) {
		for _, l := range lines {
			fmt.Fprintf(h, "%c%d %s", sign, len(l), l)
		}
	}
	done := 0 // lines of a that were written or skipped
	for i, e := range diff.Histogram(a, b) {
		gap := a[done:e.A0]
		switch {
		case i == 0:
			put(' ', gap[max(0, len(gap)-nearby):])
		case len(gap) > 2*nearby:
			put(' ', gap[:nearby])
			fmt.Fprint(h, "@\n")
			put(' ', gap[len(gap)-nearby:])
		default:
			put(' ', gap)
		}
		put('-', a[e.A0:e.A1])
		put('+', b[e.B0:e.B1])
		done = e.A1
	}
	put(' ', a[done:min(done+nearby, len(a))])
	return nil
}
