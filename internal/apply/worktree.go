package apply

import (
	"bytes"
	"context"
	"errors"
	"io/fs"
	"os"
	"syscall"

	"dorvik.dev/dorvik/internal/beneath"
	"dorvik.dev/dorvik/internal/core/object"
	"dorvik.dev/dorvik/internal/git"
	"dorvik.dev/dorvik/internal/ledger"
	"dorvik.dev/dorvik/internal/plan"
	"dorvik.dev/dorvik/internal/vcs"
	"dorvik.dev/dorvik/internal/workdir"
)

// WorkTree reads the working tree. It implements change.WorkTree.
type WorkTree struct {
	Repo    *git.Repo
	Planner *plan.Planner
}

// dir returns what looks at the files.
func (w *WorkTree) dir() *workdir.Tree { return &workdir.Tree{Dir: w.Repo.Dir, Planner: w.Planner} }

// tree returns the working tree as a folder that never follows links.
func (w *WorkTree) tree() beneath.Folder { return beneath.Folder(w.Repo.Dir) }

func (w *WorkTree) exists(path string) bool { return w.tree().Has(path) }

// isGone reports whether an error means that there is no such file or folder.
func isGone(err error) bool { return errors.Is(err, fs.ErrNotExist) || errors.Is(err, syscall.ENOTDIR) }

// removeFolder removes a folder if it is empty.
func (w *WorkTree) removeFolder(path string) (gone bool) {
	info, err := w.tree().Lstat(path)
	if isGone(err) { // an earlier run removed it, and was interrupted before its parent
		return true
	}
	return err == nil && info.IsDir() && w.tree().Remove(path) == nil
}

// came reports whether a path holds what a change wrote there, or the beginning of it.
func (w *WorkTree) came(ctx context.Context, c object.Change) (bool, error) {
	info, err := w.tree().Lstat(c.Path)
	if err != nil || info.IsDir() {
		return false, nil
	}
	if c.New.Absent() {
		// The file should be gone. If it is there and differs, somebody wrote it, or restoring it was interrupted.
		return w.begins(ctx, info, c.Path, c.Old)
	}
	ours, err := w.begins(ctx, info, c.Path, c.New)
	if err != nil || ours || c.Old.Absent() {
		return ours, err
	}
	return w.begins(ctx, info, c.Path, c.Old)
}

// begins reports whether a file holds all or the beginning of what git would write for an entry.
func (w *WorkTree) begins(ctx context.Context, info fs.FileInfo, path string, e object.Entry) (bool, error) {
	if e.Mode == object.ModeLink {
		if info.Mode()&fs.ModeSymlink == 0 {
			return false, nil
		}
		to, err := w.tree().Readlink(path)
		if err != nil {
			return false, err
		}
		want, err := w.Planner.Store.Blob(ctx, e.ID)
		return string(want) == to, err
	}
	if !info.Mode().IsRegular() {
		return false, nil
	}
	want, err := w.Repo.AsWritten(ctx, path, e.ID)
	if err != nil {
		return false, err
	}
	is, err := w.tree().ReadFile(path)
	if err != nil {
		return false, err
	}
	return bytes.HasPrefix(want, is), nil
}

// treeName returns a name for this working tree in refs, which all working trees share.
func (w *WorkTree) treeName() string { return ledger.HashOf(w.Repo.GitDir)[:12] }

// holdWork protects the trees of uncommitted work from git gc. It replaces the ones protected before.
func (w *WorkTree) holdWork(ctx context.Context, staged, files object.ID) error {
	at := "refs/dorvik/uncommitted/" + w.treeName()
	return w.setRefs(ctx, "uncommitted work", map[string]object.ID{at + "/staged": staged, at + "/files": files})
}

// setRefs sets refs of Dorvik, whatever their old values.
func (w *WorkTree) setRefs(ctx context.Context, message string, to map[string]object.ID) error {
	var updates []vcs.RefUpdate
	for name, id := range to {
		at, err := w.Repo.Ref(ctx, name)
		if err != nil {
			return err
		}
		if at != id {
			updates = append(updates, vcs.RefUpdate{Name: name, New: id, Old: at})
		}
	}
	if len(updates) == 0 {
		return nil
	}
	return w.Repo.UpdateRefs(ctx, message, updates...)
}

// Uncommitted reads the uncommitted work. It returns nil if there is none.
func (w *WorkTree) Uncommitted(ctx context.Context, on object.ID, dirty []vcs.Dirty) (*plan.Uncommitted, error) {
	u := &plan.Uncommitted{On: on, Seen: map[string]os.FileInfo{}}
	for _, d := range dirty {
		if d.Untracked {
			continue
		}
		u.Paths = append(u.Paths, d.Path)
		if info, err := w.tree().Lstat(d.Path); err == nil && !info.IsDir() {
			u.Seen[d.Path] = info
		}
	}
	if len(u.Paths) == 0 {
		return nil, nil
	}
	var err error
	if u.Staged, u.Files, err = w.Repo.Uncommitted(ctx, dirty); err != nil {
		return nil, err
	}
	if w.Repo.Hold != nil { // a session can carry uncommitted work
		if err := w.holdWork(ctx, u.Staged, u.Files); err != nil {
			return nil, err
		}
	}
	same := map[string]object.Entry{}
	for _, d := range dirty {
		if w.asIndexed(d) {
			same[d.Path] = d.Index
		}
	}
	if u.Files, err = w.Planner.Store.Edit(ctx, u.Files, same); err != nil {
		return nil, err
	}
	base, err := w.Planner.Tree(ctx, on)
	if err != nil {
		return nil, err
	}
	u.Add(plan.Part{Base: base, Tree: u.Staged, Subject: "what you had staged", Staged: true})
	u.Add(plan.Part{Base: u.Staged, Tree: u.Files, Subject: "your uncommitted work", Staged: false})
	return u, nil
}

// asIndexed reports whether a file that git calls modified has exactly the content of the index. git reports such
// files if their line ends do not follow the attributes; storing them again would change them.
func (w *WorkTree) asIndexed(d vcs.Dirty) bool {
	return d.Unstaged && !d.Untracked && !d.Conflict && w.dir().HoldsJust(d.Path, d.Index)
}

// NothingOwn reports whether nothing is staged and all modified files match the index.
func (w *WorkTree) NothingOwn(dirty []vcs.Dirty) bool {
	any := false
	for _, d := range dirty {
		switch {
		case d.Untracked:
		case d.Staged || !w.asIndexed(d):
			return false
		default:
			any = true
		}
	}
	return any
}
