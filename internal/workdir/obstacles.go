// Package workdir looks at the files of a working tree: what is in the way of a change, what an editor has open, and
// which process is changing them. It also keeps the journal of a change, and gives kept files back. It is the same for
// all version-control systems.
package workdir

import (
	"context"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"dorvik.dev/dorvik/internal/change"
	"dorvik.dev/dorvik/internal/core/object"
	"dorvik.dev/dorvik/internal/plan"
	"dorvik.dev/dorvik/internal/vcs"
)

// Tree is a working tree.
type Tree struct {
	Dir     string // its top
	Planner *plan.Planner
}

// UnknownTo returns the untracked paths.
func UnknownTo(dirty []vcs.Dirty) []vcs.Dirty {
	return slices.DeleteFunc(slices.Clone(dirty), func(d vcs.Dirty) bool { return !d.Untracked })
}

// Between returns a *change.OverwriteError for uncommitted, untracked or ignored paths that a switch between two trees
// would overwrite. It skips paths in away. same lists untracked files that already have the new content.
func (w *Tree) Between(ctx context.Context, from, to object.ID, dirty []vcs.Dirty, away ...string) (same []string,
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
	w       *Tree
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
	if top == c.Path && o.w.HoldsJust(top, c.New) {
		o.same = append(o.same, top)
		return
	}
	o.unknown = append(o.unknown, top)
}

// HoldsJust reports whether a file has exactly the content of an entry.
func (w *Tree) HoldsJust(path string, e object.Entry) bool {
	full := filepath.Join(w.Dir, filepath.FromSlash(path))
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

func (w *Tree) isFolder(path string) bool {
	info, err := os.Lstat(filepath.Join(w.Dir, filepath.FromSlash(path)))
	return err == nil && info.IsDir()
}

// fileAbove returns a file that stands where the path needs a folder.
func (w *Tree) fileAbove(path string) string {
	for i, r := range path {
		if r != '/' {
			continue
		}
		if info, err := os.Lstat(filepath.Join(w.Dir, filepath.FromSlash(path[:i]))); err == nil && !info.IsDir() {
			return path[:i]
		}
	}
	return ""
}

// standsAt lists what stands where a path is written: the file, a file where a folder is needed, or the other content
// of a folder with that name.
func (w *Tree) standsAt(path string, goes map[string]bool) (found []string) {
	for i, r := range path {
		if r != '/' {
			continue
		}
		info, err := os.Lstat(filepath.Join(w.Dir, filepath.FromSlash(path[:i])))
		switch {
		case err != nil:
			return nil
		case !info.IsDir() && goes[path[:i]]:
			return nil
		case !info.IsDir():
			return []string{path[:i]}
		}
	}
	_ = filepath.WalkDir(filepath.Join(w.Dir, filepath.FromSlash(path)), func(file string, d fs.DirEntry,
		err error) error {
		rel, rerr := filepath.Rel(w.Dir, file)
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
