// Package svnapply is the only package that changes a working copy of Subversion. Each change is complete or undone. It
// writes a journal first.
package svnapply

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"time"

	"dorvik.dev/dorvik/internal/beneath"
	"dorvik.dev/dorvik/internal/change"
	"dorvik.dev/dorvik/internal/core/object"
	"dorvik.dev/dorvik/internal/exact"
	"dorvik.dev/dorvik/internal/ledger"
	"dorvik.dev/dorvik/internal/plan"
	"dorvik.dev/dorvik/internal/svn"
	"dorvik.dev/dorvik/internal/vcs"
	"dorvik.dev/dorvik/internal/workdir"
)

// Applier applies joins to a working copy and undoes them. It implements change.Mover.
type Applier struct {
	Repo     *svn.Repo
	Planner  *plan.Planner
	Ledger   *ledger.Ledger
	WorkTree *WorkTree

	tookBack bool
	became   map[object.ID]object.ID
}

var _ change.Mover = (*Applier)(nil)

// New returns an applier. Call Begin before anything else.
func New(repo *svn.Repo, planner *plan.Planner, l *ledger.Ledger, tree *WorkTree) *Applier {
	return &Applier{Repo: repo, Planner: planner, Ledger: l, WorkTree: tree, became: map[object.ID]object.ID{}}
}

// Begin locks the working copy. It completes or undoes a change that an earlier process did not finish.
func (a *Applier) Begin(ctx context.Context) error {
	busy := a.Repo.HoldFile()
	if busy == nil {
		return fmt.Errorf("%s cannot be written; nothing was changed", workdir.HoldPath(a.Repo.Where().Own))
	}
	if err := workdir.HoldBy(busy); err != nil { // an svn that outlives a killed Dorvik keeps the lock
		return err
	}
	return a.goOn(ctx)
}

// End unlocks the working copy.
func (a *Applier) End() {
	if busy := a.Repo.HoldFile(); busy != nil {
		_ = syscall.Flock(int(busy.Fd()), syscall.LOCK_UN)
	}
}

// TookBack reports whether Begin undid a change of an earlier process.
func (a *Applier) TookBack() bool { return a.tookBack }

// AsideAt returns the folder for files that a join moved out of its way.
func (a *Applier) AsideAt(wp *ledger.Waypoint) string { return string(a.asides(wp)) }

func (a *Applier) asides(wp *ledger.Waypoint) beneath.Folder {
	return beneath.Folder(filepath.Join(a.Repo.Where().Own, "dorvik", "aside", wp.Name))
}

// Forget removes the files kept for a waypoint.
func (a *Applier) Forget(wp *ledger.Waypoint) error {
	return errors.Join(os.RemoveAll(string(a.asides(wp))), os.RemoveAll(a.WorkTree.kept(wp.Name)))
}

// Sign returns the commit: revisions are not signed.
func (a *Applier) Sign(_ context.Context, commit object.ID) (object.ID, error) { return commit, nil }

// Signatures maps the commits of joins to those that Dorvik found in the working copy afterwards.
func (a *Applier) Signatures() map[object.ID]object.ID { return a.became }

// AgreeToHooks has nothing to permit: svn runs no hooks here.
func (a *Applier) AgreeToHooks(context.Context, []*vcs.Hook) error { return nil }

// AskToPush has nothing to ask. What the person settled of conflicts that svn left is made known to svn, which would
// check nothing in otherwise.
func (a *Applier) AskToPush(ctx context.Context, _ change.Consent) error {
	settled, err := a.Repo.Settled(ctx)
	if err != nil || len(settled) == 0 {
		return err
	}
	b, dirty, err := a.Repo.Status(ctx)
	if err != nil {
		return err
	}
	_, base, err := a.Repo.Checked(ctx)
	if err != nil {
		return err
	}
	u, err := a.WorkTree.Uncommitted(ctx, b.Tip, dirty)
	if err != nil {
		return err
	}
	is, err := a.Planner.Tree(ctx, b.Tip)
	if err != nil {
		return err
	}
	if u != nil {
		is = u.Files
	}
	if err := a.Repo.Keep(ctx, a.Planner.Store, is, b.Tip); err != nil {
		return err
	}
	goal := svn.Goal{Theirs: base, Was: is, Is: is, Lists: map[string]string{}}
	if goal.Notes, err = a.Repo.Notes(); err != nil {
		return err
	}
	if _, goal.Lists, err = a.Repo.Working(ctx); err != nil {
		return err
	}
	_, aside, err := a.Repo.Left(ctx)
	if err != nil {
		return err
	}
	const name = "settled"
	wp := &ledger.Waypoint{Name: name, Branch: b.Name, Before: b.Tip, After: b.Tip, Aside: aside}
	tr := &Transition{Kind: change.Telling, Was: is, Is: is, Keep: name, Begun: time.Now(), Notes: goal.Notes,
		Waypoint: *wp, From: filepath.Join(a.WorkTree.kept(name), likenessDir)}
	if err := errors.Join(os.RemoveAll(a.AsideAt(wp)), os.RemoveAll(a.WorkTree.kept(name))); err != nil {
		return err
	}
	if _, _, err := a.prepare(ctx, tr, goal, is); err != nil {
		return err
	}
	return a.make(ctx, tr)
}

// Switch cannot be done: svn itself switches.
func (a *Applier) Switch(_ context.Context, branch string) error {
	return &plan.Blocked{What: "A working copy goes to another line by " + a.Repo.Dialect().SwitchTo(branch) + ".",
		Next: "Nothing was changed."}
}

// guard checks whether the join can be accepted now: the working copy is as it was when the join was computed, and
// nothing is in the way. It returns the trees of the files before and after, and untracked files to move aside.
func (a *Applier) guard(ctx context.Context, p *plan.Position, j *plan.Join, tree object.ID,
	consent change.Consent) (was, is object.ID, aside []string, err error) {
	none := object.ID{}
	b, dirty, err := a.Repo.Status(ctx)
	if err != nil {
		return none, none, nil, err
	}
	if b.Name != p.Branch.Name || b.Tip != p.Yours || a.Repo.Busy() != "" {
		return none, none, nil, &change.MovedError{Branch: p.Branch.Name}
	}
	now := *p
	now.Dirty = dirty
	u, err := a.WorkTree.Uncommitted(ctx, p.Head(), dirty)
	if err != nil {
		return none, none, nil, err
	}
	if was, err = a.Planner.Tree(ctx, p.Head()); err != nil {
		return none, none, nil, err
	}
	is = tree
	switch carried := p.Carried != nil && j.Carried != nil; {
	case p.Stuck != nil: // what a merge left is part of the files
		held := p.Stuck.Held
		if len(held.Paths) == 0 {
			held = nil
		}
		if !u.Same(held) {
			return none, none, nil, &change.MovedError{Branch: p.Branch.Name, Work: true}
		}
		is = j.Carried.Files
	case carried && !u.Same(p.Carried):
		return none, none, nil, &change.MovedError{Branch: p.Branch.Name, Work: true}
	case carried:
		is = j.Carried.Files
	case u != nil: // what is not carried stays as it is, or is in the way
		if is, err = u.Onto(ctx, a.Planner.Store, tree); err != nil {
			return none, none, nil, err
		}
		now.Carried = nil
	}
	if u != nil {
		was = u.Files
	}
	aside, err = a.WorkTree.dir().Obstacles(ctx, &now, tree)
	if over := (*change.OverwriteError)(nil); consent.MoveAside && errors.As(err, &over) && over.Unknown {
		aside, err = append(aside, over.Paths...), nil
	}
	return was, is, aside, err
}

// Accept applies a join: the working copy goes to the newest revision, with what is joined on top.
func (a *Applier) Accept(ctx context.Context, p *plan.Position, j *plan.Join, b plan.Built, consent change.Consent,
	_ string) (*ledger.Waypoint, error) {
	if j.Route == plan.Merge && p.FromLine() == nil && len(p.Divergence.Yours) > 0 && len(p.Divergence.Theirs) > 0 {
		return nil, &plan.LinearError{By: a.Repo.Dialect().Name}
	}
	tree, err := a.Planner.Tree(ctx, b.Tip)
	if err != nil {
		return nil, err
	}
	was, is, aside, err := a.guard(ctx, p, j, tree, consent)
	if err != nil {
		return nil, err
	}
	if err := a.Repo.Keep(ctx, a.Planner.Store, is, was, tree, p.Yours, b.Tip); err != nil {
		return nil, err
	}
	goal := svn.Goal{Was: was, Is: is}
	if goal.Theirs, err = a.below(ctx, b.Tip); err != nil {
		return nil, err
	}
	if err := a.sort(ctx, p, j, b, &goal); err != nil {
		return nil, err
	}
	if p.BringsIn() {
		if goal.Copies, err = copies(ctx, a, p, goal); err != nil {
			return nil, err
		}
	}
	name, err := workdir.Reserve(ctx, a.Ledger, a.Repo, p.Tip())
	if err != nil {
		return nil, err
	}
	tr, wp, err := a.transition(ctx, p, j, b, goal, name, aside)
	if err != nil {
		return nil, errors.Join(err, os.RemoveAll(a.WorkTree.kept(name)))
	}
	if err := a.make(ctx, tr); err != nil {
		if cut := (*workdir.CutError)(nil); errors.As(err, &cut) {
			return nil, err
		}
		wp.GoneBack = true
		return nil, errors.Join(err, a.Ledger.Store.PutWaypoint(wp))
	}
	return wp, nil
}

// copies finds the files that another line brings, each with the address that it is a copy of. One whose properties are
// not as they are there is new.
func copies(ctx context.Context, a *Applier, p *plan.Position, goal svn.Goal) (map[string]string, error) {
	store := a.Planner.Store
	theirs, err := a.Planner.Tree(ctx, p.Theirs)
	if err != nil {
		return nil, err
	}
	changes, err := store.Changes(ctx, goal.Was, goal.Is)
	if err != nil {
		return nil, err
	}
	url, rev, err := a.Repo.At(ctx, p.Theirs)
	if err != nil || url == "" {
		return nil, err
	}
	out := map[string]string{}
	for _, c := range changes {
		if _, _, property := svn.PropertyOf(c.Path); property || !c.Old.Absent() || c.New.Absent() {
			continue
		}
		there, err := store.Find(ctx, theirs, c.Path)
		if err != nil {
			return nil, err
		}
		was, err := svn.Properties(ctx, store, theirs, c.Path)
		if err != nil {
			return nil, err
		}
		is, err := svn.Properties(ctx, store, goal.Is, c.Path)
		if err != nil {
			return nil, err
		}
		if there.Mode == c.New.Mode && maps.Equal(was, is) {
			out[c.Path] = svn.Copied(url, c.Path, rev)
		}
	}
	return out, nil
}

// transition prepares a join under the name of its waypoint.
func (a *Applier) transition(ctx context.Context, p *plan.Position, j *plan.Join, b plan.Built, goal svn.Goal,
	name string,
	aside []string) (*Transition, *ledger.Waypoint, error) {
	tree, err := a.Planner.Tree(ctx, b.Tip)
	if err != nil {
		return nil, nil, err
	}
	wp := a.Ledger.NewWaypoint(p, j, b.Tip, tree)
	marked, beside, err := a.Repo.Left(ctx)
	if err != nil {
		return nil, nil, err
	}
	wp.Name, wp.Aside = name, append(aside, beside...)
	tr := &Transition{Kind: change.Accepting, Was: goal.Was, Is: goal.Is, Keep: name, Begun: time.Now(),
		Notes:  goal.Notes,
		Marked: marked, From: filepath.Join(a.WorkTree.kept(name), likenessDir)}
	tip, held, err := a.prepare(ctx, tr, goal, tree)
	if err != nil {
		return nil, nil, err
	}
	from, err := a.Planner.Tree(ctx, p.Head())
	if err != nil {
		return nil, nil, err
	}
	if from != goal.Was {
		wp.Kept = &ledger.Kept{Was: plan.Held{Staged: from, Files: goal.Was}, Is: plan.Held{Staged: tree, Files: tr.Is}}
	}
	if p.Stuck != nil { // it is in no commit: the tip has it with all else that was changed
		wp.Kept.Operation = string(p.Stuck.Left.Operation)
	} else if there, err := a.Planner.Tree(ctx, tip); err != nil || there != held {
		return nil, nil, errors.Join(err, &plan.Blocked{
			What: "The working copy would not hold what was joined, change list by change list.",
			Next: "Take whole files. Nothing was changed."})
	}
	if wp.After = tip; p.Stuck == nil {
		if err := a.match(ctx, b.Tip, tip, goal.Theirs); err != nil {
			return nil, nil, err
		}
	}
	tr.Waypoint = *wp
	return tr, wp, nil
}

// keptFile has what an undo needs besides the old files and the old database.
const keptFile = "kept.json"

// kept is its content.
type kept struct {
	Notes svn.Notes `json:"notes"` // of change lists before the change
	Base  object.ID `json:"base"`  // what was checked out after it
	Dirs  []string  `json:"dirs"`  // the folders that svn had before it
	Was   object.ID `json:"was"`
	Is    object.ID `json:"is"`
	// Marked are files that had marks of svn's: see Transition.
	Marked map[string]string `json:"marked,omitempty"`
}

// prepare makes the new state beside the working copy. It returns the tip that Dorvik will find there, and the tree of
// it for the one of a join: a property without its file is left out.
func (a *Applier) prepare(ctx context.Context, tr *Transition, goal svn.Goal, tree object.ID) (tip, held object.ID,
	err error) {
	none := object.ID{}
	if tr.Old, err = svn.HashAt(filepath.Join(a.Repo.Where().Own, keptDatabase)); err != nil {
		return none, none, err
	}
	if err := os.MkdirAll(a.WorkTree.kept(tr.Keep), 0o700); err != nil {
		return none, none, fmt.Errorf("keeping what is replaced: %w; nothing was changed", err)
	}
	had, err := a.Repo.Dirs(ctx)
	if err != nil {
		return none, none, err
	}
	notes, err := a.Repo.Notes()
	if err != nil {
		return none, none, err
	}
	like, err := a.Repo.Prepare(ctx, tr.From, goal)
	if err != nil {
		return none, none, err
	}
	for _, told := range like.Told() {
		a.Ledger.Tell("%s", told)
	}
	if tr.New, err = svn.HashAt(like.Database()); err != nil {
		return none, none, err
	}
	if tr.Is, err = like.Held(ctx, a.Planner.Store, goal.Is); err != nil {
		return none, none, err
	}
	if held, err = like.Held(ctx, a.Planner.Store, tree); err != nil {
		return none, none, err
	}
	if err := a.Repo.Keep(ctx, a.Planner.Store, tr.Is); err != nil {
		return none, none, err
	}
	changes, err := a.changes(ctx, tr)
	if err != nil {
		return none, none, err
	}
	tr.Made, tr.Gone, tr.Stays = without(like.Dirs, had), without(had, like.Dirs), staying(changes, like.Dirs)
	data, err := exact.Marshal(kept{notes, like.Base, had, tr.Was, tr.Is, tr.Marked})
	if err == nil {
		err = os.WriteFile(filepath.Join(a.WorkTree.kept(tr.Keep), keptFile), data, 0o600)
	}
	if err != nil {
		return none, none, fmt.Errorf("keeping what an undo needs: %w; nothing was changed", err)
	}
	return like.Tip, held, nil
}

// without returns the elements of a list that another one does not have.
func without(list, other []string) (out []string) {
	for _, one := range list {
		if !slices.Contains(other, one) {
			out = append(out, one)
		}
	}
	return out
}

// sort finds the change lists of the joined files, and the lists' messages: of each commit of the result, the list that
// the commit was which it was made of, or one of its subject.
func (a *Applier) sort(ctx context.Context, p *plan.Position, j *plan.Join, b plan.Built, goal *svn.Goal) error {
	lists, err := a.Repo.Lists(ctx)
	if err != nil {
		return err
	}
	notes, err := a.Repo.Notes()
	if err != nil {
		return err
	}
	goal.Lists, goal.Notes = map[string]string{}, notes.Clone()
	if p.Stuck != nil {
		_, goal.Lists, err = a.Repo.Working(ctx)
		return err
	}
	goal.Notes.Parts, goal.Notes.Order = map[string][]svn.Part{}, nil
	origin := map[object.ID]object.ID{}
	for i, id := range b.IDs {
		if !id.IsZero() && i < len(j.Steps) && origin[id].IsZero() {
			origin[id] = j.Steps[i].Commit.ID
		}
	}
	made, err := a.made(ctx, b.Tip, goal.Theirs)
	if err != nil {
		return err
	}
	for _, id := range made {
		c, err := a.Planner.Store.Commit(ctx, id)
		if err != nil {
			return err
		}
		of := id
		if was := origin[id]; !was.IsZero() {
			of = was
		}
		list, known := lists[of]
		if !known || list == "" && len(made) > 1 {
			list = unused(strings.TrimSpace(c.Subject()), goal.Notes.Order)
		}
		if len(c.Parents) > 1 { // with properties of folders, which no change list can hold
			list = ""
		}
		if err := a.list(ctx, c, list, goal); err != nil {
			return err
		}
		goal.Notes.Texts[list] = c.Text()
		goal.Notes.Order = append(goal.Notes.Order, list)
		goal.Notes.Apart = false
	}
	if len(made) == 0 { // what is in no list stays uncommitted, though there are no lists any longer
		theirs, err := a.Planner.Tree(ctx, goal.Theirs)
		if err != nil {
			return err
		}
		goal.Notes.Apart = theirs != goal.Is
	}
	return a.part(ctx, goal)
}

// list puts what a commit changes into a list.
func (a *Applier) list(ctx context.Context, c *object.Commit, list string, goal *svn.Goal) error {
	parent, err := a.Planner.Tree(ctx, c.Parents[0])
	if err != nil {
		return err
	}
	return a.Planner.Store.EachChange(ctx, parent, c.Tree, func(ch object.Change) {
		if node, _, ok := svn.PropertyOf(ch.Path); ok {
			goal.Lists[node] = list
			return
		}
		goal.Lists[ch.Path] = list
		goal.Notes.Parts[ch.Path] = append(goal.Notes.Parts[ch.Path],
			svn.Part{List: list, From: ch.Old.Detached(), To: ch.New.Detached()})
	})
}

// unused returns a name for a change list that others do not have.
func unused(name string, others []string) string {
	for n, is := 2, name; ; n++ {
		if !slices.Contains(others, is) {
			return is
		}
		is = fmt.Sprintf("%s (%d)", name, n)
	}
}

// part keeps the files of which a list has only some edits. svn has such a file in the list of the rest.
func (a *Applier) part(ctx context.Context, goal *svn.Goal) error {
	theirs, err := a.Planner.Tree(ctx, goal.Theirs)
	if err != nil {
		return err
	}
	for path, parts := range goal.Notes.Parts {
		is, err := a.Planner.Store.Find(ctx, goal.Is, path)
		if err != nil {
			return err
		}
		last := len(parts) - 1
		if parts[last].To.Same(is) {
			parts = parts[:last]
		} else {
			delete(goal.Lists, path)
		}
		if goal.Notes.Parts[path] = parts; len(parts) == 0 {
			delete(goal.Notes.Parts, path)
			continue
		}
		was, err := svn.Properties(ctx, a.Planner.Store, theirs, path)
		if err != nil {
			return err
		}
		now, err := svn.Properties(ctx, a.Planner.Store, goal.Is, path)
		if err != nil {
			return err
		}
		if gone := slices.ContainsFunc(parts, func(p svn.Part) bool { return p.To.Absent() }); gone || is.Absent() ||
			!maps.Equal(was, now) {
			return &plan.Blocked{What: fmt.Sprintf(
				"Subversion checks in a file with its properties, and %s has changed "+
					"ones, or was removed or added again: single edits of it cannot go alone.", path),
				Next: "Take the whole file. Nothing was changed."}
		}
	}
	return nil
}

// match notes which commits those of a join are in the working copy: by their order, or the last one alone.
func (a *Applier) match(ctx context.Context, joined, tip, on object.ID) error {
	made, err := a.made(ctx, joined, on)
	if err != nil {
		return err
	}
	there, err := a.made(ctx, tip, on)
	if err != nil {
		return err
	}
	a.became[joined] = tip
	if len(made) == len(there) {
		for i := range made {
			a.became[made[i]] = there[i]
		}
	}
	return nil
}

// below returns the commit of the line that a result is on top of.
func (a *Applier) below(ctx context.Context, tip object.ID) (object.ID, error) {
	for id := tip; ; {
		c, err := a.Planner.Store.Commit(ctx, id)
		if err != nil || svn.NumberOf(c) > 0 || len(c.Parents) == 0 {
			return id, err
		}
		id = c.Parents[0]
	}
}

// made returns the commits of a result on top of the line, the oldest first.
func (a *Applier) made(ctx context.Context, tip, on object.ID) (out []object.ID, err error) {
	for id := tip; id != on; {
		c, err := a.Planner.Store.Commit(ctx, id)
		if err != nil {
			return nil, err
		}
		if len(c.Parents) == 0 {
			break
		}
		out, id = append(out, id), c.Parents[0]
	}
	slices.Reverse(out)
	return out, nil
}
