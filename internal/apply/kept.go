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
	"syscall"

	"dorvik.dev/dorvik/internal/beneath"
	"dorvik.dev/dorvik/internal/change"
	"dorvik.dev/dorvik/internal/core/object"
	"dorvik.dev/dorvik/internal/git"
	"dorvik.dev/dorvik/internal/ledger"
	"dorvik.dev/dorvik/internal/plan"
)

// keptDir is the folder in the git directory in which a change keeps what it moves away, by a name.
func keptDir(gitDir, name string) string { return filepath.Join(gitDir, "dorvik", "kept", name) }

// keep is the folder in which a transition keeps what it moves away.
func (f *files) keep(tr *Transition) string { return keptDir(f.Repo.GitDir, tr.Lay.Keep) }

// freeKeep is a name under which nothing is kept yet.
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

// side is the index that is made beside the repository's while a transition is made.
func (f *files) side() *git.Index { return f.Repo.SideIndex("next") }

// prepare takes the index's lock, and copies the index: to be changed on the side, and to be
// kept.
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

// look notes the files without uncommitted work that a change is to write or to remove, and holds that they are as the
// index has them.
func (f *files) look(ctx context.Context, tr *Transition) error {
	changes, err := f.planner.Store.Changes(tr.Lay.Start, tr.Lay.Files)
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

// moveAway moves the files that the change is to write or to remove away, as they are. What is
// written to them from here on goes with them, or is in the way and found.
func (f *files) moveAway(tr *Transition) error {
	for _, to := range f.away(tr) {
		for _, p := range to.paths {
			info, err := f.work.tree().Lstat(p)
			if isGone(err) || err == nil && info.IsDir() {
				continue // it is deleted
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

// away is a folder to which files are moved, and those files.
type away struct {
	in    beneath.Folder
	paths []string
}

// away gives the folders to which a transition moves files.
func (f *files) away(tr *Transition) []away {
	return []away{{f.keptFiles(tr.Lay.Keep), tr.Lay.Paths}, {f.clean(tr), tr.Lay.Clean}}
}

// clean is the folder for files without uncommitted work, while they are replaced.
func (f *files) clean(tr *Transition) beneath.Folder {
	return beneath.Folder(filepath.Join(f.keep(tr), "clean"))
}

// fresh is the folder in which files are written before they are put in their places.
func (f *files) fresh(tr *Transition) beneath.Folder {
	return beneath.Folder(filepath.Join(f.keep(tr), "fresh"))
}

// doneWith lets go of the files that were replaced: all is made. They are removed once that is written down. One that
// somebody who had it open wrote to since is kept, and told.
func (f *files) doneWith(tr *Transition) {
	kept := beneath.Folder(filepath.Join(f.keep(tr), "written"))
	for _, p := range tr.Lay.Clean {
		was, is := tr.seen[p], fs.FileInfo(nil)
		if was != nil { // else it is ended by another run
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
	_ = os.Rename(string(f.clean(tr)), filepath.Join(f.keep(tr), "old")) // there may be none
}

// unwritten reports whether nobody wrote to a file between two looks, as far as its time and size tell.
func unwritten(was, is fs.FileInfo) bool {
	return was.ModTime().Equal(is.ModTime()) && was.Size() == is.Size()
}

// letGo removes what a transition needed only while it was made. What could not go back to its place stays.
func (f *files) letGo(tr *Transition) {
	keep := f.keep(tr)
	os.RemoveAll(filepath.Join(keep, "old"))
	os.RemoveAll(string(f.fresh(tr)))
	beneath.Folder(keep).RemoveEmpty("clean")
	if tr.Waypoint.Kept == nil && len(tr.Lay.Paths) == 0 { // nothing else is kept there
		os.Remove(filepath.Join(keep, "index"))
		os.Remove(keep)
	}
}

// sweepKept removes what a run that was ended right after a change had not come to.
func (f *files) sweepKept() {
	for _, name := range []string{"old", "fresh"} {
		left, _ := filepath.Glob(keptDir(f.Repo.GitDir, "*/"+name)) // none, as a rule
		for _, dir := range left {
			os.RemoveAll(dir)
		}
	}
}

// unchanged holds that the files which were moved away are still what the change was worked out
// with: somebody may have saved one in the meantime.
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
		if err == nil && is.IsDir() { // that holds others
			err = fs.ErrNotExist
		}
		if (was == nil) != (err != nil) || was != nil && !unwritten(was, is) {
			return &change.MovedError{Branch: tr.Branch, Work: true}
		}
	}
	return nil
}

// switchLaid takes index and files to the layout. The index goes last, and at once.
func (f *files) switchLaid(ctx context.Context, tr *Transition) error {
	x, l := f.side(), tr.Lay
	start := map[string]object.Entry{}
	for _, p := range l.Paths {
		e, err := f.planner.Store.Find(l.Start, p)
		if err != nil {
			return err
		}
		if e.IsTree() {
			e = object.Entry{}
		}
		if start[p] = e; !e.Absent() { // git would take a folder for a change of the file
			f.work.tree().RemoveEmpty(p)
		}
	}
	if err := x.Set(ctx, start); err != nil {
		return err
	}
	if err := f.switchFiles(ctx, x, tr); err != nil {
		return err
	}
	changes, err := f.planner.Store.Changes(l.Files, l.Staged)
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

// switchFiles takes the files to the layout, and the index on the side with them.
func (f *files) switchFiles(ctx context.Context, x *git.Index, tr *Transition) error {
	changed, byGit, err := f.writing(ctx, tr.Lay)
	if err != nil {
		return err
	}
	err = errors.Join(ledger.Step("files"), x.SwitchTree(ctx, tr.Lay.Start, tr.Lay.Files, byGit))
	if len(refusedPaths(err)) > 0 { // one that was moved away is there again
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
	return x.Refresh(ctx) // that it need not read them again
}

// tidy removes the folders that files were moved away from and that are empty now, as git does.
func (f *files) tidy(l *Lay) {
	for _, p := range slices.Concat(l.Paths, l.Clean) {
		for dir := plan.Folder(p); dir != "" && f.work.removeFolder(dir); dir = plan.Folder(dir) {
		}
	}
}

// writeFiles writes the files that the change brings, each whole beside the working tree, and then puts them in their
// places, which are free: what stood there is moved away. What stands there all the same was saved meanwhile.
func (f *files) writeFiles(ctx context.Context, x *git.Index, tr *Transition, changed []object.Change) error {
	paths, err := f.toWrite(tr.Lay, changed)
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

// writing lists what differs between the trees of a layout, and reports whether git itself is to write those files: it
// alone knows which belong into a sparse working tree, and how submodules move.
func (f *files) writing(ctx context.Context, l *Lay) (changed []object.Change, byGit bool, err error) {
	if changed, err = f.planner.Store.Changes(l.Start, l.Files); err != nil {
		return nil, false, err
	}
	byGit, err = f.Repo.Sparse(ctx)
	return changed, byGit || slices.ContainsFunc(changed, func(c object.Change) bool {
		return c.Old.Mode == object.ModeSubmodule || c.New.Mode == object.ModeSubmodule
	}), err
}

// toWrite lists the files that are to be written, and were not: what is new or other, and what was moved away and stays
// as it is.
func (f *files) toWrite(l *Lay, changed []object.Change) (paths []string, err error) {
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
		e, err := f.planner.Store.Find(l.Files, p)
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

// bringBackFile has a file be byte for byte what the waypoint kept. What this change wrote
// there is moved away and looked at before: if somebody saved the file meanwhile it is put
// back, and that is told.
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
		if err = over.Remove(p); isGone(err) { // it wrote nothing there
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

// wrote reports whether a file that was moved away holds what this change wrote to its path.
func (f *files) wrote(ctx context.Context, tr *Transition, over beneath.Folder, p string) (bool, error) {
	is, err := over.ReadFile(p)
	if isGone(err) {
		return true, nil // it wrote nothing there
	}
	e, ferr := f.planner.Store.Find(tr.Lay.Files, p)
	if ferr != nil || err != nil || !e.Mode.IsRegular() {
		return false, ferr
	}
	want, err := f.Repo.AsWritten(ctx, p, e.ID)
	return err == nil && bytes.Equal(is, want), err
}

// over is the folder to which files are moved away to be looked at.
func (f *files) over(tr *Transition) beneath.Folder {
	return beneath.Folder(filepath.Join(f.keep(tr), "over"))
}

// keptFiles is the folder of the files that a change kept under a name.
func (f *files) keptFiles(name string) beneath.Folder {
	return beneath.Folder(filepath.Join(keptDir(f.Repo.GitDir, name), "files"))
}

// isGone reports whether an error says that there is nothing at a path, or no folder for it.
func isGone(err error) bool { return errors.Is(err, fs.ErrNotExist) || errors.Is(err, syscall.ENOTDIR) }

// unlock lets go of the index's lock, if this session has it.
func (f *files) unlock() {
	if f.release != nil {
		if err := f.release(); err != nil {
			f.ledger.Tell("The lock of the index could not be removed, and git will not work before it is: %s.", err)
		}
		f.release = nil
	}
}

// restoreLaid takes back what a transition did to index and files.
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
	if err := f.removeNew(ctx, changes); err != nil { // also in the place of folders that were moved away
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
		} else if !ours { // saved by somebody, and looked at when this was cut off
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

// putAway removes what a transition wrote in the place of a file that it had moved away.
func (f *files) putAway(ctx context.Context, tr *Transition, p string) error {
	info, err := f.work.tree().Lstat(p)
	if err != nil || info.IsDir() {
		return nil
	}
	held, err := f.planner.Store.Find(tr.Lay.Had, p)
	if err != nil {
		return err
	}
	if !f.keptFiles(tr.Lay.Keep).Has(p) && !f.clean(tr).Has(p) && !held.Absent() && !held.IsTree() {
		return nil // not moved yet: it is what it was
	}
	new, err := f.planner.Store.Find(tr.Lay.Files, p)
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

// indexState is what the repository's index is to a transition.
type indexState int

const (
	indexOther  indexState = iota // changed since, by somebody else
	indexBefore                   // as it was before
	indexAfter                    // as the transition made it
)

// indexIs compares the index with what the account says of it, and with the copy that was kept.
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

// restoreIndex has the repository's index be what it was.
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
	release func() error // lets go of the index's lock; nil where it is not taken
}

// moveAside moves what is in the way to where it is kept.
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

// bringBack brings back what was moved aside, where its place is free. What cannot
// go back stays where it is kept, and that is told.
func (f *files) bringBack(wp *ledger.Waypoint) {
	for _, p := range wp.Aside {
		f.returnTo(p, f.asideFolder(wp), p)
	}
}

func (f *files) asideFolder(wp *ledger.Waypoint) beneath.Folder { return beneath.Folder(f.asideAt(wp)) }

// returnTo moves a file from where it was kept back to its place in the working tree, if it
// is kept. Where the place is taken, or the move fails, it stays, and that is told.
func (f *files) returnTo(p string, kept beneath.Folder, as string) {
	if !kept.Has(as) {
		return
	}
	f.work.tree().RemoveEmpty(p) // folders that came in its place
	at := filepath.Join(string(kept), filepath.FromSlash(as))
	switch err := kept.Move(as, f.work.tree(), p); {
	case errors.Is(err, beneath.ErrTaken):
		f.ledger.Tell("%s stays as it is; what you had there is kept as %s.", p, at)
	case err != nil:
		f.ledger.Tell("%s could not go back to its place (%v); it is kept as %s.", p, err, at)
	}
}

// missingFolders lists the folders that writing the changes will make, the upper ones first.
func (f *files) missingFolders(changes []object.Change) (out []string) {
	seen := map[string]bool{}
	for _, c := range changes {
		if c.New.Absent() {
			continue
		}
		for dir := plan.Folder(c.Path); dir != "" && !seen[dir]; dir = plan.Folder(dir) {
			seen[dir] = true
			if !f.work.exists(dir) {
				out = append(out, dir)
			}
		}
	}
	slices.Sort(out)
	return out
}

// asideAt is where what a join found in its way is kept.
func (f *files) asideAt(wp *ledger.Waypoint) string {
	return filepath.Join(f.Repo.GitDir, "dorvik", "aside", wp.Name)
}

// removeNew removes the files that a change brought where there were none, as far as it got.
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

// putBack puts back the files of a change that got as far as some of them.
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

// indexAndDirty reads the index, and which files are not as it has them.
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

// still reports whether the index has a path as it was before a change.
func still(index map[string]object.Entry, c object.Change) bool {
	return c.Old.Mode != object.ModeSubmodule && c.New.Mode != object.ModeSubmodule && index[c.Path].Same(c.Old)
}

// settleGit does what comes after the refs: HEAD goes to the branch, or back to where it was,
// and git's own account of what it left half done is put away, or brought back. What is done
// already is not done again.
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
