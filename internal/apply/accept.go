package apply

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"dorvik.dev/dorvik/internal/change"
	"dorvik.dev/dorvik/internal/core/object"
	"dorvik.dev/dorvik/internal/ledger"
	"dorvik.dev/dorvik/internal/plan"
	"dorvik.dev/dorvik/internal/vcs"
	"dorvik.dev/dorvik/internal/words"
)

// guard tells whether a join could be accepted now: the branch is where it was, and so is the
// uncommitted work that is carried, and none is in the way. It gives how that is laid out; nil
// where none is moved, and what is in the way and holds just what is put there.
func (a *Applier) guard(ctx context.Context, p *plan.Position, j *plan.Join, tree object.ID) (l *plan.Laid,
	same []string,
	err error) {
	if err := a.locks.refresh(ctx); err != nil { // files that were only touched are not changed
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
	now.Dirty, now.Hidden = dirty, nil // which is asked anew
	if p.Carried == nil || j.Carried == nil {
		same, err = a.WorkTree.inTheWayOf(ctx, &now, tree)
		return nil, same, err
	}
	u, err := a.WorkTree.Uncommitted(ctx, p.Carried.On, dirty)
	if err != nil {
		return nil, nil, err
	}
	from, err := a.Planner.Tree(p.Carried.On)
	if err != nil {
		return nil, nil, err
	}
	if u == nil {
		u = &plan.Uncommitted{On: p.Carried.On, Staged: from, Files: from}
	}
	if !u.Same(p.Carried) {
		return nil, nil, &change.MovedError{Branch: p.Branch.Name, Work: true}
	}
	l, err = a.Planner.LayOut(u, tree, plan.Held{Staged: j.Carried.Staged, Files: j.Carried.Files})
	if err != nil {
		return nil, nil, err
	}
	if l == nil && p.Stuck != nil { // git's own state is put away all the same
		l = &plan.Laid{Layout: &plan.Layout{Staged: tree, Files: tree, Start: from}, Of: u,
			Is: plan.Held{Staged: j.Carried.Staged, Files: j.Carried.Files}}
	}
	if l == nil {
		same, err = a.WorkTree.inTheWayOf(ctx, &now, tree)
		return nil, same, err
	}
	same, err = a.WorkTree.inTheWayOf(ctx, &now, l.Files, l.Paths...)
	return l, same, err
}

// guardAside is guard, which gives what is to be moved aside: with consent, all that git does not
// know; without, what it does not know and is no matter, as just that is put in its place.
func (a *Applier) guardAside(ctx context.Context, p *plan.Position, j *plan.Join, tree object.ID,
	consent change.Consent) (l *plan.Laid, aside []string, err error) {
	l, aside, err = a.guard(ctx, p, j, tree)
	var over *change.OverwriteError
	if consent.MoveAside && errors.As(err, &over) && over.Unknown {
		return l, append(aside, over.Paths...), nil
	}
	return l, aside, err
}

// Accept makes a join as Session.Accept does; what is what the reflogs say of it.
func (a *Applier) Accept(ctx context.Context, p *plan.Position, j *plan.Join, b plan.Built, consent change.Consent,
	what string) (*ledger.Waypoint, error) {
	tree, err := a.Planner.Tree(b.Tip)
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
	from, err := a.Planner.Tree(p.Head())
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
	// Signing can take its time: whoever moved something meanwhile is not joined over.
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

// unmade notes that a join was not made, unless the next start has to end it, one way or the other.
func (a *Applier) unmade(wp *ledger.Waypoint, err error) error {
	if cut := (*CutError)(nil); errors.As(err, &cut) {
		return err
	}
	wp.GoneBack = true
	return errors.Join(err, a.Ledger.Store.PutWaypoint(wp))
}

// newWaypoint is the waypoint of a join that is accepted now, under a name of its own.
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

// tellSubmodules says which submodules the change moved, and that they themselves stand where they were: as
// git does, it leaves them to the person, unless submodule.recurse is set.
func (a *Applier) tellSubmodules(ctx context.Context, from, to object.ID) {
	changes, err := a.Planner.Store.Changes(from, to)
	if err != nil {
		return // all of it is read already
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

// guardPublished refuses to rewrite what is on a remote, unless that was agreed to.
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

// nameWaypoint gives a new waypoint the next name whose ref is free. Making the ref takes
// the name: other working trees of the repository, and a logbook that was lost, have names
// of the same row. Another ref holds the new commits until the branch does.
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

// GoBack takes branch, index and working tree back to a waypoint; an empty
// name is the last join. Uncommitted work is brought along: where it is as the join left it,
// it is as it was before the join; else it is joined. It refuses if the branch moved on since,
// or if that work cannot be joined without a decision.
func (a *Applier) GoBack(ctx context.Context, name string) (*ledger.Waypoint, error) {
	wp, err := a.Ledger.Store.Waypoint(name)
	switch {
	case err != nil:
		return nil, err
	case wp == nil && name != "":
		return nil, fmt.Errorf("there is no waypoint %s", name)
	case wp == nil:
		return nil, &plan.Blocked{What: "There is nothing to undo:",
			Next: "Dorvik has joined nothing here that was not undone."}
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

// canGoBack refuses where the branch has moved on from a waypoint, or its result was pushed,
// and else gives what is not committed.
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
			Next: "Others may build on it by now, and it stays there. “dorvik undo " + wp.Name + " --by-commit” " +
				"takes it back by a new commit; “--since” instead takes your branch back, and leaves the " +
				"remote as it is."}
	}
	return dirty, err
}

// stuckStill holds that what git left half done is as it was read.
func (a *Applier) stuckStill(b vcs.Branch, st *plan.Stuck) error {
	if busy := a.Repo.Busy(); busy != st.Left.Operation && (busy != "" || st.Left.Operation != vcs.Unmerged) ||
		b.Tip != st.Left.Head || (b.Name == "") != st.Left.Detached {
		return &change.MovedError{Branch: st.Left.Branch}
	}
	return nil
}
