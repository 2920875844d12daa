package replay

import (
	"context"
	"slices"
	"strings"

	"dorvik.dev/dorvik/internal/core/diff"
	"dorvik.dev/dorvik/internal/core/history"
	"dorvik.dev/dorvik/internal/core/merge"
	"dorvik.dev/dorvik/internal/core/object"
)

// merge replays a merge commit: it joins the present versions of its two lines again. If only the first line contains
// theirs, it is theirs in this join and the side line is yours, so sides never swap. Decisions of the merge apply
// again where the same is contested. What the merge changed beyond joining, found by joining the old lines once more,
// is applied too. A merge that only caught up with theirs is dropped unless it changed something itself.
func (r *replayer) merge(ctx context.Context, s *Step) error {
	n := s.Commit
	if len(n.Parents) > 2 {
		return &MergeCommitError{n}
	}
	s.Outcome = Clean
	was := [2]object.ID{n.Parents[0], n.Parents[1]}
	now := [2]object.ID{r.commit(s.onto[0]), r.commit(s.onto[1])}
	caughtUp, err := history.IsAncestor(ctx, r.engine.Store, now[1], now[0])
	if err != nil {
		return err
	}
	swap, err := FirstHoldsTheirs(ctx, r.engine.Store, r.onto, now[0], now[1])
	if err != nil {
		return err
	}
	if swap {
		was[0], was[1], now[0], now[1] = was[1], was[0], now[1], now[0]
	}
	before, err := r.joinCommits(ctx, was[0], was[1])
	if err != nil {
		return err
	}
	first, err := r.tree(ctx, s.onto[0])
	if err != nil {
		return err
	}
	fresh := first
	if caughtUp {
		s.onto = s.onto[:1]
	} else if fresh, err = r.joinAnew(ctx, s, before, now); err != nil {
		return err
	}
	// Join the merge's parents again, with conflicts settled as the merge has them. Whatever still differs from the
	// merge is the merge's own change. If nothing is joined any longer, decisions within texts are its own change, too.
	settled, err := r.contested(ctx, before, n.Tree, first, caughtUp)
	if err != nil {
		return err
	}
	joint, err := before.Tree(ctx, merge.Decided{Entries: settled})
	if err != nil {
		return err
	}
	if joint != n.Tree {
		if s.Own, err = r.engine.Trees(ctx, joint, n.Tree, fresh); err != nil {
			return err
		}
		if fresh, err = r.settle(ctx, s, s.Own); err != nil {
			return err
		}
	}
	s.after = snapshot{id: fresh}
	if caughtUp && fresh == first && !s.Open {
		s.Outcome = Emptied
	}
	return nil
}

// joinAnew joins the present versions of the two lines, yours first, with the merge's decisions.
func (r *replayer) joinAnew(ctx context.Context, s *Step, before *merge.Result, now [2]object.ID) (tree object.ID,
	err error) {
	if s.Merge, err = r.joinCommits(ctx, now[0], now[1]); err != nil {
		return tree, err
	}
	if err := r.decideAsBefore(ctx, before, s.Commit.Tree, s.Merge); err != nil {
		return tree, err
	}
	return r.settle(ctx, s, s.Merge)
}

// contested returns the contested part of a join as the merge has it. If the merge's line is part of the other by now,
// decisions in a text are replaced by what the first line has there.
func (r *replayer) contested(ctx context.Context, before *merge.Result, has, first object.ID,
	caughtUp bool) (map[string]object.Entry,
	error) {
	settled := map[string]object.Entry{}
	for _, c := range before.Conflicts {
		for _, p := range c.Paths() {
			e, err := r.engine.Store.Find(ctx, has, p)
			if err != nil {
				return nil, err
			}
			settled[p] = e
		}
		if lines, ok := c.Subject.(*merge.Lines); ok && caughtUp {
			if err := r.asItStands(ctx, settled, c.Path, lines.Text, first); err != nil {
				return nil, err
			}
		}
	}
	return settled, nil
}

// FirstHoldsTheirs reports whether the first of two lines contains theirs and the second does not, so that the second
// is yours. The error is that of reading a commit.
func FirstHoldsTheirs(ctx context.Context, store *object.Overlay, theirs, first, second object.ID) (bool, error) {
	one, err := history.IsAncestor(ctx, store, theirs, first)
	if err != nil || !one {
		return false, err
	}
	other, err := history.IsAncestor(ctx, store, theirs, second)
	return !other, err
}

// asItStands settles a text that a merge decided with the present content of the contested places, yours or theirs.
// The merge's decision is then a change to that, which is applied afterwards.
func (r *replayer) asItStands(ctx context.Context, settled map[string]object.Entry, path string, t *merge.Text,
	tree object.ID) error {
	e := settled[path]
	is, err := r.engine.Store.Find(ctx, tree, path)
	if err != nil || !e.Mode.IsRegular() || !is.Mode.IsRegular() {
		return err
	}
	data, err := r.engine.Store.Blob(ctx, is.ID)
	if err != nil {
		return err
	}
	now := string(data)
	text := t.Join(func(_ int, h merge.Hunk) string {
		yours, theirs := strings.Join(t.Yours[h.Yours.Lo:h.Yours.Hi], ""),
			strings.Join(t.Theirs[h.Theirs.Lo:h.Theirs.Hi], "")
		if theirs != "" && strings.Contains(now, theirs) && (yours == "" || !strings.Contains(now, yours)) {
			return theirs
		}
		return yours
	})
	e.ID = r.engine.Store.Put(object.KindBlob, []byte(text))
	settled[path] = e
	return nil
}

// joinCommits joins two commits of any history.
func (r *replayer) joinCommits(ctx context.Context, a, b object.ID) (*merge.Result, error) {
	parted, err := history.Diverge(ctx, r.engine.Store, a, b)
	if err != nil {
		return nil, err
	}
	var trees [2]object.ID
	for i, id := range []object.ID{a, b} {
		c, err := r.engine.Store.Commit(ctx, id)
		if err != nil {
			return nil, err
		}
		trees[i] = c.Tree
	}
	return r.engine.TreesOver(ctx, parted.Bases, trees[0], trees[1])
}

// decideAsBefore settles those conflicts of a new join that the old merge settled: conflicts about the same entries,
// and places in texts with the same contested lines.
func (r *replayer) decideAsBefore(ctx context.Context, before *merge.Result, decided object.ID,
	now *merge.Result) error {
	old := map[string]merge.Subject{}
	names := map[string]bool{} // paths in conflicts about names: the merge does not show what was decided
	for _, list := range [][]merge.Conflict{before.Conflicts, now.Conflicts} {
		for _, c := range list {
			if _, ok := c.Subject.(*merge.Naming); ok {
				for _, p := range c.Paths() {
					names[p] = true
				}
			}
		}
	}
	for _, c := range before.Conflicts {
		old[c.Path] = c.Subject
	}
	for _, c := range slices.Clone(now.Conflicts) {
		was, ok := old[c.Path]
		if !ok || names[c.Path] {
			continue
		}
		entry, err := r.engine.Store.Find(ctx, decided, c.Path)
		if err != nil {
			return err
		}
		if same(was, c.Subject) {
			now.Decide(c.Path, entry)
			continue
		}
		wasText, is := was.(*merge.Lines)
		text, still := c.Subject.(*merge.Lines)
		if !is || !still || !entry.Mode.IsRegular() || text.Modes {
			continue
		}
		data, err := r.engine.Store.Blob(ctx, entry.ID)
		if err != nil {
			return err
		}
		joined := merge.Merge3(diff.Lines(wasText.Text.Undecided()), diff.Lines(string(data)),
			diff.Lines(text.Text.Undecided()))
		held := joined.Join(func(int, merge.Hunk) string { return merge.OneAncestor })
		if !strings.Contains(held, merge.OneAncestor) {
			now.Decide(c.Path, object.Entry{Mode: text.Mode, ID: r.engine.Store.Put(object.KindBlob, []byte(held))})
		}
	}
	return nil
}

// same reports whether two conflicts are about the same versions.
func same(a, b merge.Subject) bool {
	ab, ay, at := a.Sides()
	bb, by, bt := b.Sides()
	return ab.Same(bb) && ay.Same(by) && at.Same(bt)
}
