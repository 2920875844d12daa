package git

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"

	"dorvik.dev/dorvik/internal/core/object"
	"dorvik.dev/dorvik/internal/vcs"
)

// Index is an index file besides the repository's own. It starts as a copy, is changed, and replaces the repository's
// index atomically.
type Index struct {
	r    *Tree
	path string
}

// IndexFolder is the directory in the git directory for such files. Files in it without a session are leftovers.
const IndexFolder = "dorvik/index"

// CopyIndex copies the repository's index, which may not exist, under a name.
func (r *Tree) CopyIndex(ctx context.Context, name string) (*Index, error) {
	from, err := r.Inside(ctx, "index")
	if err != nil {
		return nil, err
	}
	x := r.SideIndex(name)
	return x, copyFile(from, x.path)
}

// SideIndex returns the index of a name, which may not exist.
func (r *Tree) SideIndex(name string) *Index {
	return &Index{r, filepath.Join(r.GitDir, filepath.FromSlash(IndexFolder), name)}
}

// IndexFile returns an index that was saved in a file.
func (r *Tree) IndexFile(path string) *Index { return &Index{r, path} }

// Keep copies the index to a file.
func (x *Index) Keep(file string) error { return copyFile(x.path, file) }

// Take replaces the index by one from a file.
func (x *Index) Take(file string) error { return copyFile(file, x.path) }

// There reports whether the index exists and has not been installed.
func (x *Index) There() bool {
	_, err := os.Lstat(x.path)
	return err == nil
}

// Drop removes the index.
func (x *Index) Drop() { os.Remove(x.path) }

// copyFile copies a file atomically with its modification time. git compares that time with the times of files to find
// changed ones. A missing file results in none.
func copyFile(from, to string) error {
	in, err := os.Open(from)
	if errors.Is(err, fs.ErrNotExist) {
		if err = os.Remove(to); errors.Is(err, fs.ErrNotExist) {
			err = nil
		}
		return err
	}
	if err != nil {
		return err
	}
	defer in.Close()
	if err := os.MkdirAll(filepath.Dir(to), 0o755); err != nil {
		return err
	}
	out, err := os.CreateTemp(filepath.Dir(to), ".new-")
	if err != nil {
		return err
	}
	_, err = io.Copy(out, in)
	info, unknown := in.Stat()
	err = errors.Join(err, unknown, out.Sync(), out.Close())
	if err == nil {
		err = os.Chtimes(out.Name(), info.ModTime(), info.ModTime())
	}
	if err == nil {
		err = os.Rename(out.Name(), to)
	}
	if err != nil {
		os.Remove(out.Name())
	}
	return err
}

func (x *Index) run(ctx context.Context, doing, stdin string, args ...string) (string, error) {
	out, _, err := x.r.runIn(ctx, call{doing: doing, args: args, stdin: strings.NewReader(stdin), hold: x.r.Hold,
		index: x.path})
	return string(out), err
}

// Set sets entries under paths as merged; absent ones are removed. It changes no files.
func (x *Index) Set(ctx context.Context, entries map[string]object.Entry) error {
	if len(entries) == 0 {
		return nil
	}
	zero := strings.Repeat("0", 2*x.r.Format.Size())
	var away, put strings.Builder // removals first: a file can be where a folder must go
	for path, e := range entries {
		fmt.Fprintf(&away, "0 %s\t%s\x00", zero, path)
		if !e.Absent() {
			fmt.Fprintf(&put, "%o %s\t%s\x00", uint32(e.Mode), e.ID, path)
		}
	}
	_, err := x.run(ctx, "preparing the index", away.String()+put.String(), "update-index", "-z", "--index-info")
	return err
}

// Add sets entries from files of the working tree. Missing files are removed.
func (x *Index) Add(ctx context.Context, paths []string) error {
	if len(paths) == 0 {
		return nil
	}
	_, err := x.run(ctx, "reading what is not committed", strings.Join(paths, "\x00")+"\x00", "update-index", "--add",
		"--remove", "--replace", "-z", "--stdin")
	return err
}

// Tree creates the tree of the index. Unmerged entries must have been removed.
func (x *Index) Tree(ctx context.Context) (object.ID, error) {
	out, err := x.run(ctx, "reading the index", "", "write-tree")
	if err != nil {
		return object.ID{}, err
	}
	return object.ParseID(strings.TrimSpace(out))
}

// SwitchTree changes the index and, if requested, the files of the working tree from one tree to another. Missing
// files are ignored; any other file that changes must be as in the index.
func (x *Index) SwitchTree(ctx context.Context, from, to object.ID, files bool) error {
	args := []string{"read-tree", "-m"}
	if files {
		args = append(args, "-u")
	}
	_, err := x.run(ctx, "changing the working tree", "", append(args, from.String(), to.String())...)
	return err
}

// Sparse reports whether the working tree is sparse.
func (r *Tree) Sparse(ctx context.Context) (bool, error) {
	return r.config.Flag(ctx, "core.sparseCheckout")
}

// CheckOut writes files of the index below another directory, converted as in the working tree. It skips files outside
// a sparse working tree.
func (x *Index) CheckOut(ctx context.Context, folder string, paths []string) error {
	if len(paths) == 0 {
		return nil
	}
	_, err := x.run(ctx, "writing files", strings.Join(paths, "\x00")+"\x00", "checkout-index", "--quiet",
		"--prefix="+folder+"/", "-z", "--stdin")
	return err
}

// Refresh updates the file times in the index.
func (x *Index) Refresh(ctx context.Context) error {
	_, err := x.run(ctx, "reading the working tree", "", "update-index", "-q", "--refresh", "--unmerged")
	if code(err) == 1 {
		return nil // exit code 1 means that some files are changed
	}
	return err
}

// Listing returns the content of the index with its stages as text for comparison.
func (x *Index) Listing(ctx context.Context) (string, error) {
	return x.run(ctx, "reading the index", "", "ls-files", "--stage", "-z")
}

// Listing returns the content of the repository's index with its stages as text for comparison.
func (r *Tree) Listing(ctx context.Context) (string, error) {
	return r.run(ctx, "reading the index", "ls-files", "--stage", "-z")
}

// LockIndex takes git's lock of the repository's index. Install and unlock release it. The error is a *LockedError if
// another process has it.
func (r *Tree) LockIndex(ctx context.Context) (unlock func() error, err error) {
	lock, err := r.Inside(ctx, "index.lock")
	if err != nil {
		return nil, err
	}
	f, err := os.OpenFile(lock, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o644)
	if errors.Is(err, fs.ErrExist) {
		return nil, &vcs.LockedError{Path: lock, Err: err}
	}
	if err != nil {
		return nil, fmt.Errorf("locking the index: %w; nothing was changed", err)
	}
	f.Close()
	return func() error {
		err := os.Remove(lock)
		if err != nil { // try again: a disk can fail once
			err = os.Remove(lock)
		}
		if errors.Is(err, fs.ErrNotExist) {
			return nil
		}
		return err
	}, nil
}

// Install replaces the repository's index, which must be locked.
func (x *Index) Install(ctx context.Context) error {
	to, err := x.r.Inside(ctx, "index")
	if err != nil {
		return err
	}
	if err := os.Rename(x.path, to); err != nil {
		return fmt.Errorf("changing the index: %w", err)
	}
	return syncDir(filepath.Dir(to))
}

// Uncommitted returns uncommitted work as two trees: the index without unmerged entries, and the files. They contain
// no untracked paths. It writes only unreferenced objects.
func (r *Tree) Uncommitted(ctx context.Context, dirty []vcs.Dirty) (staged, files object.ID, err error) {
	x, err := r.CopyIndex(ctx, "look")
	if err != nil {
		return staged, files, err
	}
	defer x.Drop()
	out := map[string]object.Entry{}
	var paths, folders []string
	gone, beyond := map[string]object.Entry{}, beyondLinks(r.Dir)
	for _, d := range dirty {
		if d.Untracked {
			continue
		}
		if beyond(d.Path) { // git refuses to look there; a link stands in the place of its folder
			gone[d.Path] = object.Entry{}
		} else if info, err := os.Lstat(filepath.Join(r.Dir, filepath.FromSlash(d.Path))); err == nil && info.IsDir() {
			folders = append(folders, d.Path)
		} else {
			paths = append(paths, d.Path)
		}
		if d.Conflict {
			out[d.Path] = object.Entry{}
		}
	}
	if err = x.Set(ctx, out); err != nil {
		return staged, files, err
	}
	if staged, err = x.Tree(ctx); err != nil {
		return staged, files, err
	}
	if len(folders) > 0 { // submodules are wanted; folders in the place of removed files are not
		known, err := r.Indexed(ctx)
		if err != nil {
			return staged, files, err
		}
		folders = slices.DeleteFunc(folders, func(p string) bool { _, ok := known[p]; return !ok })
		paths = append(folders, paths...) // before the files in them
	}
	if err = errors.Join(x.Set(ctx, gone), x.Add(ctx, paths)); err != nil {
		return staged, files, err
	}
	files, err = x.Tree(ctx)
	return staged, files, err
}

// beyondLinks returns a function that reports whether a path in a directory leads through a symbolic link.
func beyondLinks(dir string) func(name string) bool {
	link := map[string]bool{".": false}
	var is func(folder string) bool
	is = func(folder string) bool {
		known, ok := link[folder]
		if !ok {
			known = is(path.Dir(folder))
			if info, err := os.Lstat(filepath.Join(dir, filepath.FromSlash(folder))); !known && err == nil {
				known = info.Mode()&os.ModeSymlink != 0
			}
			link[folder] = known
		}
		return known
	}
	return func(name string) bool { return is(path.Dir(name)) }
}
