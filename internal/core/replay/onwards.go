package replay

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"dorvik.dev/dorvik/internal/core/history"
	"dorvik.dev/dorvik/internal/core/merge"
	"dorvik.dev/dorvik/internal/core/object"
)

// Todo is a commit that is still to be replayed, and how.
type Todo struct {
	Commit  history.Node
	Into    bool         // the commit is squashed into the one before
	Message string       // message of the new commit; empty keeps the old one
	Says    Says         // how a squashed commit changes the message of the one before
	Theirs  bool         // the commit is picked: its change is theirs, and its new parent is yours
	Begun   *merge.Begun // a merge that another tool began; nil if none
	Stands  bool         // the commit exists already and is kept
	Tree    object.ID    // tree of the new commit; zero if it must be joined
	Own     bool         // the new commit gets the committer as its author
	Keep    bool         // keep the commit even if it is empty
	Onto    []Parent     // new parents, two for a merge; none for the previous commit on the list
}

// Says is what happens to a commit's message when another commit becomes part of it.
type Says struct {
	Does  Saying
	Text  string
	Chain int // number of the chain of squashed commits that the step belongs to
}

// Saying is what a commit does to the message of the commit that it becomes part of.
type Saying int

// Nothing keeps that message, Adds puts another below it, and Replaces puts another in its place; but where one was
// added in the same chain, that one is put below, too.
const (
	Nothing Saying = iota
	Adds
	Replaces
)

// to returns the message that results from one; added is the chain in which a message was added last, or -1.
func (s Says) to(message string, added *int) string {
	switch {
	case s.Does == Nothing:
		return message
	case s.Does == Replaces && *added != s.Chain:
		return s.Text + "\n"
	}
	*added = s.Chain
	if s.Text == "" {
		return message
	}
	return strings.TrimRight(message, "\n") + "\n\n" + s.Text + "\n"
}

// joins reports whether it joins two lines of the list.
func (t *Todo) joins() bool { return len(t.Onto) > 1 }

// Onwards continues a replay that was begun elsewhere: the commits in order, each onto the one before unless it says
// otherwise. The last one is the tip. It drops commits of which nothing is left, but does not look for changes that
// are there already, because whoever began did. It writes nothing.
func Onwards(ctx context.Context, engine *merge.Engine, todo []Todo, onto object.ID, requests Requests,
	resolve Resolver, progress func(done, of int)) ([]Step, error) {
	r := &replayer{engine: engine, onto: onto, resolve: resolve, mine: map[object.ID]history.Node{},
		at: map[object.ID]int{}}
	r.merges = slices.ContainsFunc(todo, func(t Todo) bool { return t.joins() })
	for i, t := range todo {
		if progress != nil {
			progress(i, len(todo))
		}
		s := Step{Commit: t.Commit, Into: t.Into, Message: t.Message, onto: t.Onto, stands: t.Stands, own: t.Own,
			Says: t.Says}
		if len(s.onto) == 0 {
			s.onto = []Parent{{i - 1, onto}}
		}
		var err error
		request := requests[t.Commit.ID]
		request.Keep = request.Keep || t.Keep
		if r.picking, r.parentOf = t.Theirs, 1; t.Stands {
			s.Outcome, s.after = Clean, snapshot{id: t.Commit.Tree}
		} else if request.Leave && !t.joins() {
			err = r.leave(ctx, &s)
		} else if !t.Tree.IsZero() {
			s.Outcome, s.after = Clean, snapshot{id: t.Tree}
		} else if t.Begun != nil {
			err = r.begun(ctx, &s, t.Begun)
		} else if t.joins() {
			err = r.merge(ctx, &s)
		} else {
			err = r.plain(ctx, &s)
		}
		if err == nil && !t.Stands {
			err = r.edit(ctx, &s, request.Edits)
		}
		if err != nil {
			return nil, fmt.Errorf("replaying %s: %w", t.Commit.ID, err)
		}
		if !t.Stands {
			r.hold(&s, request)
		}
		r.add(s)
	}
	return r.steps, nil
}

// begun replays a commit whose join was begun elsewhere.
func (r *replayer) begun(ctx context.Context, s *Step, b *merge.Begun) error {
	onto, err := r.tree(ctx, s.onto[0])
	if err != nil {
		return err
	}
	s.Outcome = Clean
	if len(s.onto) > 1 {
		one, other := r.commit(s.onto[0]), r.commit(s.onto[1])
		swap, serr := FirstHoldsTheirs(ctx, r.engine.Store, r.onto, one, other)
		if serr != nil {
			return serr
		}
		if swap {
			one, other = other, one
		}
		s.Merge, err = r.joinCommits(ctx, one, other)
	} else {
		s.Merge, err = r.change(ctx, s.Commit, onto)
	}
	if err != nil {
		return err
	}
	b.Narrow(s.Merge)
	joined, err := r.settle(ctx, s, s.Merge)
	if err != nil {
		return err
	}
	tree, err := b.Over(ctx, s.Merge, joined)
	if err != nil {
		return err
	}
	s.after = snapshot{id: tree}
	if tree == onto && !s.Open && len(s.onto) < 2 {
		s.Outcome = Emptied
	}
	return nil
}

// change applies what a commit changes to its new parent.
func (r *replayer) change(ctx context.Context, n history.Node, onto object.ID) (*merge.Result, error) {
	before, err := history.FirstParentTree(ctx, r.engine.Store, n.Commit)
	if err != nil {
		return nil, err
	}
	yours, theirs := n.Tree, onto
	if r.picking {
		yours, theirs = onto, n.Tree
	}
	return r.engine.Trees(ctx, before, yours, theirs)
}
