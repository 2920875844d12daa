package vcs

import (
	"context"
	"fmt"
	"slices"
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

// LockedBy returns a *Refusal if somebody else holds a lock of a path, else nil.
func LockedBy(locks []Lock, paths []string) error {
	refusal := &Refusal{Kind: Locked}
	for _, l := range locks {
		if l.Mine || l.Owner == "" || !slices.Contains(paths, l.Path) {
			continue
		}
		text := fmt.Sprintf("%s is locked by %s since %s", l.Path, l.Owner, l.Since.Local().Format("2 Jan 2006, 15:04"))
		if l.Why != "" {
			text += ": " + l.Why
		}
		refusal.Words = append(refusal.Words, text)
	}
	if len(refusal.Words) == 0 {
		return nil
	}
	return refusal
}

// Locking knows locks.
type Locking interface {
	// Used reports whether there are locks, or files that are to be locked.
	Used(ctx context.Context) bool
	// Ask asks the remote for them. It does nothing where locks are not used.
	Ask(ctx context.Context) error
	// Lockable returns those of some paths that are to be locked before they are changed.
	Lockable(ctx context.Context, paths []string) ([]string, error)
	// Free asks the remote, and returns a *Refusal if somebody else holds a lock of a path.
	Free(ctx context.Context, paths []string) error
	// Locks returns the locks, sorted by path, as they were when the repository was asked last.
	Locks(ctx context.Context) ([]Lock, error)
	// Lock takes locks of files. take takes them over from others. The error is a *Refusal if somebody holds one.
	Lock(ctx context.Context, paths []string, why string, take bool) error
	// Unlock gives locks back.
	Unlock(ctx context.Context, paths []string) error
}
