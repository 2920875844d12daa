package apply

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"dorvik.dev/dorvik/internal/change"
	"dorvik.dev/dorvik/internal/core/history"
	"dorvik.dev/dorvik/internal/core/object"
	"dorvik.dev/dorvik/internal/git"
	"dorvik.dev/dorvik/internal/ledger"
	"dorvik.dev/dorvik/internal/vcs"
	"dorvik.dev/dorvik/internal/words"
	"dorvik.dev/dorvik/internal/workdir"
)

// Transition changes branch, index and working tree from one state to another. Nothing else changes them. A journal
// records the transition before it starts, so that the next start can complete or undo an interrupted one.
//
// The steps are: move obstacles aside, write the files, replace the index, update the refs. The index and the refs
// change in one step each, so the index shows how far an interrupted transition got. Until it is replaced, all files
// can be restored from objects of the repository. The branch moves last. If it moved first, a commit made on the
// half-written files would revert other people's changes.
type Transition struct {
	Kind     change.Kind     `json:"kind"`
	Waypoint ledger.Waypoint `json:"waypoint"` // the waypoint of the join that is applied or undone
	Branch   string          `json:"branch"`
	Was      string          `json:"was,omitempty"` // for a switch: the branch that HEAD was at
	From     object.ID       `json:"from"`          // the tip before, and
	To       object.ID       `json:"to"`            // after
	Message  string          `json:"message"`
	Made     []string        `json:"made,omitempty"` // folders that the transition creates
	Lay      *Lay            `json:"lay,omitempty"`  // nil until it is computed, or if only commits change

	Begun  time.Time `json:"begun"`
	Turned bool      `json:"-"` // the transition is being undone

	seen map[string]os.FileInfo // state of the files to move away, when they were read
}

// trees returns the trees before and after, and the changed files.
func (a *Applier) trees(ctx context.Context, tr *Transition) (from, to object.ID, changes []object.Change, err error) {
	on := tr.From
	if tr.Lay != nil && !tr.Lay.Head.IsZero() {
		on = tr.Lay.Head
	}
	if from, err = a.Planner.Tree(ctx, on); err == nil {
		if to, err = a.Planner.Tree(ctx, tr.To); err == nil {
			if tr.Lay != nil {
				to = tr.Lay.Files
			}
			changes, err = a.Planner.Store.Changes(ctx, from, to)
		}
	}
	return from, to, changes, err
}

// refs lists the ref updates: the branch, branches that move with it, and the ref that keeps the earlier state.
func (tr *Transition) refs() []vcs.RefUpdate {
	out := []vcs.RefUpdate{{Name: tr.ref(), New: tr.To, Old: tr.From}}
	for _, m := range tr.Waypoint.Moves {
		if tr.Kind == change.Undoing {
			m.From, m.To = m.To, m.From
		}
		out = append(out, vcs.RefUpdate{Name: m.Branch, New: m.To, Old: m.From})
	}
	if tr.Kind == change.Accepting {
		if k := tr.Waypoint.Kept; k != nil {
			out = append(out, vcs.RefUpdate{Name: tr.Waypoint.KeptRef(), New: k.Commit})
		}
	}
	return out
}

// make carries out a transition. If it fails, it restores the earlier state; if that fails too, it returns a *CutError
// and the journal stays for the next start.
func (a *Applier) make(ctx context.Context, tr *Transition) error {
	from, to, changes, err := a.trees(ctx, tr)
	if err != nil {
		return err
	}
	tr.Made = workdir.MissingFolders(a.WorkTree.tree(), changes)
	if tr.Lay == nil {
		tr.Lay = &Lay{Start: from, Staged: to, Files: to, Had: from, Keep: a.files.freeKeep("switch")}
	}
	if err := a.files.look(ctx, tr); err != nil {
		return err
	}
	if err := a.writeDown(ctx, tr); err != nil {
		return err
	}
	ctx = context.WithoutCancel(ctx) // from here on the change is completed, not cancelled
	if err := tr.detach(ctx, a.Repo); err != nil {
		return a.takeBack(ctx, tr, err)
	}
	err = errors.Join(ledger.Step("move aside"), a.files.moveAside(tr))
	if err == nil {
		err = ledger.Step("switch files")
	}
	if err == nil {
		err = a.files.moveAway(tr)
	}
	if err == nil {
		err = a.files.unchanged(tr)
	}
	if err == nil {
		err = a.files.switchLaid(ctx, tr)
	}
	if locked := (*vcs.LockedError)(nil); errors.As(err, &locked) {
		// Another git locked the index first. Only files that were moved aside must be restored.
		a.files.bringBack(&tr.Waypoint)
		return errors.Join(err, a.erase(tr))
	}
	if err != nil {
		// Trust the repository's state, not git's exit code.
		if done, serr := a.switched(ctx, tr); serr != nil || !done {
			return a.takeBack(ctx, tr, errors.Join(err, serr))
		}
	}
	err = ledger.Step("move refs")
	if err == nil {
		err = a.moveRefs(ctx, tr)
	}
	if err != nil {
		return a.takeBack(ctx, tr, err)
	}
	if err := a.files.settleGit(ctx, tr); err != nil {
		return &CutError{err, errLater, tr.Branch}
	}
	a.whole(tr)
	return nil
}

// errLater explains why a change is not undone after the branch has moved.
var errLater = errors.New("the branch is at its new commit already")

// writeDown locks the index, copies it, and writes the journal.
func (a *Applier) writeDown(ctx context.Context, tr *Transition) error {
	note := lockingPath(a.Repo.GitDir)
	if err := os.WriteFile(note, nil, 0o600); err != nil {
		return fmt.Errorf("noting what is done: %w; nothing was changed", err)
	}
	defer os.Remove(note)
	err := errors.Join(ledger.Step("lock"), a.files.prepare(ctx, tr))
	if locked := (*vcs.LockedError)(nil); errors.As(err, &locked) {
		return err
	}
	if err == nil {
		err = tr.write(a.Repo.GitDir)
	}
	if err != nil {
		a.files.side().Drop()
		a.files.unlock()
	}
	return err
}

// moveRefs updates the refs. If git reports a failure, it reads the branch to see whether it moved.
func (a *Applier) moveRefs(ctx context.Context, tr *Transition) error {
	if b, err := a.Repo.Current(ctx); err != nil {
		return err
	} else if !tr.here(b) {
		return &change.MovedError{Branch: tr.Branch}
	}
	begun := time.Now().Add(-tick)
	err := a.Repo.UpdateRefs(ctx, tr.Message, tr.refs()...)
	if err == nil {
		// git held the locks; if one is still there, git failed to remove it.
		a.locks.clearLocksOf(tr.refs(), begun, time.Now())
		return nil
	}
	if git.Died(err) {
		a.locks.clearLocks(tr)
	}
	if at, rerr := a.refAt(ctx, tr); rerr != nil || at != tr.To {
		return err
	}
	a.otherRefs(ctx, tr)
	return nil
}

// otherRefs updates the remaining refs after git died in the middle. It leaves refs that somebody else moved, and
// reports them.
func (a *Applier) otherRefs(ctx context.Context, tr *Transition) {
	for _, u := range tr.refs()[1:] {
		at, err := a.Repo.Ref(ctx, u.Name)
		if err == nil && at != u.New {
			err = a.Repo.UpdateRefs(ctx, tr.Message, u)
		}
		if err != nil {
			a.Ledger.Tell("%s was not moved: %s", u.Name, words.Sentence(err.Error()))
		}
	}
}

// ref returns the branch's full name, or HEAD if HEAD is detached.
func (tr *Transition) ref() string {
	if tr.Branch == "" {
		return "HEAD"
	}
	return "refs/heads/" + tr.Branch
}

// refAt returns the current value of that ref.
func (a *Applier) refAt(ctx context.Context, tr *Transition) (object.ID, error) {
	if tr.Branch == "" {
		b, err := a.Repo.Current(ctx)
		return b.Tip, err
	}
	return a.Repo.Ref(ctx, tr.ref())
}

// whole records the finished change and removes the journal. A failure is only reported: the next start records it
// again.
func (a *Applier) whole(tr *Transition) {
	if tr.Kind == change.Undoing {
		a.files.bringBack(&tr.Waypoint)
	}
	a.Repo.LetPacksGo(context.Background())
	a.files.doneWith(tr)
	err := a.record(tr)
	if err == nil {
		err = errors.Join(ledger.Step("erase"), a.erase(tr), ledger.Step("erased"))
	}
	if err != nil {
		a.Ledger.Tell("%s The change itself is made; the next start notes it.", words.Sentence(err.Error()))
	}
}

// record writes the change to state and logbook. Calling it twice logs it once.
func (a *Applier) record(tr *Transition) error {
	switch tr.Kind {
	case change.Undoing:
		return a.Ledger.Undone(&tr.Waypoint)
	case change.Switching:
		return a.Ledger.Store.LogSwitch(tr.switchedEntry())
	}
	return a.Ledger.Joined(&tr.Waypoint)
}

// here reports whether HEAD is where the transition starts.
func (tr *Transition) here(b vcs.Branch) bool {
	if !tr.Lay.Head.IsZero() {
		return b.Name == "" && b.Tip == tr.Lay.Head
	}
	return b.Name == tr.Branch
}

// switched reports whether the index has the new tree. It is replaced after all files, so the files are complete then.
func (a *Applier) switched(ctx context.Context, tr *Transition) (bool, error) {
	if tr.Turned {
		return false, nil
	}
	is, err := a.files.indexIs(ctx, tr)
	return is == indexAfter || is == indexOther && !a.files.side().There(), err
}

// takeBack restores the earlier state after a failure and returns the error to report.
func (a *Applier) takeBack(ctx context.Context, tr *Transition, cause error) error {
	if git.Died(cause) {
		a.locks.clearLocks(tr)
	}
	told := a.Ledger.Told()
	if err := a.restore(ctx, tr); err != nil {
		return &CutError{cause, err, tr.Branch}
	}
	if err := a.erase(tr); err != nil {
		return errors.Join(cause, err)
	}
	if but := a.Ledger.TakeNotices(told); len(but) > 0 {
		return fmt.Errorf("%w. Everything is as it was before, except: %s", cause,
			strings.TrimSuffix(strings.Join(but, " "), "."))
	}
	return fmt.Errorf("%w. Everything is as it was before", cause)
}

// restore returns index and files to the tree of the current branch. Files that match neither the old nor the new
// content were edited later; they stay. The journal records the direction first, so an interrupted restore continues
// as a restore.
func (a *Applier) restore(ctx context.Context, tr *Transition) error {
	_, _, changes, err := a.trees(ctx, tr)
	if err != nil {
		return err
	}
	if err := tr.turn(a.Repo.GitDir); err != nil {
		return err
	}
	if err := a.files.restoreLaid(ctx, tr, changes); err != nil {
		return err
	}
	for _, dir := range slices.Backward(tr.Made) {
		a.WorkTree.removeFolder(dir)
	}
	if tr.Kind == change.Accepting {
		a.files.bringBack(&tr.Waypoint)
	}
	if err := tr.attach(ctx, a.Repo); err != nil {
		return err
	}
	return a.Repo.Refresh(ctx)
}

// goOn completes or undoes the change of an interrupted process.
func (a *Applier) goOn(ctx context.Context) error {
	tr, err := readJournal(a.Repo.GitDir)
	if damaged := (*workdir.JournalError)(nil); errors.As(err, &damaged) {
		aside, err := ledger.SetAside(damaged.Path)
		a.Ledger.Tell("An earlier run was interrupted while it changed your branch, and its account of that was "+
			"damaged. "+
			"It is set aside as %s. Look with “git status” whether branch and files are as you want them; your "+
			"commits are all there.", filepath.Base(aside))
		return err
	}
	if err != nil || tr == nil {
		return err
	}
	a.locks.clearLocks(tr)
	at, err := a.refAt(ctx, tr)
	if err != nil {
		return err
	}
	b, err := a.Repo.Current(ctx)
	if err != nil {
		return err
	}
	done, err := a.switched(ctx, tr)
	if err != nil {
		return err
	}
	here := tr.here(b)
	switch {
	case at == tr.To && done && tr.From != tr.To, at == tr.To && !here && done, builtOn(ctx, a.Planner.Store, tr, at):
		return a.finished(ctx, tr)
	case at == tr.From && here && done:
		if err := a.moveRefs(ctx, tr); err != nil {
			return a.goBackAfterCut(ctx, tr)
		}
		return a.finished(ctx, tr)
	case at != tr.From:
		return a.overtaken(ctx, tr)
	}
	return a.goBackAfterCut(ctx, tr)
}

// builtOn reports whether the branch already has commits on top of the change.
func builtOn(ctx context.Context, store *object.Overlay, tr *Transition, at object.ID) bool {
	if at == tr.From || at == tr.To {
		return false
	}
	on, err := history.IsAncestor(ctx, store, tr.To, at)
	if err == nil && on && tr.Kind == change.Undoing { // the undone join is the branch's tip again
		on, err = history.IsAncestor(ctx, store, tr.From, at)
		on = !on
	}
	return err == nil && on
}

// overtaken cleans up after an interrupted change when somebody moved the branch since. It restores the files that the
// branch does not contain.
func (a *Applier) overtaken(ctx context.Context, tr *Transition) error {
	a.Ledger.Tell("An earlier run was interrupted while it changed %s, and the branch was moved since, by you or "+
		"another "+
		"program: look at its last commit, which may hold some of that change. The branch was at %s before, and the "+
		"joined result is %s.", tr.Branch, tr.From, tr.To)
	if err := a.restore(ctx, tr); err != nil {
		return fmt.Errorf("an earlier run was interrupted while it changed your files, the branch was moved since, "+
			"and "+
			"the files cannot be put back: %w. Fix the cause and start dorvik again", err)
	}
	return a.erase(tr)
}

// finished records an interrupted change that turned out to be complete.
func (a *Applier) finished(ctx context.Context, tr *Transition) error {
	wp := &tr.Waypoint
	a.files.tidy(tr.Lay)
	a.otherRefs(ctx, tr)
	if err := a.files.settleGit(ctx, tr); err != nil {
		return fmt.Errorf("an earlier run was interrupted while it changed your branch, and completing that "+
			"failed: %w. "+
			"Your commits and files are all there; fix the cause and start dorvik again", err)
	}
	a.Ledger.Tell("%s", tr.Kind.Completed(tr.Branch))
	if tr.Kind == change.Undoing {
		a.files.bringBack(wp)
	}
	if err := a.record(tr); err != nil {
		return err
	}
	a.files.doneWith(tr)
	return a.erase(tr)
}

// erase removes the journal and temporary files.
func (a *Applier) erase(tr *Transition) error {
	err := tr.erase(a.Repo.GitDir)
	if err == nil {
		a.files.letGo(tr)
	}
	return err
}

// goBackAfterCut undoes an interrupted change whose files are incomplete.
func (a *Applier) goBackAfterCut(ctx context.Context, tr *Transition) error {
	told := a.Ledger.Told()
	if err := a.restore(ctx, tr); err != nil {
		return fmt.Errorf("an earlier run was interrupted while it changed your files, and they cannot be put "+
			"back: %w. "+
			"Your commits are all there: before %s, joined %s. Fix the cause and start dorvik again", err, tr.From,
			tr.To)
	}
	a.tellTakenBack(told)
	a.tookBackAtStart = true
	if tr.Kind == change.Accepting {
		wp := tr.Waypoint
		wp.GoneBack = true
		if err := a.Ledger.Store.PutWaypoint(&wp); err != nil {
			return err
		}
	}
	return a.erase(tr)
}

// tellTakenBack reports that a change was undone, followed by what could not be restored.
func (a *Applier) tellTakenBack(told int) {
	but := a.Ledger.TakeNotices(told)
	a.Ledger.Tell("An earlier run was interrupted while it changed your files. %s", words.If(len(but) > 0,
		"They are as they were before, except:", "They are as they were before; nothing is lost."))
	for _, one := range but {
		a.Ledger.Tell("%s", one)
	}
}

// Lay is the target of a transition: the content of index and files, and the files to move away for it.
type Lay struct {
	Head, HeadTo object.ID // HEAD before and after, if it is detached
	Start        object.ID // trees: for the index at first,
	Staged       object.ID // for the index afterwards,
	Files        object.ID // and for the files afterwards, without uncommitted work that stays
	Had          object.ID // tree of the files before
	Paths        []string  // paths with uncommitted work that changes
	Clean        []string  `json:",omitempty"` // changed paths without such work: moved away, then removed
	Keep         string    // folder under dorvik/kept for files that are moved away
	Lists        string    `json:",omitempty"` // hash of the new index's entries
	// Back names the waypoint whose index and files are restored.
	Back  string   `json:",omitempty"`
	State []string `json:",omitempty"` // git's state files of a half-done operation; restored if Back is set
}

// switchedEntry returns the logbook's entry of a transition that switched to another branch.
func (tr *Transition) switchedEntry() ledger.LogEntry {
	return ledger.LogEntry{What: ledger.Moved, Of: ledger.Switched, When: tr.Begun, Branch: tr.Branch, Was: tr.Was,
		From: tr.Lay.Head, To: tr.To}
}

// detach points HEAD at its commit, for a transition that switches to another branch.
func (tr *Transition) detach(ctx context.Context, repo *git.Repo) error {
	if tr.Kind != change.Switching {
		return nil
	}
	if err := ledger.Step("detach HEAD"); err != nil {
		return err
	}
	return repo.SetHead(ctx, "", tr.Lay.Head, tr.Message)
}

// attach points HEAD at the branch from which a transition switched away.
func (tr *Transition) attach(ctx context.Context, repo *git.Repo) error {
	if tr.Kind != change.Switching {
		return nil
	}
	return repo.SetHead(ctx, tr.Was, object.ID{}, tr.Message)
}
