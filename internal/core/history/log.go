package history

import (
	"container/heap"
	"context"
	"errors"

	"dorvik.dev/dorvik/internal/core/object"
)

// Log lists the ancestors of some tips, newest first, children before their parents, and reads only the commits that
// this needs. With a Graph the order is exact. Without one it assumes that clocks are at most a day wrong; otherwise a
// commit may follow its parent. The algorithm is that of A. B. Kahn ("Topological sorting of large networks",
// Communications of the ACM 5, 1962); commits that may still prove to be children are read ahead, as git's
// documentation describes for generation numbers.
type Log struct {
	store *object.Overlay
	graph *Graph
	seen  map[object.ID]*place
	ahead waiting // found; their parents are not read yet
	ready waiting // ready to list: all their children were listed
	cut   bool
}

// place is a commit in the walk.
type place struct {
	Shape
	id       object.ID
	children int // children that were found and not yet listed
	expanded bool
	listed   bool
	seq      int
}

const (
	skew      = 24 * 60 * 60 // tolerated clock error, in seconds
	lookAhead = 512          // commits read beyond a commit to find its children, where there is no graph
)

// waiting is a heap of commits; those that are listed first are on top.
type waiting struct {
	places []*place
	before func(a, b *place) bool
}

func (q *waiting) Len() int           { return len(q.places) }
func (q *waiting) Less(i, j int) bool { return q.before(q.places[i], q.places[j]) }
func (q *waiting) Swap(i, j int)      { q.places[i], q.places[j] = q.places[j], q.places[i] }
func (q *waiting) Push(x any)         { q.places = append(q.places, x.(*place)) }
func (q *waiting) Pop() any {
	last := q.places[len(q.places)-1]
	q.places = q.places[:len(q.places)-1]
	return last
}

func newer(a, b *place) bool {
	if a.When != b.When {
		return a.When > b.When
	}
	return a.seq < b.seq
}

// higher puts commits that the graph lacks first, because they are newer than those that it has.
func higher(a, b *place) bool {
	if a.Level != b.Level {
		return b.Level != 0 && (a.Level == 0 || a.Level > b.Level)
	}
	return newer(a, b)
}

// NewLog returns a log of some tips. graph may be nil. Equal tips count once.
func NewLog(ctx context.Context, store *object.Overlay, graph *Graph, tips ...object.ID) (*Log, error) {
	l := &Log{store: store, graph: graph, seen: map[object.ID]*place{}, ahead: waiting{before: higher},
		ready: waiting{before: newer}}
	var heads []*place
	for _, id := range tips {
		if l.seen[id] != nil {
			continue
		}
		p, err := l.find(ctx, id)
		if err != nil {
			return nil, err
		}
		heads = append(heads, p)
	}
	for _, p := range heads {
		if err := l.expandFor(context.Background(), p); err != nil {
			return nil, err
		}
	}
	for _, p := range heads {
		if p.children == 0 {
			heap.Push(&l.ready, p)
		}
	}
	return l, nil
}

// Cut reports whether the listed history ends at the boundary of a shallow clone.
func (l *Log) Cut() bool { return l.cut }

func (l *Log) find(ctx context.Context, id object.ID) (*place, error) {
	if p := l.seen[id]; p != nil {
		return p, nil
	}
	s, ok := l.graph.Shape(id)
	if !ok {
		c, err := l.store.Commit(ctx, id)
		if err != nil {
			return nil, err
		}
		s = Shape{c.Tree, c.Parents, c.Committer.When, 0}
	}
	p := &place{Shape: s, id: id, seq: len(l.seen)}
	l.seen[id] = p
	heap.Push(&l.ahead, p)
	return p, nil
}

// mayDescend reports whether another commit could be an ancestor of a commit.
func mayDescend(a, of *place) bool {
	switch {
	case a.Level != 0 && of.Level != 0:
		return a.Level > of.Level
	case a.Level != 0:
		return false // a graph file with the commit has all its ancestors
	case of.Level != 0:
		return true
	}
	return a.When+skew >= of.When
}

// expandFor reads the parents of all commits that may be children of a commit.
func (l *Log) expandFor(ctx context.Context, of *place) error {
	for n := 0; len(l.ahead.places) > 0; n++ {
		top := l.ahead.places[0]
		if !mayDescend(top, of) || of.Level == 0 && n > lookAhead {
			return nil
		}
		if err := ctx.Err(); err != nil {
			return err
		}
		heap.Pop(&l.ahead)
		if err := l.expand(ctx, top); err != nil {
			return err
		}
	}
	return nil
}

func (l *Log) expand(ctx context.Context, p *place) error {
	if p.expanded {
		return nil
	}
	p.expanded = true
	kept := p.Parents[:0:0]
	for _, id := range p.Parents {
		parent, err := l.find(ctx, id)
		if errors.Is(err, object.ErrMissing) {
			l.cut = true
			continue
		}
		if err != nil {
			return err
		}
		kept = append(kept, id)
		parent.children++
	}
	p.Parents = kept
	return nil
}

// Listed is a commit of a Log. Parents has only those that exist here.
type Listed struct {
	ID object.ID
	Shape
}

// Next returns the next commits, at most n, or none at the end.
func (l *Log) Next(ctx context.Context, n int) ([]Listed, error) {
	var out []Listed
	for len(out) < n && len(l.ready.places) > 0 {
		p := heap.Pop(&l.ready).(*place)
		if p.listed || p.children > 0 { // a child was found meanwhile and will push it again
			continue
		}
		if err := l.settle(ctx, p); err != nil {
			heap.Push(&l.ready, p) // lets the caller continue later
			return out, err
		}
		p.listed = true
		out = append(out, Listed{p.id, p.Shape})
		for _, id := range p.Parents {
			parent := l.seen[id]
			if parent.children--; parent.children == 0 && !parent.listed {
				heap.Push(&l.ready, parent)
			}
		}
	}
	return out, nil
}

// settle finds the parents of a commit and all its children.
func (l *Log) settle(ctx context.Context, p *place) error {
	if err := l.expand(ctx, p); err != nil {
		return err
	}
	for _, id := range p.Parents {
		if err := l.expandFor(ctx, l.seen[id]); err != nil {
			return err
		}
	}
	return nil
}
