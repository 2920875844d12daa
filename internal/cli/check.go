package cli

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"unicode"

	"github.com/spf13/cobra"

	"dorvik.dev/dorvik/internal/check"
	"dorvik.dev/dorvik/internal/core/diagnose"
	"dorvik.dev/dorvik/internal/core/misfit"
	"dorvik.dev/dorvik/internal/core/object"
	"dorvik.dev/dorvik/internal/plan"
	"dorvik.dev/dorvik/internal/prove"
	"dorvik.dev/dorvik/internal/recovery"
	"dorvik.dev/dorvik/internal/visible"
	"dorvik.dev/dorvik/internal/words"
)

// checkedJSON is the output of check.
type checkedJSON struct {
	Version int    `json:"version"`
	Result  string `json:"result"` // passed, failed, not-agreed, conflicts or none
	Command string `json:"command"`
	Agree   string `json:"agree"` // identifies what runs, for --agree
	*provedJSON
	Misfits     []misfitJSON `json:"misfits"`
	NotLookedAt []string     `json:"not_looked_at,omitempty"` // what could not be looked at, as sentences
	Error       string       `json:"error,omitempty"`
}

// provedJSON is the result of the check of a join.
type provedJSON struct {
	Steps        []stepRan   `json:"steps"`
	Builds       buildsJSON  `json:"builds"`
	Verdict      string      `json:"verdict"`
	Errors       []placeJSON `json:"errors"`
	Pair         *pairJSON   `json:"pair"`
	Mends        []mendJSON  `json:"mends"`
	FirstFailing *object.ID  `json:"first_failing"`       // the first commit of yours, by its old id, that fails
	Lacks        []string    `json:"lacks,omitempty"`     // what was missing in the checkout
	Install      string      `json:"install,omitempty"`   // the project's command that installs it
	Unchecked    string      `json:"unchecked,omitempty"` // why nothing was checked
}

type stepRan struct {
	Command string  `json:"command"`
	First   string  `json:"first,omitempty"` // why part of the next step runs first
	Passed  *bool   `json:"passed"`          // null if it was not run
	Seconds float64 `json:"seconds"`
}

type buildsJSON struct {
	Base   *bool `json:"base"`
	Yours  *bool `json:"yours"`
	Theirs *bool `json:"theirs"`
	Joined *bool `json:"joined"`
}

type placeJSON struct {
	Path   string `json:"path"`
	Line   int    `json:"line"`
	Column int    `json:"column"`
	Text   string `json:"text"`

	Settled *settledJSON `json:"settled,omitempty"` // the decision it comes from
	Missing string       `json:"missing,omitempty"` // a name that the decision left out
}

// pairJSON is two commits that do not work together.
type pairJSON struct {
	Yours  *object.ID `json:"yours"`
	Theirs *object.ID `json:"theirs"`
}

type mendJSON struct {
	Path    string `json:"path"`
	Why     string `json:"why"`
	Certain bool   `json:"certain"`
	Diff    string `json:"diff"` // removed lines after a minus, and added lines after a plus
}

// checking holds the flags of check.
type checking struct {
	each, mend bool
	agree      string
	line       string
}

// asShown is the value of --agree without a hash.
const asShown = "as shown"

func checkCommand(e *env) *cobra.Command {
	var f checking
	cmd := &cobra.Command{
		Use: "check [-- COMMAND…]", Short: "Run the check on the joined result, and say who builds",
		Long: `Joins in memory by the route that was taken or is suggested, under the decisions
that were made, and runs the project's check on the result in a checkout of its
own. Where that fails, base, yours and theirs are checked, too. Nothing is fetched,
and neither branch nor files are touched.

A check runs only if it was agreed to as it reads now. --agree agrees to what is
shown, or with a hash to just that; a command after -- is agreed to by being named.

Exit code 0 says that it passes, 4 that it does not, 3 that a decision or an
agreement is missing.`,
		Example: `  dorvik check --json
  dorvik check --each -- make test
  dorvik check --mend --agree=8c1f0e5a…`,
	}
	cmd.Flags().BoolVar(&f.each, "each", false, "check every replayed commit, in order")
	cmd.Flags().BoolVar(&f.mend, "mend", false, "take the mends that are certain first")
	cmd.Flags().StringVar(&f.agree, "agree", "", "agree to what is shown to run or, with `HASH`, to just that")
	cmd.Flags().Lookup("agree").NoOptDefVal = asShown
	cmd.RunE = func(cmd *cobra.Command, args []string) error {
		if dash := cmd.ArgsLenAtDash(); len(args) > 0 && dash != 0 {
			return usage{fmt.Errorf("the check command comes after --; unexpected argument %q", args[0])}
		}
		f.line = shellLine(args)
		s, err := e.session(cmd.Context())
		if err != nil {
			return err
		}
		defer s.Close()
		c := &checker{prover: newProver(e, s, f.mend), checking: f}
		c.out = checkedJSON{Version: 1, Result: "failed", provedJSON: c.proved, Misfits: []misfitJSON{}}
		err = c.all(cmd.Context())
		if e.json {
			var known exit
			if err != nil && !errors.As(err, &known) {
				c.out.Error = visible.Lines(answered(err))
			}
			c.out.NotLookedAt = e.notLookedAt()
			err = errors.Join(err, e.print(c.out))
		}
		return err
	}
	return e.jsonFlag(cmd)
}

// shellLine returns a shell line from arguments: one is a line already; several are words.
func shellLine(args []string) string {
	if len(args) == 1 {
		return args[0]
	}
	quoted := make([]string, len(args))
	for i, a := range args {
		quoted[i] = a
		if a == "" || strings.ContainsFunc(a, func(r rune) bool {
			return !strings.ContainsRune("-_./=:,@%+", r) && !unicode.IsLetter(r) && !unicode.IsDigit(r)
		}) {
			quoted[i] = "'" + strings.ReplaceAll(a, "'", `'\''`) + "'"
		}
	}
	return strings.Join(quoted, " ")
}

// prover checks joined results and reports them.
type prover struct {
	*env
	s       *recovery.Session
	mending bool // apply the certain mends first
	unfit   []plan.Misfit
	misfits []misfitJSON // as found, before any mend
	proved  *provedJSON
}

func newProver(e *env, s *recovery.Session, mending bool) *prover {
	return &prover{env: e, s: s, mending: mending, misfits: []misfitJSON{},
		proved: &provedJSON{Steps: []stepRan{}, Errors: []placeJSON{}, Mends: []mendJSON{}}}
}

// checker is one run of check.
type checker struct {
	*prover
	checking
	out checkedJSON
}

func (c *checker) all(ctx context.Context) error {
	p, err := c.s.Home(ctx, false)
	if err != nil {
		return err
	}
	if err := c.s.Ledger.Sync(p); err != nil {
		return err
	}
	j, err := c.s.SettleBy(ctx, p, "", nil)
	if err != nil {
		return err
	}
	if j.Open > 0 {
		c.out.Result = "conflicts"
		c.say("%s a decision first.", words.Count(j.Open, "conflict wants", "conflicts want"))
		return exit{exitConflicts}
	}
	j, err = c.fit(ctx, p, j)
	if c.out.Misfits = c.misfits; err != nil {
		return err
	}
	terms, err := c.terms(ctx, p, j)
	if err != nil || terms == nil {
		return err
	}
	b, err := c.s.Planner.Build(ctx, p, j)
	if err != nil {
		return err
	}
	for _, m := range j.Regenerations {
		c.say("%s", m.Sentence())
	}
	passed := false
	if c.each {
		passed, err = c.eachOf(ctx, p, j, terms, b)
	} else {
		passed, err = c.joined(ctx, p, j, terms, b)
	}
	if err == nil && !passed {
		err = exit{exitCheck}
	}
	if passed {
		c.out.Result = "passed"
	}
	return err
}

// fit reports misfits and, if requested, takes the certain mends.
func (v *prover) fit(ctx context.Context, p *plan.Position, j *plan.Join) (*plan.Join, error) {
	unfit, err := v.s.Planner.Foresight.Misfits(ctx, p, j)
	if err != nil {
		return j, err
	}
	mends, err := v.s.Planner.Foresight.MendsOf(ctx, p, j, unfit)
	if err != nil {
		return j, err
	}
	v.unfit = unfit
	v.misfits, v.proved.Mends = misfitsJSON(unfit), mendsJSON(mends, unfit)
	v.sayMisfits(unfit)
	for _, m := range v.proved.Mends {
		v.say("  %s: %s\n%s", words.If(v.mending, "mended", "can be mended (--mend)"), m.Path, m.Diff)
	}
	if !v.mending || len(mends) == 0 {
		return j, nil
	}
	held, err := v.s.Planner.Foresight.Holdings(ctx, j, mends, unfit)
	if err != nil {
		return j, err
	}
	if _, err := v.s.Mends.Take(ctx, j, held); err != nil {
		return j, err
	}
	st := v.s.Ledger.State()
	p.Requests = st.Requests
	if j, err = v.s.Planner.Join(ctx, p, j.Route, &st.Decisions, st.Amends(), nil); err != nil {
		return j, err
	}
	v.unfit, err = v.s.Planner.Foresight.Misfits(ctx, p, j) // those that remain
	return j, err
}

func mendsJSON(mends []misfit.Mend, unfit []plan.Misfit) []mendJSON {
	out := []mendJSON{}
	for _, m := range mends {
		var diff strings.Builder
		for _, l := range m.Before {
			diff.WriteString("-" + strings.TrimRight(l, "\r\n") + "\n")
		}
		for _, l := range m.After {
			diff.WriteString("+" + strings.TrimRight(l, "\r\n") + "\n")
		}
		of := unfit[m.Of]
		out = append(out, mendJSON{m.Path, words.Misfit(of.Misfit, string(of.Changed.Side), string(of.Used.Side)), true,
			diff.String()})
	}
	return out
}

// terms returns what will run and whether it may, or nil if there is nothing.
func (c *checker) terms(ctx context.Context, p *plan.Position, j *plan.Join) (t *prove.Terms, err error) {
	agreed := c.line != ""
	if agreed {
		t, err = c.s.Prover.Asker.TermsOf(ctx, check.Command{Steps: []string{c.line},
			Source: "the command line"},
			j.Tree, p)
	} else {
		t, agreed, err = c.s.Prover.MayCheck(ctx, p, j.Tree)
	}
	if err != nil {
		return nil, err
	}
	if t == nil {
		c.out.Result = "none"
		c.say("No check was found in this project; say one after --, or set one with %s.", c.s.Repo.Dialect().Set(
			"check"))
		return nil, nil
	}
	c.out.Command, c.out.Agree = t.Command.Line(), t.Hash()
	if c.agree != "" && c.agree != asShown && c.agree != t.Hash() {
		c.out.Result = "not-agreed"
		c.say("What would run differs from what was agreed to: its hash is %s now.", t.Hash())
		return nil, exit{exitConflicts}
	}
	if !agreed && c.agree == "" {
		c.out.Result = "not-agreed"
		c.say("%s", words.Sentence((&prove.UnagreedError{Terms: t}).Error()))
		c.sayAsks(t)
		c.say("dorvik check --agree=%s agrees to just this.", t.Hash())
		return nil, exit{exitConflicts}
	}
	c.say("Checking: %s   (%s)", t.Command.Line(), t.Hash())
	return t, c.s.Prover.Asker.AgreeTo(t)
}

// sayAsks shows what others changed that a command can run.
func (c *checker) sayAsks(t *prove.Terms) {
	for _, f := range t.Asks {
		var by []string
		for _, n := range f.By {
			by = append(by, fmt.Sprintf("%s “%s” by %s", c.s.Planner.Short(n.ID), n.Subject(), n.Author().Name))
		}
		c.say("  %s: %s", f.Path, words.If(len(by) > 0, words.List(words.Some(by, 3)),
			"changed since, by an unknown person"))
		f.Lines(func(l string, added bool) { c.say("    %s %s", words.If(added, "+", "-"), l) })
	}
}

// joined checks the joined tree and, if that fails, finds who builds.
func (v *prover) joined(ctx context.Context, p *plan.Position, j *plan.Join, t *prove.Terms,
	b plan.Built) (passed bool, err error) {
	proof, err := v.s.Prover.Prove(ctx, p, t, b.Tip, v.emit, nil)
	if err != nil {
		return false, err
	}
	passed = proof.Result.Passed
	v.proved.Builds.Joined = &passed
	if v.steps(proof.Result); passed {
		v.say("The joined code passes.")
		return true, nil
	}
	if v.proved.Lacks, v.proved.Install = proof.Lacks, proof.Install; proof.Unchecked != "" {
		v.proved.Unchecked = proof.Unchecked
		v.say("%s", proof.Unchecked)
		return false, nil
	}
	v.say("%s", words.If(len(proof.Lacks) > 0, "The check does not pass.", "The joined code does not pass."))
	for _, l := range proof.Lacks {
		v.say("▲ It may fail for what the checkout lacks: %s.", l)
	}
	if proof.Install != "" && !strings.HasPrefix(t.Command.Line(), proof.Install) {
		v.say("To install it first, check with '%s && %s'.", proof.Install, t.Command.Line())
	}
	if err := v.places(ctx, j, proof.Places); err != nil {
		return false, err
	}
	if p.Trivial() != plan.NotTrivial || p.IsPick() || !proof.Blames() {
		return false, nil
	}
	builds, err := v.s.Prover.WhoBuilds(ctx, p, t, func(prove.Builds) {})
	if err != nil {
		return false, err
	}
	v.proved.Builds = buildsJSON{builds.Base, builds.Yours, builds.Theirs, builds.Joined}
	if v.proved.Verdict = builds.Verdict(); v.proved.Verdict != "" {
		v.say("%s", v.proved.Verdict)
	}
	for _, why := range builds.Unrun {
		v.say("▲ %s", why)
	}
	if err := v.pair(ctx, p, t, &builds); err != nil {
		return false, err
	}
	if builds.Theirs == nil || !*builds.Theirs || j.Route != plan.Rebase {
		return false, nil
	}
	all, err := v.s.Prover.FindFailing(ctx, p, t, b, func(string) {}, func([]prove.Each) {})
	v.failing(j, b, all)
	return false, err
}

// places reports where the check failed, and the decisions that caused it.
func (v *prover) places(ctx context.Context, j *plan.Join, places []diagnose.Place) error {
	decided := v.s.Ledger.State().Decisions
	causes, err := v.s.Planner.CausesOf(ctx, j, &decided, places)
	if err != nil {
		return err
	}
	for i, at := range places {
		one := placeJSON{Path: at.Path, Line: at.Line, Column: at.Col, Text: at.Text}
		if c := causes[i]; c != nil {
			one.Settled, one.Missing = &settledJSON{Path: c.Path, Way: string(c.Way)}, c.Missing
			if c.Commit.Commit != nil {
				one.Settled.Commit = &c.Commit.ID
			}
			v.say("  %s:%d: %s", at.Path, at.Line, c.Sentence())
		}
		v.proved.Errors = append(v.proved.Errors, one)
	}
	return nil
}

// emit prints a line of the check's output.
func (v *prover) emit(l string) { v.say("  %s", strings.TrimRight(l, " ")) }

// pair finds the two commits that do not work together, if each side passes by itself.
func (v *prover) pair(ctx context.Context, p *plan.Position, t *prove.Terms, b *prove.Builds) (err error) {
	if b.Yours == nil || b.Theirs == nil || !*b.Yours || !*b.Theirs {
		return nil
	}
	pair := prove.PairOf(v.unfit)
	if !pair.Found() {
		if pair, err = v.s.Prover.FindPair(ctx, p, t, func(run, most int) {
			v.say("Finding the two commits that collide: check %d of at most %d", run, most)
		}); err != nil || !pair.Found() {
			return err
		}
	}
	v.proved.Pair = &pairJSON{&pair.Yours.ID, &pair.Theirs.ID}
	v.say("These two collide: %s “%s” and %s “%s” by %s.", pair.Yours.ID, pair.Yours.Subject(), pair.Theirs.ID,
		pair.Theirs.Subject(), pair.Theirs.Author().Name)
	return nil
}

func (v *prover) steps(r check.Report) {
	for _, s := range r.Steps {
		one := stepRan{Command: s.Line, First: s.First, Seconds: s.Took.Seconds()}
		if s.Ran || s.Known != "" {
			one.Passed = &s.Passed
		}
		v.proved.Steps = append(v.proved.Steps, one)
	}
}

// eachOf checks every new commit in order and stops at the first that fails.
func (v *prover) eachOf(ctx context.Context, p *plan.Position, j *plan.Join, t *prove.Terms,
	b plan.Built) (passed bool, err error) {
	all, err := v.s.Prover.CheckEach(ctx, p, t, b, v.emit, func([]prove.Each) {})
	if err != nil {
		return false, err
	}
	for i, one := range all {
		if one.Passed != nil {
			v.say("%d of %d  %s  %s", i+1, len(all), one.ID, words.If(*one.Passed, "passes", "does not pass"))
		}
	}
	return !v.failing(j, b, all), nil
}

// failing finds the first commit of yours that fails after it was replayed.
func (v *prover) failing(j *plan.Join, b plan.Built, all []prove.Each) bool {
	id := prove.FirstFailing(all)
	if id.IsZero() {
		return false
	}
	if of := j.Replayed(b, id); of.Commit != nil {
		v.proved.FirstFailing = &of.ID
		v.say("Your first replayed commit that does not pass is %s “%s”.", of.ID, of.Subject())
	}
	return true
}
