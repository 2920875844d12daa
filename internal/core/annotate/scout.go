package annotate

import (
	"context"
	"slices"
	"strings"
	"sync"

	"dorvik.dev/dorvik/internal/core/object"
)

// scout runs ahead along the first parents and prefetches in batches what the search will need. It only fills the
// store's cache; anything that it misses is read on demand.
type scout struct {
	a     *Annotation
	from  object.ID
	path  string
	turns chan struct{}

	mu    sync.Mutex
	ends  map[object.ID]bool          // the last commit of each batch
	reads map[object.ID]chan struct{} // by commit; closed when its batch was read
}

const (
	mostBatch = 48 // size that batches grow to, in commits
	before    = 2  // batches that are read ahead
)

func newScout(a *Annotation, from object.ID, path string) *scout {
	return &scout{a: a, from: from, path: path, turns: make(chan struct{}, before),
		ends: map[object.ID]bool{}, reads: map[object.ID]chan struct{}{}}
}

// start runs the scout until the context ends. The returned function waits for it.
func (s *scout) start(ctx context.Context, cancel func()) (wait func()) {
	for range before {
		s.turns <- struct{}{}
	}
	var gone sync.WaitGroup
	gone.Go(func() { s.run(ctx) })
	return func() { cancel(); gone.Wait() }
}

// reached tells the scout how far the search is, and waits for pending reads.
func (s *scout) reached(commit object.ID) {
	s.mu.Lock()
	if s.ends[commit] {
		delete(s.ends, commit)
		s.turns <- struct{}{}
	}
	read := s.reads[commit]
	delete(s.reads, commit)
	s.mu.Unlock()
	if read != nil {
		<-read
	}
}

func (s *scout) run(ctx context.Context) {
	id, size, blob := s.from, 6, object.ID{}
	for {
		select {
		case <-ctx.Done():
			return
		case <-s.turns:
		}
		size = min(2*size, mostBatch)
		var ids, trees []object.ID
		for len(ids) < size && !id.IsZero() {
			shape, err := s.a.shape(ctx, id)
			if err != nil || ctx.Err() != nil {
				return
			}
			ids, trees = append(ids, id), append(trees, shape.Tree)
			id = object.ID{}
			if len(shape.Parents) > 0 {
				id = shape.Parents[0]
			}
		}
		if len(ids) == 0 {
			return
		}
		read := make(chan struct{})
		s.mu.Lock()
		s.ends[ids[len(ids)-1]] = true
		for _, id := range ids {
			s.reads[id] = read
		}
		s.mu.Unlock()
		blob = s.read(ctx, trees, blob)
		close(read)
	}
}

// read reads the file in some trees, except for the version that was read last, and returns the latest version.
func (s *scout) read(ctx context.Context, at []object.ID, known object.ID) object.ID {
	names := strings.Split(s.path, "/")
	for i, name := range names {
		s.a.store.Prefetch(ctx, slices.Clone(at)...)
		below := at[:0]
		last := object.ID{}
		for _, tree := range at {
			e, err := s.a.store.Find(ctx, tree, name)
			if err == nil && e.ID != last && e.IsTree() == (i < len(names)-1) && !e.Absent() {
				below, last = append(below, e.ID), e.ID
			}
		}
		at = below
	}
	if len(at) > 0 && at[0] == known {
		at = at[1:]
	}
	if len(at) == 0 {
		return known
	}
	known = at[len(at)-1]
	s.a.store.Prefetch(ctx, at...)
	return known
}
