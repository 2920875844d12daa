package apply

import (
	"context"
	"errors"
	"strings"
	"time"

	"dorvik.dev/dorvik/internal/change"
	"dorvik.dev/dorvik/internal/core/object"
	"dorvik.dev/dorvik/internal/ledger"
	"dorvik.dev/dorvik/internal/plan"
	"dorvik.dev/dorvik/internal/vcs"
	"dorvik.dev/dorvik/internal/words"
)

// guard checks whether the join can be accepted now: branch and uncommitted work are as they were when the join was
// computed, and nothing is in the way. It returns the layout of carried work, nil if no file of it moves, and
// untracked files whose content the join writes anyway.
func (a *Applier) guard(ctx context.Context, p *plan.Position, j *plan.Join, tree object.ID) (l *plan.Laid,
	same []string,
	err error) {
	if err := a.locks.refresh(ctx); err != nil { // a file with a new time and the old content is unchanged
		return nil, nil, err
	}
	b, dirty, err := a.Repo.Status(ctx)
	if err != nil {
		return nil, nil, err
	}
	if p.Stuck != nil {
		if err := a.stuckStill(b, p.Stuck); err != nil {
			return nil, nil, err
		}
	} else if b.Name != p.Branch.Name || b.Tip != p.Yours || a.Repo.Busy() != "" {
		return nil, nil, &change.MovedError{Branch: p.Branch.Name}
	}
	now := *p
	now.Dirty, now.Hidden = dirty, nil // hidden paths are read again
	if p.Carried == nil || j.Carried == nil {
		same, err = a.WorkTree.inTheWayOf(ctx, &now, tree)
		return nil, same, err
	}
	u, err := a.WorkTree.Uncommitted(ctx, p.Carried.On, dirty)
	if err != nil {
		return nil, nil, err
	}
	from, err := a.Planner.Tree(ctx, p.Carried.On)
	if err != nil {
		return nil, nil, err
	}
	if u == nil {
		u = &plan.Uncommitted{On: p.Carried.On, Staged: from, Files: from}
	}
	if !u.Same(p.Carried) {
		return nil, nil, &change.MovedError{Branch: p.Branch.Name, Work: true}
	}
	l, err = a.Planner.LayOut(ctx, u, tree, plan.Held{Staged: j.Carried.Staged, Files: j.Carried.Files})
	if err != nil {
		return nil, nil, err
	}
	if l == nil && p.Stuck != nil { // git's own state files are kept anyway
		l = &plan.Laid{Layout: &plan.Layout{Staged: tree, Files: tree, Start: from}, Of: u,
			Is: plan.Held{Staged: j.Carried.Staged, Files: j.Carried.Files}}
	}
	if l == nil {
		same, err = a.WorkTree.inTheWayOf(ctx, &now, tree)
		return nil, same, err
	}
	takes, err := a.WorkTree.takes(ctx, from, l)
	if err != nil {
		return nil, nil, err
	}
	same, err = a.WorkTree.inTheWayOf(ctx, &now, takes, l.Paths...)
	return l, same, err
}

// guardAside is guard that also returns what must be moved aside. With consent these are all untracked obstacles.
// Without it, only those whose content the join writes anyway.
func (a *Applier) guardAside(ctx context.Context, p *plan.Position, j *plan.Join, tree object.ID,
	consent change.Consent) (l *plan.Laid, aside []string, err error) {
	l, aside, err = a.guard(ctx, p, j, tree)
	var over *change.OverwriteError
	if consent.MoveAside && errors.As(err, &over) && over.Unknown {
		return l, append(aside, over.Paths...), nil
	}
	return l, aside, err
}

// Accept applies a join. what is the reflog message.
func (a *Applier) Accept(ctx context.Context, p *plan.Position, j *plan.Join, b plan.Built, consent change.Consent,
	what string) (*ledger.Waypoint, error) {
	tree, err := a.Planner.Tree(ctx, b.Tip)
	if err != nil {
		return nil, err
	}
	if err := a.guardPublished(ctx, j, consent); err != nil {
		return nil, err
	}
	l, aside, err := a.guardAside(ctx, p, j, tree, consent)
	if err != nil {
		return nil, err
	}
	if err := a.carrier.addTip(ctx, b.Tips()...); err != nil {
		return nil, err
	}
	from, err := a.Planner.Tree(ctx, p.Head())
	if err != nil {
		return nil, err
	}
	if len(aside) == 0 && l == nil {
		if err := a.carrier.trySwitch(ctx, from, tree); err != nil {
			return nil, err
		}
	}
	if err := a.Prover.Asker.MayFilter(ctx, p, tree); err != nil {
		return nil, err
	}
	hooks := &hookRun{s: a, without: consent.WithoutHooks}
	if b, err = hooks.before(ctx, p, j, b); err != nil {
		return nil, err
	}
	made := b
	if b.Tip, err = a.signer.sealed(ctx, b); err != nil {
		return nil, err
	}
	// Signing can take long. Check again that nobody moved anything meanwhile.
	if l, aside, err = a.guardAside(ctx, p, j, tree, consent); err != nil {
		return nil, err
	}
	wp, err := a.newWaypoint(ctx, p, j, b, tree, aside, consent)
	if err != nil {
		return nil, err
	}
	tr := &Transition{Kind: change.Accepting, Branch: wp.Branch, From: wp.Before, To: wp.After, Message: what,
		Begun: time.Now()}
	if l != nil {
		if err := a.carrier.keepUnder(ctx, wp, tr, l, p.Stuck); err != nil {
			return nil, err
		}
	}
	tr.Waypoint = *wp
	if err := a.make(ctx, tr); err != nil {
		return nil, a.unmade(wp, err)
	}
	hooks.after(ctx, p, j, made, wp)
	a.tellSubmodules(ctx, from, tree)
	return wp, nil
}

// unmade marks the waypoint of a failed join as undone, unless the next start still has to finish the change.
func (a *Applier) unmade(wp *ledger.Waypoint, err error) error {
	if cut := (*CutError)(nil); errors.As(err, &cut) {
		return err
	}
	wp.GoneBack = true
	return errors.Join(err, a.Ledger.Store.PutWaypoint(wp))
}

// newWaypoint returns a named waypoint for the join.
func (a *Applier) newWaypoint(ctx context.Context, p *plan.Position, j *plan.Join, b plan.Built, tree object.ID,
	aside []string,
	consent change.Consent) (*ledger.Waypoint, error) {
	wp := a.Ledger.NewWaypoint(p, j, b.Tip, tree)
	wp.Aside = aside
	if !consent.LeaveBranches {
		wp.Moves = a.signer.movesOf(b)
	}
	return wp, a.nameWaypoint(ctx, wp)
}

// tellSubmodules lists submodules that are at another commit after the join. Like git, Dorvik does not update them.
func (a *Applier) tellSubmodules(ctx context.Context, from, to object.ID) {
	changes, err := a.Planner.Store.Changes(ctx, from, to)
	if err != nil {
		return // the overlay has everything already
	}
	var names []string
	for _, c := range changes {
		if c.New.Mode == object.ModeSubmodule && a.Repo.SubmoduleAt(ctx, c.Path) != c.New.ID {
			names = append(names, c.Path)
		}
	}
	if len(names) > 0 {
		a.Ledger.Tell("The submodule %s is at another commit in the joined code than in your working tree: “git "+
			"submodule update --init %s” brings it there.", words.List(words.Some(names, 3)), strings.Join(names, " "))
	}
}

// guardPublished returns a *plan.PublishedError if the join rewrites published commits without consent.
func (a *Applier) guardPublished(ctx context.Context, j *plan.Join, consent change.Consent) error {
	if consent.RewritePublished {
		return nil
	}
	published, err := a.Planner.Published(ctx, j)
	if err == nil && len(published) > 0 {
		err = &plan.PublishedError{Commits: published}
	}
	return err
}

// nameWaypoint gives a waypoint the next free name and creates its ref. Creating the ref reserves the name, because
// other working trees use the same names. A second ref protects the new commits from git gc until the branch has them.
func (a *Applier) nameWaypoint(ctx context.Context, wp *ledger.Waypoint) error {
	for {
		name, err := a.Ledger.Store.NextName()
		if err != nil {
			return err
		}
		wp.Name = name
		err = a.Repo.UpdateRefs(ctx, "waypoint "+name, vcs.RefUpdate{Name: wp.Ref(), New: wp.Before})
		if taken := (*vcs.RefMovedError)(nil); errors.As(err, &taken) {
			continue
		}
		if err == nil {
			err = a.WorkTree.setRefs(ctx, "waypoint "+name,
				map[string]object.ID{"refs/dorvik/making/" + a.WorkTree.treeName(): wp.After})
		}
		return err
	}
}

// GoBack undoes a join; an empty name selects the last one. Uncommitted work returns to its state before the join, or
// is merged if it was edited since. The error is a *change.MovedError if the branch has moved, and a *change.AsksError
// if merging the work needs a decision.
func (a *Applier) GoBack(ctx context.Context, name string) (*ledger.Waypoint, error) {
	wp, err := a.Ledger.Store.ToUndo(name)
	if err != nil {
		return nil, err
	}
	dirty, err := a.canGoBack(ctx, wp)
	if err != nil {
		return nil, err
	}
	tr := &Transition{Kind: change.Undoing, Waypoint: *wp, Branch: wp.Branch, From: wp.After, To: wp.Before,
		Message: "reset: moving to " + wp.Before.String(), Begun: time.Now()}
	if err := a.carrier.layBack(ctx, wp, tr, dirty); err != nil {
		return nil, err
	}
	if err := a.make(ctx, tr); err != nil {
		return nil, err
	}
	return &tr.Waypoint, nil
}

// canGoBack returns the uncommitted paths, or an error if the branch moved or the join was pushed.
func (a *Applier) canGoBack(ctx context.Context, wp *ledger.Waypoint) ([]vcs.Dirty, error) {
	if err := a.locks.refresh(ctx); err != nil {
		return nil, err
	}
	b, dirty, err := a.Repo.Status(ctx)
	if err != nil {
		return nil, err
	}
	if b.Name != wp.Branch || b.Tip != wp.After || a.Repo.Busy() != "" {
		return nil, &change.MovedError{Branch: wp.Branch, Undo: wp.Name}
	}
	if b.Tracking == "" || wp.After == wp.Theirs {
		return dirty, nil
	}
	on, err := a.Repo.OnRemote(ctx, wp.After)
	if err == nil && on != "" {
		err = &plan.Blocked{What: "This join was pushed, to " + on + ".",
			Next: "Others may build on it by now, and it stays there.", Remedy: plan.UndoPushed, Waypoint: wp.Name}
	}
	return dirty, err
}

// stuckStill checks that the half-done operation is the one that was read.
func (a *Applier) stuckStill(b vcs.Branch, st *plan.Stuck) error {
	if busy := a.Repo.Busy(); busy != st.Left.Operation && (busy != "" || st.Left.Operation != vcs.Unmerged) ||
		b.Tip != st.Left.Head || (b.Name == "") != st.Left.Detached {
		return &change.MovedError{Branch: st.Left.Branch}
	}
	return nil
}

// Switch checks out another branch. It is a transition whose branch stays where it is: HEAD is detached after the
// journal is written, and attached to the other branch after the files. Uncommitted work stays as it is; if the other
// branch has something else there, Switch changes nothing and returns a *change.OverwriteError.
func (a *Applier) Switch(ctx context.Context, branch string) error {
	p, err := a.carrier.maySwitch(ctx, branch)
	if err != nil {
		return err
	}
	to, err := a.Repo.Ref(ctx, "refs/heads/"+branch)
	if err != nil {
		return err
	}
	if to.IsZero() {
		return &plan.Blocked{What: "There is no branch " + branch + ".", Next: "Nothing was changed."}
	}
	from, err := a.Planner.Tree(ctx, p.Yours)
	if err != nil {
		return err
	}
	tree, err := a.Planner.Tree(ctx, to)
	if err != nil {
		return err
	}
	if from != tree {
		err := a.WorkTree.InTheWay(ctx, p, tree)
		if err == nil {
			err = a.carrier.trySwitch(ctx, from, tree)
		}
		if over := (*change.OverwriteError)(nil); errors.As(err, &over) {
			over.Switch = branch
		}
		if err != nil {
			return err
		}
	}
	p.Theirs = to
	if err := a.Prover.Asker.MayFilter(ctx, p, tree); err != nil {
		return err
	}
	tr := &Transition{Kind: change.Switching, Branch: branch, Was: p.Branch.Name, From: to, To: to,
		Message: "checkout: moving from " + p.Branch.Name + " to " + branch, Begun: time.Now(),
		Lay: &Lay{Head: p.Yours, Start: from, Staged: tree, Files: tree, Had: from, Keep: a.files.freeKeep("switch")}}
	if err := a.make(ctx, tr); err != nil {
		return err
	}
	hooks := &hookRun{s: a, without: true}
	if err := hooks.hook(ctx, "post-checkout", "", "", p.Yours.String(), to.String(), "1"); err != nil {
		a.Ledger.Tell("%s The branch is checked out all the same.", words.Sentence(err.Error()))
	}
	hooks.tellSkipped()
	a.tellSubmodules(ctx, from, tree)
	return nil
}
