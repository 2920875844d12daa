package plan

import (
	"context"
	"errors"
	"fmt"
	"strings"

	"dorvik.dev/dorvik/internal/core/settle"
	"dorvik.dev/dorvik/internal/words"
)

// Plan is the result of both routes, with a suggestion.
type Plan struct {
	Rebase, Merge *Join
	Pick          *Join // the only route if commits are picked, or git's half-done operation is continued
	Suggested     Route
	Why           string // reason, as a sentence
	Wanted        Wanted
	Published     []Published // commits of yours that are on a remote

	compared *Join // the merge that compares both sides, where the merge itself is impossible
}

// Pushed reports whether a rebase would rewrite published commits.
func (pl *Plan) Pushed() bool { return len(pl.Published) > 0 }

// Wanted is the route that the configuration selects, and the setting that does so.
type Wanted struct {
	Route   Route
	Setting string // the setting that decided, such as "pull.rebase is true"

	OnlyForward bool // pull.ff is only: git pull refuses anything but a fast-forward
}

// Plan computes both routes and suggests one. A pick has only one route. Plan writes nothing.
func (pn *Planner) Plan(ctx context.Context, p *Position, decisions *settle.Decisions, progress func(done,
	of int)) (*Plan, error) {
	pl := &Plan{}
	var err error
	if p.Resumes() != nil || p.Reworks() {
		pl.Why = "it continues as it was begun."
		route := Route("")
		if p.Reworks() {
			pl.Why, route = "your commits are replayed where they are.", Rebase
		}
		if pl.Pick, err = pn.Join(ctx, p, route, decisions, Amends{}, progress); err == nil {
			pl.Suggested = pl.Pick.Route
			pl.Published, err = pn.Published(ctx, pl.Pick)
		}
		return pl, err
	}
	if p.IsPick() {
		pl.Suggested, pl.Why = Pick, "a picked commit is replayed on your line, with its author and message."
		pl.Pick, err = pn.Join(ctx, p, Pick, decisions, Amends{}, progress)
		return pl, err
	}
	if pl.Merge, err = pn.Join(ctx, p, Merge, decisions, Amends{}, nil); err != nil {
		return nil, err
	}
	if by := pn.dialect(); p.BringsIn() {
		pl.Suggested, pl.Why = Merge, fmt.Sprintf("%s brings another line in as one revision on top, and notes in "+
			"svn:mergeinfo what that holds.", by.Name)
		pl.Rebase = &Join{Route: Rebase, Refused: &LinearError{by.Name, p.Line().Name}}
		if early := p.early(); early != nil {
			pl.compared = pl.Merge
			pl.Merge = &Join{Route: Merge, Refused: early}
		}
		return pl, nil
	}
	if pl.Rebase, err = pn.Join(ctx, p, Rebase, decisions, Amends{}, progress); err != nil {
		return nil, err
	}
	if !p.Past {
		if pl.Published, err = pn.Published(ctx, pl.Rebase); err != nil {
			return nil, err
		}
		if by := pn.dialect(); pl.Pushed() && by.KeepsShared {
			pl.Rebase = &Join{Route: Rebase, Refused: &FixedError{by.Name, pl.Published}}
		}
	}
	if by := pn.dialect(); by.Linear {
		pl.compared = pl.Merge
		pl.Merge = &Join{Route: Merge, Refused: &LinearError{By: by.Name}}
	}
	if pl.Wanted, err = pn.wanted(ctx, p.Branch.Name); err != nil {
		return nil, err
	}
	pl.suggest(p)
	pl.honour(p)
	return pl, nil
}

// wanted reads the configured route of a branch from dorvik.route or the settings of git pull.
func (pn *Planner) wanted(ctx context.Context, branch string) (Wanted, error) {
	if pn.Source == nil {
		return Wanted{}, nil
	}
	set, err := pn.Source.Settings(ctx, `^(dorvik\.route|pull\.(rebase|ff)|branch\..*\.rebase)$`)
	if err != nil {
		return Wanted{}, err
	}
	only := set["pull.ff"] == "only"
	for _, key := range []string{"dorvik.route", "branch." + branch + ".rebase", "pull.rebase"} {
		value, ok := set[key]
		if !ok {
			continue
		}
		says := Wanted{Setting: key + " is " + value}
		switch strings.ToLower(value) {
		case "rebase", "true", "yes", "on", "1", "merges", "m", "interactive", "i", "preserve", "p":
			says.Route = Rebase
		case "merge", "false", "no", "off", "0":
			says.Route = Merge
		default: // auto
			continue
		}
		says.OnlyForward = only
		return says, nil
	}
	return Wanted{OnlyForward: only}, nil
}

// honour suggests the configured route unless it is impossible or harmful, and explains that.
func (pl *Plan) honour(p *Position) {
	if pl.Wanted.OnlyForward {
		defer func() { pl.Why += " As pull.ff is only, git pull itself would refuse here." }()
	}
	switch {
	case pl.Wanted.Route == "":
	case pl.Wanted.Route == pl.Suggested:
		pl.Why = pl.Wanted.Setting + ". Also, " + pl.Why
	case pl.Rebase.Refused != nil || pl.Merge.Refused != nil || len(p.TakenOut) > 0 || pl.Pushed():
		pl.Why = pl.Wanted.Setting + ", and yet: " + pl.Why
	default:
		pl.Suggested = pl.Wanted.Route
		pl.Why = pl.Wanted.Setting + ". Without it the other way would be suggested: " + pl.Why
	}
}

func (pl *Plan) suggest(p *Position) {
	yours := words.Count(len(p.Divergence.Yours), "commit", "commits")
	asksR, asksM := pl.Rebase.Conflicts(), pl.Merge.Conflicts()
	fixed, linear := (*FixedError)(nil), (*LinearError)(nil)
	switch {
	case errors.As(pl.Merge.Refused, &linear):
		pl.Suggested, pl.Why = Rebase,
			linear.By+" keeps one row of revisions, so what is yours goes on top of what is "+
				"new. Each file keeps the change list that it is in."
	case errors.As(pl.Rebase.Refused, &fixed):
		pl.Suggested, pl.Why = Merge, fmt.Sprintf("others have %s already, and %s keeps what others have for good.",
			words.Is(len(p.Divergence.Yours), "your commit", "some of your "+yours), fixed.By)
	case pl.Rebase.Refused != nil:
		pl.Suggested, pl.Why = Merge, "your line holds a commit that joins several lines at once, and such commits "+
			"are not replayed."
	case len(p.TakenOut) > 0:
		pl.Suggested, pl.Why = Rebase, "the remote branch was rewritten, and a merge would bring back what was taken "+
			"out of it."
	case pl.Pushed():
		pl.Suggested, pl.Why = Merge, words.Is(len(p.Divergence.Yours), "your commit is", "some of your "+yours+" are")+
			" on a remote already; rebase would give them new ids, and whoever has them would have them twice."
	case asksR > 2*asksM+1:
		pl.Suggested = Merge
		pl.Why = fmt.Sprintf("rebase would ask %s, merge %d: replaying your commits one by one meets the same lines "+
			"again and again.",
			words.Count(asksR, "decision", "decisions"), asksM)
	default:
		pl.Suggested = Rebase
		pl.Why = "none of your " + yours + " has left this machine, so nobody is disturbed by new ids, and the merge " +
			"would add a commit that only says you caught up."
		if len(p.Divergence.Yours) == 1 {
			pl.Why = "your commit has not left this machine, so nobody is disturbed by its new id, and the merge " +
				"would add a commit that only says you caught up."
		}
	}
}

// OneWay reports that there is but one route to choose.
func (pl *Plan) OneWay() bool {
	linear := (*LinearError)(nil)
	return pl.Pick != nil || pl.Merge != nil && errors.As(errors.Join(pl.Merge.Refused, pl.Rebase.Refused), &linear)
}

// Of returns the join of a route.
func (pl *Plan) Of(r Route) *Join {
	if pl.Pick != nil {
		return pl.Pick
	}
	switch r {
	case Merge:
		return pl.Merge
	}
	return pl.Rebase
}

// Asking returns the join that compares both sides: the merge or the pick.
func (pl *Plan) Asking() *Join {
	switch {
	case pl.Pick != nil:
		return pl.Pick
	case pl.compared != nil:
		return pl.compared
	}
	return pl.Merge
}
