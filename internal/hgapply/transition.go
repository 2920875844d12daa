package hgapply

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"time"

	"dorvik.dev/dorvik/internal/beneath"
	"dorvik.dev/dorvik/internal/beside"
	"dorvik.dev/dorvik/internal/change"
	"dorvik.dev/dorvik/internal/core/object"
	"dorvik.dev/dorvik/internal/hg"
	"dorvik.dev/dorvik/internal/ledger"
	"dorvik.dev/dorvik/internal/words"
	"dorvik.dev/dorvik/internal/workdir"
)

// Transition moves the working folder from one changeset to another. Nothing else does. A journal records it before it
// starts, so that the next start can complete or undo an interrupted one.
//
// The steps are: add the new changesets, move obstacles aside, move the old files away and compare them, write the new
// ones, set the parent of the working folder. hg replaces the file with the parent in one step, so the parent shows how
// far an interrupted transition got: at its new value, all files are complete. Changesets that are no longer wanted are
// removed last.
type Transition struct {
	Kind      change.Kind     `json:"kind"`
	Waypoint  ledger.Waypoint `json:"waypoint"`            // of the join that is applied or undone
	From      [2]object.ID    `json:"from"`                // the parents before, and
	To        [2]object.ID    `json:"to"`                  // after; the second is zero unless a merge is half done
	Was       object.ID       `json:"was"`                 // tree of the files before, and
	Is        object.ID       `json:"is"`                  // after
	Branch    string          `json:"branch,omitempty"`    // the named branch to go to, if it is another
	Bookmarks []hg.Bookmark   `json:"bookmarks,omitempty"` // those that go along
	Bundle    string          `json:"bundle,omitempty"`    // file with the changesets to add
	Adds      []object.ID     `json:"adds,omitempty"`      // those that are new
	Secret    []object.ID     `json:"secret,omitempty"`    // those that must not be pushed
	Remove    []object.ID     `json:"remove,omitempty"`    // those that are removed at the end
	State     []string        `json:"state,omitempty"`     // hg's files of a half-done operation, in .hg
	Away      string          `json:"away,omitempty"`      // folder that they are moved to
	Back      string          `json:"back,omitempty"`      // or from
	Marks     hg.Marks        `json:"marks"`
	Made      []string        `json:"made,omitempty"`    // folders that the transition creates
	Keep      string          `json:"keep"`              // name of the folder for files that are moved away
	Arrived   bool            `json:"arrived,omitempty"` // the parents were set
	Turned    bool            `json:"turned,omitempty"`
	Begun     time.Time       `json:"begun"`
}

// readJournal reads the journal. It returns nil if there is none.
func readJournal(own string) (*Transition, error) {
	return workdir.Interrupted[Transition](own, "hg status")
}

// safe is what is there if a change is cut off.
const safe = "Your changesets are all there"

// files moves the files of a transition.
type files struct {
	*WorkTree
	ledger *ledger.Ledger
}

func (f *files) own() string { return f.Repo.Where().Own }

// keepAt returns the folder of what is kept under a name.
func (f *files) keepAt(name string) string { return filepath.Join(f.own(), "dorvik", "kept", name) }

// away returns the folder for files that are moved away.
func (f *files) away(tr *Transition) beneath.Folder {
	return beneath.Folder(filepath.Join(f.keepAt(tr.Keep), "files"))
}

// moving returns what moves the files of a transition.
func (f *files) moving(ctx context.Context, tr *Transition) *workdir.Files {
	m := &workdir.Files{Tree: f.at(), Away: f.away(tr), Ledger: f.ledger, Branch: tr.Waypoint.Branch, Made: tr.Made,
		Fresh: beneath.Folder(filepath.Join(f.keepAt(tr.Keep), "new"))}
	m.Holds = func(in beneath.Folder, path string, e object.Entry, begun bool) (bool, error) {
		return f.holds(ctx, in, path, e, begun)
	}
	m.Make = func(path string, e object.Entry) error {
		data, err := f.Planner.Store.Blob(ctx, e.ID)
		if err != nil {
			return err
		}
		return beside.WriteEntry(m.Fresh, path, e, data)
	}
	if tr.Kind != change.Switching {
		m.Aside, m.Blocking = f.asideAt(&tr.Waypoint), tr.Waypoint.Aside
	}
	return m
}

// rest is the file for changesets that hg adds again while it removes others.
func (f *files) rest(tr *Transition) string { return filepath.Join(f.keepAt(tr.Keep), "rest.hg") }

// asideAt returns the folder for untracked files that were in the way.
func (f *files) asideAt(wp *ledger.Waypoint) beneath.Folder {
	return beneath.Folder(filepath.Join(f.own(), "dorvik", "aside", wp.Name))
}

// make carries out a transition. If it fails, it restores the earlier state; if that fails too, it returns a
// *workdir.CutError and the journal stays for the next start.
func (a *Applier) make(ctx context.Context, tr *Transition) error {
	release, err := a.Repo.LockFolder(ctx)
	if err != nil {
		return err
	}
	defer release()
	if a.Repo.Parents() != tr.From || a.Repo.Busy() != "" && tr.Away == "" {
		return &change.MovedError{Branch: tr.Waypoint.Branch}
	}
	changes, err := a.Planner.Store.Changes(ctx, tr.Was, tr.Is)
	if err != nil {
		return err
	}
	if err := os.MkdirAll(a.files.keepAt(tr.Keep), 0o700); err != nil {
		return fmt.Errorf("keeping what is replaced: %w; nothing was changed", err)
	}
	tr.Made = workdir.MissingFolders(a.files.at(), changes)
	if err := a.write(tr); err != nil {
		return err
	}
	ctx = context.WithoutCancel(ctx) // from here on the change is completed, not cancelled
	err = a.forward(ctx, tr, changes)
	release() // hg itself takes the lock for the rest
	if err == nil {
		err = a.setParent(ctx, tr)
	}
	if err != nil && !a.files.arrived(tr) {
		return a.takeBack(ctx, tr, changes, err)
	}
	if err := a.finish(ctx, tr); err != nil {
		return &workdir.CutError{Cause: err, Undo: errLater, Branch: tr.Waypoint.Branch, Safe: safe}
	}
	return nil
}

// arrived reports whether a transition has come to where it can only be completed. Where the parents stay as they are,
// the journal alone says so.
func (f *files) arrived(tr *Transition) bool {
	return !tr.Turned && (tr.Arrived || tr.From != tr.To && f.Repo.Parents() == tr.To)
}

// errLater explains why a change is not undone after the parent was set.
var errLater = errors.New("the working folder is at its new changeset already")

// setParent sets the new parent, unless another program set one meanwhile.
func (a *Applier) setParent(ctx context.Context, tr *Transition) error {
	if a.Repo.Parents() != tr.From {
		return &change.MovedError{Branch: tr.Waypoint.Branch}
	}
	if tr.From == tr.To {
		return nil
	}
	return errors.Join(ledger.Step("set parent"), a.Repo.SetParents(ctx, tr.To))
}

// forward takes the steps before the new parent is set.
func (a *Applier) forward(ctx context.Context, tr *Transition, changes []object.Change) error {
	if tr.Bundle != "" {
		areNew := filepath.Base(tr.Bundle) == madeFile
		if err := errors.Join(ledger.Step("add changesets"), a.Repo.Add(ctx, tr.Bundle, areNew)); err != nil {
			return err
		}
	}
	if err := a.Repo.MakeSecret(ctx, tr.Secret); err != nil {
		return err
	}
	files := a.files.moving(ctx, tr)
	if tr.Kind == change.Accepting {
		if err := errors.Join(ledger.Step("move aside"), files.MoveAside()); err != nil {
			return err
		}
	}
	if err := errors.Join(ledger.Step("switch files"), files.MoveAway(changes)); err != nil {
		return err
	}
	return files.WriteNew(changes)
}

// finish takes the steps after the parent was set. Each may be taken twice.
func (a *Applier) finish(ctx context.Context, tr *Transition) error {
	tr.Arrived = true // from here on the parents can differ for a moment
	if err := errors.Join(a.write(tr), ledger.Step("move state"), a.files.moveState(tr)); err != nil {
		return err
	}
	if tr.Branch != "" {
		if err := a.Repo.SetBranch(ctx, tr.Branch); err != nil {
			return err
		}
	}
	changed, err := a.WorkTree.between(ctx, tr.From[0], tr.To[0])
	if err == nil {
		err = errors.Join(ledger.Step("settle"), a.Repo.Settle(ctx, tr.Marks, changed, len(tr.State) > 0))
	}
	if err != nil {
		return err
	}
	if !tr.To[1].IsZero() { // hg forgot the second one
		if err := errors.Join(ledger.Step("set parents again"), a.Repo.SetParents(ctx, tr.To)); err != nil {
			return err
		}
	}
	err = errors.Join(ledger.Step("remove changesets"), a.Repo.Remove(ctx, tr.Remove, a.files.rest(tr)))
	if err != nil {
		return err
	}
	for _, b := range tr.Bookmarks {
		if err := errors.Join(ledger.Step("move bookmark "+b.Name), a.Repo.MoveBookmark(ctx, b)); err != nil {
			return err
		}
	}
	files := a.files.moving(ctx, tr)
	if tr.Kind == change.Undoing {
		files.BringBack()
	}
	if err := a.record(tr); err != nil {
		return err
	}
	files.Clean()
	os.Remove(a.files.keepAt(tr.Keep)) // unless something is kept there
	return errors.Join(ledger.Step("erase"), a.erase())
}

// between lists the files in which two changesets differ.
func (w *WorkTree) between(ctx context.Context, one, other object.ID) (paths []string, err error) {
	was, err := w.Planner.Tree(ctx, one)
	if err != nil {
		return nil, err
	}
	is, err := w.Planner.Tree(ctx, other)
	if err != nil {
		return nil, err
	}
	err = w.Planner.Store.EachChange(ctx, was, is, func(c object.Change) { paths = append(paths, c.Path) })
	return paths, err
}

// record writes the change to state and logbook. Calling it twice logs it once.
func (a *Applier) record(tr *Transition) error {
	switch tr.Kind {
	case change.Undoing:
		return a.Ledger.Undone(&tr.Waypoint)
	case change.Switching:
		return a.Ledger.Store.LogSwitch(ledger.LogEntry{What: ledger.Moved, Of: ledger.Switched, When: tr.Begun,
			Branch: tr.Branch, Was: tr.Waypoint.Branch, From: tr.From[0], To: tr.To[0]})
	}
	return a.Ledger.Joined(&tr.Waypoint)
}

func (a *Applier) write(tr *Transition) error {
	return workdir.WriteJournal(workdir.JournalPath(a.files.own()), tr)
}

func (a *Applier) erase() error { return workdir.EraseJournal(a.files.own()) }

// takeBack restores the earlier state after a failure and returns the error to report.
func (a *Applier) takeBack(ctx context.Context, tr *Transition, changes []object.Change, cause error) error {
	told := a.Ledger.Told()
	err := a.Repo.RollBack(ctx) // hg may have ended in the middle
	if err == nil {
		err = a.restore(ctx, tr, changes, func() {})
	}
	if err != nil {
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

// restore returns the files to what they were and removes the changesets that were added. The journal records the
// direction first, so an interrupted restore continues as one. release unlocks the folder for hg once the files are
// back.
func (a *Applier) restore(ctx context.Context, tr *Transition, changes []object.Change, release func()) error {
	if !tr.Turned {
		tr.Turned = true
		if err := a.write(tr); err != nil {
			return err
		}
	}
	files := a.files.moving(ctx, tr)
	if err := files.PutBack(changes); err != nil {
		return err
	}
	if tr.Kind == change.Accepting {
		files.BringBack()
	}
	release()
	can, _, err := a.Repo.Removable(ctx, tr.Adds)
	if err != nil {
		return err
	}
	return a.Repo.Remove(ctx, can, a.files.rest(tr))
}

// interrupted returns the transition of an interrupted process, or nil, once hg has all changesets again.
func (a *Applier) interrupted(ctx context.Context) (*Transition, error) {
	tr, err := readJournal(a.files.own())
	if damaged := (*workdir.JournalError)(nil); errors.As(err, &damaged) {
		aside, err := ledger.SetAside(damaged.Path)
		a.Ledger.Tell("An earlier run was interrupted while it changed your working folder, and its account of that "+
			"was damaged. It is set aside as %s. Look with “hg status” whether the files are as you want them; your "+
			"changesets are all there.", filepath.Base(aside))
		return nil, err
	}
	if err != nil || tr == nil {
		return nil, err
	}
	if err := a.Repo.Refill(ctx, a.files.rest(tr)); err != nil {
		return nil, fmt.Errorf("an earlier run was interrupted while it changed your changesets, and hg cannot put "+
			"them in order: %w. They are all kept below %s; fix the cause and start dorvik again", err,
			a.files.keepAt(tr.Keep))
	}
	return tr, nil
}

// goOn completes or undoes the change of an interrupted process.
func (a *Applier) goOn(ctx context.Context) error {
	tr, err := a.interrupted(ctx)
	if err != nil || tr == nil {
		return err
	}
	release, err := a.Repo.LockFolder(ctx)
	if err != nil {
		return err
	}
	defer release()
	at := a.Repo.Parents()
	if a.files.arrived(tr) {
		release()
		if err := a.finish(ctx, tr); err != nil {
			return fmt.Errorf("an earlier run was interrupted while it changed your working folder, and completing "+
				"that failed: %w. Your changesets and files are all there; fix the cause and start dorvik again", err)
		}
		a.Ledger.Tell("%s", tr.Kind.Completed(tr.Branch))
		return nil
	}
	if at != tr.From {
		a.Ledger.Tell("An earlier run was interrupted while it changed %s, and the working folder was updated since, "+
			"by you or another program. It was at %s before, and the joined result is %s.", tr.Waypoint.Branch,
			tr.From[0], tr.To[0])
	}
	changes, err := a.Planner.Store.Changes(ctx, tr.Was, tr.Is)
	if err != nil {
		return err
	}
	told := a.Ledger.Told()
	if err := a.restore(ctx, tr, changes, release); err != nil {
		return fmt.Errorf("an earlier run was interrupted while it changed your files, and they cannot be put back: "+
			"%w. Your changesets are all there. Fix the cause and start dorvik again", err)
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

// moveState moves hg's files of a half-done operation away, or back. Those that were moved already are passed over.
func (f *files) moveState(tr *Transition) error {
	from, to := f.own(), tr.Away
	if tr.Back != "" {
		from, to = tr.Back, f.own()
	}
	for _, name := range tr.State {
		if _, err := os.Lstat(filepath.Join(from, name)); isGone(err) {
			continue
		}
		err := os.MkdirAll(filepath.Dir(filepath.Join(to, name)), 0o700)
		if err == nil {
			err = os.Rename(filepath.Join(from, name), filepath.Join(to, name))
		}
		if err != nil {
			return fmt.Errorf("putting away what hg left half done: %w", err)
		}
	}
	return nil
}
