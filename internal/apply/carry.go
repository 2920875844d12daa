package apply

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"dorvik.dev/dorvik/internal/change"
	"dorvik.dev/dorvik/internal/core/history"
	"dorvik.dev/dorvik/internal/core/merge"
	"dorvik.dev/dorvik/internal/core/object"
	"dorvik.dev/dorvik/internal/core/settle"
	"dorvik.dev/dorvik/internal/git"
	"dorvik.dev/dorvik/internal/ledger"
	"dorvik.dev/dorvik/internal/plan"
	"dorvik.dev/dorvik/internal/vcs"
	"dorvik.dev/dorvik/internal/workdir"
)

// keepUnder makes a transition carry uncommitted work, and keeps the original under the waypoint.
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

// hand stores the objects of a layout in the repository.
func (ca *carrier) hand(ctx context.Context, kept object.ID, l *plan.Laid) error {
	roots := []object.ID{l.Start, l.Staged, l.Files, l.Is.Staged, l.Is.Files}
	if !kept.IsZero() {
		roots = append(roots, kept)
	}
	return ca.Repo.Keep(ctx, ca.planner.Store, roots...)
}

// layBack makes an undo carry uncommitted work.
func (ca *carrier) layBack(ctx context.Context, wp *ledger.Waypoint, tr *Transition, dirty []vcs.Dirty) error {
	from, err := ca.planner.Tree(ctx, wp.After)
	if err != nil {
		return err
	}
	before := wp.Before
	if wp.Kept != nil && !wp.Kept.Head.IsZero() {
		before = wp.Kept.Head
	}
	to, err := ca.planner.Tree(ctx, before)
	if err != nil {
		return err
	}
	if dirty, err = ca.withLoose(ctx, wp, dirty); err != nil {
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
		l, err = ca.planner.LayOut(ctx, u, to, wp.Kept.Was)
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
		if err := ca.notInTheWayBack(ctx, from, to, dirty); err != nil {
			return err
		}
		return ca.trySwitch(ctx, from, to)
	}
	if err := ca.notInTheWayBack(ctx, from, l.Files, workdir.UnknownTo(dirty), l.Paths...); err != nil {
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

// withLoose adds files that the join created and git no longer tracks; the person edited them.
func (ca *carrier) withLoose(ctx context.Context, wp *ledger.Waypoint, dirty []vcs.Dirty) ([]vcs.Dirty, error) {
	if wp.Kept == nil {
		return dirty, nil
	}
	changes, err := ca.planner.Store.Changes(ctx, wp.Kept.Is.Staged, wp.Kept.Is.Files)
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

// joinBack merges uncommitted work onto the tree before the join.
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
		return nil, &change.AsksError{Position: p, Paths: asks}
	}
	return ca.planner.LayOut(ctx, u, to, plan.Held{Staged: j.Carried.Staged, Files: j.Carried.Files})
}

// notInTheWayBack returns a *plan.Blocked if the undo would change uncommitted work.
func (ca *carrier) notInTheWayBack(ctx context.Context, from, to object.ID, dirty []vcs.Dirty, away ...string) error {
	_, err := ca.work.dir().Between(ctx, from, to, dirty, away...)
	var over *change.OverwriteError
	if errors.As(err, &over) {
		return &plan.Blocked{What: "Going back must change " + strings.Join(over.Paths, ", ") +
			", where you have work that is not committed.",
			Next: "Commit it, or move it away, and undo again. Nothing was changed."}
	}
	return err
}

// returning returns the position of an undo that carries uncommitted work.
func (ca *carrier) returning(ctx context.Context, w *ledger.Waypoint) (*plan.Position, error) {
	b, dirty, err := ca.Repo.Status(ctx)
	if err != nil {
		return nil, err
	}
	p := &plan.Position{Branch: b, Yours: b.Tip, Theirs: w.Before, Dirty: dirty, Kind: plan.Returning{Waypoint: w.Name},
		Divergence: &history.Divergence{}}
	p.Carried, err = ca.work.Uncommitted(ctx, b.Tip, dirty)
	return p, err
}

// keepStuck makes a transition store git's files of a half-done operation.
func (ca *carrier) keepStuck(k *ledger.Kept, tr *Transition, st *plan.Stuck) {
	k.Operation, k.State = string(st.Left.Operation), st.Left.Files
	if st.Left.Detached && st.Left.Branch != "" { // otherwise HEAD itself moves
		k.Head, tr.Lay.Head = st.Left.Head, st.Left.Head
	}
	tr.Lay.State = k.State
	_ = os.MkdirAll(filepath.Join(ca.files.keep(tr), "state"), 0o755)
}

// carrier computes where uncommitted work goes in a change or an undo.
type carrier struct {
	Repo    *git.Repo
	planner *plan.Planner
	work    *WorkTree
	files   *files
	locks   *locks
}

// trySwitch asks git whether it could switch the working tree. The error is a *change.OverwriteError with the files in
// the way.
func (ca *carrier) trySwitch(ctx context.Context, from, to object.ID) error {
	err := ca.locks.locking(func() error { return ca.Repo.SwitchTree(ctx, from, to, true) })
	if paths := refusedPaths(err); len(paths) > 0 {
		return &change.OverwriteError{Paths: paths}
	}
	if err != nil {
		return fmt.Errorf("%w. Nothing was changed", err)
	}
	return nil
}

// addTip stores commits and the objects they need.
func (ca *carrier) addTip(ctx context.Context, tips ...object.ID) error {
	return ca.Repo.Keep(ctx, ca.planner.Store, tips...)
}

// keepCommit makes the commit that keeps uncommitted work: the trees of index and files, before and after.
func (ca *carrier) keepCommit(ctx context.Context, k *ledger.Kept, parents []object.ID) (object.ID, error) {
	who, err := ca.Repo.Committer(ctx)
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
	return ca.planner.Store.PutCommit(&object.Commit{Tree: ca.planner.Store.PutTree(entries), Parents: parents,
		AuthorLine: who.String(),
		Committer:  who, Message: "What was not committed\n"}), nil
}

// maySwitch returns the present position if nothing prevents a switch to another branch.
func (ca *carrier) maySwitch(ctx context.Context, branch string) (*plan.Position, error) {
	if err := ca.locks.refresh(ctx); err != nil {
		return nil, err
	}
	b, dirty, err := ca.Repo.Status(ctx)
	if err != nil {
		return nil, err
	}
	if b.Name == "" || b.Tip.IsZero() || ca.Repo.Busy() != "" || plan.HasConflicts(dirty) {
		return nil, &change.MovedError{Branch: b.Name}
	}
	at, err := ca.Repo.CheckedOut(ctx, branch)
	if err != nil {
		return nil, err
	}
	if at != "" {
		return nil, &plan.Blocked{What: fmt.Sprintf("%s is checked out in %s.", branch, at),
			Next: "Go on there. Nothing was changed."}
	}
	p := plan.Alone(b, b.Tip)
	p.Dirty = dirty
	return p, nil
}
