package recovery

import (
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"dorvik.dev/dorvik/internal/core/object"
	"dorvik.dev/dorvik/internal/git"
)

// besideOpen are the names of files that editors keep beside one that is open in them, or being
// saved: swap files, locks, and what is kept in case of a crash.
var besideOpen = []string{".%.swp", ".%.swo", ".%.swn", ".%.swx", ".#%", "#%#", ".%.kate-swp", ".~lock.%#", "~$%",
	".%.lck"}

// justWritten is how long ago a file with uncommitted work was written, at most, that somebody is
// likely still at.
const justWritten = 10 * time.Second

// Touched is what a change does to the files on disk.
type Touched struct {
	Paths []string // that are written or removed
	Open  []string // of those, the ones that seem open in an editor
}

// Touched tells which files a join changes on disk, and which of them seem to be open in an editor:
// what is there and not saved would be lost when it is saved over the result.
func (w *Workspace) Touched(p *Position, tree object.ID) (*Touched, error) {
	from, err := w.Tree(p.Yours)
	if err != nil {
		return nil, err
	}
	changes, err := w.Store.Changes(from, tree)
	if err != nil {
		return nil, err
	}
	out := &Touched{}
	for _, c := range changes {
		out.Paths = append(out.Paths, c.Path)
		if c.Old.Absent() {
			continue
		}
		written := slices.ContainsFunc(p.Dirty, func(d git.Dirty) bool { return d.Path == c.Path }) &&
			w.isJustWritten(c.Path)
		if written || w.seemsOpen(c.Path) {
			out.Open = append(out.Open, c.Path)
		}
	}
	return out, nil
}

func (w *Workspace) isJustWritten(path string) bool {
	info, err := os.Lstat(filepath.Join(w.Repo.Dir, filepath.FromSlash(path)))
	return err == nil && time.Since(info.ModTime()) < justWritten
}

// seemsOpen looks for what editors keep beside an open file.
func (w *Workspace) seemsOpen(path string) bool {
	dir, name := filepath.Split(filepath.Join(w.Repo.Dir, filepath.FromSlash(path)))
	for _, pattern := range besideOpen {
		if _, err := os.Lstat(dir + strings.Replace(pattern, "%", name, 1)); err == nil {
			return true
		}
	}
	return false
}
