package prove

import (
	"context"
	"fmt"
	"strings"
	"unicode"

	"dorvik.dev/dorvik/internal/check"
	"dorvik.dev/dorvik/internal/core/diagnose"
	"dorvik.dev/dorvik/internal/core/misfit"
	"dorvik.dev/dorvik/internal/core/object"
	"dorvik.dev/dorvik/internal/ledger"
	"dorvik.dev/dorvik/internal/plan"
)

// Unchecked is a joined result with the way to check it.
type Unchecked struct {
	Built        plan.Built
	Terms        *Terms // the check and its consent; nil if no check was found
	Agreed       bool   // the check may run
	Misfits      []plan.Misfit
	Holds        []plan.Holding // the mends, and the commit each belongs to
	Mends        []misfit.Mend  // the certain ones of them
	MayHold      []int          // rebase steps that could hold all of them
	Regeneration bool           // files must be regenerated before the check
	ToMake       []*Terms       // commands that regenerate them
	MayMake      bool           // the commands have consent
	Passed       *check.Report  // a passed run on the same tree; nil if none
	Each         []Each         // known results of the new commits
	// WantsEach is set if every commit must be checked.
	WantsEach bool
	State     ledger.State
}

// ToCheck builds the joined commits in memory and determines how to check them.
func (pr *Prover) ToCheck(ctx context.Context, p *plan.Position, j *plan.Join) (*Unchecked, error) {
	u := &Unchecked{}
	var err error
	if u.Built, err = pr.Planner.Build(ctx, p, j); err != nil {
		return nil, err
	}
	if err := pr.Planner.TellApart(ctx, append([]object.ID{u.Built.Tip}, u.Built.Made()...)); err != nil {
		return nil, err
	}
	if u.Terms, u.Agreed, err = pr.MayCheck(ctx, p, j.Tree); err != nil {
		return nil, err
	}
	if u.Misfits, err = pr.Planner.Foresight.Misfits(ctx, p, j); err != nil {
		return nil, err
	}
	if u.Mends, err = pr.Planner.Foresight.MendsOf(ctx, p, j, u.Misfits); err != nil {
		return nil, err
	}
	if u.Holds, err = pr.Planner.Foresight.Holdings(ctx, j, u.Mends, u.Misfits); err != nil {
		return nil, err
	}
	if u.MayHold, err = pr.Planner.Foresight.MayHold(ctx, j, u.Holds); err != nil {
		return nil, err
	}
	u.Regeneration = len(j.Unmade()) > 0
	if u.ToMake, u.MayMake, err = pr.ToMake(ctx, p, j); err != nil {
		return nil, err
	}
	if u.Each, err = pr.EachKnown(ctx, u.Terms, u.Built); err != nil {
		return nil, err
	}
	if u.WantsEach, err = pr.WantsEach(ctx); err != nil {
		return nil, err
	}
	if u.Terms != nil {
		known, err := pr.RanBefore(ctx, u.Terms.Command, j.Tree)
		if err != nil {
			return nil, err
		}
		if known != nil && known.Passed {
			u.Passed = known
			if err := pr.passedBefore(j.Tree, u.Terms.Command, known); err != nil {
				return nil, err
			}
		}
	}
	err = pr.Ledger.Reach(ledger.Check)
	u.State = pr.Ledger.State()
	return u, err
}

// passedBefore records a stored success.
func (pr *Prover) passedBefore(tree object.ID, c check.Command, r *check.Report) error {
	return pr.Ledger.KeepCheck(ledger.Checked{Tree: tree, Command: c.Line(), Passed: true, Took: r.Took}, false)
}

// Proof is the result of a check with the places that failed.
type Proof struct {
	Result check.Report
	Places []diagnose.Place
	Texts  map[string][]plan.Line // texts of the files with findings
	Lacks  []string               // what the checkout lacked, as clauses
	// Install is the project's command that installs missing dependencies; or empty.
	Install   string
	Unchecked string // why nothing was checked, as a sentence; or empty
	State     ledger.State

	WantsEach bool
}

// Blames reports whether the failure is about the code. It is not if the command is missing or the checkout is
// incomplete.
func (p *Proof) Blames() bool { return p.Unchecked == "" && len(p.Lacks) == 0 }

// Prove runs a check. Calling it records the agreement to its terms. each receives the output, told the steps.
func (pr *Prover) Prove(ctx context.Context, p *plan.Position, terms *Terms, tip object.ID, each func(string),
	told begun) (*Proof, error) {
	tree, err := pr.Planner.Tree(ctx, tip)
	if err != nil {
		return nil, err
	}
	if terms.Tree != tree { // the person agreed to another tree
		return nil, fmt.Errorf("the check “%s” was agreed to for another joined result; look at it again",
			terms.Command.Line())
	}
	if err := pr.Asker.AgreeTo(terms); err != nil {
		return nil, err
	}
	var all []string
	r, at, err := pr.RunCheck(ctx, p, terms.Command, tip, func(l string) {
		if len(all) < mostOutput { // keep the beginning: it has the first cause
			all = append(all, l)
		}
		each(l)
	}, told)
	if err != nil {
		return nil, err
	}
	out := &Proof{Result: r, State: pr.Ledger.State(), Texts: map[string][]plan.Line{}}
	if out.WantsEach, err = pr.WantsEach(ctx); err != nil {
		return nil, err
	}
	if r.Passed {
		return out, nil
	}
	out.Lacks, out.Install, out.Unchecked = at.Lacks, at.install, at.Unchecked
	if err := pr.tellLeft(ctx, all, each); err != nil {
		return nil, err
	}
	if out.Places, _, err = plan.Extra(ctx, pr.Planner.Extras, "where the check's output says it failed", func(
		context.Context) ([]diagnose.Place, error) {
		return pr.Planner.Diagnose(ctx, tree, all, at.In.Dir)
	}); err != nil {
		return nil, err
	}
	for _, at := range out.Places {
		if out.Texts[at.Path] == nil {
			if out.Texts[at.Path], _, err = pr.Planner.Lines(ctx, p, tree, at.Path); err != nil {
				return nil, err
			}
		}
	}
	return out, nil
}

// tellLeft reports variables that the output mentions and that were removed from the environment.
func (pr *Prover) tellLeft(ctx context.Context, output []string, each func(string)) error {
	_, left, err := pr.environments(ctx)
	if err != nil {
		return err
	}
	of := map[string]bool{}
	for _, name := range left {
		of[name] = true
	}
	for _, l := range output {
		for word := range strings.FieldsFuncSeq(l, func(r rune) bool {
			return r != '_' && !unicode.IsLetter(r) && !unicode.IsDigit(r)
		}) {
			if of[word] {
				delete(of, word)
				each("dorvik: " + word + " is set for you and was not given to the check; name it in " +
					pr.Repo.Dialect().SetEverywhere("checkEnv"))
			}
		}
	}
	return nil
}
