// Package hgapply is the only package that changes the working folder of a Mercurial repository, and its changesets.
// Each change is complete or undone. It writes a journal first.
package hgapply

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"time"

	"dorvik.dev/dorvik/internal/change"
	"dorvik.dev/dorvik/internal/core/history"
	"dorvik.dev/dorvik/internal/core/merge"
	"dorvik.dev/dorvik/internal/core/object"
	"dorvik.dev/dorvik/internal/core/settle"
	"dorvik.dev/dorvik/internal/hg"
	"dorvik.dev/dorvik/internal/ledger"
	"dorvik.dev/dorvik/internal/plan"
	"dorvik.dev/dorvik/internal/vcs"
	"dorvik.dev/dorvik/internal/words"
	"dorvik.dev/dorvik/internal/workdir"
)

// Applier applies joins to a repository and undoes them. It implements change.Mover.
type Applier struct {
	Repo     *hg.Repo
	Planner  *plan.Planner
	Ledger   *ledger.Ledger
	WorkTree *WorkTree

	tookBack   bool
	files      *files
	changesets map[object.ID]object.ID // of the commits that were made
}

var _ change.Mover = (*Applier)(nil)

// New returns an applier. Call Begin before anything else.
func New(repo *hg.Repo, planner *plan.Planner, l *ledger.Ledger, tree *WorkTree) *Applier {
	return &Applier{Repo: repo, Planner: planner, Ledger: l, WorkTree: tree, files: &files{tree, l},
		changesets: map[object.ID]object.ID{}}
}

// Begin locks the repository. It completes or undoes a change that an earlier process did not finish.
func (a *Applier) Begin(ctx context.Context) (err error) {
	busy := a.Repo.Busied()
	if busy == nil {
		return fmt.Errorf("%s cannot be written; nothing was changed", workdir.HoldPath(a.files.own()))
	}
	if err := workdir.HoldBy(busy); err != nil { // an hg that outlives a killed Dorvik keeps the lock
		return err
	}
	return a.goOn(ctx)
}

// End unlocks the repository.
func (a *Applier) End() {
	if busy := a.Repo.Busied(); busy != nil {
		_ = syscall.Flock(int(busy.Fd()), syscall.LOCK_UN) // hg has the file open, too
	}
}

// TookBack reports whether Begin undid a change of an earlier process.
func (a *Applier) TookBack() bool { return a.tookBack }

// AsideAt returns the folder for files that a join moved out of its way.
func (a *Applier) AsideAt(wp *ledger.Waypoint) string { return string(a.files.asideAt(wp)) }

// Forget removes the files kept for a waypoint.
func (a *Applier) Forget(wp *ledger.Waypoint) error {
	return errors.Join(os.RemoveAll(a.AsideAt(wp)), os.RemoveAll(a.files.keepAt(wp.Name)))
}

// Sign returns the commit: Mercurial signs by changesets of their own.
func (a *Applier) Sign(_ context.Context, commit object.ID) (object.ID, error) { return commit, nil }

// Signatures maps the commits of joins to the changesets that they became.
func (a *Applier) Signatures() map[object.ID]object.ID { return a.changesets }

// AgreeToHooks has nothing to permit: hooks come from the person's settings, never with a clone.
func (a *Applier) AgreeToHooks(context.Context, []*vcs.Hook) error { return nil }

// AskToPush has nothing to ask.
func (a *Applier) AskToPush(context.Context, change.Consent) error { return nil }

// guard checks whether the join can be accepted now: the working folder is as it was when the join was computed, and
// nothing is in the way. It returns the trees of the files before and after, and untracked files to move aside.
func (a *Applier) guard(ctx context.Context, p *plan.Position, j *plan.Join, tree object.ID,
	consent change.Consent) (was, is object.ID, aside []string, err error) {
	none := object.ID{}
	b, dirty, err := a.Repo.Status(ctx)
	if err != nil {
		return none, none, nil, err
	}
	if !a.still(b, p) {
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
	carried := p.Carried != nil && j.Carried != nil
	switch {
	case p.Stuck != nil: // its files are part of the operation
		if !u.Same(heldBy(p)) {
			return none, none, nil, &change.MovedError{Branch: p.Branch.Name, Work: true}
		}
		if carried {
			is = j.Carried.Files
		}
		now.Carried = u
	case carried && !u.Same(p.Carried):
		return none, none, nil, &change.MovedError{Branch: p.Branch.Name, Work: true}
	case carried:
		is = j.Carried.Files
	case u != nil: // what is not carried stays as it is, or is in the way
		if is, err = a.besides(ctx, u, tree); err != nil {
			return none, none, nil, err
		}
		now.Carried = nil
	}
	if u != nil {
		was = u.Files
	}
	aside, err = a.WorkTree.obstacles(ctx, &now, tree)
	if over := (*change.OverwriteError)(nil); consent.MoveAside && errors.As(err, &over) && over.Unknown {
		aside, err = append(aside, over.Paths...), nil
	}
	return was, is, aside, err
}

// still reports whether the working folder is where the position was read.
func (a *Applier) still(b vcs.Branch, p *plan.Position) bool {
	if p.Stuck != nil {
		return a.Repo.Parents()[0] == p.Stuck.Left.Head && a.Repo.Busy() == p.Stuck.Left.Operation
	}
	return b.Name == p.Branch.Name && b.Tip == p.Yours && a.Repo.Busy() == ""
}

// heldBy returns the files of a half-done operation as they were read; nil if none was changed.
func heldBy(p *plan.Position) *plan.Uncommitted {
	if held := p.Stuck.Held; len(held.Paths) > 0 {
		return held
	}
	return nil
}

// besides is a tree with the uncommitted work.
func (a *Applier) besides(ctx context.Context, u *plan.Uncommitted, tree object.ID) (object.ID, error) {
	set := map[string]object.Entry{}
	for _, p := range u.Paths {
		e, err := a.Planner.Store.Find(ctx, u.Files, p)
		if err != nil {
			return tree, err
		}
		set[p] = e
	}
	return a.Planner.Store.Edit(ctx, tree, set)
}

// Accept applies a join. It makes changesets of the commits and moves the working folder to them. Changesets that were
// made again are kept in a bundle under the waypoint, and removed.
func (a *Applier) Accept(ctx context.Context, p *plan.Position, j *plan.Join, b plan.Built, consent change.Consent,
	_ string) (*ledger.Waypoint, error) {
	tree, err := a.Planner.Tree(ctx, b.Tip)
	if err != nil {
		return nil, err
	}
	published, err := a.Planner.Published(ctx, j)
	if err != nil {
		return nil, err
	}
	if len(published) > 0 {
		return nil, &plan.Blocked{What: "Changesets that would be made again are public: others have them.",
			Next: "Choose the merge. Nothing was changed."}
	}
	was, is, aside, err := a.guard(ctx, p, j, tree, consent)
	if err != nil {
		return nil, err
	}
	if why, err := a.Repo.Unmovable(ctx, a.Planner.Store, was, is); err != nil || why != "" {
		return nil, cmp.Or(err, error(&plan.Blocked{What: why + ".",
			Next: "Join with hg itself. Nothing was changed."}))
	}
	name, err := a.name(p.Tip())
	if err != nil {
		return nil, err
	}
	tr := &Transition{Kind: change.Accepting, From: a.Repo.Parents(), Was: was, Is: is, Keep: name, Begun: time.Now()}
	if err := a.readMarks(ctx, tr); err != nil {
		return nil, err
	}
	if p.Stuck != nil {
		tr.State, tr.Away = p.Stuck.Left.Files, filepath.Join(a.files.keepAt(name), stateFolder)
	}
	tip, err := a.add(ctx, p, j, b, tr)
	if err != nil {
		return nil, err
	}
	if err := a.Repo.Keep(ctx, a.Planner.Store, is, was, tree); err != nil {
		return nil, err
	}
	wp := a.Ledger.NewWaypoint(p, j, tip, tree)
	wp.Name, wp.Aside = name, aside
	if err := a.keepWork(ctx, p, tr, wp, tree); err != nil {
		return nil, err
	}
	tr.Waypoint, tr.To[0] = *wp, tip
	if err := a.keepMarks(tr); err != nil {
		return nil, err
	}
	if err := a.make(ctx, tr); err != nil {
		if cut := (*CutError)(nil); errors.As(err, &cut) {
			return nil, err
		}
		wp.GoneBack = true
		return nil, errors.Join(err, a.Ledger.Store.PutWaypoint(wp))
	}
	return wp, a.tellSubs(ctx, was, tree)
}

// tellSubs names the sub-repositories that are at other changesets now. Dorvik does not update them.
func (a *Applier) tellSubs(ctx context.Context, from, to object.ID) error {
	names, err := a.Repo.Subs(ctx, a.Planner.Store, from, to)
	if err != nil || len(names) == 0 {
		return err
	}
	a.Ledger.Tell("The sub-repositories %s may be at other changesets in the joined code than in your working folder: "+
		"“hg update .” brings them there.", words.List(words.Some(names, 3)))
	return nil
}

// keepWork notes under a waypoint what was not committed, and what was half done.
func (a *Applier) keepWork(ctx context.Context, p *plan.Position, tr *Transition, wp *ledger.Waypoint,
	tree object.ID) error {
	from, err := a.Planner.Tree(ctx, p.Head())
	if err != nil || from == tr.Was && p.Stuck == nil {
		return err
	}
	wp.Kept = &ledger.Kept{Was: plan.Held{Staged: from, Files: tr.Was}, Is: plan.Held{Staged: tree, Files: tr.Is}}
	if p.Stuck == nil {
		return nil
	}
	wp.Kept.Operation, wp.Kept.State = string(p.Stuck.Left.Operation), p.Stuck.Left.Files
	return a.files.noteParents(tr)
}

// readMarks notes what hg knows of the working folder, to be said again after the change.
func (a *Applier) readMarks(ctx context.Context, tr *Transition) (err error) {
	if tr.Marks, err = a.Repo.MarksNow(ctx); err == nil {
		tr.Bookmark, err = a.Repo.Bookmark(ctx)
	}
	return err
}

// keepMarks keeps the marks for an undo.
func (a *Applier) keepMarks(tr *Transition) error {
	data, err := json.Marshal(tr.Marks)
	if err == nil {
		err = os.WriteFile(filepath.Join(a.files.keepAt(tr.Keep), marksFile), data, 0o600)
	}
	if err != nil {
		return fmt.Errorf("keeping which files are added or removed: %w; nothing was changed", err)
	}
	return nil
}

// name reserves a name for a waypoint.
func (a *Applier) name(before object.ID) (string, error) {
	for {
		name, err := a.Ledger.Store.NextName()
		if err != nil {
			return "", err
		}
		err = a.Repo.UpdateRefs(context.Background(), "", vcs.RefUpdate{Name: (&ledger.Waypoint{Name: name}).Ref(),
			New: before})
		if taken := (*vcs.RefMovedError)(nil); errors.As(err, &taken) {
			continue
		}
		return name, err
	}
}

// What is kept under a waypoint.
const (
	madeFile     = "made.hg"     // the changesets that the join made
	replacedFile = "replaced.hg" // those that it made again, and removed
	stateFolder  = "state"       // hg's files of a half-done operation
	parentsFile  = "parents"     // the parents of the working folder in it
	marksFile    = "marks.json"  // which files were added, removed or copied, and not committed
)

// add makes changesets of the commits of a join, in a bundle, and finds those that they replace. It returns the new
// tip.
func (a *Applier) add(ctx context.Context, p *plan.Position, j *plan.Join, b plan.Built, tr *Transition) (object.ID,
	error) {
	dir := a.files.keepAt(tr.Keep)
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return object.ID{}, fmt.Errorf("keeping what is replaced: %w; nothing was changed", err)
	}
	if r, ok := p.Kind.(plan.Returning); ok {
		wp, err := a.Ledger.Store.Waypoint(r.Waypoint)
		if err != nil || wp == nil {
			return object.ID{}, err
		}
		return wp.Before, a.back(ctx, wp, tr)
	}
	origin := map[object.ID]object.ID{}
	if j.Route != plan.Pick {
		for i, id := range b.IDs {
			if !id.IsZero() && i < len(j.Steps) && id != j.Steps[i].Commit.ID && origin[id].IsZero() {
				origin[id] = j.Steps[i].Commit.ID
			}
		}
	}
	m, err := a.Repo.Make(ctx, a.Planner.Store, []object.ID{b.Tip}, origin, tr.Marks.Copies,
		filepath.Join(dir, madeFile))
	if err != nil {
		return object.ID{}, err
	}
	for of, id := range m.Of {
		a.changesets[of] = id
	}
	tip := b.Tip
	if id, ok := m.Of[tip]; ok {
		tip = id
	}
	if len(m.Nodes) > 0 {
		tr.Bundle, tr.Adds = filepath.Join(dir, madeFile), m.Nodes
	}
	old, err := a.replacedBy(ctx, p, tip)
	if err != nil {
		return object.ID{}, err
	}
	if err := a.replace(ctx, plan.IdsOf(old), filepath.Join(dir, replacedFile), tr); err != nil {
		return object.ID{}, err
	}
	tr.Secret, err = a.secret(ctx, p, m, origin)
	return tip, err
}

// secret returns the new changesets that must not be pushed: those made of secret ones, and what is made on top of
// yours if that is secret.
func (a *Applier) secret(ctx context.Context, p *plan.Position, m *hg.Making, origin map[object.ID]object.ID) (
	out []object.ID, err error) {
	ask := append(slices.Collect(maps.Values(origin)), p.Yours)
	secret, err := a.Repo.Secret(ctx, ask)
	if err != nil || len(secret) == 0 {
		return nil, err
	}
	for commit, id := range m.Of {
		of := origin[commit]
		if of.IsZero() {
			of = p.Yours
		}
		if slices.Contains(secret, of) {
			out = append(out, id)
		}
	}
	return out, nil
}

// noteParents keeps the parents that the working folder has in a half-done operation.
func (f *files) noteParents(tr *Transition) error {
	text := tr.From[0].String() + "\n" + tr.From[1].String() + "\n"
	if err := os.WriteFile(filepath.Join(f.keepAt(tr.Keep), parentsFile), []byte(text), 0o600); err != nil {
		return fmt.Errorf("keeping what was half done: %w; nothing was changed", err)
	}
	return nil
}

// readParents has an undo go back into a half-done operation.
func (f *files) readParents(wp *ledger.Waypoint, tr *Transition) error {
	at := f.keepAt(wp.Name)
	text, err := os.ReadFile(filepath.Join(at, parentsFile))
	if err != nil {
		return fmt.Errorf("reading what was half done: %w; nothing was changed", err)
	}
	one, other, _ := strings.Cut(strings.TrimSpace(string(text)), "\n")
	if tr.To[0], err = object.ParseID(one); err == nil && other != "" {
		tr.To[1], err = object.ParseID(other)
	}
	tr.State, tr.Back = wp.Kept.State, filepath.Join(at, stateFolder)
	return err
}

// replacedBy finds the changesets that a join to a tip makes again: yours, and those that a half-done rebase made, but
// not theirs.
func (a *Applier) replacedBy(ctx context.Context, p *plan.Position, tip object.ID) (old []history.Node, err error) {
	not := []object.ID{tip, p.Theirs}
	of := []object.ID{p.Yours}
	if p.Stuck != nil {
		if left := p.Stuck.Left; left.Operation == vcs.Rebasing {
			of = append(of, left.Head)
			not = append(not, left.Onto)
		}
	}
	not = slices.DeleteFunc(not, object.ID.IsZero)
	for _, id := range of {
		more, err := history.Only(ctx, a.Planner.Store, id, not...)
		if err != nil {
			return nil, err
		}
		old, not = append(old, more...), append(not, id)
	}
	return old, nil
}

// replace keeps changesets in a bundle, and has the transition remove those that nothing else builds on.
func (a *Applier) replace(ctx context.Context, old []object.ID, file string, tr *Transition) error {
	if len(old) == 0 {
		return nil
	}
	can, stay, err := a.Repo.Removable(ctx, old)
	if err != nil {
		return err
	}
	if len(stay) > 0 {
		a.Ledger.Tell("%d of the changesets that were made again stay, because others build on them.", len(stay))
	}
	tr.Remove = can
	return a.Repo.Save(ctx, old, file)
}

// back has a transition undo a waypoint: what it replaced comes again, and what it made goes.
func (a *Applier) back(ctx context.Context, wp *ledger.Waypoint, tr *Transition) error {
	replaced := filepath.Join(a.files.keepAt(wp.Name), replacedFile)
	if _, err := os.Stat(replaced); err == nil {
		tr.Bundle = replaced
		old, err := history.Only(ctx, a.Planner.Store, wp.Before, wp.After)
		if err != nil {
			return err
		}
		tr.Adds = plan.IdsOf(old)
	}
	stays := slices.DeleteFunc([]object.ID{wp.Before, wp.Theirs, tr.To[0], tr.To[1]}, object.ID.IsZero)
	made, err := history.Only(ctx, a.Planner.Store, wp.After, stays...)
	if err != nil {
		return err
	}
	var stay []object.ID
	if tr.Remove, stay, err = a.Repo.Removable(ctx, plan.IdsOf(made)); err != nil {
		return err
	}
	if len(stay) > 0 {
		a.Ledger.Tell("%d changesets of the join stay, because others build on them or have them.", len(stay))
	}
	return nil
}

// GoBack undoes a join; an empty name selects the last one. Uncommitted work returns to its state before the join, or
// is merged if it was edited since.
func (a *Applier) GoBack(ctx context.Context, name string) (*ledger.Waypoint, error) {
	wp, err := a.Ledger.Store.ToUndo(name)
	if err != nil {
		return nil, err
	}
	p, err := a.Returning(ctx, wp)
	if err != nil {
		return nil, err
	}
	if p.Branch.Name != wp.Branch || p.Branch.Tip != wp.After || a.Repo.Busy() != "" {
		return nil, &change.MovedError{Branch: wp.Branch, Undo: wp.Name}
	}
	if wp.After != wp.Theirs {
		on, err := a.Repo.OnRemote(ctx, wp.After)
		if err != nil {
			return nil, err
		}
		if on != "" {
			return nil, &plan.Blocked{What: "This join was pushed, to " + on + ".",
				Next: "Others may build on it by now, and it stays there.", Remedy: plan.UndoPushed, Waypoint: wp.Name}
		}
	}
	tr := &Transition{Kind: change.Undoing, Waypoint: *wp, From: a.Repo.Parents(), To: [2]object.ID{wp.Before},
		Keep: wp.Name + "-undone", Begun: time.Now()}
	if wp.TakenOver() {
		if err := a.files.readParents(wp, tr); err != nil {
			return nil, err
		}
	}
	if err := a.layBack(ctx, p, wp, tr); err != nil {
		return nil, err
	}
	if err := a.back(ctx, wp, tr); err != nil {
		return nil, err
	}
	if err := a.marksBack(ctx, tr); err != nil {
		return nil, err
	}
	if err := a.Repo.Keep(ctx, a.Planner.Store, tr.Was, tr.Is); err != nil {
		return nil, err
	}
	if err := a.make(ctx, tr); err != nil {
		return nil, err
	}
	return &tr.Waypoint, nil
}

// marksBack finds the marks after an undo: those of now with those of before the join or, in a half-done operation,
// what its files have and its first parent does not.
func (a *Applier) marksBack(ctx context.Context, tr *Transition) error {
	if err := a.readMarks(ctx, tr); err != nil {
		return err
	}
	if tr.Back == "" {
		return a.addKeptMarks(tr)
	}
	tr.Marks = hg.Marks{}
	from, err := a.Planner.Tree(ctx, tr.To[0])
	if err != nil {
		return err
	}
	return a.Planner.Store.EachChange(ctx, from, tr.Is, func(c object.Change) {
		switch {
		case c.Old.Absent():
			tr.Marks.Added = append(tr.Marks.Added, c.Path)
		case c.New.Absent():
			tr.Marks.Removed = append(tr.Marks.Removed, c.Path)
		}
	})
}

// addKeptMarks adds the marks of before the join.
func (a *Applier) addKeptMarks(tr *Transition) error {
	var was hg.Marks
	data, err := os.ReadFile(filepath.Join(a.files.keepAt(tr.Waypoint.Name), marksFile))
	if err == nil {
		err = json.Unmarshal(data, &was)
	}
	if err != nil && !isGone(err) {
		return fmt.Errorf("reading which files were added or removed: %w; nothing was changed", err)
	}
	m := &tr.Marks
	m.Added, m.Removed = append(m.Added, was.Added...), append(m.Removed, was.Removed...)
	if m.Copies == nil {
		m.Copies = map[string]string{}
	}
	maps.Copy(m.Copies, was.Copies)
	return nil
}

// layBack finds the files before and after an undo.
func (a *Applier) layBack(ctx context.Context, p *plan.Position, wp *ledger.Waypoint, tr *Transition) (err error) {
	after, err := a.Planner.Tree(ctx, wp.After)
	if err != nil {
		return err
	}
	before, err := a.Planner.Tree(ctx, wp.Before)
	if err != nil {
		return err
	}
	tr.Was = after
	if p.Carried != nil {
		tr.Was = p.Carried.Files
	}
	switch {
	case wp.Kept != nil && tr.Was == wp.Kept.Is.Files:
		tr.Is = wp.Kept.Was.Files
	case wp.TakenOver():
		return &plan.Blocked{What: "Files were changed since what was half done was taken over.",
			Next: "Commit them, or put them back, and undo again. Nothing was changed."}
	case p.Carried == nil:
		tr.Is = before
	default:
		r, err := a.Planner.Engine.Trees(ctx, after, tr.Was, before)
		if err != nil {
			return err
		}
		decided, _, err := a.Planner.Files.Resolve(ctx, r, &settle.Decisions{})
		if err != nil {
			return err
		}
		if !r.Clean() {
			return &change.AsksError{Position: p, Paths: pathsOf(r)}
		}
		if tr.Is, err = r.Tree(ctx, decided); err != nil {
			return err
		}
	}
	_, err = a.WorkTree.dir().Between(ctx, tr.Was, tr.Is, workdir.UnknownTo(p.Dirty))
	if over := (*change.OverwriteError)(nil); errors.As(err, &over) {
		return &plan.Blocked{What: "Going back must write where you have files that hg does not know.",
			Next: "Move them away, and undo again. Nothing was changed."}
	}
	return err
}

func pathsOf(r *merge.Result) (out []string) {
	for i := range r.Conflicts {
		out = append(out, r.Conflicts[i].Path)
	}
	return out
}

// Returning returns the position of going back to before a waypoint.
func (a *Applier) Returning(ctx context.Context, wp *ledger.Waypoint) (*plan.Position, error) {
	b, dirty, err := a.Repo.Status(ctx)
	if err != nil {
		return nil, err
	}
	p := &plan.Position{Branch: b, Yours: b.Tip, Theirs: wp.Before, Dirty: dirty,
		Kind: plan.Returning{Waypoint: wp.Name}, Divergence: &history.Divergence{}}
	p.Carried, err = a.WorkTree.Uncommitted(ctx, b.Tip, dirty)
	return p, err
}

// Switch goes to another branch. Uncommitted work stays as it is, unless the other branch has something else there.
func (a *Applier) Switch(ctx context.Context, branch string) error {
	b, dirty, err := a.Repo.Status(ctx)
	if err != nil {
		return err
	}
	to, err := a.Repo.Ref(ctx, "refs/heads/"+branch)
	switch {
	case err != nil:
		return err
	case to.IsZero():
		return &plan.Blocked{What: "There is no branch " + branch + ".", Next: "Nothing was changed."}
	case a.Repo.Busy() != "":
		return &change.MovedError{Branch: b.Name}
	}
	p := plan.Alone(b, b.Tip)
	p.Dirty = dirty
	tree, err := a.Planner.Tree(ctx, to)
	if err != nil {
		return err
	}
	if err := a.WorkTree.InTheWay(ctx, p, tree); err != nil {
		if over := (*change.OverwriteError)(nil); errors.As(err, &over) {
			over.Switch = branch
		}
		return err
	}
	tr := &Transition{Kind: change.Switching, From: a.Repo.Parents(), To: [2]object.ID{to}, Branch: branch,
		Keep: "switch", Is: tree,
		Begun: time.Now(), Waypoint: ledger.Waypoint{Branch: b.Name}}
	if tr.Was, err = a.Planner.Tree(ctx, b.Tip); err != nil {
		return err
	}
	u, err := a.WorkTree.Uncommitted(ctx, b.Tip, dirty)
	if err != nil {
		return err
	}
	if u != nil {
		if tr.Is, err = a.besides(ctx, u, tree); err != nil {
			return err
		}
		tr.Was = u.Files
	}
	if tr.Marks, err = a.Repo.MarksNow(ctx); err != nil { // a bookmark does not go along
		return err
	}
	if err := a.Repo.Keep(ctx, a.Planner.Store, tr.Was, tr.Is); err != nil {
		return err
	}
	return a.make(ctx, tr)
}
