package apply

import (
	"context"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"

	"dorvik.dev/dorvik/internal/change"
	"dorvik.dev/dorvik/internal/core/object"
	"dorvik.dev/dorvik/internal/plan"
	"dorvik.dev/dorvik/internal/vcs"
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
		dirty, away = unknownTo(dirty), append(away, p.Carried.Paths...)
	}
	if same, err = w.between(ctx, from, tree, dirty, away...); err != nil {
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
		if err == nil && !info.IsDir() && !w.holdsJust(c.Path, c.Old) {
			paths = append(paths, c.Path)
		}
	}); err != nil || len(paths) == 0 {
		return err
	}
	return &change.OverwriteError{Paths: paths, Hidden: true}
}

// unknownTo returns the untracked paths.
func unknownTo(dirty []vcs.Dirty) []vcs.Dirty {
	return slices.DeleteFunc(slices.Clone(dirty), func(d vcs.Dirty) bool { return !d.Untracked })
}

// between returns a *change.OverwriteError for uncommitted, untracked or ignored paths that a switch between two trees
// would overwrite. It skips paths in away. same lists untracked files that already have the new content.
func (w *WorkTree) between(ctx context.Context, from, to object.ID, dirty []vcs.Dirty, away ...string) (same []string,
	err error) {
	o := obstacles{w: w, away: away, goes: map[string]bool{}}
	if o.changes, err = w.Planner.Store.Changes(ctx, from, to); err != nil {
		return nil, err
	}
	o.changes = slices.DeleteFunc(o.changes, func(c object.Change) bool { // the path changes in the index only
		return c.Old.Mode == object.ModeSubmodule && c.New.Mode == object.ModeSubmodule
	})
	for _, p := range away {
		o.going(p)
	}
	for _, c := range o.changes {
		if !c.Old.Absent() {
			o.going(c.Path)
		} else if err := object.CheckPath(c.Path); err != nil {
			return nil, err
		}
	}
	for _, d := range dirty {
		o.status(d)
	}
	for _, c := range o.changes {
		for _, top := range o.on(c) {
			o.add(top, c)
		}
	}
	if len(o.paths)+len(o.unknown) > 0 {
		err = &change.OverwriteError{Paths: append(o.paths, o.unknown...), Unknown: len(o.paths) == 0}
	}
	return o.same, err
}

// obstacles collects what is in the way of a switch.
type obstacles struct {
	w       *WorkTree
	changes []object.Change
	away    []string
	goes    map[string]bool // paths that the join removes, and folders that become empty

	paths   []string // tracked paths with uncommitted work
	unknown []string // untracked paths
	same    []string // untracked paths that already equal the new content
}

func (o *obstacles) going(path string) {
	for ; path != ""; path = plan.Folder(path) {
		o.goes[path] = true
	}
}

// status examines a path with uncommitted work.
func (o *obstacles) status(d vcs.Dirty) {
	if d.Untracked && slices.Contains(o.away, d.Path) {
		return // removed from the index, and still on disk
	}
	path := strings.TrimSuffix(d.Path, "/")
	i := slices.IndexFunc(o.changes, func(c object.Change) bool { return overlaps(c.Path, path, d.Untracked) })
	switch {
	case i < 0:
	case d.Untracked:
		o.add(path, o.changes[i])
	default:
		o.paths = append(o.paths, d.Path)
	}
}

// on returns what exists where a change writes.
func (o *obstacles) on(c object.Change) (tops []string) {
	switch {
	case c.New.Absent():
	case c.Old.Absent():
		tops = o.w.standsAt(c.Path, o.goes)
	case slices.Contains(o.away, c.Path): // another file can be there by now
		if top := o.w.fileAbove(c.Path); top != "" {
			tops = []string{top}
		} else if o.w.isFolder(c.Path) {
			tops = o.w.standsAt(c.Path, o.goes) // paths that the join removes are not in the way
		}
	}
	return slices.DeleteFunc(tops, func(top string) bool { return slices.Contains(o.away, top) && !o.w.isFolder(top) })
}

// add records an untracked obstacle once.
func (o *obstacles) add(top string, c object.Change) {
	if slices.Contains(o.paths, top) || slices.Contains(o.same, top) ||
		slices.ContainsFunc(o.unknown, func(u string) bool {
			return u == top || strings.HasPrefix(top, u+"/") || strings.HasPrefix(u, top+"/")
		}) {
		return
	}
	if top == c.Path && o.w.holdsJust(top, c.New) {
		o.same = append(o.same, top)
		return
	}
	o.unknown = append(o.unknown, top)
}

// holdsJust reports whether a file has exactly the content of an entry.
func (w *WorkTree) holdsJust(path string, e object.Entry) bool {
	full := filepath.Join(w.Repo.Dir, filepath.FromSlash(path))
	info, err := os.Lstat(full)
	if err != nil || e.Absent() {
		return false
	}
	var data []byte
	switch {
	case info.Mode().IsRegular() && e.Mode == object.ModeFile && info.Mode()&0o100 == 0,
		info.Mode().IsRegular() && e.Mode == object.ModeExec && info.Mode()&0o100 != 0:
		data, err = os.ReadFile(full)
	case info.Mode()&fs.ModeSymlink != 0 && e.Mode == object.ModeLink:
		var to string
		to, err = os.Readlink(full)
		data = []byte(to)
	default:
		return false
	}
	return err == nil && w.Planner.Store.Format().Sum(object.KindBlob, data) == e.ID
}

func (w *WorkTree) isFolder(path string) bool {
	info, err := os.Lstat(filepath.Join(w.Repo.Dir, filepath.FromSlash(path)))
	return err == nil && info.IsDir()
}

// fileAbove returns a file that stands where the path needs a folder.
func (w *WorkTree) fileAbove(path string) string {
	for i, r := range path {
		if r != '/' {
			continue
		}
		if info, err := os.Lstat(filepath.Join(w.Repo.Dir, filepath.FromSlash(path[:i]))); err == nil && !info.IsDir() {
			return path[:i]
		}
	}
	return ""
}

// standsAt lists what stands where a path is written: the file, a file where a folder is needed, or the other content
// of a folder with that name.
func (w *WorkTree) standsAt(path string, goes map[string]bool) (found []string) {
	for i, r := range path {
		if r != '/' {
			continue
		}
		info, err := os.Lstat(filepath.Join(w.Repo.Dir, filepath.FromSlash(path[:i])))
		switch {
		case err != nil:
			return nil
		case !info.IsDir() && goes[path[:i]]:
			return nil
		case !info.IsDir():
			return []string{path[:i]}
		}
	}
	_ = filepath.WalkDir(filepath.Join(w.Repo.Dir, filepath.FromSlash(path)), func(file string, d fs.DirEntry,
		err error) error {
		rel, rerr := filepath.Rel(w.Repo.Dir, file)
		if err != nil || rerr != nil {
			return nil // git reports what cannot be read
		}
		if rel = filepath.ToSlash(rel); goes[rel] {
			return nil
		}
		found = append(found, rel)
		if d.IsDir() {
			return filepath.SkipDir
		}
		return nil
	})
	return found
}

// overlaps reports whether writing touched can damage dirty. Writing next to the files of an untracked folder does no
// harm; git itself refuses to overwrite one of them.
func overlaps(touched, dirty string, untracked bool) bool {
	return touched == dirty || strings.HasPrefix(dirty, touched+"/") || !untracked && strings.HasPrefix(touched,
		dirty+"/")
}
