package plan

import (
	"context"
	"sync"
	"sync/atomic"

	"dorvik.dev/dorvik/internal/core/history"
	"dorvik.dev/dorvik/internal/core/object"
	"dorvik.dev/dorvik/internal/vcs"
)

// Source is what planning asks of the version-control system, beyond the objects. It only reads.
type Source interface {
	vcs.Settings
	vcs.Lines
	// Uncommented is a prepared message without its comments.
	Uncommented(ctx context.Context, text string) (string, error)
	// Alone reports whether no two objects of the repository share the first digits of one of some ids.
	Alone(ctx context.Context, ids []object.ID, digits int) (bool, error)
}

// Reader reads texts, lines and histories.
type Reader struct {
	Store  *object.Overlay
	Source Source
	digits atomic.Int32 // of an id, as people are shown it

	mu         sync.Mutex
	annotators map[[2]object.ID]*history.Annotator // by the newest and the oldest commit
}

// Tree gives the tree of a commit.
func (rd *Reader) Tree(commit object.ID) (object.ID, error) {
	c, err := rd.Store.Commit(commit)
	if err != nil {
		return object.ID{}, err
	}
	return c.Tree, nil
}

// Annotator tells which commits of a side touch a path. What it found out is
// remembered for the next call.
func (rd *Reader) Annotator(side []history.Node) *history.Annotator {
	if len(side) == 0 {
		return history.NewAnnotator(rd.Store, nil)
	}
	key := [2]object.ID{side[0].ID, side[len(side)-1].ID}
	rd.mu.Lock()
	defer rd.mu.Unlock()
	if rd.annotators[key] == nil {
		rd.annotators[key] = history.NewAnnotator(rd.Store, side)
	}
	return rd.annotators[key]
}

// Below lists a commit and those before it along their first parents, at most n.
func (rd *Reader) Below(id object.ID, n int) (out []history.Node) {
	for !id.IsZero() && len(out) < n {
		c, err := rd.Store.Commit(id)
		if err != nil {
			break // a shallow clone ends here
		}
		out = append(out, history.Node{ID: id, Commit: c})
		if len(c.Parents) == 0 {
			break
		}
		id = c.Parents[0]
	}
	return out
}

// NamesIn lists what is in a folder of a tree, line by line.
func (rd *Reader) NamesIn(tree object.ID, dir string) (names string, ok bool) {
	if dir != "." {
		e, err := rd.Store.Find(tree, dir)
		if err != nil || !e.IsTree() {
			return "", false
		}
		tree = e.ID
	}
	entries, err := rd.Store.Tree(tree)
	for _, e := range entries {
		names += e.Name + "\n"
	}
	return names, err == nil
}

// TextOf is the text of a file in a commit.
func (rd *Reader) TextOf(commit object.ID, path string) (text string, ok bool, err error) {
	tree, err := rd.Tree(commit)
	if err != nil {
		return "", false, err
	}
	return rd.TextAt(tree, path)
}

// Short is an id as people are shown it: so many digits that none of the ids shown stands for
// another object of the repository, and no fewer than core.abbrev says, or 7.
func (rd *Reader) Short(id object.ID) string {
	if id.IsZero() {
		return ""
	}
	return id.Prefix(int(rd.digits.Load()))
}

// leastDigits is how many digits an id is shown with where nothing asks for more.
const leastDigits = 7

// ShowDigits has ids be shown with so many digits, if that is more than they are shown with at least.
func (rd *Reader) ShowDigits(n int) {
	if n > leastDigits {
		rd.digits.Store(int32(n))
	}
}

// TellApart has ids be shown with so many digits that each stands for one object alone.
func (rd *Reader) TellApart(ctx context.Context, ids []object.ID) error {
	if len(ids) == 0 {
		return nil
	}
	n := int(rd.digits.Load())
	for ; n < len(ids[0].String()); n++ {
		if alone, err := rd.Source.Alone(ctx, ids, n); err != nil {
			return err
		} else if alone {
			break
		}
	}
	rd.digits.Store(int32(n))
	return nil
}

// IdsOf gives the ids of commits.
func IdsOf(nodes []history.Node) (ids []object.ID) {
	for _, n := range nodes {
		ids = append(ids, n.ID)
	}
	return ids
}
