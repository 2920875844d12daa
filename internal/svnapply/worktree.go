package svnapply

import (
	"context"
	"os"
	"path/filepath"
	"slices"

	"dorvik.dev/dorvik/internal/beneath"
	"dorvik.dev/dorvik/internal/change"
	"dorvik.dev/dorvik/internal/core/object"
	"dorvik.dev/dorvik/internal/plan"
	"dorvik.dev/dorvik/internal/svn"
	"dorvik.dev/dorvik/internal/vcs"
	"dorvik.dev/dorvik/internal/workdir"
)

// WorkTree reads the working copy. It implements change.WorkTree.
type WorkTree struct {
	Repo    *svn.Repo
	Planner *plan.Planner
}

var _ change.WorkTree = (*WorkTree)(nil)

// at returns the top of the working copy.
func (w *WorkTree) at() beneath.Folder { return beneath.Folder(w.Repo.Where().Dir) }

func (w *WorkTree) dir() *workdir.Tree {
	return &workdir.Tree{Dir: w.Repo.Where().Dir, Planner: w.Planner}
}

// Uncommitted reads what is changed and in no commit on top of the line. It returns nil if there is nothing.
func (w *WorkTree) Uncommitted(ctx context.Context, on object.ID, dirty []vcs.Dirty) (*plan.Uncommitted, error) {
	u := &plan.Uncommitted{On: on, Seen: map[string]os.FileInfo{}}
	working, _, err := w.Repo.Working(ctx)
	if err != nil {
		return nil, err
	}
	set := map[string]object.Entry{}
	for _, d := range dirty {
		e, changed := working[d.Path]
		if d.Untracked || !changed {
			continue
		}
		u.Paths = append(u.Paths, d.Path)
		set[d.Path] = e
		if info, err := w.at().Lstat(d.Path); err == nil && !info.IsDir() {
			u.Seen[d.Path] = info
		}
	}
	if len(u.Paths) == 0 {
		return nil, nil
	}
	if u.Staged, err = w.Planner.Tree(ctx, on); err != nil {
		return nil, err
	}
	if u.Files, err = w.Planner.Store.Edit(ctx, u.Staged, set); err != nil {
		return nil, err
	}
	u.Add(plan.Part{Base: u.Staged, Tree: u.Files, Subject: "your uncommitted work"})
	return u, nil
}

// holds reports whether a path of a folder holds an entry of a tree, or nothing for an absent one. begun accepts the
// beginning of the content, too.
func (w *WorkTree) holds(ctx context.Context, in beneath.Folder, tree object.ID, path string, e object.Entry) (bool,
	error) {
	is, err := svn.FileEntry(ctx, w.Planner.Store, tree, string(in), path)
	if e.Name = ""; err != nil {
		return false, err
	}
	return is == e, nil
}

// NothingOwn reports whether all modified files have their old content. svn tells no others.
func (w *WorkTree) NothingOwn([]vcs.Dirty) bool { return false }

// InTheWay returns a *change.OverwriteError with the uncommitted work that going to a tree would change.
func (w *WorkTree) InTheWay(ctx context.Context, p *plan.Position, tree object.ID) error {
	_, err := w.dir().Obstacles(ctx, p, tree)
	return err
}

// AskHidden finds none: svn hides no changes.
func (w *WorkTree) AskHidden(context.Context) func() (map[string]bool, error) {
	return func() (map[string]bool, error) { return nil, nil }
}

// Touched lists the files that a join changes, and which of them seem to be open in an editor.
func (w *WorkTree) Touched(ctx context.Context, p *plan.Position, tree object.ID) (*change.Touched, error) {
	t, err := w.dir().TouchedFrom(ctx, p, tree)
	if err == nil {
		t.Paths = slices.DeleteFunc(t.Paths, func(path string) bool {
			_, _, property := svn.PropertyOf(path)
			return property
		})
	}
	return t, err
}

// HalfDone returns the interrupted change, or nil. alive is true if a process is still working on it.
func (w *WorkTree) HalfDone() (half *change.HalfDone, alive bool, err error) {
	own := w.Repo.Where().Own
	tr, err := readJournal(own)
	if tr == nil {
		return nil, false, err
	}
	return &change.HalfDone{Kind: tr.Kind, Branch: tr.Waypoint.Branch, From: tr.Waypoint.Before, To: tr.Waypoint.After},
		workdir.Held(own), nil
}

// kept returns the folder of what is kept under a name.
func (w *WorkTree) kept(name string) string {
	return filepath.Join(w.Repo.Where().Own, "dorvik", "kept", name)
}
