// Package history reads the commit graph: where two lines of commits part, which commits only one of them has, and
// which commit added a line of text.
package history

import (
	"cmp"
	"container/heap"
	"context"
	"errors"
	"slices"

	"dorvik.dev/dorvik/internal/core/object"
)

// Node is a commit with its id.
type Node struct {
	ID object.ID
	*object.Commit
}

// Divergence describes how two lines of commits differ.
type Divergence struct {
	Bases  []object.ID // the best common ancestors, newest first
	Yours  []Node      // reachable from yours alone, newest first, children before parents
	Theirs []Node
	Cut    bool // history ends in a shallow clone's boundary, so there may be more
}

const (
	ofYours = 1 << iota
	ofTheirs
	isBase  // reached as a first meeting of both
	isStale // an ancestor of such a meeting
	both    = ofYours | ofTheirs
)

type mark struct {
	Node
	flags int
	seq   int // order of discovery, to break ties
}

// queue is a priority queue of marks, newest first.
type queue []*mark

func (q queue) Len() int { return len(q) }
func (q queue) Less(i, j int) bool {
	if a, b := q[i].Committer.When, q[j].Committer.When; a != b {
		return a > b
	}
	return q[i].seq < q[j].seq
}
func (q queue) Swap(i, j int) { q[i], q[j] = q[j], q[i] }
func (q *queue) Push(x any)   { *q = append(*q, x.(*mark)) }
func (q *queue) Pop() any {
	last := (*q)[len(*q)-1]
	*q = (*q)[:len(*q)-1]
	return last
}

type walk struct {
	store *object.Overlay
	seen  map[object.ID]*mark
	queue queue
	cut   bool
}

// reach adds flags to a commit and queues it if the flags are new. A parent that is missing is the boundary of a
// shallow clone. The zero id is a line without commits.
func (w *walk) reach(ctx context.Context, id object.ID, flags int, parent bool) error {
	if id.IsZero() {
		return nil
	}
	m := w.seen[id]
	if m == nil {
		c, err := w.store.Commit(ctx, id)
		if parent && errors.Is(err, object.ErrMissing) {
			w.cut = true
			return nil
		}
		if err != nil {
			return err
		}
		m = &mark{Node: Node{id, c}, seq: len(w.seen)}
		w.seen[id] = m
	} else if m.flags|flags == m.flags {
		return nil
	}
	m.flags |= flags
	heap.Push(&w.queue, m)
	return nil
}

func (w *walk) live() bool {
	return slices.ContainsFunc(w.queue, func(m *mark) bool { return m.flags&isStale == 0 })
}

// Diverge finds the best common ancestors of two commits and the commits of each that the other lacks. It reads the
// commits down to the common ancestors, and more if clocks were wrong.
func Diverge(ctx context.Context, store *object.Overlay, yours, theirs object.ID) (*Divergence, error) {
	w := &walk{store: store, seen: map[object.ID]*mark{}}
	if err := w.reach(ctx, yours, ofYours, false); err != nil {
		return nil, err
	}
	if err := w.reach(ctx, theirs, ofTheirs, false); err != nil {
		return nil, err
	}
	met, err := w.run(ctx)
	if err != nil {
		return nil, err
	}
	d := &Divergence{Cut: w.cut}
	candidates := slices.DeleteFunc(met, func(m *mark) bool { return m.flags&isStale != 0 })
	bases, err := independent(ctx, store, candidates)
	if err != nil {
		return nil, err
	}
	d.Bases = bases
	d.Yours = w.only(yours, ofYours)
	d.Theirs = w.only(theirs, ofTheirs)
	return d, nil
}

// run walks until only common commits are left and returns where the sides met.
func (w *walk) run(ctx context.Context) (met []*mark, err error) {
	for live := true; live; live = w.live() {
		if err := ctx.Err(); err != nil {
			return nil, err
		}
		m := heap.Pop(&w.queue).(*mark)
		flags := m.flags & (both | isStale)
		if flags == both {
			if m.flags&isBase == 0 {
				m.flags |= isBase
				met = append(met, m)
			}
			flags |= isStale
		}
		for _, p := range m.Parents {
			if err := w.reach(ctx, p, flags, true); err != nil {
				return nil, err
			}
		}
	}
	// With wrong clocks, an ancestor of a common commit may have been reached from one side first. Mark it now.
	for len(w.queue) > 0 {
		m := heap.Pop(&w.queue).(*mark)
		for _, p := range m.Parents {
			if known := w.seen[p]; known != nil && known.flags&both != both {
				known.flags |= both | isStale
				heap.Push(&w.queue, known)
			}
		}
	}
	return met, nil
}

// Only lists the ancestors of a commit that are no ancestors of others, newest first.
func Only(ctx context.Context, store *object.Overlay, of object.ID, not ...object.ID) ([]Node, error) {
	w := &walk{store: store, seen: map[object.ID]*mark{}}
	if err := w.reach(ctx, of, ofYours, false); err != nil {
		return nil, err
	}
	for _, id := range not {
		if err := w.reach(ctx, id, ofTheirs, false); err != nil {
			return nil, err
		}
	}
	if _, err := w.run(ctx); err != nil {
		return nil, err
	}
	return w.only(of, ofYours), nil
}

// only lists the commits of one side, children before parents, newest first where the order is free.
func (w *walk) only(tip object.ID, side int) []Node {
	children := map[object.ID]int{}
	mine := func(id object.ID) *mark {
		if m := w.seen[id]; m != nil && m.flags&both == side {
			return m
		}
		return nil
	}
	for _, m := range w.seen {
		if m.flags&both == side {
			for _, p := range m.Parents {
				children[p]++
			}
		}
	}
	var ready queue
	if m := mine(tip); m != nil {
		ready = queue{m}
	}
	var out []Node
	for len(ready) > 0 {
		m := heap.Pop(&ready).(*mark)
		out = append(out, m.Node)
		for _, p := range m.Parents {
			if children[p]--; children[p] == 0 {
				if pm := mine(p); pm != nil {
					heap.Push(&ready, pm)
				}
			}
		}
	}
	return out
}

// independent drops candidates that are ancestors of others.
func independent(ctx context.Context, store *object.Overlay, candidates []*mark) ([]object.ID, error) {
	slices.SortStableFunc(candidates, func(a, b *mark) int { return cmp.Compare(b.Committer.When, a.Committer.When) })
	var out []object.ID
	for i, c := range candidates {
		redundant := false
		for j, other := range candidates {
			if i == j {
				continue
			}
			under, err := IsAncestor(ctx, store, c.ID, other.ID)
			if err != nil {
				return nil, err
			}
			redundant = redundant || under
		}
		if !redundant {
			out = append(out, c.ID)
		}
	}
	return out, nil
}

// IsAncestor reports whether old is new or one of its ancestors.
func IsAncestor(ctx context.Context, store *object.Overlay, old, new object.ID) (bool, error) {
	seen := map[object.ID]bool{new: true}
	for stack := []object.ID{new}; len(stack) > 0; {
		if err := ctx.Err(); err != nil {
			return false, err
		}
		id := stack[len(stack)-1]
		stack = stack[:len(stack)-1]
		if id == old {
			return true, nil
		}
		c, err := store.Commit(ctx, id)
		if errors.Is(err, object.ErrMissing) && id != new {
			continue // a shallow clone ends here
		}
		if err != nil {
			return false, err
		}
		for _, p := range c.Parents {
			if !seen[p] {
				seen[p] = true
				stack = append(stack, p)
			}
		}
	}
	return false, nil
}

// EachChange passes each path that a commit changed relative to its first parent.
func EachChange(ctx context.Context, store *object.Overlay, c *object.Commit, each func(object.Change)) error {
	before, err := FirstParentTree(ctx, store, c)
	if err != nil {
		return err
	}
	return store.EachChange(ctx, before, c.Tree, each)
}

// FirstParentTree returns the tree of a commit's first parent, or the empty tree.
func FirstParentTree(ctx context.Context, store *object.Overlay, c *object.Commit) (object.ID, error) {
	if len(c.Parents) == 0 {
		return object.ID{}, nil
	}
	p, err := store.Commit(ctx, c.Parents[0])
	if err != nil {
		return object.ID{}, err
	}
	return p.Tree, nil
}
