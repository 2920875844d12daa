package replay

import (
	"context"
	"fmt"
	"slices"

	"dorvik/internal/core/history"
	"dorvik/internal/core/merge"
	"dorvik/internal/core/object"
)

// PickedMergeError says that a commit cannot be picked as it joins lines: it is
// not one change.
type PickedMergeError struct{ Commit history.Node }

func (e *PickedMergeError) Error() string {
	return fmt.Sprintf("the commit %s “%s” joins lines, so it is not one change that could be brought over; pick the commits it joined",
		e.Commit.ID.Short(), e.Commit.Subject())
}

// Pick brings commits (in order) onto a tip. own are the commits of that tip which
// may have made the same changes before. What stands on the tip is yours, and what
// the commits change is theirs. Nothing is written.
func Pick(ctx context.Context, engine *merge.Engine, changes *Changes, commits, own []history.Node, onto object.ID, resolve Resolver, progress func(done, of int)) ([]Step, error) {
	newest := slices.Clone(commits)
	slices.Reverse(newest)
	same, err := changes.Same(ctx, engine, newest, own)
	if err != nil {
		return nil, err
	}
	r := &replayer{ctx: ctx, engine: engine, onto: onto, resolve: resolve, picking: true, mine: map[object.ID]history.Node{}, at: map[object.ID]int{}}
	for i, n := range commits {
		if progress != nil {
			progress(i, len(commits))
		}
		if len(n.Parents) > 1 {
			return nil, &PickedMergeError{n}
		}
		on := parent{i - 1, onto}
		s := Step{Commit: n, onto: []parent{on}}
		if other, is := same[n.ID]; is {
			s.Outcome, s.Same = AlreadyThere, other
			s.Tree, err = r.tree(on)
		} else {
			err = r.plain(&s)
		}
		if err != nil {
			return nil, fmt.Errorf("picking %s: %w", n.ID, err)
		}
		r.add(s)
	}
	return r.steps, nil
}
