package replay

import (
	"context"
	"fmt"

	"dorvik/internal/core/history"
	"dorvik/internal/core/merge"
	"dorvik/internal/core/object"
)

// Outcome is what became of a commit. The names are those of `plan --json`.
type Outcome string

const (
	Clean        Outcome = "clean"
	Conflict     Outcome = "conflict"
	AlreadyThere Outcome = "already-there" // their side made the same change
	Emptied      Outcome = "emptied"       // nothing of it is left after joining
)

// Step is one commit of yours, replayed.
type Step struct {
	Commit  history.Node
	Outcome Outcome
	Same    history.Node  // for AlreadyThere: their commit
	Merge   *merge.Result // nil for AlreadyThere
	Tree    object.ID     // after the step
	Open    bool          // a conflict of it has no decision; Tree holds what stands in for one
}

// Left reports whether the commit is left out of the new line.
func (s *Step) Left() bool { return s.Outcome == AlreadyThere || s.Outcome == Emptied }

// Resolver decides the conflicts of one step. It gives the entries that settle
// them, and whether all of them are settled; the others then have stand-ins.
type Resolver func(r *merge.Result) (entries map[string]object.Entry, all bool, err error)

// MergeCommitError says that a line cannot be replayed as it holds a merge.
type MergeCommitError struct{ Commit history.Node }

func (e *MergeCommitError) Error() string {
	return fmt.Sprintf("your commit %s “%s” is itself a merge, and Dorvik does not replay merges yet; choose merge instead",
		e.Commit.ID.Short(), e.Commit.Subject())
}

// Rebase replays commits (newest first, as history.Diverge gives them) onto the
// tip of theirs. Nothing is written; Commits makes the new commits of the
// outcome. Cost follows what the commits change.
func Rebase(ctx context.Context, engine *merge.Engine, changes *Changes, yours, theirs []history.Node, onto object.ID, resolve Resolver, progress func(done, of int)) ([]Step, error) {
	store := engine.Store
	for _, n := range yours {
		if len(n.Parents) > 1 {
			return nil, &MergeCommitError{n}
		}
	}
	same, err := changes.Same(ctx, yours, theirs)
	if err != nil {
		return nil, err
	}
	tip, err := store.Commit(onto)
	if err != nil {
		return nil, err
	}
	tree := tip.Tree
	steps := make([]Step, 0, len(yours))
	for i := len(yours) - 1; i >= 0; i-- {
		if progress != nil {
			progress(len(steps), len(yours))
		}
		s, err := step(ctx, engine, yours[i], same, tree, resolve)
		if err != nil {
			return nil, fmt.Errorf("replaying %s: %w", yours[i].ID, err)
		}
		tree = s.Tree
		steps = append(steps, s)
	}
	return steps, nil
}

func step(ctx context.Context, engine *merge.Engine, n history.Node, same map[object.ID]history.Node, onto object.ID, resolve Resolver) (Step, error) {
	s := Step{Commit: n, Tree: onto}
	if other, ok := same[n.ID]; ok {
		s.Outcome, s.Same = AlreadyThere, other
		return s, nil
	}
	before, err := history.FirstParentTree(engine.Store, n.Commit)
	if err != nil {
		return s, err
	}
	if s.Merge, err = engine.Trees(ctx, before, n.Tree, onto); err != nil {
		return s, err
	}
	var settled map[string]object.Entry
	if !s.Merge.Clean() {
		var all bool
		if settled, all, err = resolve(s.Merge); err != nil {
			return s, err
		}
		s.Open = !all
	}
	if s.Tree, err = s.Merge.Tree(settled); err != nil {
		return s, err
	}
	switch {
	case s.Tree == onto && n.Tree != before && !s.Open:
		s.Outcome = Emptied // one that started empty is kept as it was
	case !s.Merge.Clean():
		s.Outcome = Conflict
	default:
		s.Outcome = Clean
	}
	return s, nil
}

// Commits makes the new commits of a replayed line on top of onto and gives
// their ids beside the steps (zero for those left out), and the new tip. The
// author, message, encoding and other headers of each are kept; signatures are
// not, as they vouch for the old content. A commit that already stands on its
// new parent unchanged keeps its id. last, unless zero, replaces the tree of
// the last commit that is kept.
func Commits(store *object.Overlay, steps []Step, onto object.ID, committer object.Signature, last object.ID) (ids []object.ID, tip object.ID, err error) {
	ids = make([]object.ID, len(steps))
	tip = onto
	final := -1
	for i := range steps {
		if !steps[i].Left() {
			final = i
		}
	}
	if final < 0 && !last.IsZero() {
		return nil, tip, fmt.Errorf("no commit of yours is left to hold the mend")
	}
	for i := range steps {
		s := &steps[i]
		if s.Left() {
			continue
		}
		tree := s.Tree
		if i == final && !last.IsZero() {
			tree = last
		}
		old := s.Commit
		if len(old.Parents) == 1 && old.Parents[0] == tip && old.Tree == tree {
			tip = old.ID
		} else {
			c := *old.Commit
			c.Tree, c.Parents, c.Committer = tree, []object.ID{tip}, committer
			c.Extra = nil
			for _, h := range old.Extra {
				if h.Key != "gpgsig" && h.Key != "gpgsig-sha256" && h.Key != "mergetag" {
					c.Extra = append(c.Extra, h)
				}
			}
			tip = store.PutCommit(&c)
		}
		ids[i] = tip
	}
	return ids, tip, nil
}
