package cli

import (
	"context"
	"errors"
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"dorvik.dev/dorvik/internal/core/object"
	"dorvik.dev/dorvik/internal/core/replay"
	"dorvik.dev/dorvik/internal/core/settle"
	"dorvik.dev/dorvik/internal/plan"
	"dorvik.dev/dorvik/internal/recovery"
	"dorvik.dev/dorvik/internal/vcs"
	"dorvik.dev/dorvik/internal/words"
)

type planJSON struct {
	Version     int          `json:"version"`
	Branch      string       `json:"branch"`
	Upstream    string       `json:"upstream"`
	From        string       `json:"from,omitempty"` // line that is joined instead of the upstream
	Yours       sideJSON     `json:"yours"`
	Theirs      sideJSON     `json:"theirs"`
	Known       *knownJSON   `json:"known,omitempty"` // set if theirs is a remote branch
	Bases       []object.ID  `json:"bases"`
	Suggested   string       `json:"suggested"`
	Routes      []any        `json:"routes"`
	Misfits     []misfitJSON `json:"misfits"`
	Needs       []object.ID  `json:"needs,omitempty"`         // earlier commits that picked ones build on
	NotLookedAt []string     `json:"not_looked_at,omitempty"` // what could not be looked at, as sentences
}

type conflictJSON struct {
	Path    string `json:"path"`
	Kind    string `json:"kind"`
	Regions int    `json:"regions"`
	From    string `json:"from,omitempty"` // the name before a rename
	Also    string `json:"also,omitempty"` // theirs' name, if both renamed it
}

type mergeJSON struct {
	Route     string         `json:"route"`
	Clean     bool           `json:"clean"`
	Trivial   string         `json:"trivial"`
	Tree      *object.ID     `json:"tree"`
	Conflicts []conflictJSON `json:"conflicts"`
	Refused   string         `json:"refused,omitempty"`
	Remarks   []remarkJSON   `json:"remarks,omitempty"`
}

type rebaseJSON struct {
	Route   string       `json:"route"`
	Clean   bool         `json:"clean"`
	Trivial string       `json:"trivial"`
	Tree    *object.ID   `json:"tree"`
	Steps   []stepJSON   `json:"steps"`
	Refused string       `json:"refused,omitempty"`
	Remarks []remarkJSON `json:"remarks,omitempty"`
}

type remarkJSON struct {
	Path string `json:"path,omitempty"`
	Text string `json:"text"`
}

type stepJSON struct {
	Commit    object.ID      `json:"commit"`
	Outcome   string         `json:"outcome"`
	Conflicts []conflictJSON `json:"conflicts"`
}

// planned holds the flags of plan.
type planned struct {
	route, yours, theirs, pick, from string
	exitCode                         bool
	noFetch                          bool
	parent                           int
}

func (f *planned) check(routeGiven bool) error {
	if f.pick != "" && (f.theirs != "" || routeGiven) {
		return usage{fmt.Errorf("--pick names the other side and the route itself; leave --theirs and --route out")}
	}
	if f.from != "" && (f.yours != "" || f.theirs != "" || f.pick != "") {
		return usage{fmt.Errorf("--from names the other side of your branch; leave --yours, --theirs and --pick out")}
	}
	if f.route != "all" && f.route != "merge" && f.route != "rebase" {
		return usage{fmt.Errorf("--route is merge, rebase or all, not %q", f.route)}
	}
	return nil
}

// open opens the repository.
func (f *planned) open(ctx context.Context, e *env) (*recovery.Workspace, error) {
	if f.pick != "" || f.from != "" {
		return e.workspace(ctx)
	}
	return e.allowing(recovery.OpenToPlan(ctx, e.dir, f.yours, f.theirs))
}

// work computes the requested routes.
func (f *planned) work(ctx context.Context, w *recovery.Workspace) (*plan.Position, []*plan.Join,
	plan.Route, error) {
	if f.pick != "" {
		p, j, err := w.PlanPick(ctx, f.yours, strings.Split(f.pick, ","), f.parent)
		return p, []*plan.Join{j}, plan.Pick, err
	}
	p, err := f.position(ctx, w)
	if err != nil {
		return nil, nil, "", err
	}
	if f.route != "all" {
		j, err := w.Planner.Join(ctx, p, plan.Route(f.route), &settle.Decisions{}, plan.Amends{}, nil)
		return p, []*plan.Join{j}, plan.Route(f.route), err
	}
	pl, err := w.Planner.Plan(ctx, p, &settle.Decisions{}, nil)
	if err != nil {
		return nil, nil, "", err
	}
	return p, []*plan.Join{pl.Merge, pl.Rebase}, pl.Suggested, nil
}

// position locates the two sides.
func (f *planned) position(ctx context.Context, w *recovery.Workspace) (*plan.Position, error) {
	if f.from != "" {
		return w.LocateBeside(ctx, !f.noFetch, f.from)
	}
	return w.Compare(ctx, f.yours, f.theirs, !f.noFetch)
}

func planCommand(e *env) *cobra.Command {
	var f planned
	cmd := &cobra.Command{
		Use: "plan", Short: "Work both routes out in full and report them; changes nothing",
		Example: `  dorvik plan --json
  dorvik plan --route merge --yours main --theirs origin/main
  dorvik plan --pick 4f2a91c,v1.2..fixes`,
		Long: `Asks the remote, unless both sides are named, and works out in memory what a merge
and a rebase would each make and ask. Nothing is changed but what a fetch changes: no
branch, no index and no file.

Exit code 0 says that the routes asked for are clean, 3 that one is not.`,
		Args: noArgs,
	}
	flags := cmd.Flags()
	flags.StringVar(&f.route, "route", "all", "merge, rebase or all")
	flags.StringVar(&f.yours, "yours", "", "the `REV` that is yours (the branch you are on)")
	flags.StringVar(&f.theirs, "theirs", "", "the `REV` that is theirs (what the branch follows)")
	fromFlag(cmd, &f.from)
	flags.BoolVar(&f.noFetch, "no-fetch", false, "do not ask the remote first; use what was last fetched")
	flags.StringVar(&f.pick, "pick", "",
		"bring the commits `REV[,REV…]` (or ranges A..B) onto yours, instead of joining theirs")
	flags.BoolVar(&f.exitCode, "exit-code", true, "exit with 3 if a route that is asked for is not clean")
	flags.IntVar(&f.parent, "parent", 0,
		"with --pick: of a commit that joins lines, what it changed against its `N`th parent, from 1")
	cmd.RunE = func(cmd *cobra.Command, _ []string) error {
		if err := f.check(flags.Changed("route")); err != nil {
			return err
		}
		w, err := f.open(cmd.Context(), e)
		if err != nil {
			return err
		}
		defer w.Close()
		p, joins, suggested, err := f.work(cmd.Context(), w)
		if err != nil {
			return err
		}
		return e.sayPlan(p, joins, suggested, f, func() (misfits []plan.Misfit, needs *recovery.Needs, err error) {
			if f.pick != "" {
				needs, err = w.Needs(cmd.Context(), p, joins[0], &settle.Decisions{})
				return nil, needs, err
			}
			for _, j := range joins {
				if misfits, err = w.Planner.Foresight.Misfits(cmd.Context(), p, j); len(misfits) > 0 || err != nil {
					break // both routes join the same edits
				}
			}
			return misfits, nil, err
		})
	}
	return e.jsonFlag(cmd)
}

// sayPlan prints what the routes make and ask. People read it while foresee still searches for misfits
// or, for picks, for what they need.
func (e *env) sayPlan(p *plan.Position, joins []*plan.Join, suggested plan.Route, f planned,
	foresee func() ([]plan.Misfit, *recovery.Needs, error)) error {
	out := planJSON{Version: 1, Branch: p.Branch.Name, Upstream: p.Branch.Upstream,
		Yours: sideJSON{p.Yours, len(p.Divergence.Yours)}, Theirs: sideJSON{p.Theirs, len(p.Divergence.Theirs)},
		Bases: p.Divergence.Bases, Suggested: string(suggested), Routes: []any{}}
	if p.FromLine() != nil {
		out.From = p.Line().Name
	}
	clean := true
	remote := f.pick == "" && f.theirs == ""
	if remote {
		at := knownOf(p)
		out.Known = &at
	}
	for _, j := range joins {
		out.Routes = append(out.Routes, routeJSON(p, j))
		clean = clean && j.Clean()
	}
	if !e.json {
		e.position(p, e.opened.Repo.Dialect(), f.pick == "" && f.yours == "" && f.theirs == "")
		if remote {
			e.asked(p)
		}
		linear := (*plan.LinearError)(nil)
		for _, j := range joins {
			if !errors.As(j.Refused, &linear) || len(joins) == 1 {
				e.say("%s", e.describe(p, j))
			}
		}
	}
	misfits, needs, err := foresee()
	if err != nil {
		return err
	}
	if needs != nil {
		out.Needs = plan.IdsOf(needs.Commits)
	}
	if out.Misfits, out.NotLookedAt = misfitsJSON(misfits), e.notLookedAt(); e.json {
		err = e.print(out)
	} else {
		for _, j := range joins {
			misfits = j.Untold(misfits)
		}
		e.sayMisfits(misfits)
		e.sayNeeds(needs)
	}
	if err != nil {
		return err
	}
	if !clean && f.exitCode {
		return exit{exitConflicts}
	}
	return nil
}

// sayNeeds tells what picks need, and the command that takes it along.
func (e *env) sayNeeds(n *recovery.Needs) {
	if n == nil {
		return
	}
	var ids []string
	for _, id := range n.Picks {
		ids = append(ids, id.Prefix(12))
	}
	e.say("▲ %s “dorvik pick %s” takes %s along.", n.Sentences(), strings.Join(ids, " "),
		words.Is(len(n.Commits), "it", "them"))
}

func routeJSON(p *plan.Position, j *plan.Join) any {
	var tree *object.ID
	if j.Clean() {
		tree = &j.Tree
	}
	refused := ""
	if j.Refused != nil {
		refused = j.Refused.Error()
	}
	if j.Route == plan.Merge {
		m := mergeJSON{Route: "merge", Clean: j.Clean(), Trivial: string(p.Trivial()), Tree: tree,
			Conflicts: []conflictJSON{}, Refused: refused, Remarks: remarksJSON(j)}
		for _, s := range j.Stops {
			m.Conflicts = conflictsJSON(s)
		}
		return m
	}
	r := rebaseJSON{Route: string(j.Route), Clean: j.Clean(), Trivial: string(p.Trivial()), Tree: tree,
		Steps: []stepJSON{}, Refused: refused, Remarks: remarksJSON(j)}
	stop := 0
	for i := range j.Steps {
		s := stepJSON{Commit: j.Steps[i].Commit.ID, Outcome: string(j.Steps[i].Outcome), Conflicts: []conflictJSON{}}
		for ; stop < len(j.Stops) && j.Stops[stop].Commit.ID == s.Commit; stop++ {
			s.Conflicts = append(s.Conflicts, conflictsJSON(j.Stops[stop])...)
		}
		r.Steps = append(r.Steps, s)
	}
	return r
}

func remarksJSON(j *plan.Join) (out []remarkJSON) {
	for _, n := range j.Remarks() {
		out = append(out, remarkJSON{n.Path, n.Words})
	}
	return out
}

func conflictsJSON(s plan.Stop) []conflictJSON {
	out := []conflictJSON{}
	for i, f := range s.Files {
		out = append(out, conflictJSON{f.Path, string(s.Result.Conflicts[i].Kind), len(f.Questions), f.From, f.Also})
	}
	return out
}

func (e *env) describe(p *plan.Position, j *plan.Join) string {
	by := e.opened.Repo.Dialect()
	route := j.Route.In(by)
	switch {
	case j.Refused != nil:
		return fmt.Sprintf("%-7s not possible: %v", route, j.Refused)
	case p.Trivial() != plan.NotTrivial:
		return fmt.Sprintf("%-7s nothing to decide (%s)", route, p.Trivial())
	case j.Clean():
		return fmt.Sprintf("%-7s joins by itself", route) + remarks(by, j)
	}
	s := fmt.Sprintf("%-7s asks %s", route, words.Count(j.Conflicts(), "decision", "decisions"))
	if j.Route != plan.Merge {
		s += fmt.Sprintf(" at %s", words.Count(len(j.Stops), "stop", "stops"))
	}
	for _, stop := range j.Stops {
		for _, f := range stop.Files {
			what := words.Hint(f.Questions[0])
			if what == "" {
				what = words.Count(len(f.Questions), "place that both changed", "places that both changed")
			}
			s += "\n          " + f.Path + "  " + what
		}
	}
	for _, st := range j.Steps {
		if st.Outcome == replay.AlreadyThere {
			s += fmt.Sprintf("\n          %s “%s” is already there: %s made the same change",
				e.opened.Planner.Name(st.Commit.ID),
				st.Commit.Subject(), st.Same.Author().Name)
		}
	}
	return s + remarks(by, j)
}

func remarks(by vcs.Dialect, j *plan.Join) (s string) {
	for _, n := range j.Remarks() {
		s += "\n          remark: " + words.Remark(n)
		if n.Driver != "" {
			s += " Agree in dorvik, or with " + by.SetEverywhere(n.Driver+".agreed") + ": true."
		}
	}
	return s
}
