package apply

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"dorvik.dev/dorvik/internal/core/history"
	"dorvik.dev/dorvik/internal/core/merge"
	"dorvik.dev/dorvik/internal/core/object"
	"dorvik.dev/dorvik/internal/core/settle"
	"dorvik.dev/dorvik/internal/ledger"
	"dorvik.dev/dorvik/internal/plan"
	"dorvik.dev/dorvik/internal/vcs"
)

// Uncommitted reads the work that is not committed; nil where there is none that git knows.
func (w *WorkTree) Uncommitted(ctx context.Context, on object.ID, dirty []vcs.Dirty) (*plan.Uncommitted, error) {
	u := &plan.Uncommitted{On: on, Seen: map[string]os.FileInfo{}}
	for _, d := range dirty {
		if d.Untracked {
			continue
		}
		u.Paths = append(u.Paths, d.Path)
		if info, err := os.Lstat(filepath.Join(w.Repo.Dir, filepath.FromSlash(d.Path))); err == nil && !info.IsDir() {
			u.Seen[d.Path] = info
		}
	}
	if len(u.Paths) == 0 {
		return nil, nil
	}
	var err error
	if u.Staged, u.Files, err = w.Repo.Uncommitted(ctx, dirty); err != nil {
		return nil, err
	}
	if w.Repo.Hold != nil { // a session may carry it
		if err := w.holdWork(ctx, u.Staged, u.Files); err != nil {
			return nil, err
		}
	}
	same := map[string]object.Entry{}
	for _, d := range dirty {
		if w.asIndexed(d) {
			same[d.Path] = d.Index
		}
	}
	if u.Files, err = w.Planner.Store.Edit(u.Files, same); err != nil {
		return nil, err
	}
	base, err := w.Planner.Tree(on)
	if err != nil {
		return nil, err
	}
	u.Add(plan.Part{Base: base, Tree: u.Staged, Subject: "what you had staged", Staged: true})
	u.Add(plan.Part{Base: u.Staged, Tree: u.Files, Subject: "your uncommitted work", Staged: false})
	return u, nil
}

// asIndexed reports whether a file that git calls changed holds, byte for byte, what the index has. git calls a text so
// whose line ends were never made to follow its attributes: storing it again would change them.
func (w *WorkTree) asIndexed(d vcs.Dirty) bool {
	return d.Unstaged && !d.Untracked && !d.Conflict && w.holdsJust(d.Path, d.Index)
}

// NothingOwn reports whether all that git calls changed is as the index has it, and nothing is staged.
func (w *WorkTree) NothingOwn(dirty []vcs.Dirty) bool {
	any := false
	for _, d := range dirty {
		switch {
		case d.Untracked:
		case d.Staged || !w.asIndexed(d):
			return false
		default:
			any = true
		}
	}
	return any
}

// keepUnder has a transition move uncommitted work as it is laid out, and keep it under a
// waypoint as it was.
func (ca *carrier) keepUnder(ctx context.Context, wp *ledger.Waypoint, tr *Transition, l *plan.Laid,
	st *plan.Stuck) error {
	k := &ledger.Kept{Paths: l.Paths, Was: plan.Held{Staged: l.Of.Staged, Files: l.Of.Files}, Is: l.Is}
	parents := []object.ID{l.Of.On}
	if st != nil {
		parents = append(parents, st.Left.Merged...)
	}
	var err error
	if k.Commit, err = ca.keepCommit(ctx, k, parents); err != nil {
		return err
	}
	if err := ca.hand(ctx, k.Commit, l); err != nil {
		return err
	}
	wp.Kept = k
	tr.Lay = &Lay{Start: l.Start, Staged: l.Staged, Files: l.Files, Had: l.Of.Files, Paths: l.Paths,
		Keep: ca.files.freeKeep(wp.Name)}
	if st != nil {
		ca.keepStuck(k, tr, st)
	}
	tr.seen = l.Of.Seen
	return nil
}

// hand hands what a layout needs over to the repository.
func (ca *carrier) hand(ctx context.Context, kept object.ID, l *plan.Laid) error {
	roots := []object.ID{l.Start, l.Staged, l.Files, l.Is.Staged, l.Is.Files}
	if !kept.IsZero() {
		roots = append(roots, kept)
	}
	return ca.Repo.AddPack(ctx, func(w io.Writer) (int, error) { return ca.planner.Store.WritePack(w, roots...) })
}

// layBack has a transition that undoes a join bring uncommitted work along.
func (ca *carrier) layBack(ctx context.Context, wp *ledger.Waypoint, tr *Transition, dirty []vcs.Dirty) error {
	from, err := ca.planner.Tree(wp.After)
	if err != nil {
		return err
	}
	before := wp.Before
	if wp.Kept != nil && !wp.Kept.Head.IsZero() {
		before = wp.Kept.Head
	}
	to, err := ca.planner.Tree(before)
	if err != nil {
		return err
	}
	if dirty, err = ca.withLoose(wp, dirty); err != nil {
		return err
	}
	u, err := ca.work.Uncommitted(ctx, wp.After, dirty)
	if err != nil {
		return err
	}
	var l *plan.Laid
	asItWas := wp.Kept != nil && u.Holds(from) == wp.Kept.Is
	switch {
	case asItWas:
		if u == nil {
			u = &plan.Uncommitted{On: wp.After, Staged: from, Files: from}
		}
		l, err = ca.planner.LayOut(u, to, wp.Kept.Was)
		if l == nil && err == nil && wp.TakenOver() {
			l = &plan.Laid{Layout: &plan.Layout{Staged: to, Files: to, Start: from}, Of: u, Is: wp.Kept.Was}
		}
	case wp.TakenOver():
		return &plan.Blocked{What: "Files were changed since what git left half done was taken over.",
			Next: "Commit them, or put them back, and undo again. Nothing was changed."}
	case u != nil:
		l, err = ca.joinBack(ctx, wp, u, to)
	}
	if err != nil {
		return err
	}
	if l == nil {
		if err := ca.notInTheWayBack(from, to, dirty); err != nil {
			return err
		}
		return ca.trySwitch(ctx, from, to)
	}
	if err := ca.notInTheWayBack(from, l.Files, unknownTo(dirty), l.Paths...); err != nil {
		return err
	}
	if err := ca.hand(ctx, object.ID{}, l); err != nil {
		return err
	}
	tr.Lay = &Lay{Start: l.Start, Staged: l.Staged, Files: l.Files, Had: u.Files, Paths: l.Paths,
		Keep: ca.files.freeKeep(wp.Name + "-undone")}
	tr.seen = u.Seen
	if asItWas {
		tr.Lay.Back, tr.Lay.State, tr.Lay.HeadTo = wp.Name, wp.Kept.State, wp.Kept.Head
	}
	return nil
}

// withLoose adds to what is not committed the files that a join laid out and that git does not
// know since: an edit of a file that is there no more is one.
func (ca *carrier) withLoose(wp *ledger.Waypoint, dirty []vcs.Dirty) ([]vcs.Dirty, error) {
	if wp.Kept == nil {
		return dirty, nil
	}
	changes, err := ca.planner.Store.Changes(wp.Kept.Is.Staged, wp.Kept.Is.Files)
	if err != nil {
		return nil, err
	}
	for _, c := range changes {
		if !c.Old.Absent() || !ca.work.exists(c.Path) {
			continue
		}
		i := slices.IndexFunc(dirty, func(d vcs.Dirty) bool { return d.Path == c.Path })
		switch {
		case i < 0:
			dirty = append(dirty, vcs.Dirty{Path: c.Path, Unstaged: true})
		case dirty[i].Untracked:
			dirty[i] = vcs.Dirty{Path: c.Path, Unstaged: true}
		}
	}
	return dirty, nil
}

// joinBack joins uncommitted work onto what a join is taken back to.
func (ca *carrier) joinBack(ctx context.Context, wp *ledger.Waypoint, u *plan.Uncommitted, to object.ID) (*plan.Laid,
	error) {
	j := &plan.Join{Tree: to}
	if err := ca.planner.Carry(ctx, j, u, func(r *merge.Result) (merge.Decided, bool, error) {
		return ca.planner.Files.Resolve(ctx, r, &settle.Decisions{})
	}); err != nil {
		return nil, err
	}
	var asks []string
	for _, p := range j.Carried.Paths {
		if p.State == plan.CarriedConflict {
			asks = append(asks, p.Path)
		}
	}
	if len(asks) > 0 {
		p, err := ca.returning(ctx, wp)
		if err != nil {
			return nil, err
		}
		return nil, &AsksError{p, asks}
	}
	return ca.planner.LayOut(u, to, plan.Held{Staged: j.Carried.Staged, Files: j.Carried.Files})
}

// notInTheWayBack refuses where going back would change what is not committed.
func (ca *carrier) notInTheWayBack(from, to object.ID, dirty []vcs.Dirty, away ...string) error {
	_, err := ca.work.between(from, to, dirty, away...)
	var over *OverwriteError
	if errors.As(err, &over) {
		return &plan.Blocked{What: "Going back must change " + strings.Join(over.Paths, ", ") +
			", where you have work that is not committed.",
			Next: "Commit it, or move it away, and undo again. Nothing was changed."}
	}
	return err
}

// AsksError says that going back must change uncommitted work in a way that a person has to decide.
type AsksError struct {
	Position *plan.Position // of going back, with that work
	Paths    []string
}

func (e *AsksError) Error() string {
	return fmt.Sprintf("going back must change %s, where you have work that is not committed and does not fit there: "+
		"settle it in the full screen, or commit it, or move it away, and go back again. Nothing was changed",
		strings.Join(e.Paths, ", "))
}

// returning is the position of going back to before a waypoint: a move to what was there, with the
// uncommitted work of now brought along.
func (ca *carrier) returning(ctx context.Context, w *ledger.Waypoint) (*plan.Position, error) {
	b, dirty, err := ca.Repo.Status(ctx)
	if err != nil {
		return nil, err
	}
	p := &plan.Position{Branch: b, Yours: b.Tip, Theirs: w.Before, Dirty: dirty, Return: w.Name,
		Divergence: &history.Divergence{}}
	p.Carried, err = ca.work.Uncommitted(ctx, b.Tip, dirty)
	return p, err
}

// stuckStill holds that what git left half done is as it was read.
func (a *Applier) stuckStill(b vcs.Branch, st *plan.Stuck) error {
	if busy := a.Repo.Busy(); busy != st.Left.Operation && (busy != "" || st.Left.Operation != vcs.Unmerged) ||
		b.Tip != st.Left.Head || (b.Name == "") != st.Left.Detached {
		return &MovedError{Branch: st.Left.Branch}
	}
	return nil
}

// keepStuck has a transition put away what git left half done.
func (ca *carrier) keepStuck(k *ledger.Kept, tr *Transition, st *plan.Stuck) {
	k.Operation, k.State = string(st.Left.Operation), st.Left.Files
	if st.Left.Detached && st.Left.Branch != "" { // else HEAD moves in the place of a branch
		k.Head, tr.Lay.Head = st.Left.Head, st.Left.Head
	}
	tr.Lay.State = k.State
	_ = os.MkdirAll(filepath.Join(ca.files.keep(tr), "state"), 0o755)
}
