package svn

import (
	"io/fs"
	"os"
	"path/filepath"
)

// CopyWhole copies a file or a link with its time and permissions, and makes the folders of its new path.
func CopyWhole(from, to string) error {
	if err := os.MkdirAll(filepath.Dir(to), 0o755); err != nil {
		return err
	}
	return copyAs(from, to)
}

// copyAs copies a file or a link with its times and permissions.
func copyAs(from, to string) error {
	info, err := os.Lstat(from)
	if err != nil {
		return err
	}
	if info.Mode()&fs.ModeSymlink != 0 {
		target, err := os.Readlink(from)
		if err != nil {
			return err
		}
		return os.Symlink(target, to)
	}
	data, err := os.ReadFile(from)
	if err == nil {
		err = os.WriteFile(to, data, info.Mode().Perm())
	}
	if err == nil {
		err = os.Chmod(to, info.Mode().Perm())
	}
	if err == nil {
		err = os.Chtimes(to, info.ModTime(), info.ModTime())
	}
	return err
}
