package apply

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"

	"dorvik.dev/dorvik/internal/beneath"
	"dorvik.dev/dorvik/internal/change"
	"dorvik.dev/dorvik/internal/core/object"
	"dorvik.dev/dorvik/internal/git"
	"dorvik.dev/dorvik/internal/ledger"
	"dorvik.dev/dorvik/internal/plan"
	"dorvik.dev/dorvik/internal/workdir"
)

// keptDir returns the folder, in the git directory, for files that a change moved away.
func keptDir(gitDir, name string) string { return filepath.Join(gitDir, "dorvik", "kept", name) }

// keep returns the folder of a transition.
func (f *files) keep(tr *Transition) string { return keptDir(f.Repo.GitDir, tr.Lay.Keep) }

// freeKeep returns an unused name for such a folder.
func (f *files) freeKeep(name string) string {
	for n := 1; ; n++ {
		free := name
		if n > 1 {
			free = fmt.Sprintf("%s-%d", name, n)
		}
		if _, err := os.Lstat(keptDir(f.Repo.GitDir, free)); isGone(err) {
			return free
		}
	}
}

// side returns the index that is built next to the repository's.
func (f *files) side() *git.Index { return f.Repo.SideIndex("next") }

// prepare locks the index and makes two copies: one to change, one to keep.
func (f *files) prepare(ctx context.Context, tr *Transition) (err error) {
	if f.release, err = f.Repo.LockIndex(ctx); err != nil {
		return err
	}
	x, err := f.Repo.CopyIndex(ctx, "next")
	if err == nil {
		err = x.Keep(filepath.Join(f.keep(tr), "index"))
	}
	return err
}

// look records the unmodified files that the change will write or remove, and checks that they match the index.
func (f *files) look(ctx context.Context, tr *Transition) error {
	changes, err := f.planner.Store.Changes(ctx, tr.Lay.Start, tr.Lay.Files)
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
		info, err := f.work.tree().Lstat(c.Path)
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
	_, dirty, err := f.Repo.Status(ctx)
	if err != nil {
		return err
	}
	for _, d := range dirty {
		if clean[d.Path] {
			return &change.MovedError{Branch: tr.Branch, Work: true}
		}
	}
	return nil
}

// moveAway moves the files out of the working tree. If an editor saves such a file from now on, the change finds it.
func (f *files) moveAway(tr *Transition) error {
	for _, to := range f.away(tr) {
		for _, p := range to.paths {
			info, err := f.work.tree().Lstat(p)
			if isGone(err) || err == nil && info.IsDir() {
				continue // the path is deleted
			}
			if err == nil {
				err = f.work.tree().Move(p, to.in, p)
			}
			if err != nil {
				return fmt.Errorf("putting aside %s: %w", p, err)
			}
		}
	}
	return nil
}

// away is a folder and the paths to move there.
type away struct {
	in    beneath.Folder
	paths []string
}

// away lists the folders of a transition with their paths.
func (f *files) away(tr *Transition) []away {
	return []away{{f.keptFiles(tr.Lay.Keep), tr.Lay.Paths}, {f.clean(tr), tr.Lay.Clean}}
}

// clean returns the folder for unmodified files.
func (f *files) clean(tr *Transition) beneath.Folder {
	return beneath.Folder(filepath.Join(f.keep(tr), "clean"))
}

// fresh returns the folder in which new files are written first.
func (f *files) fresh(tr *Transition) beneath.Folder {
	return beneath.Folder(filepath.Join(f.keep(tr), "fresh"))
}

// doneWith releases the replaced files. If a program that still had one open wrote to it, the file is kept and
// reported.
func (f *files) doneWith(tr *Transition) {
	kept := beneath.Folder(filepath.Join(f.keep(tr), "written"))
	for _, p := range tr.Lay.Clean {
		was, is := tr.seen[p], fs.FileInfo(nil)
		if was != nil { // otherwise another run completes it
			is, _ = f.clean(tr).Lstat(p)
		}
		if is == nil || unwritten(was, is) {
			continue
		}
		if err := f.clean(tr).Move(p, kept, p); err == nil {
			f.ledger.Tell("%s was written to while it was replaced; what was written is kept as %s.", p,
				filepath.Join(string(kept), filepath.FromSlash(p)))
		}
	}
	_ = os.Rename(string(f.clean(tr)), filepath.Join(f.keep(tr), "old")) // there may be no old copy
}

// unwritten compares time and size of two file infos to tell whether the file was written in between.
func unwritten(was, is fs.FileInfo) bool {
	return was.ModTime().Equal(is.ModTime()) && was.Size() == is.Size()
}

// letGo removes the temporary files of a transition. Files that could not return to their place stay.
func (f *files) letGo(tr *Transition) {
	keep := f.keep(tr)
	os.RemoveAll(filepath.Join(keep, "old"))
	os.RemoveAll(string(f.fresh(tr)))
	beneath.Folder(keep).RemoveEmpty("clean")
	if tr.Waypoint.Kept == nil && len(tr.Lay.Paths) == 0 { // the folder holds nothing else
		os.Remove(filepath.Join(keep, "index"))
		os.Remove(keep)
	}
}

// sweepKept removes temporary files of processes that ended right after a change.
func (f *files) sweepKept() {
	for _, name := range []string{"old", "fresh"} {
		left, _ := filepath.Glob(keptDir(f.Repo.GitDir, "*/"+name)) // usually there is none
		for _, dir := range left {
			os.RemoveAll(dir)
		}
	}
}

// unchanged returns a *change.MovedError if a moved file was saved since the change was computed.
func (f *files) unchanged(tr *Transition) error {
	for _, to := range f.away(tr) {
		if err := f.unchangedIn(tr, to); err != nil {
			return err
		}
	}
	return nil
}

func (f *files) unchangedIn(tr *Transition, to away) error {
	for _, p := range to.paths {
		was := tr.seen[p]
		is, err := to.in.Lstat(p)
		if err != nil && !isGone(err) {
			return err
		}
		if err == nil && is.IsDir() { // a folder that holds other files
			err = fs.ErrNotExist
		}
		if (was == nil) != (err != nil) || was != nil && !unwritten(was, is) {
			return &change.MovedError{Branch: tr.Branch, Work: true}
		}
	}
	return nil
}

// switchLaid brings files and index to their target. The index is replaced last, by one rename.
func (f *files) switchLaid(ctx context.Context, tr *Transition) error {
	x, l := f.side(), tr.Lay
	start := map[string]object.Entry{}
	for _, p := range l.Paths {
		e, err := f.planner.Store.Find(ctx, l.Start, p)
		if err != nil {
			return err
		}
		if e.IsTree() {
			e = object.Entry{}
		}
		if start[p] = e; !e.Absent() { // git would report a folder as a change of the file
			f.work.tree().RemoveEmpty(p)
		}
	}
	if err := x.Set(ctx, start); err != nil {
		return err
	}
	if err := f.switchFiles(ctx, x, tr); err != nil {
		return err
	}
	changes, err := f.planner.Store.Changes(ctx, l.Files, l.Staged)
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
		if err := f.bringBackAsWas(ctx, x, tr); err != nil {
			return err
		}
	}
	listing, err := x.Listing(ctx)
	if err != nil {
		return err
	}
	l.Lists = ledger.HashOf(listing)
	if err := tr.write(f.Repo.GitDir); err != nil {
		return err
	}
	err = errors.Join(ledger.Step("install the index"), x.Install(ctx), ledger.Step("index installed"))
	if !x.There() {
		f.unlock()
		f.tidy(l)
	}
	return err
}

// switchFiles writes the files and updates the index on the side.
func (f *files) switchFiles(ctx context.Context, x *git.Index, tr *Transition) error {
	changed, byGit, err := f.writing(ctx, tr.Lay)
	if err != nil {
		return err
	}
	err = errors.Join(ledger.Step("files"), x.SwitchTree(ctx, tr.Lay.Start, tr.Lay.Files, byGit))
	if len(refusedPaths(err)) > 0 { // a file that was moved away was written again
		err = &change.MovedError{Branch: tr.Branch, Work: true}
	}
	if err != nil {
		return err
	}
	if byGit {
		changed = nil
	}
	if err := errors.Join(f.writeFiles(ctx, x, tr, changed), ledger.Step("files written")); err != nil {
		return err
	}
	return x.Refresh(ctx) // refresh the index, so that git need not read the files again
}

// tidy removes folders that the change emptied, like git does.
func (f *files) tidy(l *Lay) {
	for _, p := range slices.Concat(l.Paths, l.Clean) {
		for dir := plan.Folder(p); dir != "" && f.work.removeFolder(dir); dir = plan.Folder(dir) {
		}
	}
}

// writeFiles writes each file completely outside the working tree and then moves it into its free place. If the place
// is taken, somebody saved the file meanwhile; the error is a *change.MovedError.
func (f *files) writeFiles(ctx context.Context, x *git.Index, tr *Transition, changed []object.Change) error {
	paths, err := f.toWrite(ctx, tr.Lay, changed)
	if err != nil {
		return err
	}
	fresh := f.fresh(tr)
	if err := errors.Join(os.RemoveAll(string(fresh)), x.CheckOut(ctx, string(fresh), paths)); err != nil {
		return err
	}
	for _, p := range paths {
		f.work.tree().RemoveEmpty(p)
		err := fresh.Move(p, f.work.tree(), p)
		if errors.Is(err, beneath.ErrTaken) {
			return &change.MovedError{Branch: tr.Branch, Work: true}
		}
		if err != nil {
			return fmt.Errorf("writing %s: %w", p, err)
		}
	}
	return nil
}

// writing lists the changed files. byGit is true if git must write them: in sparse working trees and for submodules.
func (f *files) writing(ctx context.Context, l *Lay) (changed []object.Change, byGit bool, err error) {
	if changed, err = f.planner.Store.Changes(ctx, l.Start, l.Files); err != nil {
		return nil, false, err
	}
	byGit, err = f.Repo.Sparse(ctx)
	return changed, byGit || slices.ContainsFunc(changed, func(c object.Change) bool {
		return c.Old.Mode == object.ModeSubmodule || c.New.Mode == object.ModeSubmodule
	}), err
}

// toWrite lists the files to write: changed ones, and those that were moved away but keep their content.
func (f *files) toWrite(ctx context.Context, l *Lay, changed []object.Change) (paths []string, err error) {
	listed := map[string]bool{}
	for _, c := range changed {
		if !c.New.Absent() {
			paths, listed[c.Path] = append(paths, c.Path), true
		}
	}
	for _, p := range l.Paths {
		if f.work.exists(p) || listed[p] {
			continue
		}
		e, err := f.planner.Store.Find(ctx, l.Files, p)
		if err != nil {
			return nil, err
		}
		if !e.Absent() && !e.IsTree() {
			paths = append(paths, p)
		}
	}
	return paths, nil
}

// bringBackAsWas restores the index and the files that a waypoint kept, byte for byte.
func (f *files) bringBackAsWas(ctx context.Context, x *git.Index, tr *Transition) error {
	from := keptDir(f.Repo.GitDir, tr.Lay.Back)
	for _, p := range tr.Waypoint.Kept.Paths {
		if err := f.bringBackFile(ctx, tr, p); err != nil {
			return fmt.Errorf("bringing back %s: %w", p, err)
		}
	}
	if err := x.Take(filepath.Join(from, "index")); err != nil {
		return fmt.Errorf("bringing back the index: %w", err)
	}
	return x.Refresh(ctx)
}

// bringBackFile restores a file byte for byte. If somebody saved the file meanwhile, it puts that version back and
// reports where the other one is.
func (f *files) bringBackFile(ctx context.Context, tr *Transition, p string) error {
	was := f.keptFiles(tr.Lay.Back)
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
	if err := ledger.Step("over " + p); err != nil {
		return err
	}
	if is, err := f.work.tree().ReadFile(p); err == nil && bytes.Equal(is, data) {
		return nil
	}
	at := filepath.Join(string(was), filepath.FromSlash(p))
	over := f.over(tr)
	if err := f.work.tree().Move(p, over, p); err != nil && !isGone(err) {
		return err
	}
	ours, err := f.wrote(ctx, tr, over, p)
	if err != nil {
		return err
	}
	if ours {
		err = f.work.tree().Write(p, data, info.Mode().Perm())
	}
	switch {
	case ours && err == nil:
		if err = over.Remove(p); isGone(err) { // git wrote nothing there
			err = nil
		}
		return err
	case ours && !errors.Is(err, beneath.ErrTaken):
		return err
	case !ours:
		f.returnTo(p, over, p)
	}
	f.ledger.Tell("%s was saved meanwhile, and stays as it was saved; as it was before it is kept as %s.", p, at)
	return nil
}

// wrote reports whether a moved file has the content that this change wrote.
func (f *files) wrote(ctx context.Context, tr *Transition, over beneath.Folder, p string) (bool, error) {
	is, err := over.ReadFile(p)
	if isGone(err) {
		return true, nil // git wrote nothing there
	}
	e, ferr := f.planner.Store.Find(ctx, tr.Lay.Files, p)
	if ferr != nil || err != nil || !e.Mode.IsRegular() {
		return false, ferr
	}
	want, err := f.Repo.AsWritten(ctx, p, e.ID)
	return err == nil && bytes.Equal(is, want), err
}

// over returns the folder for files that are moved away to be compared.
func (f *files) over(tr *Transition) beneath.Folder {
	return beneath.Folder(filepath.Join(f.keep(tr), "over"))
}

// keptFiles returns the folder of the files kept under a name.
func (f *files) keptFiles(name string) beneath.Folder {
	return beneath.Folder(filepath.Join(keptDir(f.Repo.GitDir, name), "files"))
}

// unlock releases the index lock if this process has it.
func (f *files) unlock() {
	if f.release != nil {
		if err := f.release(); err != nil {
			f.ledger.Tell("The lock of the index could not be removed, and git will not work before it is: %s.", err)
		}
		f.release = nil
	}
}

// restoreLaid undoes the changes to index and files.
func (f *files) restoreLaid(ctx context.Context, tr *Transition, changes []object.Change) error {
	is, err := f.indexIs(ctx, tr)
	if err != nil {
		return err
	}
	switch {
	case is == indexAfter:
		if err := f.restoreIndex(ctx, tr); err != nil {
			return err
		}
	case is == indexOther && !f.side().There():
		f.ledger.Tell("The index was changed since, and stays as it is; as it was before, it is kept as %s.",
			filepath.Join(f.keep(tr), "index"))
	}
	f.unlock()
	if err := f.removeNew(ctx, changes); err != nil { // also where folders were moved away
		return err
	}
	mine := map[string]bool{}
	for _, p := range slices.Concat(tr.Lay.Paths, tr.Lay.Clean) {
		mine[p] = true
		if err := f.putAway(ctx, tr, p); err != nil {
			return err
		}
	}
	for _, p := range tr.Lay.Clean {
		f.returnTo(p, f.clean(tr), p)
	}
	for _, p := range tr.Lay.Paths {
		f.returnTo(p, f.keptFiles(tr.Lay.Keep), p)
		if ours, err := f.wrote(ctx, tr, f.over(tr), p); err != nil {
			return err
		} else if !ours { // somebody saved the file, and an interrupted run already examined it
			f.returnTo(p, f.over(tr), p)
		}
	}
	rest := slices.DeleteFunc(slices.Clone(changes), func(c object.Change) bool { return mine[c.Path] })
	if err := f.putBack(ctx, rest); err != nil {
		return err
	}
	f.side().Drop()
	return nil
}

// putAway removes what the transition wrote in place of a moved file.
func (f *files) putAway(ctx context.Context, tr *Transition, p string) error {
	info, err := f.work.tree().Lstat(p)
	if err != nil || info.IsDir() {
		return nil
	}
	held, err := f.planner.Store.Find(ctx, tr.Lay.Had, p)
	if err != nil {
		return err
	}
	if !f.keptFiles(tr.Lay.Keep).Has(p) && !f.clean(tr).Has(p) && !held.Absent() && !held.IsTree() {
		return nil // the file was not moved yet and is unchanged
	}
	new, err := f.planner.Store.Find(ctx, tr.Lay.Files, p)
	if err != nil || new.Absent() || new.IsTree() {
		return err
	}
	ours, err := f.work.begins(ctx, info, p, new)
	if err == nil && !ours && tr.Lay.Back != "" {
		data, rerr := f.keptFiles(tr.Lay.Back).ReadFile(p)
		is, ierr := f.work.tree().ReadFile(p)
		ours = rerr == nil && ierr == nil && bytes.Equal(data, is)
	}
	if err != nil || !ours {
		return err
	}
	return f.work.tree().Remove(p)
}

// indexState tells which version the repository's index is.
type indexState int

const (
	indexOther  indexState = iota // somebody else changed the index
	indexBefore                   // the index before the transition
	indexAfter                    // the index that the transition made
)

// indexIs compares the index with the journal and with the kept copy.
func (f *files) indexIs(ctx context.Context, tr *Transition) (indexState, error) {
	listing, err := f.Repo.Listing(ctx)
	if err != nil {
		return indexOther, err
	}
	if tr.Lay.Lists != "" && ledger.HashOf(listing) == tr.Lay.Lists {
		return indexAfter, nil
	}
	before, err := f.Repo.IndexFile(filepath.Join(f.keep(tr), "index")).Listing(ctx)
	if err == nil && listing == before {
		return indexBefore, nil
	}
	return indexOther, err
}

// restoreIndex puts the earlier index back.
func (f *files) restoreIndex(ctx context.Context, tr *Transition) (err error) {
	if f.release, err = f.Repo.LockIndex(ctx); err != nil {
		return err
	}
	x := f.Repo.SideIndex("back")
	if err = x.Take(filepath.Join(f.keep(tr), "index")); err == nil {
		err = x.Install(ctx)
	}
	return err
}

// files moves the files and the index of a transition.
type files struct {
	Repo    *git.Repo
	planner *plan.Planner
	ledger  *ledger.Ledger
	work    *WorkTree
	locks   *locks
	release func() error // unlocks the index; nil if it is not locked
}

// moveAside moves obstacles to the aside folder.
func (f *files) moveAside(tr *Transition) error {
	if tr.Kind != change.Accepting {
		return nil
	}
	for _, p := range tr.Waypoint.Aside {
		if err := f.work.tree().Move(p, f.asideFolder(&tr.Waypoint), p); err != nil {
			return fmt.Errorf("moving %s aside: %w", p, err)
		}
	}
	return nil
}

// bringBack returns obstacles to their places. If a place is taken, the file stays aside and is reported.
func (f *files) bringBack(wp *ledger.Waypoint) {
	for _, p := range wp.Aside {
		f.returnTo(p, f.asideFolder(wp), p)
	}
}

func (f *files) asideFolder(wp *ledger.Waypoint) beneath.Folder { return beneath.Folder(f.asideAt(wp)) }

// returnTo moves a kept file back to its place. If the place is taken or the move fails, the file stays and is
// reported.
func (f *files) returnTo(p string, kept beneath.Folder, as string) {
	workdir.GiveBack(f.ledger, f.work.tree(), p, kept, as)
}

// asideAt returns the folder for files that a join moved out of its way.
func (f *files) asideAt(wp *ledger.Waypoint) string {
	return filepath.Join(f.Repo.GitDir, "dorvik", "aside", wp.Name)
}

// removeNew removes new files that an interrupted change wrote.
func (f *files) removeNew(ctx context.Context, changes []object.Change) error {
	index, _, err := f.indexAndDirty(ctx)
	if err != nil {
		return err
	}
	for _, c := range changes {
		if !c.Old.Absent() || !still(index, c) {
			continue
		}
		ours, err := f.work.came(ctx, c)
		if err == nil && ours {
			err = f.work.tree().Remove(c.Path)
		}
		if err != nil {
			return err
		}
	}
	return nil
}

// putBack restores files that an interrupted change replaced.
func (f *files) putBack(ctx context.Context, changes []object.Change) error {
	index, changed, err := f.indexAndDirty(ctx)
	if err != nil {
		return err
	}
	var again []string
	for _, c := range changes {
		if !still(index, c) || c.Old.Absent() || !changed[c.Path] {
			continue
		}
		f.work.tree().RemoveEmpty(c.Path)
		ours, err := f.work.came(ctx, c)
		if err != nil {
			return err
		}
		if ours || !f.work.exists(c.Path) {
			again = append(again, c.Path)
		}
	}
	return f.Repo.Restore(ctx, again)
}

// indexAndDirty reads the index and the paths that differ from it.
func (f *files) indexAndDirty(ctx context.Context) (index map[string]object.Entry, dirty map[string]bool, err error) {
	if err := f.Repo.Refresh(ctx); err != nil {
		return nil, nil, err
	}
	_, list, err := f.Repo.Status(ctx)
	if err != nil {
		return nil, nil, err
	}
	dirty = map[string]bool{}
	for _, d := range list {
		dirty[d.Path] = d.Unstaged
	}
	index, err = f.Repo.Indexed(ctx)
	return index, dirty, err
}

// still reports whether the index still has the old entry of a path.
func still(index map[string]object.Entry, c object.Change) bool {
	return c.Old.Mode != object.ModeSubmodule && c.New.Mode != object.ModeSubmodule && index[c.Path].Same(c.Old)
}

// settleGit runs after the refs have moved. It attaches HEAD to the branch, and stores or restores git's files of a
// half-done operation. It skips steps that are done already.
func (f *files) settleGit(ctx context.Context, tr *Transition) error {
	l := tr.Lay
	if l == nil {
		return nil
	}
	if l.Head != l.HeadTo {
		if err := errors.Join(ledger.Step("move HEAD"), f.Repo.SetHead(ctx, tr.Branch, l.HeadTo,
			tr.Message)); err != nil {
			return err
		}
	}
	for _, name := range l.State {
		at, err := f.Repo.Inside(ctx, name)
		if err != nil {
			return err
		}
		from, to := at, filepath.Join(f.keep(tr), "state", filepath.FromSlash(name))
		if l.Back != "" {
			from, to = filepath.Join(keptDir(f.Repo.GitDir, l.Back), "state", filepath.FromSlash(name)), at
		}
		if _, err := os.Lstat(from); isGone(err) {
			continue
		}
		err = errors.Join(ledger.Step("move "+name), os.MkdirAll(filepath.Dir(to), 0o755))
		if err == nil {
			err = os.Rename(from, to)
		}
		if err != nil {
			return fmt.Errorf("putting away what git left half done: %w", err)
		}
	}
	return nil
}
