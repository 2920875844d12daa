package plan

import (
	"context"
	"sync"
	"sync/atomic"

	"dorvik.dev/dorvik/internal/core/history"
	"dorvik.dev/dorvik/internal/core/object"
	"dorvik.dev/dorvik/internal/vcs"
)

// Source is the part of a version-control system that planning reads, besides the objects.
type Source interface {
	vcs.Settings
	vcs.Lines
	// Uncommented returns a prepared message without its comments.
	Uncommented(ctx context.Context, text string) (string, error)
	// Alone reports whether the first digits of each id are unambiguous in the repository.
	Alone(ctx context.Context, ids []object.ID, digits int) (bool, error)
}

// Reader reads trees, texts and histories. It is safe for use by several goroutines.
type Reader struct {
	Store  *object.Overlay
	Source Source
	digits atomic.Int32 // digits of an id on screens

	mu         sync.Mutex
	annotators map[[2]object.ID]*history.Annotator // annotators, by newest and oldest commit
}

// Tree returns the tree of a commit.
func (rd *Reader) Tree(ctx context.Context, commit object.ID) (object.ID, error) {
	c, err := rd.Store.Commit(ctx, commit)
	if err != nil {
		return object.ID{}, err
	}
	return c.Tree, nil
}

// Annotator returns an annotator for the commits of one side. The reader caches it.
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

// Below lists a commit and its first-parent ancestors, at most n.
func (rd *Reader) Below(ctx context.Context, id object.ID, n int) (out []history.Node) {
	for !id.IsZero() && len(out) < n {
		c, err := rd.Store.Commit(ctx, id)
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

// NamesIn lists the names in a directory of a tree, one per line.
func (rd *Reader) NamesIn(ctx context.Context, tree object.ID, dir string) (names string, ok bool) {
	if dir != "." {
		e, err := rd.Store.Find(ctx, tree, dir)
		if err != nil || !e.IsTree() {
			return "", false
		}
		tree = e.ID
	}
	entries, err := rd.Store.Tree(ctx, tree)
	for _, e := range entries {
		names += e.Name + "\n"
	}
	return names, err == nil
}

// TextOf returns the text of a file in a commit. ok is false if there is no such text.
func (rd *Reader) TextOf(ctx context.Context, commit object.ID, path string) (text string, ok bool, err error) {
	tree, err := rd.Tree(ctx, commit)
	if err != nil {
		return "", false, err
	}
	return rd.TextAt(ctx, tree, path)
}

// Short names a commit by its number, in a system that has them, or abbreviates its id to the number of digits in use:
// at least 7 or core.abbrev, and more if ids would be ambiguous.
func (rd *Reader) Short(id object.ID) string {
	if id.IsZero() {
		return ""
	}
	if numbered, ok := rd.Source.(vcs.Numbered); ok {
		if name := numbered.Shown(context.Background(), numbered.Became(id)); name != "" {
			return name
		}
	}
	return id.Prefix(int(rd.digits.Load()))
}

// Name names a commit for a script or a log: by its number, in a system that has them, or by its whole id.
func (rd *Reader) Name(id object.ID) string {
	if _, ok := rd.Source.(vcs.Numbered); ok {
		return rd.Short(id)
	}
	return id.String()
}

// Place names where a branch is, for a sentence: a commit as Name and Short do, given as named, or for one without a
// number that below it.
func (rd *Reader) Place(ctx context.Context, id object.ID, named string) string {
	if named != vcs.Unnumbered {
		return named
	}
	for {
		c, err := rd.Store.Commit(ctx, id)
		if err != nil || len(c.Parents) == 0 {
			return named
		}
		id = c.Parents[0]
		if below := rd.Short(id); below != vcs.Unnumbered {
			return below + ", with your changes on top"
		}
	}
}

// leastDigits is the smallest number of digits of an abbreviated id.
const leastDigits = 7

// ShowDigits raises the number of digits of abbreviated ids to n.
func (rd *Reader) ShowDigits(n int) {
	if n > leastDigits {
		rd.digits.Store(int32(n))
	}
}

// TellApart raises the number of digits until each of the ids is unambiguous in the repository.
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

// IdsOf returns the ids of commits.
func IdsOf(nodes []history.Node) (ids []object.ID) {
	for _, n := range nodes {
		ids = append(ids, n.ID)
	}
	return ids
}

// dialect returns how the users of the system say things; git's without a repository.
func (rd *Reader) dialect() vcs.Dialect {
	if rd.Source == nil {
		return vcs.InGit
	}
	return rd.Source.Dialect()
}
