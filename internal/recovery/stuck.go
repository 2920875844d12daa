package recovery

import (
	"context"
	"errors"
	"strings"

	"dorvik.dev/dorvik/internal/change"
	"dorvik.dev/dorvik/internal/core/history"
	"dorvik.dev/dorvik/internal/core/merge"
	"dorvik.dev/dorvik/internal/core/object"
	"dorvik.dev/dorvik/internal/core/settle"
	"dorvik.dev/dorvik/internal/ledger"
	"dorvik.dev/dorvik/internal/plan"
	"dorvik.dev/dorvik/internal/vcs"
	"dorvik.dev/dorvik/internal/words"
)

// Stuck reads the half-done operation. It returns nil if there is none.
func (w *Workspace) Stuck(ctx context.Context) (*plan.Stuck, error) {
	u, err := w.Repo.Unfinished(ctx)
	if err != nil {
		return nil, err
	}
	b, dirty, err := w.Repo.Status(ctx)
	if err != nil {
		return nil, err
	}
	if u == nil && plan.HasConflicts(dirty) && !b.Tip.IsZero() {
		u = &vcs.Unfinished{Operation: vcs.Unmerged, By: w.Repo.Dialect().Name, Branch: b.Name,
			Detached: b.Name == "", Head: b.Tip, Before: b.Tip}
	}
	if u == nil {
		return nil, nil
	}
	s := &plan.Stuck{Left: u, Dirty: dirty}
	if err := w.stillThere(ctx, s); err != nil {
		return nil, err
	}
	if u.Branch != "" {
		if s.On, err = w.Repo.Named(ctx, u.Branch); err != nil {
			return nil, err
		}
	}
	if s.With, err = w.stuckWith(ctx, s); err != nil {
		return nil, err
	}
	if s.Held, err = w.WorkTree.Uncommitted(ctx, u.Head, s.Dirty); err != nil {
		return nil, err
	}
	if s.Held == nil {
		tree, err := w.Planner.Tree(ctx, u.Head)
		if err != nil {
			return nil, err
		}
		s.Held = &plan.Uncommitted{On: u.Head, Staged: tree, Files: tree}
	}
	s.Stand = s.Held.Staged
	for _, d := range s.Dirty {
		if d.Conflict {
			s.Open = append(s.Open, d.Path)
		}
	}
	if err := w.Planner.Resumer.Stopped(ctx, s); err != nil {
		return nil, err
	}
	return s, w.Planner.Resumer.Resume(ctx, s)
}

// stuckWith returns the line that a half-done merge or rebase joins: the upstream if that has the commit, otherwise a
// branch or tag that is at it. For other operations, and if there is none, it returns the upstream.
func (w *Workspace) stuckWith(ctx context.Context, s *plan.Stuck) (vcs.Line, error) {
	follows, id := s.On.Follows(), s.Left.Onto
	if n := len(s.Left.Merged); n > 0 {
		id = s.Left.Merged[n-1]
	}
	if id.IsZero() || s.Left.Operation != vcs.Merging && s.Left.Operation != vcs.Rebasing {
		return follows, nil
	}
	if follows.Tracking != "" {
		at, err := w.Repo.Ref(ctx, follows.Tracking)
		if err != nil {
			return follows, err
		}
		if lacking, err := history.Only(ctx, w.Planner.Store, id, at); err == nil && len(lacking) == 0 && !at.IsZero() {
			return follows, nil
		}
	}
	names, err := w.Repo.Names(ctx)
	for _, n := range names { // heads, then remotes, then tags
		if n.Commit == id && n.Full != s.On.Full() {
			return n.Line(), err
		}
	}
	return follows, err
}

// stillThere drops branch moves of a rebase if the branch moved since, and adds a note.
func (w *Workspace) stillThere(ctx context.Context, s *plan.Stuck) error {
	var left []vcs.BranchMove
	for _, m := range s.Left.Moves {
		at, err := w.Repo.Ref(ctx, m.Name)
		if err != nil {
			return err
		}
		if at == m.From {
			left = append(left, m)
			continue
		}
		s.Note("Its list moves %s, too, which was moved since by something else: it stays where it is.",
			strings.TrimPrefix(m.Name, "refs/heads/"))
	}
	s.Left.Moves = left
	return nil
}

// anewWith returns the line that is joined anew, or nil for the upstream: the one that git was joining.
func (s *Session) anewWith(st *plan.Stuck) *vcs.Line {
	if st.With == st.On.Follows() {
		return nil
	}
	line := st.With
	return &line
}

// anew returns the position of joining again, as if git had not started.
func (s *Session) anew(ctx context.Context, st *plan.Stuck, fetch bool) (*plan.Position, error) {
	if why := st.NotAnew(); why != "" {
		return nil, &plan.Blocked{What: words.Sentence(why), Next: words.If(st.NotBack() == "", "It can be taken back.",
			"It can be continued.") + " Nothing was changed."}
	}
	b := st.On
	b.Tip = st.Left.Before
	p, err := stander{s.Workspace}.stand(ctx, b, st.Dirty, s.anewWith(st), fetch)
	if err != nil {
		return nil, err
	}
	p.Stuck = st
	beyond := object.ID{}
	if st.Join != nil { // work that is staged beyond the join comes along unchanged
		if beyond, err = s.Planner.Resumer.JoinedAs(ctx, st); err != nil {
			return nil, err
		}
	}
	p.Carried, err = s.Planner.Resumer.Edits(ctx, st, beyond)
	return p, err
}

// TakeOver selects how to take over the half-done operation. It keeps the decisions made in it.
func (s *Session) TakeOver(ctx context.Context, how ledger.TakeOver) error {
	st, err := s.Workspace.Stuck(ctx)
	if err != nil {
		return err
	}
	if st == nil {
		return &plan.Blocked{What: "Nothing is half done here.", Next: "There is nothing to take over."}
	}
	if how == ledger.Finish && st.Resume == nil {
		_, err := s.Planner.Resumer.Finishing(ctx, st)
		return err
	}
	found, err := s.Planner.Resumer.DecidedIn(ctx, st, how == ledger.Anew)
	if err != nil {
		return err
	}
	return s.Ledger.TakeUp(how, found, st.Runs)
}

// locateStuck is Locate for a half-done operation.
func (s *Session) locateStuck(ctx context.Context, fetch bool) (*plan.Position, error) {
	st, err := s.Workspace.Stuck(ctx)
	if err != nil {
		return nil, err
	}
	if st == nil {
		return nil, errors.New("what was half done is there no more: look again")
	}
	switch s.Ledger.State().TakeOver {
	case ledger.Finish:
		return s.Planner.Resumer.Finishing(ctx, st)
	case ledger.Anew:
		return s.anew(ctx, st, fetch)
	}
	return nil, &plan.StuckError{Stuck: st}
}

// GiveBack returns the branch to where it was before the half-done operation. It carries earlier work along and keeps
// the rest under a waypoint.
func (s *Session) GiveBack(ctx context.Context) (*ledger.Waypoint, error) {
	st, err := s.Workspace.Stuck(ctx)
	if err != nil {
		return nil, err
	}
	if st == nil {
		return nil, &plan.Blocked{What: "Nothing is half done here.", Next: "There is nothing to take back."}
	}
	if why := st.NotBack(); why != "" {
		return nil, &plan.Blocked{What: words.Sentence(why), Next: "It can be continued. Nothing was changed."}
	}
	to, err := s.Planner.Tree(ctx, st.Left.Before)
	if err != nil {
		return nil, err
	}
	u, err := s.Planner.Resumer.EditsOf(ctx, st, to)
	if err != nil {
		return nil, err
	}
	j := &plan.Join{Tree: to}
	if err := s.Planner.Carry(ctx, j, u, func(r *merge.Result) (merge.Decided, bool, error) {
		return s.Planner.Files.Resolve(ctx, r, &settle.Decisions{})
	}); err != nil {
		return nil, err
	}
	if j.Carried.Asked > 0 {
		return nil, &plan.Blocked{What: "Work that git put aside before it began does not fit " +
			st.Left.Before.Prefix(12) + ".",
			Next: "Continue from here, or join again: then you are asked how. Nothing was changed."}
	}
	p := &plan.Position{Branch: st.On, Yours: st.Tip(), Theirs: st.Left.Before, Stuck: st, Carried: u, Dirty: st.Dirty,
		Divergence: &history.Divergence{}}
	where := words.If(st.Left.Branch == "", st.Left.Before.String(), "refs/heads/"+st.Left.Branch)
	return s.Applier.Accept(ctx, p, j, plan.Built{Tip: st.Left.Before}, change.Consent{},
		plan.GitName(st.Left.Operation)+" (abort): returning to "+where)
}

// Prospect computes the outcome of each way to take over. It changes nothing.
func (s *Session) Prospect(ctx context.Context, st *plan.Stuck) (*plan.Prospect, error) {
	pr := &plan.Prospect{}
	list := func(commands []vcs.Command, state string) error {
		for _, c := range commands {
			if c.Commit.IsZero() {
				continue
			}
			n, err := s.Planner.Store.Commit(ctx, c.Commit)
			if err != nil {
				return err
			}
			pr.Commits = append(pr.Commits, plan.StuckCommit{Node: history.Node{ID: c.Commit, Commit: n}, State: state,
				Now: st.Left.Remade[c.Commit]})
		}
		return nil
	}
	done, at := st.Left.Done, []vcs.Command(nil)
	if n := len(done); n > 0 && !st.Left.Stopped.IsZero() {
		done, at = done[:n-1], done[n-1:]
	}
	for _, part := range []struct {
		list  []vcs.Command
		state string
	}{{done, "done"}, {at, "stopped"}, {st.Left.Todo, "to come"}} {
		if err := list(part.list, part.state); err != nil {
			return nil, err
		}
	}
	found, err := s.Planner.Resumer.DecidedIn(ctx, st, true)
	if err != nil {
		return nil, err
	}
	pr.Kept = len(found)
	for _, d := range st.Dirty {
		if d.Unstaged && !d.Conflict {
			pr.Dirty++
		}
	}
	if st.Resume == nil {
		return pr, nil
	}
	p, err := s.Planner.Resumer.Finishing(ctx, st)
	if err != nil {
		return nil, err
	}
	decisions := s.Ledger.State().Decisions
	for _, d := range st.Found {
		decisions.Decide(d)
	}
	j, err := s.Planner.Join(ctx, p, "", &decisions, plan.Amends{}, nil)
	if err != nil {
		return nil, err
	}
	pr.Asks, pr.More = j.Open, plan.CommitsOf(st.Left.Todo)
	return pr, nil
}
