package hgapply

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"syscall"

	"dorvik.dev/dorvik/internal/beneath"
	"dorvik.dev/dorvik/internal/change"
	"dorvik.dev/dorvik/internal/core/object"
	"dorvik.dev/dorvik/internal/hg"
	"dorvik.dev/dorvik/internal/plan"
	"dorvik.dev/dorvik/internal/vcs"
	"dorvik.dev/dorvik/internal/workdir"
)

// WorkTree reads the working folder. It implements change.WorkTree.
type WorkTree struct {
	Repo    *hg.Repo
	Planner *plan.Planner
}

var _ change.WorkTree = (*WorkTree)(nil)

// at returns the working folder.
func (w *WorkTree) at() beneath.Folder { return beneath.Folder(w.Repo.Where().Dir) }

func (w *WorkTree) dir() *workdir.Tree {
	return &workdir.Tree{Dir: w.Repo.Where().Dir, Planner: w.Planner}
}

// isGone reports whether an error means that there is no such file or folder.
func isGone(err error) bool { return errors.Is(err, fs.ErrNotExist) || errors.Is(err, syscall.ENOTDIR) }

// Uncommitted reads the uncommitted work: the files that hg knows and that are not as in the commit. It returns nil if
// there is none.
func (w *WorkTree) Uncommitted(ctx context.Context, on object.ID, dirty []vcs.Dirty) (*plan.Uncommitted, error) {
	u := &plan.Uncommitted{On: on, Seen: map[string]os.FileInfo{}}
	set, staged := map[string]object.Entry{}, map[string]object.Entry{}
	for _, d := range dirty {
		if d.Untracked {
			continue
		}
		u.Paths = append(u.Paths, d.Path)
		e, err := w.entry(d.Path)
		if err != nil {
			return nil, fmt.Errorf("reading your uncommitted work: %w", err)
		}
		set[d.Path] = e
		if d.Staged { // of a half-done operation: hg would commit it next
			staged[d.Path] = e
		}
		if info, err := w.at().Lstat(d.Path); err == nil && !info.IsDir() {
			u.Seen[d.Path] = info
		}
	}
	if len(u.Paths) == 0 {
		return nil, nil
	}
	base, err := w.Planner.Tree(ctx, on)
	if err != nil {
		return nil, err
	}
	if u.Staged, err = w.Planner.Store.Edit(ctx, base, staged); err != nil {
		return nil, err
	}
	if u.Files, err = w.Planner.Store.Edit(ctx, base, set); err != nil {
		return nil, err
	}
	u.Add(plan.Part{Base: base, Tree: u.Staged, Subject: "what hg would commit next", Staged: true})
	u.Add(plan.Part{Base: u.Staged, Tree: u.Files, Subject: "your uncommitted work"})
	return u, nil
}

// entry puts the content of a file into memory. It is absent if there is no file.
func (w *WorkTree) entry(path string) (e object.Entry, err error) {
	info, err := w.at().Lstat(path)
	if isGone(err) || err == nil && info.IsDir() {
		return e, nil
	}
	if err != nil {
		return e, err
	}
	var data []byte
	switch {
	case info.Mode()&fs.ModeSymlink != 0:
		e.Mode = object.ModeLink
		var to string
		to, err = w.at().Readlink(path)
		data = []byte(to)
	case info.Mode().IsRegular():
		if e.Mode = object.ModeFile; info.Mode()&0o100 != 0 {
			e.Mode = object.ModeExec
		}
		data, err = w.at().ReadFile(path)
	default:
		return e, fmt.Errorf("%s is neither a file nor a link", path)
	}
	if err == nil {
		e.ID = w.Planner.Store.Put(object.KindBlob, data)
	}
	return e, err
}

// holds reports whether a path of a folder holds an entry, or nothing for an absent one. begun accepts the beginning of
// the content, too.
func (w *WorkTree) holds(ctx context.Context, in beneath.Folder, path string, e object.Entry, begun bool) (bool,
	error) {
	info, err := in.Lstat(path)
	if isGone(err) || err == nil && info.IsDir() {
		return e.Absent(), nil
	}
	if err != nil || e.Absent() {
		return false, err
	}
	want, err := w.Planner.Store.Blob(ctx, e.ID)
	if err != nil {
		return false, err
	}
	if e.Mode == object.ModeLink {
		to, err := in.Readlink(path)
		return err == nil && to == string(want), nil
	}
	if !info.Mode().IsRegular() || info.Mode()&0o100 != 0 != (e.Mode == object.ModeExec) && !begun {
		return false, nil
	}
	is, err := in.ReadFile(path)
	return err == nil && (bytes.Equal(is, want) || begun && bytes.HasPrefix(want, is)), err
}

// NothingOwn reports whether all modified files have their old content. hg tells no others.
func (w *WorkTree) NothingOwn([]vcs.Dirty) bool { return false }

// InTheWay returns a *change.OverwriteError with the uncommitted work that going to a tree would change.
func (w *WorkTree) InTheWay(ctx context.Context, p *plan.Position, tree object.ID) error {
	_, err := w.dir().Obstacles(ctx, p, tree)
	return err
}

// AskHidden finds none: hg hides no changes.
func (w *WorkTree) AskHidden(context.Context) func() (map[string]bool, error) {
	return func() (map[string]bool, error) { return nil, nil }
}

// Touched lists the files that a join changes, and which of them seem to be open in an editor.
func (w *WorkTree) Touched(ctx context.Context, p *plan.Position, tree object.ID) (*change.Touched, error) {
	return w.dir().TouchedFrom(ctx, p, tree)
}

// HalfDone returns the interrupted change, or nil. alive is true if a process is still working on it.
func (w *WorkTree) HalfDone() (half *change.HalfDone, alive bool, err error) {
	tr, err := readJournal(w.Repo.Where().Own)
	if tr == nil {
		return nil, false, err
	}
	return &change.HalfDone{Kind: tr.Kind, Branch: tr.Waypoint.Branch, From: tr.From[0], To: tr.To[0]},
		workdir.Held(w.Repo.Where().Own), nil
}
