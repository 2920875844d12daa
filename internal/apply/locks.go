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

// locks removes locks that were left by a git that died, and no others.
type locks struct{ Repo *git.Repo }

// lockPatience is how long a lock must be there unchanged to count as left by the dead.
const lockPatience = 300 * time.Millisecond

// tick is how much earlier than it is the time of a file can be.
const tick = 20 * time.Millisecond

func lockingPath(gitDir string) string { return filepath.Join(gitDir, "dorvik", "locking") }

// refresh has the index look again at files that were only touched.
func (l *locks) refresh(ctx context.Context) error {
	return l.locking(func() error { return l.Repo.Refresh(ctx) })
}

// locking runs something that locks the index and changes nothing. It is noted meanwhile, so
// that a lock which a git that dies at it leaves is known.
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
	case err == nil: // git had it; one that is left it could not remove, which it does not say
		l.clearLock("index.lock", begun, time.Now())
	}
	os.Remove(note)
	return err
}

// clearNoted removes the index's lock if what is noted was cut off and left it.
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

// clearLocks removes locks that the transition's own git left when it died. That it is dead
// is known: this session has the lock which it would still hold.
func (l *locks) clearLocks(tr *Transition) {
	from, to := tr.Begun.Add(-2*time.Second), time.Now().Add(time.Hour)
	l.clearLock("index.lock", from, to)
	l.clearLocksOf(tr.refs(), from, to)
	l.clearOwnLocks()
}

// clearLocksOf removes locks on HEAD and refs that were made within a time and are not in use.
func (l *locks) clearLocksOf(refs []vcs.RefUpdate, from, to time.Time) {
	l.clearLock("HEAD.lock", from, to)
	for _, r := range refs {
		l.clearLock(r.Name+".lock", from, to)
	}
}

// clearOwnLocks removes what a git that died left of locks on refs of Dorvik's own. Nobody
// else makes those, and one that is in use is gone soon.
func (l *locks) clearOwnLocks() {
	at := filepath.Join(l.Repo.Common, "refs", "dorvik")
	_ = filepath.WalkDir(at, func(path string, _ fs.DirEntry, err error) error { // mostly it finds nothing
		if name, rerr := filepath.Rel(l.Repo.Common, path); err == nil && rerr == nil && filepath.Ext(path) == ".lock" {
			l.clearLock(filepath.ToSlash(name), time.Time{}, time.Now().Add(time.Hour))
		}
		return nil
	})
}

// clearLock removes a lock that was made within a time and is not in use.
func (l *locks) clearLock(name string, from, to time.Time) {
	path, err := l.Repo.Inside(context.Background(), name)
	if err != nil {
		return
	}
	info, err := os.Lstat(path)
	if err != nil || info.ModTime().Before(from) || info.ModTime().After(to) {
		return // somebody else's: git will name it
	}
	// One that is in use is gone soon.
	time.Sleep(lockPatience)
	if again, err := os.Lstat(path); err == nil && os.SameFile(info, again) && again.ModTime().Equal(info.ModTime()) {
		os.Remove(path)
	}
}
