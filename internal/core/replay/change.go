// Package replay brings commits one by one onto another tip, as pure
// computation: what a rebase makes, without a working tree.
package replay

import (
	"context"
	"crypto/sha256"
	"fmt"
	"hash"
	"runtime"
	"slices"
	"sort"
	"sync"

	"golang.org/x/sync/errgroup"

	"dorvik/internal/core/diff"
	"dorvik/internal/core/history"
	"dorvik/internal/core/merge"
	"dorvik/internal/core/object"
)

// ChangeID names what a commit changes, wherever its lines stand: two commits
// with equal ChangeIDs make the same change.
type ChangeID [sha256.Size]byte

// nearby is the number of unchanged lines around a hunk that count as part of
// the change, so that "add a brace" in one place is not the same in another.
const nearby = 3

// Changes computes and remembers what commits change. It is safe for use by
// several goroutines.
type Changes struct {
	store *object.Overlay
	mu    sync.Mutex
	paths map[object.ID]pathsID
	full  map[object.ID]ChangeID
}

// pathsID is the paths and modes a commit changes, which is cheap to know. Only
// commits that agree in it can make the same change.
type pathsID struct {
	id      ChangeID
	changes []object.Change // in path order; none for merges and empty commits
}

// NewChanges makes an empty memory over a store.
func NewChanges(store *object.Overlay) *Changes {
	return &Changes{store: store, paths: map[object.ID]pathsID{}, full: map[object.ID]ChangeID{}}
}

// Of computes the ChangeID of a commit against its first parent. ok is false
// for merges and for commits that change nothing: they have none.
func (c *Changes) Of(n history.Node) (id ChangeID, ok bool, err error) {
	p, err := c.pathsOf(n)
	if err != nil || len(p.changes) == 0 {
		return id, false, err
	}
	c.mu.Lock()
	id, ok = c.full[n.ID]
	c.mu.Unlock()
	if ok {
		return id, true, nil
	}
	h := sha256.New()
	h.Write(p.id[:])
	for _, ch := range p.changes {
		if err := hashChange(h, c.store, ch); err != nil {
			return id, false, err
		}
	}
	h.Sum(id[:0])
	c.mu.Lock()
	c.full[n.ID] = id
	c.mu.Unlock()
	return id, true, nil
}

func (c *Changes) pathsOf(n history.Node) (pathsID, error) {
	c.mu.Lock()
	p, ok := c.paths[n.ID]
	c.mu.Unlock()
	if ok || len(n.Parents) > 1 {
		return p, nil
	}
	before, err := history.FirstParentTree(c.store, n.Commit)
	if err != nil {
		return p, err
	}
	if p.changes, err = c.store.Changes(before, n.Tree); err != nil {
		return p, err
	}
	sort.Slice(p.changes, func(i, j int) bool { return p.changes[i].Path < p.changes[j].Path })
	h := sha256.New()
	for _, ch := range p.changes {
		// A mode that stays is no part of the change, whichever it is.
		before, after := ch.Old.Mode, ch.New.Mode
		if before == after && before.IsRegular() {
			before, after = object.ModeFile, object.ModeFile
		}
		fmt.Fprintf(h, "%q %o %o\n", ch.Path, before, after)
	}
	h.Sum(p.id[:0])
	c.mu.Lock()
	c.paths[n.ID] = p
	c.mu.Unlock()
	return p, nil
}

// read works out pathsOf for commits, on several processors.
func (c *Changes) read(ctx context.Context, commits []history.Node) error {
	var all errgroup.Group
	workers := runtime.GOMAXPROCS(0)
	for part := range slices.Chunk(commits, max(1, (len(commits)+workers-1)/workers)) {
		all.Go(func() error {
			for _, n := range part {
				if err := ctx.Err(); err != nil {
					return err
				}
				if _, err := c.pathsOf(n); err != nil {
					return err
				}
			}
			return nil
		})
	}
	return all.Wait()
}

// Same finds for commits of yours those of theirs that make the same change.
// Contents are read only where paths and modes agree.
func (c *Changes) Same(ctx context.Context, yours, theirs []history.Node) (map[object.ID]history.Node, error) {
	if err := c.read(ctx, slices.Concat(theirs, yours)); err != nil {
		return nil, err
	}
	byPaths := map[ChangeID][]history.Node{}
	for _, n := range theirs {
		p, err := c.pathsOf(n)
		if err != nil {
			return nil, err
		}
		if len(p.changes) > 0 {
			byPaths[p.id] = append(byPaths[p.id], n)
		}
	}
	same := map[object.ID]history.Node{}
	for _, n := range yours {
		p, err := c.pathsOf(n)
		if err != nil {
			return nil, err
		}
		for _, other := range byPaths[p.id] {
			a, ok, err := c.Of(n)
			if err != nil {
				return nil, err
			}
			b, _, err := c.Of(other)
			if err != nil {
				return nil, err
			}
			if ok && a == b {
				same[n.ID] = other
			}
		}
	}
	return same, nil
}

func hashChange(h hash.Hash, store *object.Overlay, ch object.Change) error {
	var lines [2][]string
	for i, e := range []object.Entry{ch.Old, ch.New} {
		if e.Absent() {
			continue
		}
		if !e.Mode.IsRegular() {
			fmt.Fprintf(h, "ids %s %s\n", ch.Old.ID, ch.New.ID)
			return nil
		}
		data, err := store.Blob(e.ID)
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
	done := 0 // lines of a that are written or passed over
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
