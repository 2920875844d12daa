package recovery

import (
	"context"
	"fmt"
	"slices"

	"dorvik.dev/dorvik/internal/check"
	"dorvik.dev/dorvik/internal/core/object"
	"dorvik.dev/dorvik/internal/core/settle"
	"dorvik.dev/dorvik/internal/words"
)

// SettleBy takes a route, empty for the one kept or else the suggested one, and settles each
// open conflict by the first of the ways that it offers. Settling one stop of a rebase can
// change the next, so it joins again, stop by stop, until nothing more can be settled.
func (s *Session) SettleBy(ctx context.Context, p *Position, route Route, prefer []settle.Way) (*Join, error) {
	st := s.State()
	switch {
	case p.Resume != nil:
		route = p.Resume.route(p)
	case p.Picking:
		route = Pick
	case route == "" && st.Route != "":
		route = st.Route
	case route == "":
		pl, err := s.Plan(ctx, p, &st.Decisions, nil)
		if err != nil {
			return nil, err
		}
		route = pl.Suggested
	}
	if err := s.TakeRoute(route); err != nil {
		return nil, err
	}
	for {
		st = s.State()
		j, err := s.Join(ctx, p, route, &st.Decisions, st.Amends(), nil)
		if err != nil {
			return nil, err
		}
		if j.Refused != nil {
			return nil, j.Refused
		}
		next := j.preferred(&st.Decisions, prefer)
		if len(next) == 0 {
			return j, nil
		}
		if err := s.Decide(next...); err != nil {
			return nil, err
		}
	}
}

// preferred settles what a preference does of the first stop that has anything open which it settles.
func (j *Join) preferred(decisions *settle.Decisions, prefer []settle.Way) (out []settle.Decision) {
	decisions = decisions.Indexed()
	seen := map[settle.Key]bool{}
	for _, stop := range j.Stops {
		for _, f := range stop.Files {
			for _, c := range f.Questions {
				if _, _, settled := decisions.For(c); settled || seen[c.Key] {
					continue
				}
				w, ok := settle.Prefer(c, prefer)
				if ok && !(w == settle.Anew && stop.Uncommitted) { // what goes nowhere is not made anew
					seen[c.Key] = true
					out = append(out, settle.Decision{Key: c.Key, Way: w})
				}
			}
		}
		if len(out) > 0 {
			return out
		}
	}
	return nil
}

// UnagreedError says that a check was found and may not be run, as nobody agreed to it as it reads now.
type UnagreedError struct{ Terms *Terms }

func (e *UnagreedError) Error() string {
	t := e.Terms
	again := fmt.Sprintf("say --check '%s' to run it, or --no-check to go on without", t.Command.Line())
	if t.Filter != "" {
		return fmt.Sprintf("git runs the filter %s (“%s”) as it writes files, and others changed what that runs: %s; "+
			"open dorvik to look at that and agree. Nothing was changed", t.Filter, t.Command.Line(), t.changed())
	}
	if !t.Before && !t.Command.Own {
		return fmt.Sprintf("the check “%s” (found from %s) was never agreed to in this repository; %s",
			t.Command.Line(), t.Command.Source, again)
	}
	return fmt.Sprintf("the check “%s” %s, and what it can run was changed since: %s; look at that, and %s",
		t.Command.Line(), words.If(t.Before, "was agreed to in this repository", "is your own"), t.changed(), again)
}

// changed names what others changed, with who did.
func (t *Terms) changed() string {
	var out []string
	for _, f := range t.Asks {
		out = append(out, f.Path+f.whose())
	}
	return words.List(words.Some(out, 4))
}

// whose names who changed a file, with a leading “by”; empty where nobody knows.
func (f *Unagreed) whose() string {
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

// UnmadeError says that files are to be made anew by commands that nobody agreed to as they read now.
type UnmadeError struct{ Terms []*Terms }

func (e *UnmadeError) Error() string {
	for _, t := range e.Terms {
		if t.Before && len(t.Asks) > 0 {
			return fmt.Sprintf("%s is to be made anew by “%s”, which was agreed to in this repository, and what it "+
				"can run was changed since: %s; open dorvik to look at that, or to take a side", t.Makes,
				t.Command.Line(), t.changed())
		}
	}
	return fmt.Sprintf("%s is to be made anew by “%s”, which was never agreed to in this repository; open dorvik to "+
		"agree to it, or to take a side", e.Terms[0].Makes, e.Terms[0].Command.Line())
}

// CheckBy gives what a tree is checked by; found is false where there is nothing. What the list of a rebase has run on
// the way goes before what is found in the project.
func (s *Session) CheckBy(ctx context.Context, tree object.ID) (c check.Command, found bool, err error) {
	c, found, err = s.CheckCommand(ctx, tree)
	if runs := s.state.Runs; err == nil && len(runs) > 0 && !c.Configured {
		return check.Command{Steps: runs, Source: "the list of the rebase that git began"}, true, nil
	}
	return c, found, err
}

// MayCheck gives what a tree is checked by, nil where there is nothing, and whether that may be run: it was agreed to,
// or the person's own configuration names it, and others changed nothing since that it can run.
func (s *Session) MayCheck(ctx context.Context, p *Position, tree object.ID) (t *Terms, agreed bool, err error) {
	c, found, err := s.CheckBy(ctx, tree)
	if err != nil || !found {
		return nil, false, err
	}
	if t, err = s.TermsOf(ctx, c, tree, p); err != nil {
		return nil, false, err
	}
	return t, t.Agreed(), nil
}
