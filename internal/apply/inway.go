package apply

import (
	"context"
	"os"
	"path/filepath"
	"sync"

	"dorvik.dev/dorvik/internal/change"
	"dorvik.dev/dorvik/internal/core/object"
	"dorvik.dev/dorvik/internal/plan"
	"dorvik.dev/dorvik/internal/workdir"
)

// InTheWay returns a *change.OverwriteError with the uncommitted work that a switch to the tree would change.
func (w *WorkTree) InTheWay(ctx context.Context, p *plan.Position, tree object.ID) error {
	_, err := w.inTheWayOf(ctx, p, tree)
	return err
}

// inTheWayOf is InTheWay for a change that moves some paths away first. It also returns untracked files that already
// have the new content.
func (w *WorkTree) inTheWayOf(ctx context.Context, p *plan.Position, tree object.ID, away ...string) (same []string,
	err error) {
	if tree.IsZero() {
		return nil, nil // the route is refused, so there is no tree to switch to
	}
	from, err := w.Planner.Tree(ctx, p.Head())
	if err != nil {
		return nil, err
	}
	dirty := p.Dirty
	if p.Carried != nil { // carried work leaves only untracked files in the way
		dirty, away = workdir.UnknownTo(dirty), append(away, p.Carried.Paths...)
	}
	if same, err = w.dir().Between(ctx, from, tree, dirty, away...); err != nil {
		return same, err
	}
	hidden := p.Hidden
	if hidden == nil {
		hidden = func() (map[string]bool, error) { return w.Repo.Hidden(ctx) }
	}
	return same, w.hiddenInTheWay(ctx, hidden, from, tree)
}

// takes returns the files that a change writes, with those that only its index has: an untracked file there would
// become an edit of what somebody else made.
func (w *WorkTree) takes(ctx context.Context, from object.ID, l *plan.Laid) (object.ID, error) {
	was, err := w.Planner.Store.Changes(ctx, from, l.Staged)
	if err != nil {
		return object.ID{}, err
	}
	only := map[string]object.Entry{}
	for _, c := range was {
		if !c.Old.Absent() {
			continue
		}
		e, err := w.Planner.Store.Find(ctx, l.Files, c.Path)
		if err != nil {
			return object.ID{}, err
		}
		if e.Absent() {
			only[c.Path] = c.New
		}
	}
	return w.Planner.Store.Edit(ctx, l.Files, only)
}

// AskHidden starts to read the paths marked skip-worktree or assume-unchanged. The returned function waits for the
// result.
func (w *WorkTree) AskHidden(ctx context.Context) func() (map[string]bool, error) {
	wait := sync.OnceValues(func() (map[string]bool, error) { return w.Repo.Hidden(ctx) })
	go func() { _, _ = wait() }()
	return wait
}

// hiddenInTheWay returns a *change.OverwriteError for modified files that git was told to ignore and the change would
// write.
func (w *WorkTree) hiddenInTheWay(ctx context.Context, ask func() (map[string]bool, error), from, to object.ID) error {
	hidden, err := ask()
	if err != nil || len(hidden) == 0 {
		return err
	}
	var paths []string
	if err := w.Planner.Store.EachChange(ctx, from, to, func(c object.Change) {
		if !hidden[c.Path] {
			return
		}
		info, err := os.Lstat(filepath.Join(w.Repo.Dir, filepath.FromSlash(c.Path)))
		if err == nil && !info.IsDir() && !w.dir().HoldsJust(c.Path, c.Old) {
			paths = append(paths, c.Path)
		}
	}); err != nil || len(paths) == 0 {
		return err
	}
	return &change.OverwriteError{Paths: paths, Hidden: true}
}
