package recovery

import (
	"context"
	"errors"
	"time"

	"dorvik.dev/dorvik/internal/core/history"
	"dorvik.dev/dorvik/internal/core/object"
	"dorvik.dev/dorvik/internal/plan"
	"dorvik.dev/dorvik/internal/vcs"
)

// stander locates a branch relative to the line that it is joined with.
type stander struct{ w *Workspace }

// stand is Locate for a given branch, and for another line than its upstream if line is not nil. It ignores half-done
// operations.
func (st stander) stand(ctx context.Context, b vcs.Branch, dirty []vcs.Dirty, line *vcs.Line, fetch bool) (
	*plan.Position, error) {
	w := st.w
	w.Planner.Extras.Begin()
	var err error
	switch {
	case b.Name == "":
		return nil, w.offBranch(ctx, b.Tip)
	case b.Nowhere:
		return nil, &plan.Blocked{What: "The working folder is at no commit.",
			Next: w.Repo.Dialect().SwitchTo(b.Name) + " goes to " + b.Name + "."}
	case b.Tip.IsZero():
		return nil, &plan.Blocked{What: "The branch " + b.Name + " has no commit yet.",
			Next: "There is nothing to join; commit first."}
	case line != nil:
		return st.standFrom(ctx, b, dirty, *line, fetch)
	case b.Upstream == "" && b.Dest.Remote == "":
		remote, err := w.newAt(ctx, b)
		if err != nil {
			return nil, err
		}
		return st.starting(ctx, b, dirty, remote, fetch)
	}
	p := &plan.Position{Branch: b, Yours: b.Tip, Dirty: dirty}
	if fetch {
		if err := st.ask(ctx, p); err != nil {
			return nil, err
		}
	}
	if err := st.destination(ctx, p); err != nil {
		return nil, err
	}
	b = p.Branch
	p.Known = w.Repo.FetchedAt(ctx, b.Remote, b.Tracking)
	if p.Theirs, err = w.Repo.Ref(ctx, b.Tracking); err != nil {
		return nil, err
	}
	if p.Theirs.IsZero() {
		return nil, w.notThere(b, !p.Asked.IsZero())
	}
	if err := w.part(ctx, p); err != nil {
		return nil, err
	}
	st.takenOut(ctx, p)
	return p, nil
}

// ask fetches from the upstream's remote and from the remote that the branch is pushed to.
func (st stander) ask(ctx context.Context, p *plan.Position) error {
	w := st.w
	remotes := []vcs.Remote{p.Branch.Remote, p.Branch.Dest.Remote}
	if remotes[0] == remotes[1] {
		remotes = remotes[:1]
	}
	for _, remote := range remotes {
		if remote == "" {
			continue
		}
		if err := w.Repo.Fetch(ctx, remote); err != nil {
			if locked := (*vcs.LockedError)(nil); ctx.Err() != nil || errors.As(err, &locked) { // the remote answered
				return err
			}
			p.Unanswered = err
		} else if w.shares(ctx) {
			_ = w.fetchShared(ctx, remote) // on failure use the decisions that are here
		}
	}
	if p.Unanswered == nil && w.Locks != nil {
		p.Unanswered = w.Locks.Ask(ctx)
	}
	if p.Unanswered == nil {
		p.Asked = time.Now()
	}
	return ctx.Err()
}

// destination determines where git would push the branch. If that is another existing branch than the upstream, the
// join is with that one, because the push must contain it.
func (st stander) destination(ctx context.Context, p *plan.Position) error {
	w := st.w
	b := &p.Branch
	if b.Dest.Remote == "" || b.Dest.Remote == b.Remote && b.Dest.Ref == b.Ref {
		return nil
	}
	at, err := w.Repo.Ref(ctx, b.Dest.Tracking)
	if err != nil || at.IsZero() && b.Upstream != "" {
		return err // the first push creates the branch
	}
	p.Follows = b.Upstream
	if up, err := w.Repo.Ref(ctx, b.Tracking); err == nil && !up.IsZero() && b.Tracking != "" {
		more, err := history.Only(ctx, w.Planner.Store, up, b.Tip, at)
		if err == nil {
			p.Beside = len(more)
		}
	}
	b.Upstream, b.Tracking, b.Remote, b.Ref = b.Dest.Name, b.Dest.Tracking, b.Dest.Remote, b.Dest.Ref
	return nil
}

// takenOut finds your commits that were once in the remote branch and were removed by a rewrite. They are not
// replayed. If the remote has nothing new they still count as yours, because a push would bring them back.
func (st stander) takenOut(ctx context.Context, p *plan.Position) {
	w := st.w
	mine := map[object.ID]history.Node{}
	for _, n := range p.Divergence.Yours {
		mine[n.ID] = n
	}
	out := map[object.ID]bool{}
	var mark func(id object.ID)
	mark = func(id object.ID) {
		if n, ok := mine[id]; ok && !out[id] {
			out[id] = true
			for _, parent := range n.Parents {
				mark(parent)
			}
		}
	}
	for _, id := range w.Repo.Fetched(ctx, p.Line().Tracking) {
		mark(id)
	}
	if len(out) == 0 {
		return
	}
	var left []history.Node
	for _, n := range p.Divergence.Yours {
		if out[n.ID] {
			p.TakenOut = append(p.TakenOut, n)
		} else {
			left = append(left, n)
		}
	}
	if len(p.Divergence.Theirs) > 0 {
		p.Divergence.Yours = left
	}
}

// standFrom is stand for another line than the upstream.
func (st stander) standFrom(ctx context.Context, b vcs.Branch, dirty []vcs.Dirty, line vcs.Line, fetch bool) (
	*plan.Position, error) {
	w := st.w
	k := &plan.FromLine{Line: line}
	p := &plan.Position{Branch: b, Yours: b.Tip, Dirty: dirty, Kind: k}
	home, err := st.stand(ctx, b, dirty, nil, fetch)
	switch blocked, offered := (*plan.Blocked)(nil), (*Offered)(nil); {
	case err == nil:
		k.Home, p.Branch, p.Asked, p.Unanswered = home, home.Branch, home.Asked, home.Unanswered
	case !errors.As(err, &blocked), b.Name == "", b.Tip.IsZero(), b.Upstream == "" && errors.As(err, &offered):
		return nil, err // a branch without a remote, or with one that is gone, can be joined with a line
	}
	switch asked := k.Home != nil && (line.Remote == k.Home.Line().Remote || line.Remote == k.Home.To().Remote); {
	case line.Remote == "": // nobody has to be asked for it
		p.Asked, p.Unanswered = time.Time{}, nil
	case fetch && (!asked || w.Lines.unread(ctx, line)):
		if err := w.Lines.Fetch(ctx, line); err == nil {
			p.Asked, p.Unanswered = time.Now(), nil
		} else if p.Asked, p.Unanswered = (time.Time{}), err; ctx.Err() != nil {
			return nil, err
		}
	}
	p.Known = w.Repo.FetchedAt(ctx, line.Remote, line.Tracking)
	if p.Theirs, err = w.Repo.Resolve(ctx, line.Tracking); err != nil {
		if p.Unanswered != nil {
			err = p.Unanswered
		}
		return nil, &plan.Blocked{What: line.Name + " is not here: " + err.Error() + ".",
			Next: "Choose another line. Nothing was changed."}
	}
	if err := w.part(ctx, p); err != nil {
		return nil, err
	}
	if line.Remote != "" { // the reflog of a branch here has commits that were never anywhere else
		st.takenOut(ctx, p)
	}
	return p, nil
}

// starting is stand for a branch without an upstream. Its commits go to a new branch of the usual remote.
func (st stander) starting(ctx context.Context, b vcs.Branch, dirty []vcs.Dirty, remote vcs.Remote, fetch bool) (
	*plan.Position, error) {
	w := st.w
	k := plan.Starting{To: w.Lines.Aimed(ctx, remote, b.Full())}
	p := &plan.Position{Branch: b, Yours: b.Tip, Dirty: dirty, Kind: k}
	if fetch {
		if err := w.Repo.Fetch(ctx, remote); err == nil {
			p.Asked = time.Now()
		} else if p.Unanswered = err; ctx.Err() != nil {
			return nil, err
		}
		at, err := w.Repo.Ref(ctx, k.To.Tracking)
		if err == nil && !at.IsZero() {
			return nil, w.sameName(ctx, b, []vcs.Remote{remote}) // it is there by now
		}
	}
	there, err := w.Lines.tipsOf(ctx, remote)
	if err != nil {
		return nil, err
	}
	p.Divergence = &history.Divergence{}
	if p.Divergence.Yours, err = history.Only(ctx, w.Planner.Store, b.Tip, there...); err != nil {
		return nil, err
	}
	p.Theirs = b.Tip
	if n := len(p.Divergence.Yours); n > 0 { // the newest commit below that is on the remote
		p.Theirs = object.ID{}
		if oldest := p.Divergence.Yours[n-1]; len(oldest.Parents) > 0 {
			p.Theirs = oldest.Parents[0]
		}
	}
	if !p.Theirs.IsZero() {
		p.Divergence.Bases = []object.ID{p.Theirs}
	}
	return p, nil
}
