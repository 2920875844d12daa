package prove

import (
	"context"
	"slices"

	"dorvik.dev/dorvik/internal/core/diff"
	"dorvik.dev/dorvik/internal/core/history"
	"dorvik.dev/dorvik/internal/core/merge"
	"dorvik.dev/dorvik/internal/core/object"
	"dorvik.dev/dorvik/internal/core/settle"
	"dorvik.dev/dorvik/internal/plan"
)

// Pair is a commit of yours and one of theirs that break together. A commit is zero if it was not found.
type Pair struct {
	Yours, Theirs history.Node
	Runs          int // number of checks it took
}

// Found reports whether both commits are known.
func (p *Pair) Found() bool { return p.Yours.Commit != nil && p.Theirs.Commit != nil }

// PairOf returns the pair that all certain misfits agree on, without running anything.
func PairOf(list []plan.Misfit) (out Pair) {
	for i := range list {
		m := &list[i]
		if !m.Certain || m.UsedIn.Commit == nil || m.ChangedIn.Commit == nil {
			continue
		}
		one := Pair{Yours: m.UsedIn, Theirs: m.ChangedIn}
		if m.Used.Side == merge.Theirs {
			one.Yours, one.Theirs = one.Theirs, one.Yours
		}
		if out.Found() && (out.Yours.ID != one.Yours.ID || out.Theirs.ID != one.Theirs.ID) {
			return Pair{}
		}
		out = one
	}
	return out
}

// FindPair finds the pair by halving, where yours and theirs pass and the joined code does not: first the earliest
// commit of yours that fails with all of theirs, then the earliest of theirs that fails with that. Each combination is
// joined in memory under the decisions, and checked in a checkout of its own: as many checks as both sides' numbers of
// commits have binary digits, together. Lines that are not straight are not halved. told is told of each run before it.
func (pr *Prover) FindPair(ctx context.Context, p *plan.Position, terms *Terms, told func(run, atMost int)) (out Pair,
	err error) {
	yours, theirs := slices.Clone(p.Divergence.Yours), slices.Clone(p.Divergence.Theirs)
	slices.Reverse(yours)
	slices.Reverse(theirs)
	if !straight(yours) || !straight(theirs) || p.Base().IsZero() {
		return out, nil
	}
	atMost := halvings(len(yours)) + halvings(len(theirs))
	fails := func(i, k int) (bool, error) { // the check with the first i and k commits of the sides
		if i == 0 || k == 0 {
			return false, nil // one side alone passes
		}
		out.Runs++
		told(out.Runs, atMost)
		passed, err := pr.together(ctx, p, terms, yours[i-1], theirs[k-1])
		return !passed, err
	}
	first := func(n int, fails func(i int) (bool, error)) (int, error) {
		lo, hi := 0, n // lo commits pass, hi do not
		for hi-lo > 1 {
			mid := (lo + hi) / 2
			bad, err := fails(mid)
			if err != nil {
				return 0, err
			}
			if bad {
				hi = mid
			} else {
				lo = mid
			}
		}
		return hi, nil
	}
	i, err := first(len(yours), func(i int) (bool, error) { return fails(i, len(theirs)) })
	if err != nil {
		return out, err
	}
	k, err := first(len(theirs), func(k int) (bool, error) { return fails(i, k) })
	if err != nil {
		return out, err
	}
	out.Yours, out.Theirs = yours[i-1], theirs[k-1]
	return out, nil
}

// straight reports whether each commit is the parent of the next.
func straight(list []history.Node) bool {
	for i := 1; i < len(list); i++ {
		if c := list[i].Commit; len(c.Parents) != 1 || c.Parents[0] != list[i-1].ID {
			return false
		}
	}
	return len(list) > 0
}

func halvings(n int) (d int) {
	for ; n > 1; n = (n + 1) / 2 {
		d++
	}
	return d
}

// asMended applies known mends to a tree, so that the search finds something new.
func (pr *Prover) asMended(ctx context.Context, tree object.ID) (object.ID, error) {
	var edits []merge.TextEdit
	for _, w := range pr.Ledger.State().Requests {
		if w.Edits != nil {
			edits = append(edits, w.Edits.List...)
		}
	}
	for _, m := range pr.Ledger.State().Mends {
		edits = append(edits, merge.TextEdit{Path: m.Path, Before: m.Before, After: m.After})
	}
	for _, one := range edits {
		now, ok, err := pr.Planner.TextAt(ctx, tree, one.Path)
		if err != nil {
			return tree, err
		}
		t := merge.Merge3(diff.Lines(one.Before), diff.Lines(one.After), diff.Lines(now))
		if !ok || t.Conflicts() > 0 {
			continue
		}
		e, err := pr.Planner.Store.Find(ctx, tree, one.Path)
		if err != nil {
			return tree, err
		}
		e.ID = pr.Planner.Store.Put(object.KindBlob, []byte(t.Join(nil)))
		if tree, err = pr.Planner.Store.Edit(ctx, tree, map[string]object.Entry{one.Path: e}); err != nil {
			return tree, err
		}
	}
	return tree, nil
}

// together merges two commits and checks the result.
func (pr *Prover) together(ctx context.Context, p *plan.Position, terms *Terms, mine, other history.Node) (bool,
	error) {
	base, err := pr.Planner.Tree(ctx, p.Base())
	if err != nil {
		return false, err
	}
	r, err := pr.Planner.Engine.Trees(ctx, base, mine.Commit.Tree, other.Commit.Tree)
	if err != nil {
		return false, err
	}
	decisions := settle.Decisions{List: pr.Ledger.State().Decisions.List}
	decided, _, err := pr.Planner.Files.Resolve(ctx, r, &decisions)
	if err != nil {
		return false, err
	}
	tree, err := r.Tree(ctx, decided)
	if err != nil {
		return false, err
	}
	if tree, err = pr.asMended(ctx, tree); err != nil {
		return false, err
	}
	if known, err := pr.RanBefore(ctx, terms.Command, tree); err != nil || known != nil {
		return known != nil && known.Passed, err
	}
	if err := pr.Asker.mayRun(ctx, terms, p, on{tree, p.Yours, []object.ID{other.ID}}); err != nil {
		return false, err
	}
	who, err := pr.Repo.Committer(ctx)
	if err != nil {
		return false, err
	}
	tip := pr.Planner.Store.PutCommit(&object.Commit{Tree: tree, Parents: []object.ID{mine.ID, other.ID},
		AuthorLine: who.String(),
		Committer:  who, Message: "a pair\n"})
	at, err := pr.checkout(ctx, "check-pair", tip, func(string) {})
	if err != nil {
		return false, err
	}
	got, err := pr.runSteps(ctx, p, at, terms.Command, terms.Command.StepsOf(), tree, func(string) {}, nil)
	if err != nil {
		return false, err
	}
	return got.Passed, at.orUnknown(got, mine.Subject()+" with "+other.Subject())
}
