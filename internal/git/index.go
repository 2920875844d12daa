package git

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"dorvik.dev/dorvik/internal/core/object"
	"dorvik.dev/dorvik/internal/vcs"
)

// Index is an index beside the repository's own: made as a copy of that, changed on the side,
// and put in its place from one moment to the next.
type Index struct {
	r    *Tree
	path string
}

// IndexFolder is the folder in the git directory that holds such indexes. What is in it while no
// session is open was left by a run that was cut off.
const IndexFolder = "dorvik/index"

// CopyIndex copies the repository's index, which may not be there yet, under a name.
func (r *Tree) CopyIndex(ctx context.Context, name string) (*Index, error) {
	from, err := r.Inside(ctx, "index")
	if err != nil {
		return nil, err
	}
	x := r.SideIndex(name)
	return x, copyFile(from, x.path)
}

// SideIndex returns the index of a name, which may not be there.
func (r *Tree) SideIndex(name string) *Index {
	return &Index{r, filepath.Join(r.GitDir, filepath.FromSlash(IndexFolder), name)}
}

// IndexFile returns an index that was kept in a file.
func (r *Tree) IndexFile(path string) *Index { return &Index{r, path} }

// Keep copies the index to a file.
func (x *Index) Keep(file string) error { return copyFile(x.path, file) }

// Take has the index be what a file kept of one.
func (x *Index) Take(file string) error { return copyFile(file, x.path) }

// There reports whether the index is there, and was not put in the place of the repository's.
func (x *Index) There() bool {
	_, err := os.Lstat(x.path)
	return err == nil
}

// Drop removes it.
func (x *Index) Drop() { os.Remove(x.path) }

// copyFile copies a file, whole or not at all, and when it was changed: to git, an entry of an index
// that is not older than the index itself may be of a file changed since, however alike the two look.
// One that is not there leaves none.
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

// Set has the index hold entries under paths, merged; absent ones are taken out. Files are not
// touched.
func (x *Index) Set(ctx context.Context, entries map[string]object.Entry) error {
	if len(entries) == 0 {
		return nil
	}
	zero := strings.Repeat("0", 2*x.r.Format.Size())
	var away, put strings.Builder // away first: a file can stand where a folder is to be
	for path, e := range entries {
		fmt.Fprintf(&away, "0 %s\t%s\x00", zero, path)
		if !e.Absent() {
			fmt.Fprintf(&put, "%o %s\t%s\x00", uint32(e.Mode), e.ID, path)
		}
	}
	_, err := x.run(ctx, "preparing the index", away.String()+put.String(), "update-index", "-z", "--index-info")
	return err
}

// Add has the index hold files as they are in the working tree; those that are not there are
// taken out.
func (x *Index) Add(ctx context.Context, paths []string) error {
	if len(paths) == 0 {
		return nil
	}
	_, err := x.run(ctx, "reading what is not committed", strings.Join(paths, "\x00")+"\x00", "update-index", "--add",
		"--remove", "--replace", "-z", "--stdin")
	return err
}

// Tree makes the tree of what the index holds. What is not merged must have been taken out.
func (x *Index) Tree(ctx context.Context) (object.ID, error) {
	out, err := x.run(ctx, "reading the index", "", "write-tree")
	if err != nil {
		return object.ID{}, err
	}
	return object.ParseID(strings.TrimSpace(out))
}

// SwitchTree takes this index from one tree to another and, if they are to be, the files of the working tree. Files
// that are not there are no hindrance; any other that changes and is not as the index has it is.
func (x *Index) SwitchTree(ctx context.Context, from, to object.ID, files bool) error {
	args := []string{"read-tree", "-m"}
	if files {
		args = append(args, "-u")
	}
	_, err := x.run(ctx, "changing the working tree", "", append(args, from.String(), to.String())...)
	return err
}

// Sparse reports whether the working tree holds a part of the files only.
func (r *Tree) Sparse(ctx context.Context) (bool, error) {
	return r.config.Flag(ctx, "core.sparseCheckout")
}

// CheckOut writes files as the index has them, as they would be in the working tree, below another folder. Those that
// the index has outside of a sparse working tree are left out.
func (x *Index) CheckOut(ctx context.Context, folder string, paths []string) error {
	if len(paths) == 0 {
		return nil
	}
	_, err := x.run(ctx, "writing files", strings.Join(paths, "\x00")+"\x00", "checkout-index", "--quiet",
		"--prefix="+folder+"/", "-z", "--stdin")
	return err
}

// Refresh has the index know files that are as it has them again.
func (x *Index) Refresh(ctx context.Context) error {
	_, err := x.run(ctx, "reading the working tree", "", "update-index", "-q", "--refresh", "--unmerged")
	if code(err) == 1 {
		return nil // some are changed, which is no failure
	}
	return err
}

// Listing returns all that the index holds, stages too, as text to be compared.
func (x *Index) Listing(ctx context.Context) (string, error) {
	return x.run(ctx, "reading the index", "", "ls-files", "--stage", "-z")
}

// Listing returns all that the repository's index holds, stages too, as text to be compared.
func (r *Tree) Listing(ctx context.Context) (string, error) {
	return r.run(ctx, "reading the index", "ls-files", "--stage", "-z")
}

// LockIndex takes the lock of the repository's index, as git does: no other git changes it
// meanwhile. Install lets go of it, and so does unlock. The error is a *LockedError where
// another has it.
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
		if err != nil { // a disk can fail once
			err = os.Remove(lock)
		}
		if errors.Is(err, fs.ErrNotExist) {
			return nil
		}
		return err
	}, nil
}

// Install puts the index in the place of the repository's, whose lock must have been taken.
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

// Uncommitted returns what is not committed as two trees: all that the index holds, but what is not merged, and all
// that the files hold. Paths that git does not know are not in them. Only objects are written, that nothing refers to.
func (r *Tree) Uncommitted(ctx context.Context, dirty []vcs.Dirty) (staged, files object.ID, err error) {
	x, err := r.CopyIndex(ctx, "look")
	if err != nil {
		return staged, files, err
	}
	defer x.Drop()
	out := map[string]object.Entry{}
	var paths, folders []string
	for _, d := range dirty {
		if d.Untracked {
			continue
		}
		if info, err := os.Lstat(filepath.Join(r.Dir, filepath.FromSlash(d.Path))); err == nil && info.IsDir() {
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
	if len(folders) > 0 { // submodules are, and what is where a file was taken out is not
		known, err := r.Indexed(ctx)
		if err != nil {
			return staged, files, err
		}
		folders = slices.DeleteFunc(folders, func(p string) bool { _, ok := known[p]; return !ok })
		paths = append(folders, paths...) // before what is in them takes their place
	}
	if err = x.Add(ctx, paths); err != nil {
		return staged, files, err
	}
	files, err = x.Tree(ctx)
	return staged, files, err
}
