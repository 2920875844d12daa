package recovery

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
)

// Terms are what is agreed to where a command may run on a tree: the command, the filters of the repository's own
// configuration that run when its checkout is made, and what of the tree others changed that the command can run.
type Terms struct {
	Command check.Command
	Makes   string      // a file that it makes anew, in the folder of which it runs; empty for a check
	Filter  string      // of files, by its name, that git runs as it writes them; empty for a check
	Tree    object.ID   // that it is to run on
	Filters []string    // "name: command"
	Before  bool        // the command was agreed to before
	Asks    []Unagreed  // what others changed since, and can be run
	stood   []object.ID // trees that were there before anything of theirs came: agreed to with the first agreement
	shown   []object.ID // trees of theirs of which all that could be run is in what is asked about
}

// Unagreed is a file that others changed since it was agreed to last that a command may run, and that can be run or
// read as a recipe.
type Unagreed struct {
	Path    string
	Was, ID object.ID      // zero where it was not there, and where it is there no more
	By      []history.Node // their commits that changed it, the newest first; none where that cannot be told

	Change struct{ From, To string } // the texts, where both can be read
}

// Lines gives the lines that were taken out and, where they stood, those that were added, without their ends.
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

// line is what is recorded: the command, and the filters.
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

// Hash names the terms for a script that agrees to them: the first half of the SHA-256, in hex, of what is recorded
// and of what others changed.
func (t *Terms) Hash() string {
	sum := sha256.New()
	fmt.Fprintln(sum, t.line())
	for _, f := range t.Asks {
		fmt.Fprintf(sum, "%s %s\n", f.ID, f.Path)
	}
	return hex.EncodeToString(sum.Sum(nil)[:16])
}

// Agreed reports whether the command may run: it was agreed to, or the person's own configuration names it, and there
// is nothing to ask about.
func (t *Terms) Agreed() bool { return (t.Before || t.Command.Own) && len(t.Asks) == 0 }

// AgreeTo records that a command may run, on its tree as it is.
func (s *Session) AgreeTo(t *Terms) error {
	return s.agreements.add(t.line(), time.Now(), slices.Concat(t.stood, t.shown, []object.ID{t.Tree})...)
}

// ownYes reports whether a setting is true in the person's own configuration.
func (w *Workspace) ownYes(ctx context.Context, key string) bool {
	all, err := w.Repo.Values(ctx, key, false)
	yes := false
	for _, s := range all {
		if s.Own {
			yes = s.Value == "true"
		}
	}
	return err == nil && yes
}

// on is a tree that something is to run on, and whose work it holds.
type on struct {
	tree   object.ID
	yours  object.ID   // the commit that is the person's own line
	others []object.ID // commits of others that it holds, too
}

// joined is the tree of a join, or of one of the commits that it makes.
func (p *Position) joined(tree object.ID) on {
	if p == nil {
		return on{tree: tree}
	}
	o := on{tree: tree, yours: p.Yours, others: []object.ID{p.Theirs}}
	if p.Picking {
		for _, n := range p.Divergence.Theirs {
			o.others = append(o.others, n.ID)
		}
	}
	if p.Resume != nil {
		o.others = append(o.others, p.Resume.Merged...)
		for _, t := range p.Resume.Todo {
			o.others = append(o.others, t.Commit.ID)
		}
	}
	return o
}

// TermsOf finds what running a command on a joined tree is agreed to by. The error is that of reading the settings or
// the history.
func (s *Session) TermsOf(ctx context.Context, c check.Command, tree object.ID, p *Position) (*Terms, error) {
	return s.termsFor(ctx, &Terms{Command: c}, p, p.joined(tree))
}

// termsFor completes terms of which the command is known.
func (s *Session) termsFor(ctx context.Context, t *Terms, p *Position, o on) (*Terms, error) {
	t.Tree = o.tree
	var lines []string // of the filters that run, too, as the checkout is made
	if t.Filter == "" {
		filters, err := s.Repo.Values(ctx, `^filter\..*\.(smudge|process)$`, true)
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
	known := s.agreements.on(t.line())
	t.Before = s.agreements.has(t.line())
	if len(known) == 0 && p != nil { // what there was before theirs came was there to be run all along
		for _, commit := range []object.ID{p.Base(), p.Yours} {
			if commit.IsZero() {
				continue
			}
			tree, err := s.Tree(commit)
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
	a := &asking{Session: s, ctx: ctx, on: o, known: known, filters: lines,
		mine: sync.OnceValue(func() map[object.ID]bool { return s.byHand(ctx, p) })}
	var err error
	if t.Asks, err = a.about(t); err == nil && t.Filter == "" {
		t.shown, err = a.shown()
	}
	return t, err
}

// again gives the terms of the same command on another tree.
func (s *Session) again(ctx context.Context, t *Terms, p *Position, o on) (*Terms, error) {
	return s.termsFor(ctx, &Terms{Command: t.Command, Makes: t.Makes}, p, o)
}

// filterName is that of a filter, by the name of its setting.
func filterName(setting string) string {
	return strings.TrimSuffix(strings.TrimPrefix(setting, "filter."), path.Ext(setting))
}

// mayFilter is nil where git may write the files of a joined tree: no filter that it runs then names a file that others
// changed, or that was agreed to. Else it is an *UnagreedError.
func (s *Session) mayFilter(ctx context.Context, p *Position, tree object.ID) error {
	filters, err := s.Repo.Values(ctx, `^filter\..*\.(clean|smudge|process)$`, true)
	if err != nil {
		return err
	}
	for _, f := range filters {
		t := &Terms{Command: check.Command{Steps: []string{f.Value}, Source: "git config " + f.Name, Own: true},
			Filter: filterName(f.Name)}
		if t, err = s.termsFor(ctx, t, p, p.joined(tree)); err != nil {
			return err
		}
		if len(t.Asks) > 0 {
			return &UnagreedError{t}
		}
	}
	return nil
}

// mayRun is nil where a command that was agreed to may run on another tree, too, and else an *UnagreedError.
func (s *Session) mayRun(ctx context.Context, t *Terms, p *Position, o on) error {
	if o.tree == t.Tree {
		return nil // it is what was shown
	}
	there, err := s.again(ctx, t, p, o)
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
func (s *Session) SetCheck(ctx context.Context, line string, p *Position, tree object.ID) error {
	if line == "" {
		return s.Repo.UnsetConfig(ctx, "dorvik.check")
	}
	if err := s.Repo.SetConfig(ctx, "dorvik.check", line); err != nil {
		return err
	}
	t, _, err := s.MayCheck(ctx, p, tree)
	if err != nil || t == nil {
		return err
	}
	return s.agreements.add(t.line(), time.Now(), t.stood...)
}
