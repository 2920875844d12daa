package replay

import (
	"slices"
	"sync/atomic"

	"dorvik.dev/dorvik/internal/core/history"
	"dorvik.dev/dorvik/internal/core/object"
)

// mostAhead is how many commits ahead of the one that is replayed objects are read.
const mostAhead = 64

// ahead reads what replaying commits will need, while those before are replayed: the directories of the tree they are
// brought onto, and the texts of what both sides changed. What it cannot read is told when it is needed.
type ahead struct {
	store   *object.Overlay
	changes *Changes
	at      atomic.Int64  // the commit that is replayed now
	moved   chan struct{} // something is in it when that is another
	stop    chan struct{}
	done    chan struct{}
}

// readAhead begins to read for commits (newest first) that are brought onto a tree.
func readAhead(store *object.Overlay, changes *Changes, commits []history.Node, onto object.ID) *ahead {
	a := &ahead{store: store, changes: changes, moved: make(chan struct{}, 1), stop: make(chan struct{}),
		done: make(chan struct{})}
	go a.run(commits, onto)
	return a
}

// to says which commit is replayed now, counted from the oldest.
func (a *ahead) to(i int) {
	a.at.Store(int64(i))
	select {
	case a.moved <- struct{}{}:
	default:
	}
}

// end has it end, and waits until it has.
func (a *ahead) end() {
	close(a.stop)
	<-a.done
}

func (a *ahead) run(commits []history.Node, onto object.ID) {
	defer close(a.done)
	finder := object.NewFinder(a.store)
	i := -1
	for _, n := range slices.Backward(commits) {
		i++
		for int64(i) > a.at.Load()+mostAhead {
			select {
			case <-a.moved:
			case <-a.stop:
				return
			}
		}
		select {
		case <-a.stop:
			return
		default:
		}
		if int64(i) < a.at.Load() {
			continue // it is overtaken
		}
		p, err := a.changes.pathsOf(n)
		if err != nil {
			return
		}
		var texts []object.ID
		for _, c := range p.changes {
			at, err := finder.Find(onto, c.Path)
			if err != nil {
				return
			}
			all := at.Mode.IsRegular() && c.Old.Mode.IsRegular() && c.New.Mode.IsRegular()
			if all && !at.Same(c.Old) && !at.Same(c.New) {
				texts = append(texts, c.Old.ID, c.New.ID, at.ID)
			}
		}
		a.store.Prefetch(texts...)
	}
}
