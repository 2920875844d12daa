package beside

import (
	"bytes"
	"cmp"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"dorvik.dev/dorvik/internal/beneath"
	"dorvik.dev/dorvik/internal/core/object"
	"dorvik.dev/dorvik/internal/vcs"
)

// treeFile is where the commit of a checkout is written down, beside the folder.
func treeFile(dir string) string { return dir + ".tree" }

// A checkout is a plain folder of files, which no version-control system knows. A file beside it names the tree whose
// files it has.

// Checkout brings a folder to a tree. It keeps files that builds left there.
func Checkout(ctx context.Context, from object.Reader, dir string, tree object.ID) (*vcs.Checkout, error) {
	const doing = "preparing the checkout for the check"
	store := object.NewOverlay(object.SHA1, from)
	was, ok := treeIn(dir)
	if !ok {
		if err := os.RemoveAll(dir); err != nil {
			return nil, fmt.Errorf("%s: %w", doing, err)
		}
	}
	if err := os.MkdirAll(dir, 0o755); err != nil {
		return nil, fmt.Errorf("%s: %w", doing, err)
	}
	if err := removeGone(ctx, store, beneath.Folder(dir), was, tree); err != nil {
		return nil, fmt.Errorf("%s: %w", doing, err)
	}
	if err := os.WriteFile(treeFile(dir), []byte(tree.String()+"\n"), 0o600); err != nil {
		return nil, fmt.Errorf("%s: %w", doing, err)
	}
	// Files that a build changed or removed are written again.
	var failed error
	err := store.EachChange(ctx, object.ID{}, tree, func(c object.Change) {
		if failed == nil {
			failed = fill(ctx, store, beneath.Folder(dir), c.Path, c.New)
		}
	})
	if err := cmp.Or(err, failed); err != nil {
		return nil, fmt.Errorf("%s: %w", doing, err)
	}
	return &vcs.Checkout{Dir: dir}, nil
}

// treeIn returns the tree that a checkout was brought to.
func treeIn(dir string) (object.ID, bool) {
	text, err := os.ReadFile(treeFile(dir))
	if err != nil {
		return object.ID{}, false
	}
	id, err := object.ParseID(strings.TrimSpace(string(text)))
	return id, err == nil
}

// removeGone removes the files of a tree that another one does not have, and what stands where it has something of
// another type.
func removeGone(ctx context.Context, store *object.Overlay, at beneath.Folder, was, is object.ID) error {
	if was.IsZero() {
		return nil
	}
	changes, err := store.Changes(ctx, was, is)
	if err != nil {
		return err
	}
	slices.Reverse(changes) // what is in a folder before the folder
	for _, c := range changes {
		if !c.New.Absent() && c.New.Mode.SameType(c.Old.Mode) || c.Old.Absent() {
			continue
		}
		if err := at.Remove(c.Path); err != nil && !isGone(err) {
			return err
		}
		for up := parent(c.Path); up != "" && at.Remove(up) == nil; up = parent(up) {
		}
	}
	return nil
}

// parent returns the folder of a path; empty at the top.
func parent(path string) string {
	i := strings.LastIndexByte(path, '/')
	return path[:max(i, 0)]
}

// isGone reports whether an error means that there is no such file.
func isGone(err error) bool { return errors.Is(err, fs.ErrNotExist) }

// fill sees that a file of a checkout has an entry's content. Whatever a build left in its place goes.
func fill(ctx context.Context, store *object.Overlay, at beneath.Folder, path string, e object.Entry) error {
	data, err := store.Blob(ctx, e.ID)
	if err != nil {
		return err
	}
	full := filepath.Join(string(at), filepath.FromSlash(path))
	if info, err := at.Lstat(path); err == nil {
		if same(at, path, info, e, data) {
			return nil
		}
		if err := os.RemoveAll(full); err != nil {
			return err
		}
	}
	for up := parent(path); up != ""; up = parent(up) { // a build left a file or a link where a folder belongs
		if info, err := os.Lstat(filepath.Join(string(at), filepath.FromSlash(up))); err == nil && !info.IsDir() {
			if err := os.Remove(filepath.Join(string(at), filepath.FromSlash(up))); err != nil {
				return err
			}
		}
	}
	return WriteEntry(at, path, e, data)
}

// same reports whether a file holds an entry.
func same(at beneath.Folder, path string, info fs.FileInfo, e object.Entry, data []byte) bool {
	switch {
	case e.Mode == object.ModeLink:
		to, err := at.Readlink(path)
		return err == nil && to == string(data)
	case !info.Mode().IsRegular(), info.Mode()&0o100 != 0 != (e.Mode == object.ModeExec),
		info.Size() != int64(len(data)):
		return false
	}
	is, err := at.ReadFile(path)
	return err == nil && bytes.Equal(is, data)
}

// ChangedIn lists the files of a checkout that are not as in its commit, and those that builds left. Ignored ones are
// among the latter, because the system does not know the folder.
func ChangedIn(ctx context.Context, from object.Reader, c *vcs.Checkout) (paths []string, err error) {
	tree, ok := treeIn(c.Dir)
	if !ok {
		return nil, errors.New("the checkout was removed")
	}
	store, at := object.NewOverlay(object.SHA1, from), beneath.Folder(c.Dir)
	known := map[string]bool{}
	err = store.EachChange(ctx, object.ID{}, tree, func(ch object.Change) {
		known[ch.Path] = true
		info, ierr := at.Lstat(ch.Path)
		data, derr := store.Blob(ctx, ch.New.ID)
		if ierr != nil || derr != nil || !same(at, ch.Path, info, ch.New, data) {
			paths = append(paths, ch.Path)
		}
	})
	if err != nil {
		return nil, err
	}
	err = filepath.WalkDir(c.Dir, func(full string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() {
			return err
		}
		rel, err := filepath.Rel(c.Dir, full)
		if rel = filepath.ToSlash(rel); err == nil && !known[rel] {
			paths = append(paths, rel)
		}
		return err
	})
	slices.Sort(paths)
	return paths, err
}
