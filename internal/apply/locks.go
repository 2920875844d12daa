package apply

import (
	"context"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"time"

	"dorvik.dev/dorvik/internal/git"
	"dorvik.dev/dorvik/internal/vcs"
)

// locks removes lock files that a dead git left, and no others.
type locks struct{ Repo *git.Repo }

// lockPatience is the time a lock must stay unchanged to count as abandoned.
const lockPatience = 300 * time.Millisecond

// tick is the largest error of a file time.
const tick = 20 * time.Millisecond

func lockingPath(gitDir string) string { return filepath.Join(gitDir, "dorvik", "locking") }

// refresh updates the file times in the index.
func (l *locks) refresh(ctx context.Context) error {
	return l.locking(func() error { return l.Repo.Refresh(ctx) })
}

// locking runs a command that locks the index and changes nothing. A note on disk identifies its lock if git dies.
func (l *locks) locking(do func() error) error {
	note := lockingPath(l.Repo.GitDir)
	if err := os.WriteFile(note, nil, 0o600); err != nil {
		return fmt.Errorf("noting what is done: %w; nothing was changed", err)
	}
	begun := time.Now().Add(-tick)
	err := do()
	switch {
	case git.Died(err):
		l.clearNoted()
	case err == nil: // git held the lock; if it is still there, git failed to remove it
		l.clearLock("index.lock", begun, time.Now())
	}
	os.Remove(note)
	return err
}

// clearNoted removes the index lock of an interrupted command that left its note.
func (l *locks) clearNoted() {
	note := lockingPath(l.Repo.GitDir)
	info, err := os.Stat(note)
	if err != nil {
		return
	}
	from := info.ModTime()
	l.clearLock("index.lock", from.Add(-2*time.Second), from.Add(30*time.Second))
	os.Remove(note)
}

// clearLocks removes the locks that the transition's git left. That git is dead, because it would hold the lock that
// this process has.
func (l *locks) clearLocks(tr *Transition) {
	from, to := tr.Begun.Add(-2*time.Second), time.Now().Add(time.Hour)
	l.clearLock("index.lock", from, to)
	l.clearLocksOf(tr.refs(), from, to)
	l.clearOwnLocks()
}

// clearLocksOf removes unused locks on HEAD and refs from a period of time.
func (l *locks) clearLocksOf(refs []vcs.RefUpdate, from, to time.Time) {
	l.clearLock("HEAD.lock", from, to)
	for _, r := range refs {
		l.clearLock(r.Name+".lock", from, to)
	}
}

// clearOwnLocks removes abandoned locks on refs of Dorvik. Nobody else creates them.
func (l *locks) clearOwnLocks() {
	at := filepath.Join(l.Repo.Common, "refs", "dorvik")
	_ = filepath.WalkDir(at, func(path string, _ fs.DirEntry, err error) error { // a failing walk finds no locks
		if name, rerr := filepath.Rel(l.Repo.Common, path); err == nil && rerr == nil && filepath.Ext(path) == ".lock" {
			l.clearLock(filepath.ToSlash(name), time.Time{}, time.Now().Add(time.Hour))
		}
		return nil
	})
}

// clearLock removes an unused lock from a period of time.
func (l *locks) clearLock(name string, from, to time.Time) {
	path, err := l.Repo.Inside(context.Background(), name)
	if err != nil {
		return
	}
	info, err := os.Lstat(path)
	if err != nil || info.ModTime().Before(from) || info.ModTime().After(to) {
		return // another process holds the lock: git will report it
	}
	// A lock in use disappears soon.
	time.Sleep(lockPatience)
	if again, err := os.Lstat(path); err == nil && os.SameFile(info, again) && again.ModTime().Equal(info.ModTime()) {
		os.Remove(path)
	}
}
