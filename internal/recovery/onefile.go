package recovery

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"os"
	"path"
	"path/filepath"
	"time"

	"dorvik.dev/dorvik/internal/core/history"
	"dorvik.dev/dorvik/internal/core/merge"
	"dorvik.dev/dorvik/internal/core/object"
	"dorvik.dev/dorvik/internal/plan"
	"dorvik.dev/dorvik/internal/vcs"
)

// OneFile is three versions of one file to settle, without their repository.
type OneFile struct {
	Name    string                // path in the project; its ending determines the language
	Content merge.Three[[]byte]   // nil if there is none
	Who     merge.Three[LastEdit] // last edits of yours and theirs, if known
}

// LastEdit is the author and the reason of a version.
type LastEdit struct {
	By      object.Signature
	Message string
}

// unsettledFor is how long unfinished files are kept.
const unsettledFor = 14 * 24 * time.Hour

// OpenOneFile opens a session for one file, in its own repository. The repository is named by the versions, so an
// interrupted session continues.
func OpenOneFile(ctx context.Context, under string, f OneFile) (*Session, error) {
	clearOld(under)
	h := sha256.New()
	fmt.Fprintf(h, "%q\n", f.Name)
	for _, c := range [][]byte{f.Content.Base, f.Content.Yours, f.Content.Theirs} {
		fmt.Fprintf(h, "%d %t\n%s", len(c), c == nil, c)
	}
	dir := filepath.Join(under, hex.EncodeToString(h.Sum(nil)[:10]))
	if _, err := os.Stat(filepath.Join(dir, ".git", "refs", "heads", "main")); err != nil {
		if err := makeOneFile(ctx, dir, f); err != nil {
			return nil, errors.Join(fmt.Errorf("making the file ready to be settled: %w", err), os.RemoveAll(dir))
		}
	}
	s, err := OpenSession(ctx, dir)
	if err == nil {
		s.Planner.Files.Maker, s.Planner.Files.Alone = nil, true // there is no repository around the file
	}
	return s, err
}

// clearOld removes old unfinished files.
func clearOld(under string) {
	entries, _ := os.ReadDir(under) // the folder may be missing
	for _, e := range entries {
		if info, err := e.Info(); err == nil && time.Since(info.ModTime()) > unsettledFor {
			os.RemoveAll(filepath.Join(under, e.Name()))
		}
	}
}

// inProject returns a name as a path in the project.
func inProject(name string) string {
	if name = filepath.ToSlash(filepath.Clean(name)); filepath.IsLocal(filepath.FromSlash(name)) {
		return name
	}
	return path.Base(name)
}

// makeOneFile creates the repository.
func makeOneFile(ctx context.Context, dir string, f OneFile) error {
	store := object.NewOverlay(object.SHA1, nil)
	commit := func(content []byte, who LastEdit, parents ...object.ID) (object.ID, error) {
		tree := store.EmptyTree()
		if content != nil {
			var err error
			e := object.Entry{Mode: object.ModeFile, ID: store.Put(object.KindBlob, content)}
			if tree, err = store.Edit(ctx, tree, map[string]object.Entry{inProject(f.Name): e}); err != nil {
				return object.ID{}, err
			}
		}
		return store.PutCommit(&object.Commit{Tree: tree, Parents: parents, AuthorLine: who.By.String(),
			Committer: who.By, Message: who.Message + "\n"}), nil
	}
	base, err := commit(f.Content.Base, LastEdit{By: object.Signature{Name: "base", Email: "base", Zone: "+0000"},
		Message: "the common base"})
	if err != nil {
		return err
	}
	yours, err := commit(f.Content.Yours, f.Who.Yours, base)
	if err != nil {
		return err
	}
	theirs, err := commit(f.Content.Theirs, f.Who.Theirs, base)
	if err != nil {
		return err
	}
	return layOutTwo(ctx, dir, f.Who.Yours.By, store, yours, theirs)
}

// Settled returns the settled file. there is false if the file was deleted.
func Settled(ctx context.Context, s *Session, j *plan.Join, name string) (content []byte, there bool, err error) {
	e, err := s.Planner.Store.Find(ctx, j.Tree, inProject(name))
	if err != nil || e.Absent() {
		return nil, false, err
	}
	content, err = s.Planner.Store.Blob(ctx, e.ID)
	return content, true, err
}

// Forget removes the repository of a settled file.
func (s *Session) Forget() error { return os.RemoveAll(s.Repo.Where().Dir) }

// LastEdits tells who changed a file last on each side of what git has half done here, and whether the files
// git gives to other programs have their sides swapped: in a rebase it calls yours theirs.
func (w *Workspace) LastEdits(ctx context.Context, name string) (who merge.Three[LastEdit], swapped bool, err error) {
	u, err := w.Repo.Unfinished(ctx)
	if err != nil || u == nil {
		return who, false, err
	}
	other := u.Stopped
	if len(u.Merged) > 0 {
		other = u.Merged[len(u.Merged)-1]
	}
	if other.IsZero() {
		return who, false, nil
	}
	yours, theirs := u.Head, other
	if swapped = u.Operation == vcs.Rebasing && len(u.Merged) == 0; swapped {
		yours, theirs = other, u.Head
	}
	d, err := history.Diverge(ctx, w.Planner.Store, yours, theirs)
	if err != nil {
		return who, swapped, err
	}
	if who.Yours, err = w.lastEdit(ctx, d.Yours, name); err == nil {
		who.Theirs, err = w.lastEdit(ctx, d.Theirs, name)
	}
	return who, swapped, err
}

// lastEdit returns the newest of the commits that changed a file.
func (w *Workspace) lastEdit(ctx context.Context, list []history.Node, name string) (LastEdit, error) {
	for _, n := range list {
		before, err := history.FirstParentTree(ctx, w.Planner.Store, n.Commit)
		if err != nil {
			return LastEdit{}, err
		}
		was, err := w.Planner.Store.Find(ctx, before, name)
		if err != nil {
			return LastEdit{}, err
		}
		is, err := w.Planner.Store.Find(ctx, n.Tree, name)
		if err != nil {
			return LastEdit{}, err
		}
		if !was.Same(is) && len(n.Parents) < 2 {
			return LastEdit{n.Author(), n.Subject()}, nil
		}
	}
	return LastEdit{}, nil
}
