package prove

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"path"
	"slices"
	"strings"
	"sync"
	"time"

	"dorvik.dev/dorvik/internal/check"
	"dorvik.dev/dorvik/internal/core/diff"
	"dorvik.dev/dorvik/internal/core/history"
	"dorvik.dev/dorvik/internal/core/object"
	"dorvik.dev/dorvik/internal/plan"
	"dorvik.dev/dorvik/internal/words"
)

// Terms describes what the person agrees to: a command on a tree, the filters that run, and the files changed by
// others.
type Terms struct {
	Command check.Command
	Makes   string      // file that the command regenerates in its folder; empty for a check
	Filter  string      // name of a filter that git runs; empty for a check
	Tree    object.ID   // tree on which it will run
	Filters []string    // "name: command"
	Before  bool        // the person agreed to the command before
	Asks    []Unagreed  // runnable files that others changed since
	stood   []object.ID // trees without theirs; the first agreement includes them
	shown   []object.ID // trees of theirs whose runnable files are all in Asks
}

// Unagreed is a file that others changed since the last agreement and the command may run.
type Unagreed struct {
	Path    string
	Was, ID object.ID      // ids before and after; zero if absent
	By      []history.Node // their commits that changed it, newest first; none if unknown

	Change struct{ From, To string } // old and new text, if both are readable
}

// Lines calls each for the removed and added lines, without line ends.
func (f *Unagreed) Lines(each func(line string, added bool)) {
	from, to := diff.Lines(f.Change.From), diff.Lines(f.Change.To)
	for _, e := range diff.Histogram(from, to) {
		for _, l := range from[e.A0:e.A1] {
			each(strings.TrimRight(l, "\r\n"), false)
		}
		for _, l := range to[e.B0:e.B1] {
			each(strings.TrimRight(l, "\r\n"), true)
		}
	}
}

// line returns the recorded text: the command and the filters.
func (t *Terms) line() string {
	var b strings.Builder
	switch {
	case t.Makes != "":
		b.WriteString("make " + t.Makes + " by " + t.Command.Line())
	case t.Filter != "":
		b.WriteString("filter " + t.Filter + " by " + t.Command.Line())
	default:
		b.WriteString("check " + t.Command.Line())
	}
	for _, f := range t.Filters {
		b.WriteString("\nfilter " + f)
	}
	return b.String()
}

// Hash identifies the terms in scripts: half of the SHA-256 of the recorded text and the changes, in hex.
func (t *Terms) Hash() string {
	sum := sha256.New()
	fmt.Fprintln(sum, t.line())
	for _, f := range t.Asks {
		fmt.Fprintf(sum, "%s %s\n", f.ID, f.Path)
	}
	return hex.EncodeToString(sum.Sum(nil)[:16])
}

// Agreed reports whether the command may run without asking.
func (t *Terms) Agreed() bool { return (t.Before || t.Command.Own) && len(t.Asks) == 0 }

// AgreeTo records the agreement to terms.
func (ak *Asker) AgreeTo(t *Terms) error {
	return ak.Ledger.Agreements.Add(t.line(), time.Now(), slices.Concat(t.stood, t.shown, []object.ID{t.Tree})...)
}

// ownYes reports whether a setting is true in the person's own configuration.
func (dr *Drivers) ownYes(ctx context.Context, key string) bool {
	all, err := dr.Repo.Values(ctx, key, false)
	yes := false
	for _, s := range all {
		if s.Own {
			yes = s.Value == "true"
		}
	}
	return err == nil && yes
}

// on is a tree with the commits it was made from.
type on struct {
	tree   object.ID
	yours  object.ID   // tip of the person's own line
	others []object.ID // commits of others in the tree
}

// joinedOn returns the tree of a join or of one of its commits.
func joinedOn(p *plan.Position, tree object.ID) on {
	if p == nil {
		return on{tree: tree}
	}
	o := on{tree: tree, yours: p.Yours, others: []object.ID{p.Theirs}}
	if p.IsPick() {
		for _, n := range p.Divergence.Theirs {
			o.others = append(o.others, n.ID)
		}
	}
	if p.Resumes() != nil {
		o.others = append(o.others, p.Resumes().Merged...)
		for _, t := range p.Resumes().Todo {
			o.others = append(o.others, t.Commit.ID)
		}
	}
	return o
}

// TermsOf returns the terms for running a command on a joined tree.
func (ak *Asker) TermsOf(ctx context.Context, c check.Command, tree object.ID, p *plan.Position) (*Terms, error) {
	return ak.termsFor(ctx, &Terms{Command: c}, p, joinedOn(p, tree))
}

// termsFor completes terms with a known command.
func (ak *Asker) termsFor(ctx context.Context, t *Terms, p *plan.Position, o on) (*Terms, error) {
	t.Tree = o.tree
	var lines []string // filters that run while the checkout is made
	if t.Filter == "" {
		filters, err := ak.Repo.Values(ctx, `^filter\..*\.(smudge|process)$`, true)
		if err != nil {
			return nil, err
		}
		for _, f := range filters {
			lines = append(lines, f.Value)
			if !f.Own {
				t.Filters = append(t.Filters, filterName(f.Name)+": "+f.Value)
			}
		}
	}
	known := ak.Ledger.Agreements.On(t.line())
	t.Before = ak.Ledger.Agreements.Has(t.line())
	if len(known) == 0 && p != nil { // the person could already run what was there before theirs
		for _, commit := range []object.ID{p.Base(), p.Yours} {
			if commit.IsZero() {
				continue
			}
			tree, err := ak.Planner.Tree(ctx, commit)
			if err != nil {
				return nil, err
			}
			t.stood = append(t.stood, tree)
		}
		known = t.stood
	}
	if len(known) == 0 {
		return t, nil
	}
	a := &asking{s: ak, on: o, known: known, filters: lines,
		mine: sync.OnceValue(func() map[object.ID]bool { return ak.byHand(ctx, p) })}
	var err error
	if t.Asks, err = a.about(ctx, t); err == nil && t.Filter == "" {
		t.shown, err = a.shown(ctx)
	}
	return t, err
}

// again returns the terms of the same command for another tree.
func (ak *Asker) again(ctx context.Context, t *Terms, p *plan.Position, o on) (*Terms, error) {
	return ak.termsFor(ctx, &Terms{Command: t.Command, Makes: t.Makes}, p, o)
}

// filterName returns the name of a filter from its key.
func filterName(setting string) string {
	return strings.TrimSuffix(strings.TrimPrefix(setting, "filter."), path.Ext(setting))
}

// MayFilter returns an *UnagreedError if git would run a filter that mentions files changed by others.
func (ak *Asker) MayFilter(ctx context.Context, p *plan.Position, tree object.ID) error {
	filters, err := ak.Repo.Values(ctx, `^filter\..*\.(clean|smudge|process)$`, true)
	if err != nil {
		return err
	}
	for _, f := range filters {
		t := &Terms{Command: check.Command{Steps: []string{f.Value}, Source: "git config " + f.Name, Own: true},
			Filter: filterName(f.Name)}
		if t, err = ak.termsFor(ctx, t, p, joinedOn(p, tree)); err != nil {
			return err
		}
		if len(t.Asks) > 0 {
			return &UnagreedError{t}
		}
	}
	return nil
}

// mayRun returns an *UnagreedError if a command may not run on another tree.
func (ak *Asker) mayRun(ctx context.Context, t *Terms, p *plan.Position, o on) error {
	if o.tree == t.Tree {
		return nil // the person saw this version
	}
	there, err := ak.again(ctx, t, p, o)
	if err != nil {
		return err
	}
	if !there.Agreed() {
		return &UnagreedError{there}
	}
	return nil
}

// SetCheck has this repository be checked by a command line, which is agreed to by that for what was there before
// anything of theirs came. An empty one clears what was set: then the check is found from the project's files again,
// and asked about before it runs.
func (pr *Prover) SetCheck(ctx context.Context, line string, p *plan.Position, tree object.ID) error {
	if line == "" {
		return pr.Repo.UnsetConfig(ctx, "dorvik.check")
	}
	if err := pr.Repo.SetConfig(ctx, "dorvik.check", line); err != nil {
		return err
	}
	t, _, err := pr.MayCheck(ctx, p, tree)
	if err != nil || t == nil {
		return err
	}
	return pr.Ledger.Agreements.Add(t.line(), time.Now(), t.stood...)
}

// UnagreedError reports a check that the person did not agree to.
type UnagreedError struct{ Terms *Terms }

func (e *UnagreedError) Error() string {
	t := e.Terms
	if t.Filter != "" {
		return fmt.Sprintf("git runs the filter %s (“%s”) as it writes files, and others changed what that runs: %s; "+
			"open dorvik to look at that and agree. Nothing was changed", t.Filter, t.Command.Line(), t.changed())
	}
	if !t.Before && !t.Command.Own {
		return fmt.Sprintf("the check “%s” (found from %s) was never agreed to in this repository",
			t.Command.Line(), t.Command.Source)
	}
	return fmt.Sprintf("the check “%s” %s, and what it can run was changed since: %s",
		t.Command.Line(), words.If(t.Before, "was agreed to in this repository", "is your own"), t.changed())
}

// changed lists the changed files and their authors.
func (t *Terms) changed() string {
	var out []string
	for _, f := range t.Asks {
		out = append(out, f.Path+f.Whose())
	}
	return words.List(words.Some(out, 4))
}

// Whose returns “by” and the authors, or an empty string.
func (f *Unagreed) Whose() string {
	var who []string
	for _, n := range f.By {
		if name := n.Author().Name; !slices.Contains(who, name) {
			who = append(who, name)
		}
	}
	if len(who) == 0 {
		return ""
	}
	return " by " + words.List(words.Some(who, 3))
}

// UnmadeError reports files whose generating command the person did not agree to.
type UnmadeError struct{ Terms []*Terms }

func (e *UnmadeError) Error() string {
	for _, t := range e.Terms {
		if t.Before && len(t.Asks) > 0 {
			return fmt.Sprintf("%s must be regenerated by “%s”, which was agreed to in this repository, and what it "+
				"can run was changed since: %s; open dorvik to look at that, or to take a side", t.Makes,
				t.Command.Line(), t.changed())
		}
	}
	return fmt.Sprintf("%s must be regenerated by “%s”, which was never agreed to in this repository; open dorvik to "+
		"agree to it, or to take a side", e.Terms[0].Makes, e.Terms[0].Command.Line())
}

// CheckBy returns the check of a tree. The exec lines of a rebase list take precedence over a derived check.
func (pr *Prover) CheckBy(ctx context.Context, tree object.ID) (c check.Command, found bool, err error) {
	c, found, err = pr.CheckCommand(ctx, tree)
	if runs := pr.Ledger.State().Runs; err == nil && len(runs) > 0 && !c.Configured {
		return check.Command{Steps: runs, Source: "the list of the rebase that git began"}, true, nil
	}
	return c, found, err
}

// MayCheck returns the terms of the check, or nil if there is none. agreed is true if it may run.
func (pr *Prover) MayCheck(ctx context.Context, p *plan.Position, tree object.ID) (t *Terms, agreed bool, err error) {
	c, found, err := pr.CheckBy(ctx, tree)
	if err != nil || !found {
		return nil, false, err
	}
	if t, err = pr.Asker.TermsOf(ctx, c, tree, p); err != nil {
		return nil, false, err
	}
	return t, t.Agreed(), nil
}
