package svnapply

import (
	"context"
	"crypto/sha256"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"dorvik.dev/dorvik/internal/beneath"
	"dorvik.dev/dorvik/internal/change"
	"dorvik.dev/dorvik/internal/core/object"
	"dorvik.dev/dorvik/internal/ledger"
	"dorvik.dev/dorvik/internal/plan"
	"dorvik.dev/dorvik/internal/svn"
	"dorvik.dev/dorvik/internal/words"
	"dorvik.dev/dorvik/internal/workdir"
)

// Transition brings the working copy to another state, which was prepared beside it. Nothing else changes it. A journal
// records it before it starts, so that the next start can complete or undo an interrupted one.
//
// The steps are: keep what svn knows now, move obstacles aside, move the old files away and compare them, move the new
// ones to their places, put svn's new database in the place of the old one. That is one renaming, and the content of
// the database shows how far an interrupted transition got: with the new one, all files are complete.
type Transition struct {
	Kind     change.Kind     `json:"kind"`
	Waypoint ledger.Waypoint `json:"waypoint"` // of the join that is applied or undone
	Was      object.ID       `json:"was"`      // tree of the files before, and
	Is       object.ID       `json:"is"`       // after
	Old      string          `json:"old"`      // SHA-256 of svn's database before, and
	New      string          `json:"new"`      // after
	From     string          `json:"from"`     // folder with the new files and the new database
	Keep     string          `json:"keep"`     // name of the folder for the old ones
	Made     []string        `json:"made,omitempty"`
	Gone     []string        `json:"gone,omitempty"`  // folders that svn does not have any longer
	Stays    []string        `json:"stays,omitempty"` // folders that it still has, and of which files go
	Notes    svn.Notes       `json:"notes,omitzero"`  // of change lists after it
	// Marked are files with marks of a conflict that an update left, by the SHA-256 of their bytes. The tree before has
	// the person's own text in their place.
	Marked map[string]string `json:"marked,omitempty"`
	Turned bool              `json:"turned,omitempty"`
	Begun  time.Time         `json:"begun"`
}

// readJournal reads the journal. It returns nil if there is none.
func readJournal(own string) (*Transition, error) {
	return workdir.Interrupted[Transition](own, "svn status")
}

// safe is what is there if a change is cut off.
const safe = "Nothing is lost"

// The files of a folder in which something is kept.
const (
	keptFiles    = "files"
	keptDatabase = "wc.db"
	likenessDir  = "likeness"
)

// moving returns what moves the files of a transition.
func (a *Applier) moving(ctx context.Context, tr *Transition) *workdir.Files {
	m := &workdir.Files{Tree: a.WorkTree.at(), Away: beneath.Folder(filepath.Join(a.WorkTree.kept(tr.Keep), keptFiles)),
		Fresh: beneath.Folder(tr.From), Ledger: a.Ledger, Branch: tr.Waypoint.Branch, Made: tr.Made,
		Aside: a.asides(&tr.Waypoint), Blocking: tr.Waypoint.Aside}
	m.Holds = func(in beneath.Folder, path string, e object.Entry, _ bool) (bool, error) {
		for _, tree := range []object.ID{tr.Was, tr.Is} { // one of them says how the file is written
			if same, err := a.WorkTree.holds(ctx, in, tree, path, e); same || err != nil {
				return same, err
			}
		}
		data, err := in.ReadFile(path)
		return err == nil && tr.Marked[path] == fmt.Sprintf("%x", sha256.Sum256(data)), nil
	}
	m.Make = func(string, object.Entry) error { return nil } // they are there
	return m
}

// changes returns the files in which the trees of a transition differ.
func (a *Applier) changes(ctx context.Context, tr *Transition) ([]object.Change, error) {
	changes, err := a.Planner.Store.Changes(ctx, tr.Was, tr.Is)
	return slices.DeleteFunc(changes, func(c object.Change) bool {
		_, _, property := svn.PropertyOf(c.Path)
		return property
	}), err
}

// make carries out a transition. If it fails, it restores the earlier state; if that fails too, it returns a
// *workdir.CutError and the journal stays for the next start.
func (a *Applier) make(ctx context.Context, tr *Transition) error {
	own := a.Repo.Where().Own
	changes, err := a.changes(ctx, tr)
	if err != nil {
		return err
	}
	db, err := svn.LockDatabase(own)
	if err != nil {
		return err
	}
	defer db.Close()
	now, err := db.Hash()
	if err != nil {
		return err
	}
	if now != tr.Old {
		return &change.MovedError{Branch: tr.Waypoint.Branch}
	}
	keep := a.WorkTree.kept(tr.Keep)
	if err := os.MkdirAll(keep, 0o700); err != nil {
		return fmt.Errorf("keeping what is replaced: %w; nothing was changed", err)
	}
	if err := errors.Join(ledger.Step("keep"), db.CopyTo(filepath.Join(keep, keptDatabase))); err != nil {
		return err
	}
	if err := a.write(tr); err != nil {
		return err
	}
	ctx = context.WithoutCancel(ctx) // from here on the change is completed, not cancelled
	err = a.forward(ctx, tr, changes)
	if err == nil {
		err = ledger.Step("database")
	}
	if err == nil {
		err = os.Rename(newDatabase(tr), filepath.Join(own, keptDatabase))
	}
	if err != nil {
		return a.takeBack(ctx, tr, changes, err)
	}
	db.Close()
	if err := a.finish(ctx, tr); err != nil {
		return &workdir.CutError{Cause: err, Undo: errLater, Branch: tr.Waypoint.Branch, Safe: safe}
	}
	return nil
}

func newDatabase(tr *Transition) string { return filepath.Join(tr.From, ".svn", "wc.db") }

// errLater explains why a change is not undone after the database was replaced.
var errLater = errors.New("the working copy has its new state already")

// forward takes the steps before the database is replaced.
func (a *Applier) forward(ctx context.Context, tr *Transition, changes []object.Change) error {
	files := a.moving(ctx, tr)
	if tr.Kind != change.Undoing {
		if err := errors.Join(ledger.Step("move aside"), files.MoveAside()); err != nil {
			return err
		}
	}
	if err := errors.Join(ledger.Step("switch files"), files.MoveAway(changes)); err != nil {
		return err
	}
	if err := files.WriteNew(changes); err != nil {
		return err
	}
	return a.folders(tr)
}

// staying returns the folders of files that go, as far as svn still has them afterwards.
func staying(changes []object.Change, dirs []string) (out []string) {
	for _, c := range changes {
		for dir := plan.Folder(c.Path); dir != "" && c.New.Absent(); dir = plan.Folder(dir) {
			if slices.Contains(dirs, dir) && !slices.Contains(out, dir) {
				out = append(out, dir)
			}
		}
	}
	slices.Sort(out)
	return out
}

// folders makes the folders that svn has from now on, and removes those that it does not have any longer. What is not
// empty stays.
func (a *Applier) folders(tr *Transition) error {
	for _, dir := range slices.Concat(tr.Made, tr.Stays) {
		full := filepath.Join(string(a.WorkTree.at()), filepath.FromSlash(dir))
		if err := errors.Join(ledger.Step("folder "+dir), os.MkdirAll(full, 0o777)); err != nil {
			return fmt.Errorf("making the folder %s: %w", dir, err)
		}
	}
	for _, dir := range slices.Backward(tr.Gone) {
		if info, err := a.WorkTree.at().Lstat(dir); err == nil && info.IsDir() { // a file may be there by now
			_ = a.WorkTree.at().Remove(dir)
		}
	}
	return nil
}

// arrived reports whether svn's database is the new one.
func (a *Applier) arrived(tr *Transition) (bool, error) {
	now, err := svn.HashAt(filepath.Join(a.Repo.Where().Own, keptDatabase))
	if err != nil || now == tr.Old {
		return false, err
	}
	_, err = os.Lstat(newDatabase(tr)) // else it was changed since, and was put there if it is not here
	return now == tr.New || os.IsNotExist(err), nil
}

// finish takes the steps after the database was replaced. Each may be taken twice.
func (a *Applier) finish(ctx context.Context, tr *Transition) error {
	files := a.moving(ctx, tr)
	if tr.Kind == change.Undoing {
		files.BringBack()
	}
	if err := errors.Join(ledger.Step("notes"), a.Repo.SetNotes(tr.Notes)); err != nil {
		return err
	}
	if err := a.record(tr); err != nil {
		return err
	}
	os.RemoveAll(tr.From)
	if tr.Kind != change.Accepting {
		os.RemoveAll(a.WorkTree.kept(tr.Keep))
	}
	return errors.Join(ledger.Step("erase"), a.erase())
}

// record writes the change to state and logbook. Calling it twice logs it once.
func (a *Applier) record(tr *Transition) error {
	switch tr.Kind {
	case change.Undoing:
		return a.Ledger.Undone(&tr.Waypoint)
	case change.Telling: // svn was told what was settled; for Dorvik nothing changed
		return nil
	}
	return a.Ledger.Joined(&tr.Waypoint)
}

func (a *Applier) write(tr *Transition) error {
	return workdir.WriteJournal(workdir.JournalPath(a.Repo.Where().Own), tr)
}

func (a *Applier) erase() error { return workdir.EraseJournal(a.Repo.Where().Own) }

// takeBack restores the earlier state after a failure and returns the error to report.
func (a *Applier) takeBack(ctx context.Context, tr *Transition, changes []object.Change, cause error) error {
	told := a.Ledger.Told()
	if err := a.restore(ctx, tr, changes); err != nil {
		return &workdir.CutError{Cause: cause, Undo: err, Branch: tr.Waypoint.Branch, Safe: safe}
	}
	if err := a.erase(); err != nil {
		return errors.Join(cause, err)
	}
	if but := a.Ledger.TakeNotices(told); len(but) > 0 {
		return fmt.Errorf("%w. Everything is as it was before, except: %s", cause,
			strings.TrimSuffix(strings.Join(but, " "), "."))
	}
	if moved := (*change.MovedError)(nil); errors.As(cause, &moved) { // it says that nothing was done
		return cause
	}
	return fmt.Errorf("%w. Everything is as it was before", cause)
}

// restore returns the files to what they were. The journal records the direction first, so an interrupted restore
// continues as one.
func (a *Applier) restore(ctx context.Context, tr *Transition, changes []object.Change) error {
	if !tr.Turned {
		tr.Turned = true
		if err := a.write(tr); err != nil {
			return err
		}
	}
	for _, dir := range tr.Gone {
		if err := os.MkdirAll(filepath.Join(string(a.WorkTree.at()), filepath.FromSlash(dir)), 0o777); err != nil {
			return fmt.Errorf("making the folder %s again: %w", dir, err)
		}
	}
	files := a.moving(ctx, tr)
	if err := files.PutBack(changes); err != nil {
		return err
	}
	if tr.Kind != change.Undoing {
		files.BringBack()
	}
	os.RemoveAll(a.WorkTree.kept(tr.Keep))
	return nil
}

// goOn completes or undoes the change of an interrupted process.
func (a *Applier) goOn(ctx context.Context) error {
	tr, err := readJournal(a.Repo.Where().Own)
	if damaged := (*workdir.JournalError)(nil); errors.As(err, &damaged) {
		aside, err := ledger.SetAside(damaged.Path)
		a.Ledger.Tell("An earlier run was interrupted while it changed your working copy, and its account of that was "+
			"damaged. It is set aside as %s. Look with “svn status” whether the files are as you want them; the old "+
			"ones are below %s.", filepath.Base(aside), filepath.Dir(a.WorkTree.kept("any")))
		return err
	}
	if err != nil || tr == nil {
		return err
	}
	there := false
	if !tr.Turned {
		if there, err = a.arrived(tr); err != nil {
			return err
		}
	}
	if there {
		if err := a.finish(ctx, tr); err != nil {
			return fmt.Errorf("an earlier run was interrupted while it changed your working copy, and completing that "+
				"failed: %w. The files are all there; fix the cause and start dorvik again", err)
		}
		a.Ledger.Tell("%s", tr.Kind.Completed(tr.Waypoint.Branch))
		return nil
	}
	changes, err := a.changes(ctx, tr)
	if err != nil {
		return err
	}
	told := a.Ledger.Told()
	if err := a.restore(ctx, tr, changes); err != nil {
		return fmt.Errorf("an earlier run was interrupted while it changed your files, and they cannot be put back: "+
			"%w. They are all kept. Fix the cause and start dorvik again", err)
	}
	but := a.Ledger.TakeNotices(told)
	a.Ledger.Tell("An earlier run was interrupted while it changed your files. %s", words.If(len(but) > 0,
		"They are as they were before, except:", "They are as they were before; nothing is lost."))
	for _, one := range but {
		a.Ledger.Tell("%s", one)
	}
	a.tookBack = true
	if tr.Kind == change.Accepting {
		wp := tr.Waypoint
		wp.GoneBack = true
		if err := a.Ledger.Store.PutWaypoint(&wp); err != nil {
			return err
		}
	}
	return a.erase()
}
