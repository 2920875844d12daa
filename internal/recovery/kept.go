package recovery

import (
	"bytes"
	"context"
	"crypto/sha256"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"syscall"

	"dorvik.dev/dorvik/internal/beneath"
	"dorvik.dev/dorvik/internal/core/object"
	"dorvik.dev/dorvik/internal/git"
)

// Kept is what a change found that was not committed, as it is kept under the waypoint: the
// files byte for byte, the index as it was, what git had left half done, and the same as trees,
// which a ref keeps.
type Kept struct {
	Head      object.ID `json:"head"`                // where HEAD was, where it was on no branch
	Paths     []string  `json:"paths"`               // with uncommitted work that the change moved
	Was       Held      `json:"was"`                 // all that index and files held then,
	Is        Held      `json:"is"`                  // and right after the change
	Operation string    `json:"operation,omitempty"` // of git, that was left half done,
	State     []string  `json:"state,omitempty"`     // and git's own files of it
	Commit    object.ID `json:"commit"`              // that keeps both
}

// Held is what index and files hold, as trees.
type Held struct {
	Staged object.ID `json:"staged"`
	Files  object.ID `json:"files"`
}

// Lay is the part of a transition that goes beyond committed trees.
type Lay struct {
	Head, HeadTo object.ID // where HEAD is before and after, where that is on no branch
	Start        object.ID // trees that the index is made to hold first,
	Staged       object.ID // that the index,
	Files        object.ID // and the files are to hold, but for uncommitted work that is left alone
	Had          object.ID // a tree of what the files held before
	Paths        []string  // with uncommitted work that is not left alone
	Keep         string    // the folder in which what is moved away is kept, under dorvik/kept
	Lists        string    `json:",omitempty"` // a hash of what the new index lists
	// Names the waypoint from which index and files are brought back as they were.
	Back  string   `json:",omitempty"`
	State []string `json:",omitempty"` // git's own files of what it left half done; back where Back is set
}

func keptDir(gitDir, name string) string { return filepath.Join(gitDir, "dorvik", "kept", name) }

// keep is the folder in which a transition keeps what it moves away.
func (s *Session) keep(tr *Transition) string { return keptDir(s.Repo.GitDir, tr.Lay.Keep) }

// freeKeep is a name under which nothing is kept yet.
func (s *Session) freeKeep(name string) string {
	for n := 1; ; n++ {
		free := name
		if n > 1 {
			free = fmt.Sprintf("%s-%d", name, n)
		}
		if _, err := os.Lstat(keptDir(s.Repo.GitDir, free)); isGone(err) {
			return free
		}
	}
}

// KeptRef is the ref that keeps what was not committed.
func (w *Waypoint) KeptRef() string { return "refs/dorvik/kept/" + w.Name }

// side is the index that is made beside the repository's while a transition is made.
func (s *Session) side() *git.Index { return s.Repo.SideIndex("next") }

// prepare takes the index's lock, and copies the index: to be changed on the side, and to be
// kept.
func (s *Session) prepare(ctx context.Context, tr *Transition) (err error) {
	if s.release, err = s.Repo.LockIndex(ctx); err != nil {
		return err
	}
	x, err := s.Repo.CopyIndex(ctx, "next")
	if err == nil {
		err = x.Keep(filepath.Join(s.keep(tr), "index"))
	}
	return err
}

// moveAway moves the files with uncommitted work away, as they are. What is written to them
// from here on goes with them, or is in the way and found.
func (s *Session) moveAway(tr *Transition) error {
	for _, p := range tr.Lay.Paths {
		info, err := s.tree().Lstat(p)
		if isGone(err) || err == nil && info.IsDir() {
			continue // it is deleted
		}
		if err == nil {
			err = s.tree().Move(p, s.keptFiles(tr.Lay.Keep), p)
		}
		if err != nil {
			return fmt.Errorf("putting aside %s: %w", p, err)
		}
	}
	return nil
}

// unchanged holds that the files which were moved away are still what the change was worked out
// with: somebody may have saved one in the meantime.
func (s *Session) unchanged(tr *Transition) error {
	for _, p := range tr.Lay.Paths {
		was := tr.seen[p]
		is, err := s.keptFiles(tr.Lay.Keep).Lstat(p)
		if err != nil && !isGone(err) {
			return err
		}
		if err == nil && is.IsDir() { // that holds others
			err = fs.ErrNotExist
		}
		if (was == nil) != (err != nil) || was != nil && (!was.ModTime().Equal(is.ModTime()) ||
			was.Size() != is.Size()) {
			return &MovedError{Branch: tr.Branch, Work: true}
		}
	}
	return nil
}

// switchLaid takes index and files to the layout. The index goes last, and at once.
func (s *Session) switchLaid(ctx context.Context, tr *Transition) error {
	x, l := s.side(), tr.Lay
	start := map[string]object.Entry{}
	for _, p := range l.Paths {
		e, err := s.Store.Find(l.Start, p)
		if err != nil {
			return err
		}
		if e.IsTree() {
			e = object.Entry{}
		}
		start[p] = e
	}
	if err := x.Set(ctx, start); err != nil {
		return err
	}
	if err := errors.Join(step("files"), x.SwitchTree(ctx, l.Start, l.Files), step("files written")); err != nil {
		return err
	}
	if err := s.checkOut(ctx, x, l); err != nil {
		return err
	}
	changes, err := s.Store.Changes(l.Files, l.Staged)
	if err != nil {
		return err
	}
	staged := map[string]object.Entry{}
	for _, c := range changes {
		staged[c.Path] = c.New
	}
	if err := x.Set(ctx, staged); err != nil {
		return err
	}
	if l.Back != "" {
		if err := s.bringBackAsWas(ctx, x, tr); err != nil {
			return err
		}
	}
	listing, err := x.Listing(ctx)
	if err != nil {
		return err
	}
	l.Lists = hashOf(listing)
	if err := tr.write(s.Repo.GitDir); err != nil {
		return err
	}
	err = errors.Join(step("install the index"), x.Install(ctx), step("index installed"))
	if !x.There() {
		s.unlock()
		s.tidy(l.Paths)
	}
	return err
}

// tidy removes the folders that files were moved away from and that are empty now, as git does.
func (s *Session) tidy(paths []string) {
	for _, p := range paths {
		for dir := folder(p); dir != "" && s.removeFolder(dir); dir = folder(dir) {
		}
	}
}

// checkOut writes the files that were moved away and that do not differ between the trees, so
// that nothing wrote them.
func (s *Session) checkOut(ctx context.Context, x *git.Index, l *Lay) error {
	var missing []string
	for _, p := range l.Paths {
		e, err := s.Store.Find(l.Files, p)
		if err != nil {
			return err
		}
		if !e.Absent() && !e.IsTree() && !s.exists(p) {
			missing = append(missing, p)
		}
	}
	return x.CheckOut(ctx, missing)
}

// bringBackAsWas has the index be the one that a waypoint kept, and files be byte for byte what
// they were where writing them anew does not make them so.
func (s *Session) bringBackAsWas(ctx context.Context, x *git.Index, tr *Transition) error {
	from := keptDir(s.Repo.GitDir, tr.Lay.Back)
	for _, p := range tr.Waypoint.Kept.Paths {
		if err := s.bringBackFile(ctx, tr, p); err != nil {
			return fmt.Errorf("bringing back %s: %w", p, err)
		}
	}
	if err := x.Take(filepath.Join(from, "index")); err != nil {
		return fmt.Errorf("bringing back the index: %w", err)
	}
	return x.Refresh(ctx)
}

// bringBackFile has a file be byte for byte what the waypoint kept. What this change wrote
// there is moved away and looked at before: if somebody saved the file meanwhile it is put
// back, and that is told.
func (s *Session) bringBackFile(ctx context.Context, tr *Transition, p string) error {
	was := s.keptFiles(tr.Lay.Back)
	info, err := was.Lstat(p)
	if isGone(err) {
		return nil
	}
	if err != nil || !info.Mode().IsRegular() {
		return err
	}
	data, err := was.ReadFile(p)
	if err != nil {
		return err
	}
	if err := step("over " + p); err != nil {
		return err
	}
	if is, err := s.tree().ReadFile(p); err == nil && bytes.Equal(is, data) {
		return nil
	}
	at := filepath.Join(string(was), filepath.FromSlash(p))
	over := s.over(tr)
	if err := s.tree().Move(p, over, p); err != nil && !isGone(err) {
		return err
	}
	ours, err := s.wrote(ctx, tr, over, p)
	if err != nil {
		return err
	}
	if ours {
		err = s.tree().Write(p, data, info.Mode().Perm())
	}
	switch {
	case ours && err == nil:
		if err = over.Remove(p); isGone(err) { // it wrote nothing there
			err = nil
		}
		return err
	case ours && !errors.Is(err, beneath.ErrTaken):
		return err
	case !ours:
		s.returnTo(p, over, p)
	}
	s.tell("%s was saved meanwhile, and stays as it was saved; as it was before it is kept as %s.", p, at)
	return nil
}

// wrote reports whether a file that was moved away holds what this change wrote to its path.
func (s *Session) wrote(ctx context.Context, tr *Transition, over beneath.Folder, p string) (bool, error) {
	is, err := over.ReadFile(p)
	if isGone(err) {
		return true, nil // it wrote nothing there
	}
	e, ferr := s.Store.Find(tr.Lay.Files, p)
	if ferr != nil || err != nil || !e.Mode.IsRegular() {
		return false, ferr
	}
	want, err := s.Repo.AsWritten(ctx, p, e.ID)
	return err == nil && bytes.Equal(is, want), err
}

// over is the folder to which files are moved away to be looked at.
func (s *Session) over(tr *Transition) beneath.Folder {
	return beneath.Folder(filepath.Join(s.keep(tr), "over"))
}

// keptFiles is the folder of the files that a change kept under a name.
func (s *Session) keptFiles(name string) beneath.Folder {
	return beneath.Folder(filepath.Join(keptDir(s.Repo.GitDir, name), "files"))
}

// isGone reports whether an error says that there is nothing at a path, or no folder for it.
func isGone(err error) bool { return errors.Is(err, fs.ErrNotExist) || errors.Is(err, syscall.ENOTDIR) }

func hashOf(s string) string { return fmt.Sprintf("%x", sha256.Sum256([]byte(s))) }

// unlock lets go of the index's lock, if this session has it.
func (s *Session) unlock() {
	if s.release != nil {
		s.release()
		s.release = nil
	}
}

// restoreLaid takes back what a transition with uncommitted work did to index and files.
func (s *Session) restoreLaid(ctx context.Context, tr *Transition, changes []object.Change) error {
	is, err := s.indexIs(ctx, tr)
	if err != nil {
		return err
	}
	switch {
	case is == indexAfter:
		if err := s.restoreIndex(ctx, tr); err != nil {
			return err
		}
	case is == indexOther && !s.side().There():
		s.tell("The index was changed since, and stays as it is; as it was before, it is kept as %s.",
			filepath.Join(s.keep(tr), "index"))
	}
	s.unlock()
	mine := map[string]bool{}
	for _, p := range tr.Lay.Paths {
		mine[p] = true
		if err := s.putAway(ctx, tr, p); err != nil {
			return err
		}
	}
	for _, p := range tr.Lay.Paths {
		s.returnTo(p, s.keptFiles(tr.Lay.Keep), p)
		if ours, err := s.wrote(ctx, tr, s.over(tr), p); err != nil {
			return err
		} else if !ours { // saved by somebody, and looked at when this was cut off
			s.returnTo(p, s.over(tr), p)
		}
	}
	rest := slices.DeleteFunc(slices.Clone(changes), func(c object.Change) bool { return mine[c.Path] })
	if err := s.putBack(ctx, rest); err != nil {
		return err
	}
	s.side().Drop()
	return nil
}

// putAway removes what a transition wrote in the place of a file that it had moved away.
func (s *Session) putAway(ctx context.Context, tr *Transition, p string) error {
	info, err := s.tree().Lstat(p)
	if err != nil || info.IsDir() {
		return nil
	}
	held, err := s.Store.Find(tr.Lay.Had, p)
	if err != nil {
		return err
	}
	if !s.keptFiles(tr.Lay.Keep).Has(p) && !held.Absent() && !held.IsTree() {
		return nil // not moved yet: it is what it was
	}
	new, err := s.Store.Find(tr.Lay.Files, p)
	if err != nil || new.Absent() || new.IsTree() {
		return err
	}
	ours, err := s.begins(ctx, info, p, new)
	if err == nil && !ours && tr.Lay.Back != "" {
		data, rerr := s.keptFiles(tr.Lay.Back).ReadFile(p)
		is, ierr := s.tree().ReadFile(p)
		ours = rerr == nil && ierr == nil && bytes.Equal(data, is)
	}
	if err != nil || !ours {
		return err
	}
	return s.tree().Remove(p)
}

// indexState is what the repository's index is to a transition with uncommitted work.
type indexState int

const (
	indexOther  indexState = iota // changed since, by somebody else
	indexBefore                   // as it was before
	indexAfter                    // as the transition made it
)

// indexIs compares the index with what the account says of it, and with the copy that was kept.
func (s *Session) indexIs(ctx context.Context, tr *Transition) (indexState, error) {
	listing, err := s.Repo.Listing(ctx)
	if err != nil {
		return indexOther, err
	}
	if tr.Lay.Lists != "" && hashOf(listing) == tr.Lay.Lists {
		return indexAfter, nil
	}
	before, err := s.Repo.IndexFile(filepath.Join(s.keep(tr), "index")).Listing(ctx)
	if err == nil && listing == before {
		return indexBefore, nil
	}
	return indexOther, err
}

// restoreIndex has the repository's index be what it was.
func (s *Session) restoreIndex(ctx context.Context, tr *Transition) (err error) {
	if s.release, err = s.Repo.LockIndex(ctx); err != nil {
		return err
	}
	x := s.Repo.SideIndex("back")
	if err = x.Take(filepath.Join(s.keep(tr), "index")); err == nil {
		err = x.Install(ctx)
	}
	return err
}

// settleGit does what comes after the refs: HEAD goes to the branch, or back to where it was,
// and git's own account of what it left half done is put away, or brought back. What is done
// already is not done again.
func (s *Session) settleGit(ctx context.Context, tr *Transition) error {
	l := tr.Lay
	if l == nil {
		return nil
	}
	if l.Head != l.HeadTo {
		if err := errors.Join(step("move HEAD"), s.Repo.SetHead(ctx, tr.Branch, l.HeadTo,
			tr.Message)); err != nil {
			return err
		}
	}
	for _, name := range l.State {
		at, err := s.Repo.Inside(ctx, name)
		if err != nil {
			return err
		}
		from, to := at, filepath.Join(s.keep(tr), "state", filepath.FromSlash(name))
		if l.Back != "" {
			from, to = filepath.Join(keptDir(s.Repo.GitDir, l.Back), "state", filepath.FromSlash(name)), at
		}
		if _, err := os.Lstat(from); isGone(err) {
			continue
		}
		err = errors.Join(step("move "+name), os.MkdirAll(filepath.Dir(to), 0o755))
		if err == nil {
			err = os.Rename(from, to)
		}
		if err != nil {
			return fmt.Errorf("putting away what git left half done: %w", err)
		}
	}
	return nil
}

// keepCommit makes the commit that keeps what was not committed: trees of what index and files
// held before the change, and of what they hold after it.
func (w *Workspace) keepCommit(ctx context.Context, k *Kept, parents []object.ID) (object.ID, error) {
	who, err := w.Repo.Committer(ctx)
	if err != nil {
		return object.ID{}, err
	}
	var entries []object.Entry
	for _, e := range []struct {
		name string
		id   object.ID
	}{{"files", k.Was.Files}, {"files-after", k.Is.Files}, {"staged", k.Was.Staged}, {"staged-after", k.Is.Staged}} {
		entries = append(entries, object.Entry{Name: e.name, Mode: object.ModeTree, ID: e.id})
	}
	return w.Store.PutCommit(&object.Commit{Tree: w.Store.PutTree(entries), Parents: parents, AuthorLine: who.String(),
		Committer: who, Message: "What was not committed\n"}), nil
}

// takenOver reports whether what git left half done was taken over.
func (w *Waypoint) takenOver() bool { return w.Kept != nil && w.Kept.Operation != "" }
