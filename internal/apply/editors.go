package apply

import (
	"context"
	"os"
	"path/filepath"
	"strings"
	"time"

	"dorvik.dev/dorvik/internal/change"
	"dorvik.dev/dorvik/internal/core/object"
	"dorvik.dev/dorvik/internal/plan"
)

// besideOpen lists patterns of files that editors keep next to an open file: swap files, locks and backups.
var besideOpen = []string{".%.swp", ".%.swo", ".%.swn", ".%.swx", ".#%", "#%#", ".%.kate-swp", ".~lock.%#", "~$%",
	".%.lck"}

// Touched lists the files that a join changes, and which of them seem to be open in an editor. Saving there would
// overwrite the result.
func (w *WorkTree) Touched(ctx context.Context, p *plan.Position, tree object.ID) (*change.Touched, error) {
	from, err := w.Planner.Tree(ctx, p.Head())
	if err != nil {
		return nil, err
	}
	changes, err := w.Planner.Store.Changes(ctx, from, tree)
	if err != nil {
		return nil, err
	}
	own, err := w.ownWork(ctx, p)
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

// ownWork returns the paths with uncommitted work of the person, without those that a half-done operation of git
// wrote.
func (w *WorkTree) ownWork(ctx context.Context, p *plan.Position) (map[string]bool, error) {
	own := map[string]bool{}
	if p.Stuck == nil {
		for _, d := range p.Dirty {
			own[d.Path] = !d.Untracked
		}
		return own, nil
	}
	if p.Carried == nil {
		return own, nil
	}
	for _, part := range p.Carried.Parts {
		if err := w.Planner.Store.EachChange(ctx, part.Base, part.Tree,
			func(c object.Change) { own[c.Path] = true }); err != nil {
			return nil, err
		}
	}
	return own, nil
}

func (w *WorkTree) isJustWritten(path string) bool {
	info, err := os.Lstat(filepath.Join(w.Repo.Dir, filepath.FromSlash(path)))
	return err == nil && time.Since(info.ModTime()) < change.JustWritten
}

// seemsOpen looks for files of an editor next to a path.
func (w *WorkTree) seemsOpen(path string) bool {
	dir, name := filepath.Split(filepath.Join(w.Repo.Dir, filepath.FromSlash(path)))
	for _, pattern := range besideOpen {
		if _, err := os.Lstat(dir + strings.Replace(pattern, "%", name, 1)); err == nil {
			return true
		}
	}
	return false
}
