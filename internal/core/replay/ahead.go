package replay

import (
	"context"
	"slices"
	"sync"

	"dorvik.dev/dorvik/internal/core/history"
	"dorvik.dev/dorvik/internal/core/object"
)

// mostAhead is how many commits ahead of the one that is replayed texts are read, and readAtOnce how many texts are
// read together, on all processors.
const (
	mostAhead  = 64
	readAtOnce = 64
)

// ahead prefetches texts that both sides changed while earlier commits are replayed. Read errors appear when a text is
// needed.
type ahead struct {
	store   *object.Overlay
	changes *Changes
	commits []history.Node // newest first
	onto    object.ID

	mu         sync.Mutex
	news       *sync.Cond
	at         int  // index of the commit being replayed, from the oldest
	read       int  // index up to which everything needed was read
	stop, over bool // told to stop; has stopped
}

// readAhead starts prefetching for commits (newest first) that are replayed onto a tree.
func readAhead(ctx context.Context, store *object.Overlay, changes *Changes, commits []history.Node,
	onto object.ID) *ahead {
	a := &ahead{store: store, changes: changes, commits: commits, onto: onto}
	a.news = sync.NewCond(&a.mu)
	go a.run(ctx)
	return a
}

// to announces the commit that is replayed now and waits until its texts are read.
func (a *ahead) to(i int) {
	a.mu.Lock()
	defer a.mu.Unlock()
	a.at = i
	a.news.Broadcast()
	for a.read <= i && !a.over {
		a.news.Wait()
	}
}

// end stops prefetching and waits until it has ended.
func (a *ahead) end() {
	a.mu.Lock()
	defer a.mu.Unlock()
	a.stop = true
	a.news.Broadcast()
	for !a.over {
		a.news.Wait()
	}
}

func (a *ahead) run(ctx context.Context) {
	defer func() {
		a.mu.Lock()
		defer a.mu.Unlock()
		a.over = true
		a.news.Broadcast()
	}()
	standing, err := a.changes.standing(ctx, a.onto, a.commits)
	if err != nil {
		return
	}
	var texts []object.ID
	i := 0
	for _, n := range slices.Backward(a.commits) {
		p, err := a.changes.pathsOf(ctx, n)
		if err != nil {
			return
		}
		for _, c := range p.changes {
			at := standing[c.Path]
			all := at.Mode.IsRegular() && c.Old.Mode.IsRegular() && c.New.Mode.IsRegular()
			if all && !at.Same(c.Old) && !at.Same(c.New) {
				texts = append(texts, c.Old.ID, c.New.ID, at.ID)
			}
		}
		i++
		if len(texts) < readAtOnce && i < len(a.commits) && i%mostAhead != 0 {
			continue
		}
		a.store.Prefetch(ctx, texts...)
		texts = texts[:0]
		if !a.told(i) {
			return
		}
	}
}

// told announces the commit up to which everything is read, and waits until more is needed. It returns false to stop.
func (a *ahead) told(read int) bool {
	a.mu.Lock()
	defer a.mu.Unlock()
	a.read = read
	a.news.Broadcast()
	for a.read > a.at+mostAhead && !a.stop {
		a.news.Wait()
	}
	return !a.stop
}
