package prove

import (
	"context"
	"errors"
	"runtime"
	"sync"

	"dorvik.dev/dorvik/internal/check"
	"dorvik.dev/dorvik/internal/core/merge"
	"dorvik.dev/dorvik/internal/core/object"
	"dorvik.dev/dorvik/internal/ledger"
	"dorvik.dev/dorvik/internal/plan"
	"dorvik.dev/dorvik/internal/words"
)

// Builds tells which of base, yours, theirs and the result pass the check. nil means not known.
type Builds struct {
	merge.Three[*bool]
	Joined *bool
	Unrun  []string // sentences about checks that were not run
}

// Verdict explains whose change breaks the build. It is empty if that is not known or the result passes.
func (b *Builds) Verdict() string {
	is := func(p *bool, want bool) bool { return p != nil && *p == want }
	switch {
	case !is(b.Joined, false):
		return ""
	case is(b.Yours, true) && is(b.Theirs, true):
		return "Yours builds, theirs builds, together they do not."
	case is(b.Base, false) && is(b.Yours, false) && is(b.Theirs, false):
		return "The common ancestor fails, too: the cause is older, or the command is wrong."
	case is(b.Theirs, false) && is(b.Yours, true):
		return "Theirs did not build before you came."
	case is(b.Yours, false) && is(b.Theirs, true):
		return "Yours fails alone."
	case is(b.Yours, false) && is(b.Theirs, false):
		return "Yours fails alone, and so does theirs."
	}
	return ""
}

// RanBefore returns the stored result of a check, or nil.
func (pr *Prover) RanBefore(ctx context.Context, c check.Command, tree object.ID) (*check.Report, error) {
	env, err := pr.environment(ctx)
	if err != nil {
		return nil, err
	}
	return pr.ranIn(env, c, tree), nil
}

// ranIn is RanBefore for a known environment.
func (pr *Prover) ranIn(env []string, c check.Command, tree object.ID) *check.Report {
	r, ok := pr.Ledger.Store.RanBefore(ledger.KeyOfCheck(tree, c.Line(), env))
	if !ok {
		return nil
	}
	return &check.Report{Passed: r.Passed, Took: r.Took}
}

// WhoBuilds checks the base, yours and theirs by the command that the joined tree was checked by, each in a checkout of
// its own, as many at once as there are processors. What was checked before is not checked again. told is given each
// outcome as it comes, one call at a time. One is left out where others changed what the command can run there, and
// that was not agreed to: Unrun says so.
func (pr *Prover) WhoBuilds(ctx context.Context, p *plan.Position, terms *Terms, told func(Builds)) (out Builds,
	err error) {
	var mu sync.Mutex
	say := func(set func(*Builds)) {
		mu.Lock()
		defer mu.Unlock()
		set(&out)
		told(out)
	}
	failed := false
	say(func(b *Builds) { b.Joined = &failed })
	type one struct {
		name   string
		commit object.ID
		to     func(*Builds) **bool
	}
	var wait sync.WaitGroup
	room := make(chan struct{}, max(1, runtime.NumCPU()))
	var errs []error
	for _, o := range []one{
		{"yours", p.Yours, func(b *Builds) **bool { return &b.Yours }},
		{"theirs", p.Theirs, func(b *Builds) **bool { return &b.Theirs }},
		{"base", p.Base(), func(b *Builds) **bool { return &b.Base }},
	} {
		if o.commit.IsZero() {
			continue
		}
		wait.Go(func() {
			room <- struct{}{}
			defer func() { <-room }()
			passed, err := pr.builds(ctx, p, terms, o.name, o.commit)
			var unagreed *UnagreedError
			if errors.As(err, &unagreed) {
				say(func(b *Builds) {
					b.Unrun = append(b.Unrun, words.Sentence(o.name+" was not run: the command can run what others "+
						"changed, which you did not agree to: "+unagreed.Terms.changed()))
				})
				return
			}
			if err != nil {
				mu.Lock()
				defer mu.Unlock()
				errs = append(errs, err)
				return
			}
			say(func(b *Builds) { *o.to(b) = passed })
		})
	}
	wait.Wait()
	if len(errs) > 0 {
		return out, errs[0]
	}
	return out, nil
}

// builds checks one commit. The error is an *UnagreedError if the command would run unseen changes of others.
func (pr *Prover) builds(ctx context.Context, p *plan.Position, terms *Terms, name string, commit object.ID) (*bool,
	error) {
	tree, err := pr.Planner.Tree(ctx, commit)
	if err != nil {
		return nil, err
	}
	if known, err := pr.RanBefore(ctx, terms.Command, tree); err != nil || known != nil {
		if err != nil {
			return nil, err
		}
		return &known.Passed, nil
	}
	if err := pr.Asker.mayRun(ctx, terms, p, on{tree, p.Yours, []object.ID{commit}}); err != nil {
		return nil, err
	}
	co, err := pr.Repo.OpenCheckout(ctx, "check-"+name, commit)
	if err != nil {
		return nil, err
	}
	at, err := pr.furnish(ctx, co, tree, func(string) {})
	if err != nil {
		return nil, err
	}
	r, err := pr.runSteps(ctx, p, at, terms.Command, terms.Command.StepsOf(), tree, func(string) {}, nil)
	if err != nil || !r.Passed && !at.blames() {
		return nil, err // a failure of the checkout says nothing about the code
	}
	return &r.Passed, nil
}
