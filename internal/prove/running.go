package prove

import (
	"context"
	"errors"
	"fmt"
	"path"
	"slices"
	"strconv"
	"time"

	"dorvik.dev/dorvik/internal/check"
	"dorvik.dev/dorvik/internal/core/object"
	"dorvik.dev/dorvik/internal/ledger"
	"dorvik.dev/dorvik/internal/plan"
)

// limits restricts a check. Zero means no limit.
type limits struct {
	time   time.Duration // dorvik.checkTime: minutes, or a number with a unit
	memory int           // dorvik.checkMemory, in MB of address space for each process
}

func (pr *Prover) limits(ctx context.Context) (l limits, err error) {
	if l.time, err = pr.Repo.Duration(ctx, "dorvik.checkTime"); err != nil {
		return l, err
	}
	said, err := pr.Repo.Config(ctx, "dorvik.checkMemory")
	if err != nil || said == "" {
		return l, err
	}
	if l.memory, err = strconv.Atoi(said); err != nil || l.memory < 0 {
		return l, errors.New("dorvik.checkMemory is " + said + ", which is no number of megabytes")
	}
	return l, nil
}

// begun is called when a step starts.
type begun = func(steps []check.Step, at int)

// runSteps runs the steps of a check in a checkout and stores the result if it is about the code. A step that exceeds
// the time limit fails. What the output says is not installed is added to what the checkout lacks.
func (pr *Prover) runSteps(ctx context.Context, p *plan.Position, at *LaidOut, c check.Command, steps []check.Step,
	tree object.ID,
	emit func(string), told begun) (r check.Report, err error) {
	env, err := pr.environment(ctx)
	if err != nil {
		return r, err
	}
	l, err := pr.limits(ctx)
	if err != nil {
		return r, err
	}
	within, stop := ctx, func() {}
	if l.time > 0 {
		within, stop = context.WithTimeout(ctx, l.time)
	}
	defer stop()
	run := check.RunSteps
	if l.memory > 0 {
		run = limited(l.memory)
	}
	given := steps
	steps, first := installOnce(at.In.Dir, given)
	var output []string // of the step that ran last
	r, err = run(within, at.In.Dir, steps, env, func(l string) {
		if len(output) < mostOutput {
			output = append(output, l)
		}
		emit(l)
	}, func(steps []check.Step, which int) {
		output = nil
		if told != nil {
			told(steps, which)
		}
	})
	remember(first, r.Steps)
	if err != nil && ctx.Err() == nil && errors.Is(err, context.DeadlineExceeded) {
		emit(fmt.Sprintf("dorvik: it took longer than %v and was ended (dorvik.checkTime)", l.time))
		r.Passed, r.Exit = false, -1
		return r, nil // do not keep it: the next run may be faster
	}
	if err != nil {
		return r, err
	}
	if !r.Passed {
		if err := pr.seeMissing(ctx, p, at, tree, r, output); err != nil || !at.blames() {
			forget(at.In.Dir, given)
			return r, err // a failure of the checkout says nothing about the code
		}
	}
	return r, pr.Ledger.Store.PutRan(ledger.KeyOfCheck(tree, c.Line(), env),
		ledger.Ran{Passed: r.Passed, Took: r.Took, When: time.Now()})
}

// limited returns check.RunSteps with a limit of the address space of each process, in MB.
func limited(memory int) func(ctx context.Context, dir string, steps []check.Step, env []string, emit func(string),
	told begun) (check.Report, error) {
	return func(ctx context.Context, dir string, steps []check.Step, env []string, emit func(string), told begun) (
		check.Report, error) {
		within := slices.Clone(steps)
		for i := range within {
			within[i].Line = fmt.Sprintf("ulimit -v %d\n%s", memory<<10, within[i].Line)
		}
		asGiven := func(list []check.Step) {
			for i := range list {
				list[i].Line = steps[i].Line
			}
		}
		var tell begun
		if told != nil {
			tell = func(list []check.Step, at int) {
				asGiven(list)
				told(list, at)
			}
		}
		r, err := check.RunSteps(ctx, dir, within, env, emit, tell)
		asGiven(r.Steps)
		return r, err
	}
}

// mostOutput limits the number of output lines that are examined.
const mostOutput = 100_000

// lastRun is the last check that used a checkout.
type lastRun struct {
	tree   object.ID
	steps  []check.Step
	output []string // output of the failed step
}

// failed reports whether the check failed in a step.
func (l *lastRun) failed(line string) bool {
	for i, one := range l.steps {
		if one.Ran && !one.Passed { // a partial run, or a whole step
			for i < len(l.steps)-1 && l.steps[i].First != "" {
				i++
			}
			return l.steps[i].Line == line
		}
	}
	return false
}

// passed reports whether a step passed on the same tree.
func (l *lastRun) passed(line string, tree object.ID) bool {
	return l.tree == tree && slices.ContainsFunc(l.steps, func(one check.Step) bool {
		return one.Line == line && one.Passed && one.First == ""
	})
}

// stepsFor returns the steps to run. It skips steps that passed on this tree, and runs tests first that failed before
// or where both sides' changes meet.
func (pr *Prover) stepsFor(ctx context.Context, p *plan.Position, dir string, c check.Command, tree object.ID) (
	out []check.Step, err error) {
	for _, one := range c.StepsOf() {
		narrow, why := "", ""
		switch {
		case pr.last.failed(one.Line):
			if only, ok := check.OnlyFailed(one.Line, pr.last.output); ok {
				narrow, why = only, check.FailedBefore
			}
		case pr.last.passed(one.Line, tree) && slices.ContainsFunc(pr.last.steps, func(of check.Step) bool {
			return of.Ran && !of.Passed
		}):
			one.Known = check.PassedBefore
		default:
			if narrow, err = pr.whereMeet(ctx, p, dir, one.Line, tree); err != nil {
				return nil, err
			}
			why = check.WhereMeet
		}
		if narrow != "" {
			out = append(out, check.Step{Line: narrow, First: why})
		}
		out = append(out, one)
	}
	return out, nil
}

// fewPackages is the number of packages below which all tests run at once.
const fewPackages = 4

// whereMeet restricts go test to packages with changes of both sides. It returns an empty string if that is not
// possible or saves little.
func (pr *Prover) whereMeet(ctx context.Context, p *plan.Position, dir, step string, tree object.ID) (string, error) {
	if _, ok := check.OfPackages(step, []string{"."}); !ok || p == nil || p.Trivial() != plan.NotTrivial ||
		p.IsPick() ||
		p.Resumes() != nil {
		return "", nil
	}
	all, err := pr.Planner.Store.Changes(ctx, object.ID{}, tree)
	if err != nil {
		return "", err
	}
	folders := map[string]bool{}
	for _, f := range all {
		if path.Ext(f.Path) == ".go" {
			folders[path.Dir(f.Path)] = true
		}
	}
	if len(folders) < fewPackages {
		return "", nil
	}
	var sides [2][]string // commits that only one side has
	for i, commit := range []object.ID{p.Theirs, p.Yours} {
		from, err := pr.Planner.Tree(ctx, commit)
		if err != nil {
			return "", err
		}
		if err := pr.Planner.Store.EachChange(ctx, from, tree, func(c object.Change) {
			sides[i] = append(sides[i],
				c.Path)
		}); err != nil {
			return "", err
		}
	}
	env, err := pr.environment(ctx)
	if err != nil {
		return "", err
	}
	var list []string
	r, err := check.Run(ctx, dir, check.ListPackages, env, func(l string) { list = append(list, l) })
	if err != nil || !r.Passed {
		return "", err
	}
	packages, of := check.Meeting(list, dir, sides[0], sides[1])
	if 2*len(packages) > of {
		return "", nil
	}
	narrow, _ := check.OfPackages(step, packages)
	return narrow, nil
}
