package svn

import (
	"io/fs"
	"syscall"
)

// inode returns the number of a file in its file system.
func inode(info fs.FileInfo) uint64 {
	if st, ok := info.Sys().(*syscall.Stat_t); ok {
		return st.Ino
	}
	return 0
}
