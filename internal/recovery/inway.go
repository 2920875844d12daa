package recovery

import (
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"dorvik.dev/dorvik/internal/core/object"
	"dorvik.dev/dorvik/internal/git"
)

// OverwriteError says that a join would change what is not committed.
type OverwriteError struct {
	Paths   []string
	Unknown bool // all of them are things git does not know: they can be moved aside
}

func (e *OverwriteError) Error() string {
	if e.Unknown {
		return fmt.Sprintf("the join must write where you have %s, which git does not know. Nothing was changed; have "+
			"it moved aside (undo brings it back), or move it yourself", strings.Join(e.Paths, ", "))
	}
	return fmt.Sprintf("the join must change %s, where you have work that is not committed; commit it, or put it "+
		"aside, and try again. Nothing was changed",
		strings.Join(e.Paths, ", "))
}

// InTheWay names, as an *OverwriteError, the uncommitted work that taking the
// branch to a tree would have to change; nil where there is none.
func (w *Workspace) InTheWay(p *Position, tree object.ID) error {
	if tree.IsZero() {
		return nil // the route is refused: there is nothing to go to
	}
	from, err := w.Tree(p.Yours)
	if err != nil {
		return err
	}
	return w.inTheWay(from, tree, p.Dirty)
}

// inTheWay lists, as an *OverwriteError, uncommitted work on paths that differ
// between two trees, and what git does not know, ignored things and empty folders too, where
// the new tree puts something; nil where there is none.
func (w *Workspace) inTheWay(from, to object.ID, dirty []git.Dirty) error {
	changes, err := w.Store.Changes(from, to)
	if err != nil {
		return err
	}
	goes := map[string]bool{} // what the join takes away, and the folders that are there for it
	for _, c := range changes {
		if !c.Old.Absent() {
			goes[c.Path] = true
			for dir := folder(c.Path); dir != ""; dir = folder(dir) {
				goes[dir] = true
			}
		} else if err := object.CheckPath(c.Path); err != nil {
			return err
		}
	}
	var paths, unknown []string
	for _, d := range dirty {
		if slices.ContainsFunc(changes, func(c object.Change) bool {
			return overlaps(c.Path,
				strings.TrimSuffix(d.Path, "/"), d.Untracked)
		}) {
			if d.Untracked {
				unknown = append(unknown, strings.TrimSuffix(d.Path, "/"))
			} else {
				paths = append(paths, d.Path)
			}
		}
	}
	tops := map[string]bool{}
	for _, c := range changes {
		if c.New.Absent() || !c.Old.Absent() {
			continue
		}
		if top := w.standsAt(c.Path, goes); top != "" && !tops[top] {
			tops[top] = true
			if !slices.ContainsFunc(unknown, func(u string) bool {
				return u == top || strings.HasPrefix(top,
					u+"/") || strings.HasPrefix(u, top+"/")
			}) &&
				!slices.Contains(paths, top) {
				unknown = append(unknown, top)
			}
		}
	}
	if len(paths)+len(unknown) == 0 {
		return nil
	}
	return &OverwriteError{Paths: append(paths, unknown...), Unknown: len(paths) == 0}
}

// standsAt gives what is in the working tree where a path is to be written and is not
// among what goes: the thing itself, or one where a folder of the path is to be.
func (w *Workspace) standsAt(path string, goes map[string]bool) string {
	for i, r := range path {
		if r != '/' {
			continue
		}
		info, err := os.Lstat(filepath.Join(w.Repo.Dir, filepath.FromSlash(path[:i])))
		if err != nil {
			return ""
		}
		if !info.IsDir() {
			if goes[path[:i]] {
				return ""
			}
			return path[:i]
		}
	}
	info, err := os.Lstat(filepath.Join(w.Repo.Dir, filepath.FromSlash(path)))
	switch {
	case err != nil || !info.IsDir() && goes[path]:
		return ""
	case !info.IsDir():
		return path
	}
	found := ""
	_ = filepath.WalkDir(filepath.Join(w.Repo.Dir, filepath.FromSlash(path)), func(file string, _ fs.DirEntry,
		err error) error {
		rel, rerr := filepath.Rel(w.Repo.Dir, file)
		if err != nil || rerr != nil || found != "" {
			return nil // what cannot be read git will meet itself
		}
		if rel = filepath.ToSlash(rel); !goes[rel] {
			found = rel
		}
		return nil
	})
	if found != "" {
		return path // as a whole, so that it can be moved aside
	}
	return ""
}

// overlaps reports whether writing the path touched can hurt the dirty one. An
// untracked folder is given as a whole; that a file is written beside those
// in it does no harm, and git itself refuses if it is one of them.
func overlaps(touched, dirty string, untracked bool) bool {
	return touched == dirty || strings.HasPrefix(dirty, touched+"/") || !untracked && strings.HasPrefix(touched,
		dirty+"/")
}
