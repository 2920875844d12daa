package workdir

import (
	"context"
	"os"
	"path/filepath"
	"strings"
	"time"

	"dorvik.dev/dorvik/internal/change"
	"dorvik.dev/dorvik/internal/core/object"
)

// besideOpen lists patterns of files that editors keep next to an open file: swap files, locks and backups.
var besideOpen = []string{".%.swp", ".%.swo", ".%.swn", ".%.swx", ".#%", "#%#", ".%.kate-swp", ".~lock.%#", "~$%",
	".%.lck"}

// Touched lists the files that a change between two trees writes, and which of them seem to be open in an editor.
// Saving there would overwrite the result. own are the paths with uncommitted work of the person.
func (w *Tree) Touched(ctx context.Context, from, to object.ID, own map[string]bool) (*change.Touched, error) {
	changes, err := w.Planner.Store.Changes(ctx, from, to)
	if err != nil {
		return nil, err
	}
	out := &change.Touched{}
	for _, c := range changes {
		out.Paths = append(out.Paths, c.Path)
		if c.Old.Absent() {
			continue
		}
		switch {
		case w.seemsOpen(c.Path):
			out.Open = append(out.Open, c.Path)
		case own[c.Path] && w.isJustWritten(c.Path):
			out.Fresh = append(out.Fresh, c.Path)
		}
	}
	return out, nil
}

func (w *Tree) isJustWritten(path string) bool {
	info, err := os.Lstat(filepath.Join(w.Dir, filepath.FromSlash(path)))
	return err == nil && time.Since(info.ModTime()) < change.JustWritten
}

// seemsOpen looks for files of an editor next to a path.
func (w *Tree) seemsOpen(path string) bool {
	dir, name := filepath.Split(filepath.Join(w.Dir, filepath.FromSlash(path)))
	for _, pattern := range besideOpen {
		if _, err := os.Lstat(dir + strings.Replace(pattern, "%", name, 1)); err == nil {
			return true
		}
	}
	return false
}
