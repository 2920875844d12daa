package replay

import (
	"context"
	"fmt"

	"dorvik.dev/dorvik/internal/core/history"
	"dorvik.dev/dorvik/internal/core/merge"
	"dorvik.dev/dorvik/internal/core/object"
)

// Todo is a commit that is still to be replayed, and how.
type Todo struct {
	Commit  history.Node
	Into    bool         // it becomes part of the commit before it
	Message string       // of the new commit; empty for the one it has
	Theirs  bool         // what it changes is theirs, and what it goes onto yours: it is picked
	Begun   *merge.Begun // its join was begun elsewhere; nil where it was not
	Stands  bool         // it is made already, and kept as it is
}

// Onwards goes on with a replay that was begun elsewhere: the commits, in their order, onto a
// commit. Nothing is left out as already there, since whoever began has looked at that; one of
// which nothing is left is. Nothing is written.
func Onwards(ctx context.Context, engine *merge.Engine, todo []Todo, onto object.ID, wishes Wishes,
	resolve Resolver, progress func(done, of int)) ([]Step, error) {
	r := &replayer{ctx: ctx, engine: engine, onto: onto, resolve: resolve, mine: map[object.ID]history.Node{},
		at: map[object.ID]int{}}
	for i, t := range todo {
		if progress != nil {
			progress(i, len(todo))
		}
		s := Step{Commit: t.Commit, Into: t.Into, Message: t.Message, onto: []parent{{i - 1, onto}}}
		var err error
		wish := wishes[t.Commit.ID]
		if r.picking, r.parentOf = t.Theirs, 1; t.Stands {
			s.Outcome, s.Tree = Clean, t.Commit.Tree
		} else if wish.Leave {
			err = r.leave(&s)
		} else if t.Begun != nil {
			err = r.begun(&s, t.Begun)
		} else {
			err = r.plain(&s)
		}
		if err != nil {
			return nil, fmt.Errorf("replaying %s: %w", t.Commit.ID, err)
		}
		if !t.Stands {
			r.hold(&s, wish)
		}
		r.add(s)
	}
	return r.steps, nil
}

// begun replays a commit whose join was begun elsewhere.
func (r *replayer) begun(s *Step, b *merge.Begun) error {
	onto, err := r.tree(s.onto[0])
	if err != nil {
		return err
	}
	before, err := history.FirstParentTree(r.engine.Store, s.Commit.Commit)
	if err != nil {
		return err
	}
	yours, theirs := s.Commit.Tree, onto
	if r.picking {
		yours, theirs = onto, s.Commit.Tree
	}
	s.Outcome = Clean
	if s.Merge, err = r.engine.Trees(r.ctx, before, yours, theirs); err != nil {
		return err
	}
	b.Narrow(s.Merge)
	joined, err := r.settle(s, s.Merge)
	if err != nil {
		return err
	}
	if s.Tree, err = b.Over(s.Merge, joined); err != nil {
		return err
	}
	if s.Tree == onto && !s.Open {
		s.Outcome = Emptied
	}
	return nil
}
