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

// Lay is what a transition makes index and files hold, and which files it moves away for that.
type Lay struct {
	Head, HeadTo object.ID // where HEAD is before and after, where that is on no branch
	Start        object.ID // trees that the index is made to hold first,
	Staged       object.ID // that the index,
	Files        object.ID // and the files are to hold, but for uncommitted work that is left alone
	Had          object.ID // a tree of what the files held before
	Paths        []string  // with uncommitted work that is not left alone
	Clean        []string  `json:",omitempty"` // without any, that change: moved away too, and let go of at the end
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

// look notes the files without uncommitted work that a change is to write or to remove, and holds that they are as the
// index has them.
func (s *Session) look(ctx context.Context, tr *Transition) error {
	changes, err := s.Store.Changes(tr.Lay.Start, tr.Lay.Files)
	if err != nil {
		return err
	}
	work, clean := map[string]bool{}, map[string]bool{}
	for _, p := range tr.Lay.Paths {
		work[p] = true
	}
	if tr.seen == nil {
		tr.seen = map[string]os.FileInfo{}
	}
	tr.Lay.Clean = nil
	for _, c := range changes {
		info, err := s.tree().Lstat(c.Path)
		if work[c.Path] || c.Old.Absent() || isGone(err) || err == nil && info.IsDir() {
			continue
		}
		if err != nil {
			return fmt.Errorf("looking at %s: %w", c.Path, err)
		}
		tr.Lay.Clean, tr.seen[c.Path], clean[c.Path] = append(tr.Lay.Clean, c.Path), info, true
	}
	if len(tr.Lay.Clean) == 0 {
		return nil
	}
	_, dirty, err := s.Repo.Status(ctx)
	if err != nil {
		return err
	}
	for _, d := range dirty {
		if clean[d.Path] {
			return &MovedError{Branch: tr.Branch, Work: true}
		}
	}
	return nil
}

// moveAway moves the files that the change is to write or to remove away, as they are. What is
// written to them from here on goes with them, or is in the way and found.
func (s *Session) moveAway(tr *Transition) error {
	for _, to := range s.away(tr) {
		for _, p := range to.paths {
			info, err := s.tree().Lstat(p)
			if isGone(err) || err == nil && info.IsDir() {
				continue // it is deleted
			}
			if err == nil {
				err = s.tree().Move(p, to.in, p)
			}
			if err != nil {
				return fmt.Errorf("putting aside %s: %w", p, err)
			}
		}
	}
	return nil
}

// away is a folder to which files are moved, and those files.
type away struct {
	in    beneath.Folder
	paths []string
}

// away gives the folders to which a transition moves files.
func (s *Session) away(tr *Transition) []away {
	return []away{{s.keptFiles(tr.Lay.Keep), tr.Lay.Paths}, {s.clean(tr), tr.Lay.Clean}}
}

// clean is the folder for files without uncommitted work, while they are replaced.
func (s *Session) clean(tr *Transition) beneath.Folder {
	return beneath.Folder(filepath.Join(s.keep(tr), "clean"))
}

// fresh is the folder in which files are written before they are put in their places.
func (s *Session) fresh(tr *Transition) beneath.Folder {
	return beneath.Folder(filepath.Join(s.keep(tr), "fresh"))
}

// doneWith lets go of the files that were replaced: all is made. They are removed once that is written down. One that
// somebody who had it open wrote to since is kept, and told.
func (s *Session) doneWith(tr *Transition) {
	kept := beneath.Folder(filepath.Join(s.keep(tr), "written"))
	for _, p := range tr.Lay.Clean {
		was, is := tr.seen[p], fs.FileInfo(nil)
		if was != nil { // else it is ended by another run
			is, _ = s.clean(tr).Lstat(p)
		}
		if is == nil || unwritten(was, is) {
			continue
		}
		if err := s.clean(tr).Move(p, kept, p); err == nil {
			s.tell("%s was written to while it was replaced; what was written is kept as %s.", p,
				filepath.Join(string(kept), filepath.FromSlash(p)))
		}
	}
	_ = os.Rename(string(s.clean(tr)), filepath.Join(s.keep(tr), "old")) // there may be none
}

// unwritten reports whether nobody wrote to a file between two looks, as far as its time and size tell.
func unwritten(was, is fs.FileInfo) bool {
	return was.ModTime().Equal(is.ModTime()) && was.Size() == is.Size()
}

// letGo removes what a transition needed only while it was made. What could not go back to its place stays.
func (s *Session) letGo(tr *Transition) {
	keep := s.keep(tr)
	os.RemoveAll(filepath.Join(keep, "old"))
	os.RemoveAll(string(s.fresh(tr)))
	beneath.Folder(keep).RemoveEmpty("clean")
	if tr.Waypoint.Kept == nil && len(tr.Lay.Paths) == 0 { // nothing else is kept there
		os.Remove(filepath.Join(keep, "index"))
		os.Remove(keep)
	}
}

// sweepKept removes what a run that was ended right after a change had not come to.
func (s *Session) sweepKept() {
	for _, name := range []string{"old", "fresh"} {
		left, _ := filepath.Glob(keptDir(s.Repo.GitDir, "*/"+name)) // none, as a rule
		for _, dir := range left {
			os.RemoveAll(dir)
		}
	}
}

// unchanged holds that the files which were moved away are still what the change was worked out
// with: somebody may have saved one in the meantime.
func (s *Session) unchanged(tr *Transition) error {
	for _, to := range s.away(tr) {
		if err := s.unchangedIn(tr, to); err != nil {
			return err
		}
	}
	return nil
}

func (s *Session) unchangedIn(tr *Transition, to away) error {
	for _, p := range to.paths {
		was := tr.seen[p]
		is, err := to.in.Lstat(p)
		if err != nil && !isGone(err) {
			return err
		}
		if err == nil && is.IsDir() { // that holds others
			err = fs.ErrNotExist
		}
		if (was == nil) != (err != nil) || was != nil && !unwritten(was, is) {
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
		if start[p] = e; !e.Absent() { // git would take a folder for a change of the file
			s.tree().RemoveEmpty(p)
		}
	}
	if err := x.Set(ctx, start); err != nil {
		return err
	}
	if err := s.switchFiles(ctx, x, tr); err != nil {
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
		s.tidy(l)
	}
	return err
}

// switchFiles takes the files to the layout, and the index on the side with them.
func (s *Session) switchFiles(ctx context.Context, x *git.Index, tr *Transition) error {
	changed, byGit, err := s.writing(ctx, tr.Lay)
	if err != nil {
		return err
	}
	err = errors.Join(step("files"), x.SwitchTree(ctx, tr.Lay.Start, tr.Lay.Files, byGit))
	if len(refusedPaths(err)) > 0 { // one that was moved away is there again
		err = &MovedError{Branch: tr.Branch, Work: true}
	}
	if err != nil {
		return err
	}
	if byGit {
		changed = nil
	}
	if err := errors.Join(s.writeFiles(ctx, x, tr, changed), step("files written")); err != nil {
		return err
	}
	return x.Refresh(ctx) // that it need not read them again
}

// tidy removes the folders that files were moved away from and that are empty now, as git does.
func (s *Session) tidy(l *Lay) {
	for _, p := range slices.Concat(l.Paths, l.Clean) {
		for dir := folder(p); dir != "" && s.removeFolder(dir); dir = folder(dir) {
		}
	}
}

// writeFiles writes the files that the change brings, each whole beside the working tree, and then puts them in their
// places, which are free: what stood there is moved away. What stands there all the same was saved meanwhile.
func (s *Session) writeFiles(ctx context.Context, x *git.Index, tr *Transition, changed []object.Change) error {
	paths, err := s.toWrite(tr.Lay, changed)
	if err != nil {
		return err
	}
	fresh := s.fresh(tr)
	if err := errors.Join(os.RemoveAll(string(fresh)), x.CheckOut(ctx, string(fresh), paths)); err != nil {
		return err
	}
	for _, p := range paths {
		s.tree().RemoveEmpty(p)
		err := fresh.Move(p, s.tree(), p)
		if errors.Is(err, beneath.ErrTaken) {
			return &MovedError{Branch: tr.Branch, Work: true}
		}
		if err != nil {
			return fmt.Errorf("writing %s: %w", p, err)
		}
	}
	return nil
}

// writing lists what differs between the trees of a layout, and reports whether git itself is to write those files: it
// alone knows which belong into a sparse working tree, and how submodules move.
func (s *Session) writing(ctx context.Context, l *Lay) (changed []object.Change, byGit bool, err error) {
	if changed, err = s.Store.Changes(l.Start, l.Files); err != nil {
		return nil, false, err
	}
	byGit, err = s.Repo.Sparse(ctx)
	return changed, byGit || slices.ContainsFunc(changed, func(c object.Change) bool {
		return c.Old.Mode == object.ModeSubmodule || c.New.Mode == object.ModeSubmodule
	}), err
}

// toWrite lists the files that are to be written, and were not: what is new or other, and what was moved away and stays
// as it is.
func (s *Session) toWrite(l *Lay, changed []object.Change) (paths []string, err error) {
	listed := map[string]bool{}
	for _, c := range changed {
		if !c.New.Absent() {
			paths, listed[c.Path] = append(paths, c.Path), true
		}
	}
	for _, p := range l.Paths {
		if s.exists(p) || listed[p] {
			continue
		}
		e, err := s.Store.Find(l.Files, p)
		if err != nil {
			return nil, err
		}
		if !e.Absent() && !e.IsTree() {
			paths = append(paths, p)
		}
	}
	return paths, nil
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
		if err := s.release(); err != nil {
			s.tell("The lock of the index could not be removed, and git will not work before it is: %s.", err)
		}
		s.release = nil
	}
}

// restoreLaid takes back what a transition did to index and files.
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
	if err := s.removeNew(ctx, changes); err != nil { // also in the place of folders that were moved away
		return err
	}
	mine := map[string]bool{}
	for _, p := range slices.Concat(tr.Lay.Paths, tr.Lay.Clean) {
		mine[p] = true
		if err := s.putAway(ctx, tr, p); err != nil {
			return err
		}
	}
	for _, p := range tr.Lay.Clean {
		s.returnTo(p, s.clean(tr), p)
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
	if !s.keptFiles(tr.Lay.Keep).Has(p) && !s.clean(tr).Has(p) && !held.Absent() && !held.IsTree() {
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

// indexState is what the repository's index is to a transition.
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
