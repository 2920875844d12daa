package replay

import (
	"context"
	"fmt"
	"slices"

	"dorvik.dev/dorvik/internal/core/history"
	"dorvik.dev/dorvik/internal/core/merge"
	"dorvik.dev/dorvik/internal/core/object"
)

// PickedMergeError reports that a merge commit cannot be picked without the number of a parent.
type PickedMergeError struct {
	Commit history.Node
	Parent int // the parent that was requested and does not exist; 0 if none was requested
}

func (e *PickedMergeError) Error() string {
	if e.Parent > 0 {
		return fmt.Sprintf("the commit %s “%s” has no parent %d: it has %d", e.Commit.ID.Prefix(12),
			e.Commit.Subject(), e.Parent, len(e.Commit.Parents))
	}
	return fmt.Sprintf("the commit %s “%s” joins lines, so it is not one change that could be brought over; pick the "+
		"commits it joined, or say against which of its parents its change is meant",
		e.Commit.ID.Prefix(12), e.Commit.Subject())
}

// Pick applies commits, in order, to a tip. own are commits of that tip that may have made the same changes before.
// The tip is yours, and what the commits change is theirs. A merge commit is taken as its changes against the given
// parent, counted from 1; 0 refuses merge commits. Pick writes nothing.
func Pick(ctx context.Context, engine *merge.Engine, changes *Changes, commits, own []history.Node, parentOf int,
	onto object.ID, resolve Resolver, progress func(done, of int)) ([]Step, error) {
	newest := slices.Clone(commits)
	slices.Reverse(newest)
	same, err := changes.Same(ctx, engine, newest, own)
	if err != nil {
		return nil, err
	}
	r := &replayer{engine: engine, onto: onto, resolve: resolve, picking: true, parentOf: parentOf,
		mine: map[object.ID]history.Node{}, at: map[object.ID]int{}}
	for i, n := range commits {
		if progress != nil {
			progress(i, len(commits))
		}
		if len(n.Parents) > 1 && (parentOf < 1 || parentOf > len(n.Parents)) {
			return nil, &PickedMergeError{n, parentOf}
		}
		on := Parent{i - 1, onto}
		s := Step{Commit: n, onto: []Parent{on}}
		if err = r.plain(ctx, &s); err != nil {
			return nil, fmt.Errorf("picking %s: %w", n.ID, err)
		}
		// A change that was made before counts as present, unless the tree clearly no longer holds it.
		if other, ok := same[n.ID]; ok && s.Outcome != Clean {
			s = Step{Commit: n, onto: s.onto, Outcome: AlreadyThere, Same: other}
			if s.after, err = r.snapshot(ctx, on); err != nil {
				return nil, fmt.Errorf("picking %s: %w", n.ID, err)
			}
		}
		r.add(s)
	}
	return r.steps, nil
}
