package prove

import (
	"context"
	"slices"

	"dorvik.dev/dorvik/internal/core/object"
	"dorvik.dev/dorvik/internal/plan"
)

// Each is the check result of a rewritten commit. Passed is nil if it was not checked.
type Each struct {
	ID     object.ID
	Passed *bool
}

// EachKnown returns the stored results of the new commits, oldest first.
func (pr *Prover) EachKnown(ctx context.Context, terms *Terms, b plan.Built) (out []Each, err error) {
	env, err := pr.environment(ctx)
	if err != nil {
		return nil, err
	}
	for _, id := range b.Made() {
		one := Each{ID: id}
		if terms != nil {
			tree, err := pr.Planner.Tree(ctx, id)
			if err != nil {
				return nil, err
			}
			if r := pr.ranIn(env, terms.Command, tree); r != nil {
				one.Passed = &r.Passed
			}
		}
		out = append(out, one)
	}
	return out, nil
}

// CheckEach checks the new commits in order until one fails. It reuses stored results and calls told after each.
func (pr *Prover) CheckEach(ctx context.Context, p *plan.Position, terms *Terms, b plan.Built, emit func(string),
	told func([]Each)) ([]Each, error) {
	all, err := pr.EachKnown(ctx, terms, b)
	if err != nil {
		return nil, err
	}
	for i := range all {
		passed, err := pr.checkOne(ctx, p, terms, &all[i], emit)
		if err != nil {
			return all, err
		}
		if told(slices.Clone(all)); !passed {
			break
		}
	}
	return all, nil
}

// FindFailing searches by bisection for a commit that fails while its parent passes. It needs at most ⌈log₂ n⌉ checks
// for n commits.
func (pr *Prover) FindFailing(ctx context.Context, p *plan.Position, terms *Terms, b plan.Built, emit func(string),
	told func([]Each)) ([]Each, error) {
	all, err := pr.EachKnown(ctx, terms, b)
	if err != nil {
		return nil, err
	}
	lo, hi := -1, len(all)-1 // index of a commit that passes or is theirs, and of one that fails
	for i, one := range all {
		if one.Passed != nil && !*one.Passed {
			hi = i
			break
		}
	}
	for i := range max(0, hi) {
		if all[i].Passed != nil {
			lo = i
		}
	}
	for hi-lo > 1 {
		mid := (lo + hi) / 2
		passed, err := pr.checkOne(ctx, p, terms, &all[mid], emit)
		if err != nil {
			return all, err
		}
		if told(slices.Clone(all)); passed {
			lo = mid
		} else {
			hi = mid
		}
	}
	if hi >= 0 && all[hi].Passed == nil { // the check timed out; such a result is not kept
		all[hi].Passed = new(bool)
	}
	return all, nil
}

// checkOne checks one commit unless its result is stored.
func (pr *Prover) checkOne(ctx context.Context, p *plan.Position, terms *Terms, one *Each,
	emit func(string)) (passed bool,
	err error) {
	if one.Passed != nil {
		return *one.Passed, nil
	}
	tree, err := pr.Planner.Tree(ctx, one.ID)
	if err != nil {
		return false, err
	}
	if err := pr.Asker.mayRun(ctx, terms, p, joinedOn(p, tree)); err != nil {
		return false, err
	}
	emit("dorvik: " + one.ID.String())
	at, err := pr.checkout(ctx, "check-each", one.ID, emit)
	if err != nil {
		return false, err
	}
	r, err := pr.runSteps(ctx, p, at, terms.Command, terms.Command.StepsOf(), tree, emit, nil)
	if err != nil {
		return false, err
	}
	if err := at.orUnknown(r, pr.Planner.Short(one.ID)); err != nil {
		return false, err
	}
	one.Passed = &r.Passed
	return r.Passed, nil
}

// FirstFailing returns the first failing commit, or the zero value.
func FirstFailing(all []Each) object.ID {
	for _, e := range all {
		if e.Passed != nil && !*e.Passed {
			return e.ID
		}
	}
	return object.ID{}
}

// WantsEach reports whether dorvik.checkEach is set.
func (pr *Prover) WantsEach(ctx context.Context) (bool, error) {
	return pr.Repo.Flag(ctx, "dorvik.checkEach")
}
