// Package beneath works on files below a directory and never follows a symbolic link: nothing exists below a link.
// Each call opens the directories of a path one by one, so none can be replaced by a link in between.
package beneath

import (
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path"
	"strings"
	"syscall"

	"golang.org/x/sys/unix"
)

// Folder is a directory. Files below it are named by slash-separated relative paths.
type Folder string

// ErrTaken is returned by Move if there is something at the new path.
var ErrTaken = fs.ErrExist

// parent opens the directory of a path and returns the path's last part. With make it creates missing directories, the
// Folder too. Close the root afterwards.
func (f Folder) parent(op, name string, make bool) (dir *os.Root, last string, err error) {
	if !valid(name) {
		return nil, "", &fs.PathError{Op: op, Path: name, Err: fs.ErrInvalid}
	}
	if make {
		err = os.MkdirAll(string(f), 0o755)
	}
	if err == nil {
		dir, err = os.OpenRoot(string(f))
	}
	if err != nil {
		return nil, "", err
	}
	parts := strings.Split(name, "/")
	for i, part := range parts[:len(parts)-1] {
		below, err := enter(dir, part, make)
		dir.Close()
		if err != nil {
			return nil, "", &fs.PathError{Op: op, Path: path.Join(parts[:i+1]...), Err: err}
		}
		dir = below
	}
	return dir, parts[len(parts)-1], nil
}

// valid reports whether a path leads below a folder. Its bytes need not be UTF-8, as fs.ValidPath asks: file systems
// keep any.
func valid(name string) bool {
	for part := range strings.SplitSeq(name, "/") {
		if part == "" || part == "." || part == ".." || strings.ContainsRune(part, 0) {
			return false
		}
	}
	return true
}

// enter opens a directory in another. Links cannot be entered.
func enter(dir *os.Root, name string, make bool) (*os.Root, error) {
	info, err := dir.Lstat(name)
	if make && errors.Is(err, fs.ErrNotExist) {
		if err = dir.Mkdir(name, 0o755); err != nil && !errors.Is(err, fs.ErrExist) {
			return nil, reason(err)
		}
		info, err = dir.Lstat(name)
	}
	if err != nil {
		return nil, reason(err)
	}
	if !info.IsDir() {
		return nil, syscall.ENOTDIR
	}
	below, err := dir.OpenRoot(name)
	if err != nil {
		return nil, reason(err)
	}
	if is, err := below.Stat("."); err != nil || !os.SameFile(is, info) {
		below.Close()
		return nil, syscall.ENOTDIR // the folder was replaced meanwhile
	}
	return below, nil
}

// reason returns an error without its path.
func reason(err error) error {
	var at *fs.PathError
	if errors.As(err, &at) {
		return at.Err
	}
	return err
}

// in calls do with the directory of a path and the path's last part.
func (f Folder) in(op, name string, make bool, do func(dir *os.Root, last string) error) error {
	dir, last, err := f.parent(op, name, make)
	if err != nil {
		return err
	}
	defer dir.Close()
	if err := do(dir, last); err != nil {
		return &fs.PathError{Op: op, Path: name, Err: reason(err)}
	}
	return nil
}

// Lstat is os.Lstat below the folder.
func (f Folder) Lstat(name string) (info fs.FileInfo, err error) {
	err = f.in("lstat", name, false, func(dir *os.Root, last string) (err error) {
		info, err = dir.Lstat(last)
		return err
	})
	return info, err
}

// Has reports whether a path exists.
func (f Folder) Has(name string) bool {
	_, err := f.Lstat(name)
	return err == nil
}

// ReadFile reads a regular file.
func (f Folder) ReadFile(name string) (data []byte, err error) {
	err = f.in("read", name, false, func(dir *os.Root, last string) error {
		info, err := dir.Lstat(last)
		if err != nil {
			return err
		}
		if !info.Mode().IsRegular() {
			return fs.ErrInvalid
		}
		data, err = dir.ReadFile(last)
		return err
	})
	return data, err
}

// Readlink is os.Readlink below the folder.
func (f Folder) Readlink(name string) (to string, err error) {
	err = f.in("readlink", name, false, func(dir *os.Root, last string) (err error) {
		to, err = dir.Readlink(last)
		return err
	})
	return to, err
}

// Remove removes a file, a link or an empty folder.
func (f Folder) Remove(name string) error {
	return again(func() error {
		return f.in("remove", name, false, func(dir *os.Root, last string) error { return dir.Remove(last) })
	})
}

// again retries an operation once unless the failure is due to the path itself, because a disk can fail once.
func again(do func() error) error {
	err := do()
	for _, plain := range []error{nil, fs.ErrExist, fs.ErrNotExist, fs.ErrInvalid, unix.ENOTEMPTY, unix.ENOTDIR} {
		if errors.Is(err, plain) {
			return err
		}
	}
	return do()
}

// RemoveEmpty removes a directory that contains nothing but directories. It leaves what it cannot remove.
func (f Folder) RemoveEmpty(name string) {
	_ = f.in("remove", name, false, func(dir *os.Root, last string) error {
		info, err := dir.Lstat(last)
		if err != nil || !info.IsDir() {
			return err
		}
		below, err := enter(dir, last, false)
		if err != nil {
			return err
		}
		list, err := fs.ReadDir(below.FS(), ".")
		below.Close()
		if err != nil {
			return err
		}
		for _, e := range list {
			if e.IsDir() {
				f.RemoveEmpty(path.Join(name, e.Name()))
			}
		}
		return again(func() error { return dir.Remove(last) }) // fails if the folder is not empty
	})
}

// Write creates a file with its directories, completely or not at all, and waits until it is on the disk. The error is
// ErrTaken if the path exists.
func (f Folder) Write(name string, data []byte, perm fs.FileMode) error {
	return f.create(name, data, perm, true)
}

// Put is Write that does not wait for the disk.
func (f Folder) Put(name string, data []byte, perm fs.FileMode) error {
	return f.create(name, data, perm, false)
}

func (f Folder) create(name string, data []byte, perm fs.FileMode, sync bool) error {
	return f.in("write", name, true, func(dir *os.Root, last string) error {
		const beside = ".dorvik-new"
		out, err := dir.OpenFile(beside, os.O_WRONLY|os.O_CREATE|os.O_TRUNC|syscall.O_NOFOLLOW, 0o600)
		if err != nil {
			return err
		}
		_, err = out.Write(data)
		err = errors.Join(err, out.Chmod(perm))
		if sync {
			err = errors.Join(err, out.Sync())
		}
		if err = errors.Join(err, out.Close()); err == nil {
			err = move(dir, beside, dir, last)
		}
		if err != nil {
			return errors.Join(err, dir.Remove(beside))
		}
		return nil
	})
}

// Link creates a symbolic link with the directories of its path. The error is ErrTaken if the path exists.
func (f Folder) Link(name, to string) error {
	return f.in("link", name, true, func(dir *os.Root, last string) error { return dir.Symlink(to, last) })
}

// Move moves a path to one below another Folder, which may be the same, and creates directories there. The error is
// ErrTaken if the new path exists.
func (f Folder) Move(name string, to Folder, as string) error {
	return again(func() error {
		return f.in("move", name, false, func(from *os.Root, last string) error {
			return to.in("move", as, true, func(into *os.Root, end string) error { return move(from, last, into, end) })
		})
	})
}

func move(from *os.Root, name string, into *os.Root, as string) error {
	a, err := from.Open(".")
	if err != nil {
		return err
	}
	defer a.Close()
	b, err := into.Open(".")
	if err != nil {
		return err
	}
	defer b.Close()
	err = renameNoReplace(int(a.Fd()), name, int(b.Fd()), as)
	if errors.Is(err, errors.ErrUnsupported) {
		if _, err := into.Lstat(as); err == nil {
			return ErrTaken
		}
		err = unix.Renameat(int(a.Fd()), name, int(b.Fd()), as)
	}
	if errors.Is(err, unix.EXDEV) {
		err = copyOver(from, name, into, as)
	}
	return err
}

// copyOver moves a file to another file system. A file that is written to meanwhile stays where it is.
func copyOver(from *os.Root, name string, into *os.Root, as string) (err error) {
	info, err := from.Lstat(name)
	if err != nil {
		return err
	}
	switch {
	case info.IsDir():
		err = into.Mkdir(as, info.Mode().Perm())
	case info.Mode()&fs.ModeSymlink != 0:
		var to string
		if to, err = from.Readlink(name); err == nil {
			err = into.Symlink(to, as)
		}
	default:
		err = copyFile(from, name, into, as, info)
	}
	if errors.Is(err, fs.ErrExist) {
		return ErrTaken
	}
	if err != nil {
		return err
	}
	if now, err := from.Lstat(name); err != nil || now.Size() != info.Size() || !now.ModTime().Equal(info.ModTime()) {
		return errors.Join(err, into.Remove(as), fmt.Errorf("%s was written to meanwhile", name))
	}
	return from.Remove(name)
}

func copyFile(from *os.Root, name string, into *os.Root, as string, info fs.FileInfo) error {
	in, err := from.Open(name)
	if err != nil {
		return err
	}
	defer in.Close()
	out, err := into.OpenFile(as, os.O_WRONLY|os.O_CREATE|os.O_EXCL, info.Mode().Perm())
	if err != nil {
		return err
	}
	_, err = io.Copy(out, in)
	if err = errors.Join(err, out.Close()); err == nil {
		err = into.Chtimes(as, info.ModTime(), info.ModTime())
	}
	if err != nil {
		return errors.Join(err, into.Remove(as))
	}
	return nil
}
