package svn

import (
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"syscall"
	"time"

	"dorvik.dev/dorvik/internal/vcs"
)

// Database is the file in which svn keeps what it knows of a working copy. It is an SQLite database, which is copied
// and replaced as a whole. While it is locked, no svn can read or write it.
type Database struct {
	file *os.File
	path string
}

// The bytes of the file that SQLite locks (https://sqlite.org/lockingv3.html).
const (
	pendingByte = 1 << 30
	lockedBytes = 512
)

// LockDatabase waits until no svn works in the working copy, and keeps them out until the file is closed.
func LockDatabase(own string) (*Database, error) {
	path := filepath.Join(own, "wc.db")
	f, err := os.OpenFile(path, os.O_RDWR, 0)
	if err != nil {
		return nil, fmt.Errorf("opening what svn knows of your files: %w; nothing was changed", err)
	}
	lock := syscall.Flock_t{Type: syscall.F_WRLCK, Whence: io.SeekStart, Start: pendingByte, Len: lockedBytes}
	for until := time.Now().Add(5 * time.Second); ; time.Sleep(20 * time.Millisecond) {
		err := syscall.FcntlFlock(f.Fd(), syscall.F_SETLK, &lock)
		if err == nil {
			return &Database{f, path}, nil
		}
		if time.Now().After(until) {
			f.Close()
			return nil, &vcs.LockedError{Path: path, Err: err}
		}
	}
}

// Close lets svn in again. Any other closing of the file by this process would, too.
func (d *Database) Close() { d.file.Close() }

// Hash returns the SHA-256 of what it holds.
func (d *Database) Hash() (string, error) { return hashOf(d.file) }

func hashOf(f *os.File) (string, error) {
	h := sha256.New()
	if _, err := io.Copy(h, io.NewSectionReader(f, 0, 1<<62)); err != nil {
		return "", fmt.Errorf("reading what svn knows of your files: %w", err)
	}
	return hex.EncodeToString(h.Sum(nil)), nil
}

// HashAt is Hash of a file that is not locked.
func HashAt(path string) (string, error) {
	f, err := os.Open(path)
	if err != nil {
		return "", fmt.Errorf("reading what svn knows of your files: %w", err)
	}
	defer f.Close()
	return hashOf(f)
}

// CopyTo copies it to a file and waits until that is on the disk.
func (d *Database) CopyTo(path string) error {
	to, err := os.OpenFile(path, os.O_WRONLY|os.O_CREATE|os.O_TRUNC, 0o600)
	if err != nil {
		return fmt.Errorf("keeping what svn knows of your files: %w; nothing was changed", err)
	}
	_, err = io.Copy(to, io.NewSectionReader(d.file, 0, 1<<62))
	if err := errors.Join(err, to.Sync(), to.Close()); err != nil {
		return fmt.Errorf("keeping what svn knows of your files: %w; nothing was changed", err)
	}
	return nil
}
