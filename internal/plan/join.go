package plan

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"iter"
	"slices"
	"strings"

	"dorvik.dev/dorvik/internal/core/diff"
	"dorvik.dev/dorvik/internal/core/history"
	"dorvik.dev/dorvik/internal/core/merge"
	"dorvik.dev/dorvik/internal/core/object"
	"dorvik.dev/dorvik/internal/core/replay"
	"dorvik.dev/dorvik/internal/core/settle"
	"dorvik.dev/dorvik/internal/vcs"
	"dorvik.dev/dorvik/internal/words"
)

// Route is one way of joining.
type Route string

// The routes.
const (
	Rebase Route = "rebase"
	Merge  Route = "merge"
	Pick   Route = "pick" // single commits of another line, brought onto yours
)

// Stop is a place on a route at which conflicts want decisions: the merge as a
// whole, or one replayed commit.
type Stop struct {
	Commit history.Node // zero for a merge
	Files  []*settle.File
	Result *merge.Result

	Uncommitted bool // the commit is made of what is not committed, and never goes anywhere
}

// Join is a route worked out under the decisions made so far.
type Join struct {
	Route   Route
	Refused error         // why the route cannot be taken; the rest is then empty
	Merge   *merge.Result // of a merge
	Steps   []replay.Step // of a rebase
	Stops   []Stop
	Tree    object.ID // the joined tree, with stand-ins where Open is not 0
	Open    int       // conflicts without a decision
	Settled int
	Mended  []Mend   // applied
	Lost    []Mend   // that fit no longer
	Makings []Making // files that are, or are to be, made anew
	Carried *Carried

	onto    object.ID      // of a pick: the commit that the first step stands on
	work    *Uncommitted   // that is carried in the place of the position's; nil for that
	Plain   object.ID      // the joined tree before files were made anew; zero where none was
	mended  []Mend         // what those applied did to the joined texts
	besides []merge.Remark // what is to be said that no file's merge says
}

// Clean reports whether the route asks nothing.
func (j *Join) Clean() bool { return j.Refused == nil && len(j.Stops) == 0 }

// Remarks lists what should be known of the join though it asks nothing, each once.
func (j *Join) Remarks() []merge.Remark {
	out := slices.Clone(j.besides)
	add := func(r *merge.Result) {
		if r == nil {
			return
		}
		for _, n := range r.Remarks {
			if !slices.Contains(out, n) {
				out = append(out, n)
			}
		}
	}
	add(j.Merge)
	for i := range j.Steps {
		for _, r := range j.Steps[i].Joins() {
			add(r)
		}
	}
	return out
}

// Conflicts counts the decisions asked.
func (j *Join) Conflicts() (n int) {
	for _, s := range j.Stops {
		for _, f := range s.Files {
			n += len(f.Questions)
		}
	}
	return n
}

// Mend is an edit to a file of the joined tree, made to let the check pass.
type Mend struct {
	Path          string
	Before, After string
}

// Amends is what is changed in a joined tree beyond the decisions.
type Amends struct {
	Mends []Mend
	Made  []Made
}

// Join works a route out. Nothing is written. progress may be nil.
func (pn *Planner) Join(ctx context.Context, p *Position, route Route, decisions *settle.Decisions, by Amends,
	progress func(done, of int)) (*Join, error) {
	j := &Join{Route: route}
	var err error
	decisions = decisions.Indexed()
	resolve := func(r *merge.Result) (merge.Decided, bool, error) { return pn.Files.Resolve(ctx, r, decisions) }
	switch {
	case p.Trivial() == FastForward:
		if j.Tree, err = pn.Tree(p.Theirs); err == nil {
			err = pn.Carry(ctx, j, p.Carried, resolve)
		}
		pn.open(j, decisions)
		return j, err
	case p.Trivial() == UpToDate:
		j.Tree, err = pn.Tree(p.Yours)
		return j, err
	case p.Resume != nil:
		err = pn.goOnward(ctx, j, p, resolve, progress)
	case p.Picking:
		j.Route, j.onto = Pick, p.Yours
		picks := slices.Clone(p.Divergence.Theirs)
		slices.Reverse(picks)
		err = j.take(replay.Pick(ctx, pn.Engine, pn.Changes, picks, p.Own, p.PickParent, p.Yours, resolve, progress))
	case route == Merge:
		if err = pn.joinMerge(ctx, j, p, resolve); err == nil {
			j.besides, err = pn.takenBack(ctx, p, j)
		}
	default:
		err = j.take(replay.Rebase(ctx, pn.Engine, pn.Changes, p.Divergence.Yours, p.Divergence.Theirs, p.Theirs,
			p.Wishes, resolve, progress))
		if refused := (*replay.MergeCommitError)(nil); errors.As(err, &refused) {
			j.Refused = refused
			return j, nil
		}
		if err == nil {
			j.besides, err = pn.takenBack(ctx, p, j)
		}
	}
	if err != nil {
		return nil, err
	}
	if err := pn.mend(j, by.Mends); err != nil {
		return nil, err
	}
	if err := pn.makeAnew(j, decisions, by.Made); err != nil {
		return nil, err
	}
	err = pn.Carry(ctx, j, cmp.Or(j.work, p.Carried), resolve)
	pn.open(j, decisions)
	return j, err
}

// take has the join be made of replayed steps.
func (j *Join) take(steps []replay.Step, err error) error {
	if err != nil {
		return err
	}
	j.Steps = steps
	if j.Tree, err = steps[len(steps)-1].Tree(); err != nil {
		return err
	}
	for i := range steps {
		for _, one := range steps[i].Unfit {
			j.Lost = append(j.Lost, Mend(one))
		}
		for _, r := range steps[i].Joins() {
			if !r.Clean() {
				j.Stops = append(j.Stops, Stop{Commit: steps[i].Commit, Result: r})
			}
		}
	}
	return nil
}

// open makes the questions of the stops.
func (pn *Planner) open(j *Join, decisions *settle.Decisions) {
	for i := range j.Stops {
		s := &j.Stops[i]
		for k := range s.Result.Conflicts {
			f := pn.Files.Open(&s.Result.Conflicts[k])
			s.Files = append(s.Files, f)
			for _, c := range f.Questions {
				if _, _, ok := decisions.For(c); ok {
					j.Settled++
				} else {
					j.Open++
				}
			}
		}
	}
}

// questions goes through what the stops ask, with the files that it is about.
func (j *Join) questions() iter.Seq2[*settle.File, *settle.Question] {
	return func(yield func(*settle.File, *settle.Question) bool) {
		for _, stop := range j.Stops {
			for _, f := range stop.Files {
				for _, q := range f.Questions {
					if !yield(f, q) {
						return
					}
				}
			}
		}
	}
}

func (pn *Planner) joinMerge(ctx context.Context, j *Join, p *Position, resolve replay.Resolver) error {
	var r *merge.Result
	var err error
	if p.Resume != nil && p.Resume.From != p.Yours {
		r, err = pn.Joined(ctx, p.Resume.From, p.Theirs)
	} else {
		r, err = pn.over(ctx, p.Divergence.Bases, p.Yours, p.Theirs)
	}
	if err != nil {
		return err
	}
	j.Tree, err = j.mergeOf(r, p.Resume, resolve)
	return err
}

// mergeOf settles a merge, which may have been begun elsewhere, makes it the join's own, and gives its tree.
func (j *Join) mergeOf(r *merge.Result, resume *Resume, resolve replay.Resolver) (tree object.ID, err error) {
	var begun *merge.Begun
	if resume != nil && resume.Begun != nil {
		begun = resume.Begun
		begun.Narrow(r)
	}
	decided, _, err := resolve(r)
	if err != nil {
		return tree, err
	}
	j.Merge = r
	if !r.Clean() {
		j.Stops = []Stop{{Result: r}}
	}
	if tree, err = r.Tree(decided); err == nil && begun != nil {
		tree, err = begun.Over(r, tree)
	}
	return tree, err
}

// settleOnly settles what is in conflict without an operation. Nothing is committed: all of the outcome is carried as
// uncommitted work, what was in conflict as staged.
func (pn *Planner) settleOnly(ctx context.Context, j *Join, p *Position, resolve replay.Resolver) error {
	st := p.Stuck
	r, err := pn.Engine.Trees(ctx, st.trees.Base, st.trees.Yours, st.trees.Theirs)
	if err != nil {
		return err
	}
	settled, err := j.mergeOf(r, p.Resume, resolve)
	if err == nil {
		j.Tree, err = pn.Tree(st.Left.Head)
	}
	if err != nil {
		return err
	}
	u := *p.Carried
	u.Parts = nil
	u.Add(Part{j.Tree, settled, "what is staged", true})
	for _, part := range p.Carried.Parts {
		u.Add(part)
	}
	j.work = &u
	return nil
}

// Route is the one by which it was begun.
func (r *Resume) Route(p *Position) Route {
	switch {
	case len(r.Merged) > 0, p.SettlesOnly():
		return Merge
	case p.Picking:
		return Pick
	}
	return Rebase
}

// goOnward goes on with what git left half done.
func (pn *Planner) goOnward(ctx context.Context, j *Join, p *Position, resolve replay.Resolver,
	progress func(done, of int)) error {
	r := p.Resume
	switch j.Route = r.Route(p); {
	case p.SettlesOnly():
		return pn.settleOnly(ctx, j, p, resolve)
	case j.Route == Merge:
		return pn.joinMerge(ctx, j, p, resolve)
	}
	j.onto = r.Onto
	if len(r.Todo) == 0 {
		var err error
		j.Tree, err = pn.Tree(r.Onto)
		return err
	}
	return j.take(replay.Onwards(ctx, pn.Engine, r.Todo, r.Onto, p.Wishes, resolve, progress))
}

// mend applies the mends to the joined tree. One made on a text that has since
// changed is merged in; where that conflicts, it is lost and said to be.
func (pn *Planner) mend(j *Join, mends []Mend) error {
	for _, m := range mends {
		e, err := pn.Store.Find(j.Tree, m.Path)
		if err != nil {
			return err
		}
		if !e.Mode.IsRegular() {
			j.Lost = append(j.Lost, m)
			continue
		}
		data, err := pn.Store.Blob(e.ID)
		if err != nil {
			return err
		}
		now := string(data)
		after := m.After
		if now != m.Before {
			t := merge.Merge3(diff.Lines(m.Before), diff.Lines(m.After), diff.Lines(now))
			if t.Conflicts() > 0 {
				j.Lost = append(j.Lost, m)
				continue
			}
			after = t.Join(nil)
		}
		if after == now {
			continue // somebody made the same edit meanwhile
		}
		e.ID = pn.Store.Put(object.KindBlob, []byte(after))
		if j.Tree, err = pn.Store.Edit(j.Tree, map[string]object.Entry{m.Path: e}); err != nil {
			return err
		}
		j.Mended = append(j.Mended, m)
		j.mended = append(j.mended, Mend{m.Path, now, after})
	}
	return nil
}

// Kept counts the commits that a replay makes, or leaves as they are.
func (j *Join) Kept() int { return len(replay.Groups(j.Steps)) }

// MendHolder names the commit that mends become part of.
func (j *Join) MendHolder() (name string, ok bool) {
	if j.Route == Merge {
		return "the merge commit", true
	}
	if i, ok := replay.Last(j.Steps); ok && j.Route == Pick {
		return fmt.Sprintf("the last picked commit, “%s”", j.Steps[i].Commit.Subject()), true
	} else if ok {
		return fmt.Sprintf("your last commit, “%s”", j.Steps[i].Commit.Subject()), true
	}
	return "", false
}

// Built is the joined line as commits in memory.
type Built struct {
	Tip   object.ID
	IDs   []object.ID // of a rebase: the new commit for each step, zero for those left out
	Moves []builtMove // of other branches, made together with that of the branch
}

// builtMove is the move of another branch: to the commit of a step or, where that is negative, to a commit.
type builtMove struct {
	Name string
	From object.ID
	Step int
	To   object.ID
}

// Build makes the commits of a join that has no open conflict. They exist in
// memory only.
func (pn *Planner) Build(ctx context.Context, p *Position, j *Join) (Built, error) {
	if j.Refused != nil {
		return Built{}, j.Refused
	}
	if j.Open > 0 {
		return Built{}, fmt.Errorf("%s not settled yet", words.Count(j.Open, "conflict is", "conflicts are"))
	}
	switch p.Trivial() {
	case FastForward:
		return Built{Tip: p.Theirs}, nil
	case UpToDate:
		return Built{Tip: p.Yours}, nil
	}
	if p.SettlesOnly() {
		return Built{Tip: p.Yours}, nil
	}
	who, err := pn.Source.Committer(ctx)
	if err != nil {
		return Built{}, err
	}
	if j.Route == Merge {
		c := &object.Commit{Tree: j.Tree, Parents: []object.ID{p.Yours, p.Theirs}, AuthorLine: who.String(),
			Committer: who,
			Message:   MergeMessage(p)}
		if r := p.Resume; r != nil {
			c.Message = cmp.Or(r.Message, c.Message)
			c.Parents = append(c.Parents[:1], r.Merged...)
		}
		return Built{Tip: pn.Store.PutCommit(c)}, nil
	}
	var last object.ID
	if j.amended() {
		last = j.Tree
	}
	onto := p.Theirs
	if p.Picking {
		onto = p.Yours
	}
	if p.Resume != nil {
		onto = p.Resume.Onto
	}
	b := Built{}
	b.IDs, b.Tip, err = replay.Commits(pn.Store, j.Steps, onto, who, last)
	if p.Resume != nil {
		for _, m := range p.Resume.moves {
			at := replay.Kept(j.Steps, m.at)
			if at.Step >= 0 {
				id, err := replay.Upto(pn.Store, j.Steps, b.IDs, at.Step, who)
				if err != nil {
					return b, err
				}
				if id != b.IDs[at.Step] { // what follows becomes part of it, and it stays for that branch alone
					at = replay.Parent{Step: -1, ID: id}
				}
			}
			b.Moves = append(b.Moves, builtMove{m.move.Name, m.move.From, at.Step, at.ID})
		}
	}
	return b, err
}

// SettlesOnly reports whether conflicts are settled that belong to no operation: nothing is committed then.
func (p *Position) SettlesOnly() bool {
	return p.Stuck != nil && p.Stuck.Left.Operation == vcs.Unmerged
}

// MergeMessage is the message of the merge commit: what was joined to what,
// whose work it was, and their subjects.
func MergeMessage(p *Position) string {
	var b strings.Builder
	fmt.Fprintf(&b, "Join %s (%s) with %s\n", p.Branch.Upstream, strings.Join(Authors(p.Divergence.Theirs), ", "),
		p.Branch.Name)
	for i, n := range p.Divergence.Theirs {
		if i == 0 {
			b.WriteByte('\n')
		}
		if i == 20 {
			fmt.Fprintf(&b, "- and %d more\n", len(p.Divergence.Theirs)-i)
			break
		}
		fmt.Fprintf(&b, "- %s\n", n.Subject())
	}
	return b.String()
}

// Authors lists the names of the authors of commits, each once, the one of the
// newest commit first.
func Authors(commits []history.Node) []string {
	var out []string
	for _, n := range commits {
		if name := n.Author().Name; !slices.Contains(out, name) {
			out = append(out, name)
		}
	}
	return out
}

// Plan is both routes worked out.
type Plan struct {
	Rebase, Merge *Join
	Pick          *Join // alone, where commits are picked, or what git left half done is gone on with
	Suggested     Route
	Why           string // a sentence
	Wanted        Wanted
	Published     []Published // commits of yours that are on a remote: rewriting them disturbs others
}

// Pushed reports whether a rebase would rewrite what others may have.
func (pl *Plan) Pushed() bool { return len(pl.Published) > 0 }

// Plan works both routes out and suggests one; where commits are picked there is but
// one. Nothing is written.
func (pn *Planner) Plan(ctx context.Context, p *Position, decisions *settle.Decisions, progress func(done,
	of int)) (*Plan, error) {
	pl := &Plan{}
	var err error
	if p.Resume != nil {
		pl.Why = "it is gone on with as it was begun."
		if pl.Pick, err = pn.Join(ctx, p, "", decisions, Amends{}, progress); err == nil {
			pl.Suggested = pl.Pick.Route
			pl.Published, err = pn.Published(ctx, pl.Pick)
		}
		return pl, err
	}
	if p.Picking {
		pl.Suggested, pl.Why = Pick, "a picked commit is made again on your line, with its author and message."
		pl.Pick, err = pn.Join(ctx, p, Pick, decisions, Amends{}, progress)
		return pl, err
	}
	if pl.Merge, err = pn.Join(ctx, p, Merge, decisions, Amends{}, nil); err != nil {
		return nil, err
	}
	if pl.Rebase, err = pn.Join(ctx, p, Rebase, decisions, Amends{}, progress); err != nil {
		return nil, err
	}
	if !p.Past {
		if pl.Published, err = pn.Published(ctx, pl.Rebase); err != nil {
			return nil, err
		}
	}
	if pl.Wanted, err = pn.wanted(ctx, p.Branch.Name); err != nil {
		return nil, err
	}
	pl.suggest(p)
	pl.honour(p)
	return pl, nil
}

// Wanted is the route that a person or a team set, and by which setting; empty where none is.
type Wanted struct {
	Route   Route
	Setting string // such as "pull.rebase is true"

	OnlyForward bool // pull.ff is only: git pull would refuse where there is anything to join
}

// wanted reads which route is set for a branch: dorvik.route, or else what git pull goes by.
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

// honour has the route be suggested that is set, unless it cannot be taken or does harm; then that
// is said.
func (pl *Plan) honour(p *Position) {
	if pl.Wanted.OnlyForward {
		defer func() { pl.Why += " As pull.ff is only, git pull itself would refuse here." }()
	}
	switch {
	case pl.Wanted.Route == "":
	case pl.Wanted.Route == pl.Suggested:
		pl.Why = pl.Wanted.Setting + ". Also, " + pl.Why
	case pl.Rebase.Refused != nil || len(p.TakenOut) > 0 || pl.Pushed():
		pl.Why = pl.Wanted.Setting + ", and yet: " + pl.Why
	default:
		pl.Suggested = pl.Wanted.Route
		pl.Why = pl.Wanted.Setting + ". Without it the other way would be suggested: " + pl.Why
	}
}

func (pl *Plan) suggest(p *Position) {
	yours := words.Count(len(p.Divergence.Yours), "commit", "commits")
	asksR, asksM := pl.Rebase.Conflicts(), pl.Merge.Conflicts()
	switch {
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

// Of gives one of the routes.
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

// Asking is the join by which the two sides are compared: the merge, or the pick.
func (pl *Plan) Asking() *Join {
	if pl.Pick != nil {
		return pl.Pick
	}
	return pl.Merge
}

// Clashes joins two parted lines in memory and gives the paths that would ask, and how many
// decisions.
func (pn *Planner) Clashes(ctx context.Context, parted *history.Divergence, yours, theirs object.ID) (paths []string,
	asks int, err error) {
	if len(parted.Yours) == 0 || len(parted.Theirs) == 0 || len(parted.Bases) == 0 {
		return nil, 0, nil
	}
	a, err := pn.Tree(yours)
	if err != nil {
		return nil, 0, err
	}
	b, err := pn.Tree(theirs)
	if err != nil {
		return nil, 0, err
	}
	r, err := pn.Engine.TreesOver(ctx, parted.Bases, a, b)
	if err != nil {
		return nil, 0, err
	}
	for i := range r.Conflicts {
		paths = append(paths, r.Conflicts[i].Path)
		asks += len(pn.Files.Open(&r.Conflicts[i]).Questions)
	}
	return paths, asks, nil
}

// Replayed gives the commit that a new one was made of; zero where it is none of those.
func (j *Join) Replayed(b Built, id object.ID) (of history.Node) {
	if i := slices.Index(b.IDs, id); i >= 0 && i < len(j.Steps) && !id.IsZero() {
		of = j.Steps[i].Commit
	}
	return of
}

// Reworded are the steps that have another message by wish.
func (j *Join) Reworded() (out []int) {
	for _, group := range replay.Groups(j.Steps) {
		if slices.ContainsFunc(group, func(k int) bool {
			return j.Steps[k].Message != "" ||
				j.Steps[k].Says.Does != replay.Nothing && k != group[0]
		}) {
			out = append(out, group[0])
		}
	}
	return out
}

// Made are the new commits, the oldest first.
func (b Built) Made() (ids []object.ID) {
	for _, id := range b.IDs {
		if !id.IsZero() {
			ids = append(ids, id)
		}
	}
	return ids
}
