package merge

import (
	"context"
	"slices"
	"strings"

	"dorvik.dev/dorvik/internal/core/diff"
	"dorvik.dev/dorvik/internal/core/object"
)

// Begun is a join of the same trees that was begun elsewhere. Everything is settled as in Tree except the open paths.
type Begun struct {
	Tree  object.ID
	Open  []string
	Edits []TextEdit // edits of open files outside their conflicts
}

// TextEdit is an edit of a text that may have changed since.
type TextEdit struct{ Path, Before, After string }

// open reports whether a path is open. It knows git's names for what cannot stand at a path, such as path~HEAD.
func (b *Begun) open(path string) bool {
	return slices.ContainsFunc(b.Open, func(o string) bool { return o == path || strings.HasPrefix(o, path+"~") })
}

// Narrow removes settled conflicts from a result.
func (b *Begun) Narrow(r *Result) {
	r.Conflicts = slices.DeleteFunc(r.Conflicts, func(c Conflict) bool {
		return !slices.ContainsFunc(c.Paths(), b.open)
	})
}

// Over returns Tree with the open paths as in the joined tree of a result.
func (b *Begun) Over(ctx context.Context, r *Result, joined object.ID) (object.ID, error) {
	paths := slices.Clone(b.Open)
	for i := range r.Conflicts {
		paths = append(paths, r.Conflicts[i].Paths()...)
	}
	gone, put := map[string]object.Entry{}, map[string]object.Entry{}
	for _, p := range paths {
		e, err := r.store.Find(ctx, joined, p)
		switch {
		case err != nil:
			return object.ID{}, err
		case e.IsTree():
		case e.Absent():
			gone[p] = e
		default:
			if put[p], err = b.edited(ctx, r, p, e); err != nil {
				return object.ID{}, err
			}
		}
	}
	tree, err := r.store.Edit(ctx, b.Tree, gone)
	if err == nil {
		tree, err = r.store.Edit(ctx, tree, put)
	}
	if err == nil && tree.IsZero() {
		tree = r.store.EmptyTree()
	}
	return tree, err
}

// edited returns a file with its edits. An edit that does not fit is skipped, with a remark.
func (b *Begun) edited(ctx context.Context, r *Result, path string, e object.Entry) (object.Entry, error) {
	for _, edit := range b.Edits {
		if edit.Path != path || !e.Mode.IsRegular() {
			continue
		}
		data, err := r.store.Blob(ctx, e.ID)
		if err != nil {
			return e, err
		}
		t := Merge3(diff.Lines(edit.Before), diff.Lines(edit.After), diff.Lines(string(data)))
		if t.Conflicts() > 0 {
			r.Remarks = append(r.Remarks, Remark{Path: path, Words: "what you edited beside the conflicts does not " +
				"fit what you decided, and is left out; the file as you left it is kept under the waypoint"})
			continue
		}
		e.ID = r.store.Put(object.KindBlob, []byte(t.Join(nil)))
	}
	return e, nil
}
