// Package hgapply is the only package that changes the working folder of a Mercurial repository, and its changesets.
// Each change is complete or undone. It writes a journal first.
package hgapply

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"syscall"
	"time"

	"dorvik.dev/dorvik/internal/change"
	"dorvik.dev/dorvik/internal/core/history"
	"dorvik.dev/dorvik/internal/core/object"
	"dorvik.dev/dorvik/internal/exact"
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
	busy := a.Repo.HoldFile()
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
	if busy := a.Repo.HoldFile(); busy != nil {
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

// still reports whether the working folder is where the position was read.
func (a *Applier) still(b vcs.Branch, p *plan.Position) bool {
	if p.Stuck != nil {
		busy := cmp.Or(a.Repo.Busy(), vcs.Unmerged) // what an update left is no operation
		return a.Repo.Standing() == p.Stuck.Left.Head && busy == p.Stuck.Left.Operation
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

// Accept applies a join. It makes changesets of the commits and moves the working folder to them. Changesets that were
// made again are kept in a bundle under the waypoint, and removed.
func (a *Applier) Accept(ctx context.Context, p *plan.Position, j *plan.Join, b plan.Built, consent change.Consent,
	_ string) (*ledger.Waypoint, error) {
	tree, err := a.Planner.Tree(ctx, b.Tip)
	if err != nil {
		return nil, err
	}
	was, is, aside, err := a.guard(ctx, p, j, tree, consent)
	if err == nil {
		err = a.mayMove(ctx, j, was, is)
	}
	if err != nil {
		return nil, err
	}
	name, err := workdir.Reserve(ctx, a.Ledger, a.Repo, p.Tip())
	if err != nil {
		return nil, err
	}
	tr := &Transition{Kind: change.Accepting, From: a.Repo.Parents(), Was: was, Is: is, Keep: name, Begun: time.Now()}
	marks, err := a.Repo.MarksNow(ctx)
	if err != nil {
		return nil, err
	}
	tr.Marks = marks
	tip, err := a.add(ctx, p, j, b, tr)
	if err != nil {
		return nil, err
	}
	tr.To[0] = tip
	if err := a.endHalfDone(ctx, p, tr); err != nil {
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
	tr.Waypoint = *wp
	if err := a.keepMarks(ctx, tr, marks); err != nil {
		return nil, err
	}
	if err := a.make(ctx, tr); err != nil {
		if cut := (*workdir.CutError)(nil); errors.As(err, &cut) {
			return nil, err
		}
		wp.GoneBack = true
		return nil, errors.Join(err, a.Ledger.Store.PutWaypoint(wp))
	}
	return wp, a.tellSubs(ctx, was, tree)
}

// mayMove returns an error if a join replaces changesets that others have, or if the files cannot go from a tree to
// another.
func (a *Applier) mayMove(ctx context.Context, j *plan.Join, was, is object.ID) error {
	published, err := a.Planner.Published(ctx, j)
	if err != nil {
		return err
	}
	if len(published) > 0 {
		return &plan.FixedError{By: a.Repo.Dialect().Name, Commits: published}
	}
	why, err := a.Repo.Unmovable(ctx, a.Planner.Store, was, is)
	if err == nil && why != "" {
		err = &plan.Blocked{What: why + ".", Next: "Join with hg itself. Nothing was changed."}
	}
	return err
}

// endHalfDone has a transition end what hg left half done.
func (a *Applier) endHalfDone(ctx context.Context, p *plan.Position, tr *Transition) error {
	if p.Stuck == nil {
		return nil
	}
	left := p.Stuck.Left
	tr.State, tr.Away = left.Files, filepath.Join(a.files.keepAt(tr.Keep), stateFolder)
	if p.Resumes() != nil {
		tr.State = slices.Concat(left.Files, left.Spent)
		if left.Unshelving {
			var err error
			if tr.Branch, err = a.Repo.ShelvedBranch(); err != nil {
				return err
			}
		}
	}
	if left.Operation != vcs.Unmerged {
		return nil
	}
	unknown, err := a.Repo.ShelvedUnknown(ctx, left)
	if err != nil {
		return err
	}
	if len(unknown) > 0 && p.Resumes() != nil {
		a.Ledger.Tell("hg did not know %s when you shelved %s: now %s added.",
			words.List(words.Some(unknown, 3)), words.Is(len(unknown), "it", "them"),
			words.Is(len(unknown), "it is", "they are"))
	}
	return a.files.markAll(ctx, tr) // nothing is committed
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
	wp.Kept.Operation, wp.Kept.State, wp.Kept.GaveBack = string(p.Stuck.Left.Operation), tr.State, p.Resumes() == nil
	return a.files.noteParents(tr)
}

// kept is what an undo needs besides the waypoint.
type kept struct {
	Marks     hg.Marks      `json:"marks"` // before the change
	Bookmarks []hg.Bookmark `json:"bookmarks,omitempty"`
	Branch    string        `json:"branch,omitempty"`   // the named branch before, if the change sets another
	Replaced  []object.ID   `json:"replaced,omitempty"` // the changesets that it removes
}

// keepMarks keeps the marks for an undo.
func (a *Applier) keepMarks(ctx context.Context, tr *Transition, was hg.Marks) error {
	k := kept{Marks: was, Bookmarks: tr.Bookmarks, Replaced: tr.Remove}
	var err error
	if tr.Branch != "" {
		k.Branch, err = a.Repo.NamedBranch(ctx)
	}
	var data []byte
	if err == nil {
		data, err = exact.Marshal(k)
	}
	if err == nil {
		err = os.WriteFile(filepath.Join(a.files.keepAt(tr.Keep), keptFile), data, 0o600)
	}
	if err != nil {
		return fmt.Errorf("keeping which files are added or removed: %w; nothing was changed", err)
	}
	return nil
}

// What is kept under a waypoint.
const (
	madeFile     = "made.hg"     // the changesets that the join made
	replacedFile = "replaced.hg" // those that it made again, and removed
	stateFolder  = "state"       // hg's files of a half-done operation
	parentsFile  = "parents"     // the parents of the working folder in it
	keptFile     = "kept.json"   // bookmarks, and which files were added, removed or copied and not committed
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
	if err := a.replace(ctx, old, filepath.Join(dir, replacedFile), tr); err != nil {
		return object.ID{}, err
	}
	if err := (&moved{a, p.Theirs, becameOf(p, m, origin)}).moveBookmarks(ctx, tr, tip); err != nil {
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

// replacedBy finds the changesets that a join to a tip makes again: yours, and those that a half-done operation made,
// but not theirs.
func (a *Applier) replacedBy(ctx context.Context, p *plan.Position, tip object.ID) (old []object.ID, err error) {
	not := []object.ID{tip, p.Theirs}
	of := []object.ID{p.Yours}
	if p.Stuck != nil {
		left := p.Stuck.Left
		if left.Operation == vcs.Rebasing {
			of = append(of, left.Head)
			not = append(not, left.Onto)
		}
		if left.Has(vcs.KeepsReplaced) {
			of = of[1:]
		}
		of = append(of, left.Temporary...)
	}
	not = slices.DeleteFunc(not, object.ID.IsZero)
	for _, id := range of {
		more, err := history.Only(ctx, a.Planner.Store, id, not...)
		if err != nil {
			return nil, err
		}
		old, not = append(old, plan.IdsOf(more)...), append(not, id)
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
		a.Ledger.Tell("%s made again %s, too, because others build on %s or are at %[3]s.", words.Count(len(stay),
			"changeset that was", "changesets that were"), words.Is(len(stay), "stays", "stay"), words.Is(len(stay),
			"it", "them"))
	}
	tr.Remove = can
	return a.Repo.Save(ctx, old, file)
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
		if tr.Is, err = u.Onto(ctx, a.Planner.Store, tree); err != nil {
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
