package svn

import (
	"context"
	"crypto/sha256"
	"fmt"
	"os"
	"path/filepath"
	"strings"

	"dorvik.dev/dorvik/internal/core/object"
	"dorvik.dev/dorvik/internal/vcs"
)

// work reads the files.
type work struct{ *lines }

// Status returns the line, and what is in no commit on top of it.
func (r *work) Status(ctx context.Context) (vcs.Branch, []vcs.Dirty, error) {
	s, err := r.look(ctx)
	if err != nil {
		return vcs.Branch{}, nil, err
	}
	return branchOf(s), s.dirty(), nil
}

// Untracked lists the files that are neither known nor ignored. Of a folder it has the name only.
func (r *work) Untracked(ctx context.Context) ([]string, error) {
	s, err := r.look(ctx)
	if err != nil {
		return nil, err
	}
	return s.untracked, nil
}

// Busy finds nothing half done: what an update left in conflict is joined anew.
func (r *work) Busy() vcs.Operation { return "" }

// Unfinished finds nothing, as Busy.
func (r *work) Unfinished(context.Context) (*vcs.Unfinished, error) { return nil, nil }

// Uncommented returns the text without lines that begin with the mark below which svn ignores them.
func (r *work) Uncommented(_ context.Context, text string) (string, error) {
	before, _, _ := strings.Cut(text, "--This line, and those below, will be ignored--")
	return before, nil
}

// SetHead cannot be done: there are no branches that move.
func (r *work) SetHead(context.Context, string, object.ID, string) error { return errNotHere }

// Left returns what an update left in conflict: the files with svn's marks, each with the SHA-256 of its bytes, and the
// files that svn wrote beside them.
func (r *work) Left(ctx context.Context) (marked map[string]string, aside []string, err error) {
	s, err := r.look(ctx)
	if err != nil {
		return nil, nil, err
	}
	marked = map[string]string{}
	for path := range s.left.texts {
		full := filepath.Join(r.dir, filepath.FromSlash(path))
		if mine, err := s.left.mine(r.dir, path); err != nil || mine == full {
			continue
		}
		data, err := os.ReadFile(full)
		if err != nil {
			return nil, nil, err
		}
		marked[path] = fmt.Sprintf("%x", sha256.Sum256(data))
	}
	return marked, s.left.aside, nil
}

// Settled returns files in conflict that the person settled, which svn was not told.
func (r *work) Settled(ctx context.Context) ([]string, error) {
	s, err := r.look(ctx)
	if err != nil {
		return nil, err
	}
	return s.left.settled, nil
}

// Working returns what svn has now: the entry of each changed path of the tree, and the change lists.
func (r *work) Working(ctx context.Context) (set map[string]object.Entry, lists map[string]string, err error) {
	s, err := r.look(ctx)
	if err != nil {
		return nil, nil, err
	}
	return s.work.set, s.work.list, nil
}

// Checked returns the tree of what was checked out, and its commit.
func (r *work) Checked(ctx context.Context) (tree, commit object.ID, err error) {
	s, err := r.look(ctx)
	if err != nil {
		return tree, commit, err
	}
	return s.course.base.tree, s.course.from, nil
}

// Properties returns the properties that a tree has of a path.
func Properties(ctx context.Context, store *object.Overlay, tree object.ID, path string) (map[string]string, error) {
	out := map[string]string{}
	at, err := store.Find(ctx, tree, strings.TrimSuffix(propPath(path, ""), "/"))
	if err != nil {
		return nil, err
	}
	if at.IsTree() {
		entries, err := store.Tree(ctx, at.ID)
		if err != nil {
			return nil, err
		}
		for _, e := range entries {
			if e.IsTree() {
				continue
			}
			if out[e.Name], err = store.Text(ctx, e.ID); err != nil {
				return nil, err
			}
		}
	}
	e, err := store.Find(ctx, tree, path)
	switch e.Mode {
	case object.ModeExec:
		out[propExec] = "*"
	case object.ModeLink:
		out[propLink] = "*"
	}
	return out, err
}

// FileEntry reads a file of a folder that has the properties that a tree says, as the tree would have it.
func FileEntry(ctx context.Context, store *object.Overlay, tree object.ID, dir, path string) (object.Entry, error) {
	props, err := Properties(ctx, store, tree, path)
	if err != nil {
		return object.Entry{}, err
	}
	full := filepath.Join(dir, filepath.FromSlash(path))
	e, _, err := entryAt(store, full, props)
	return e, err
}

// Lists returns the change list of each commit that is not checked in. That of changes in no list has an empty name.
func (r *work) Lists(ctx context.Context) (map[object.ID]string, error) {
	s, err := r.look(ctx)
	if err != nil {
		return nil, err
	}
	out := map[object.ID]string{}
	for _, g := range s.groups {
		out[g.commit] = g.list
	}
	return out, nil
}
