package vcs

import (
	"context"
	"time"
)

// Lock is a file that one person has taken to change alone. While it is held, the repository takes no change of the
// file from anybody else.
type Lock struct {
	Path  string    `json:"path"`
	Owner string    `json:"owner"`
	Since time.Time `json:"since"`
	Why   string    `json:"why,omitempty"`
	Mine  bool      `json:"mine,omitempty"` // this working copy holds it
	// Broken says that this working copy held it, and somebody took it or gave it back. Without an Owner nobody has it
	// now.
	Broken bool `json:"broken,omitempty"`
}

// Locking is a system that knows locks.
type Locking interface {
	// Locks returns the locks, sorted by path, as they were when the repository was asked last.
	Locks(ctx context.Context) ([]Lock, error)
	// Lock takes locks of files. take takes them over from others. The error is a *Refusal if somebody holds one.
	Lock(ctx context.Context, paths []string, why string, take bool) error
	// Unlock gives locks back.
	Unlock(ctx context.Context, paths []string) error
}
