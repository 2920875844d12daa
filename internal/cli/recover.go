package cli

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"path/filepath"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"dorvik.dev/dorvik/internal/change"
	"dorvik.dev/dorvik/internal/check"
	"dorvik.dev/dorvik/internal/core/history"
	"dorvik.dev/dorvik/internal/core/object"
	"dorvik.dev/dorvik/internal/core/replay"
	"dorvik.dev/dorvik/internal/core/settle"
	"dorvik.dev/dorvik/internal/ledger"
	"dorvik.dev/dorvik/internal/plan"
	"dorvik.dev/dorvik/internal/prove"
	"dorvik.dev/dorvik/internal/recovery"
	"dorvik.dev/dorvik/internal/vcs"
	"dorvik.dev/dorvik/internal/visible"
	"dorvik.dev/dorvik/internal/words"
)

type recoverJSON struct {
	Version      int            `json:"version"`
	Route        string         `json:"route"`
	Result       string         `json:"result"`
	Tip          object.ID      `json:"tip"`
	Tree         object.ID      `json:"tree"`
	Settled      []settledJSON  `json:"settled"`
	Open         []openConflict `json:"open"`
	AlreadyThere []object.ID    `json:"already_there"`
	Emptied      []object.ID    `json:"emptied"`
	Dropped      []object.ID    `json:"dropped,omitempty"` // commits that were left out in the full screen
	LeftOut      []plan.LeftOut `json:"left_out"`
	Check        *checkJSON     `json:"check"`
	*provedJSON                 // nil if no check was run
	Waypoint     string         `json:"waypoint"`
	Refusal      *refusalJSON   `json:"refusal,omitempty"`
	Exchanged    *exchangedJSON `json:"exchanged,omitempty"`
	PutForward   *forwardJSON   `json:"put_forward,omitempty"`
	Moved        []ledger.Move  `json:"moved,omitempty"` // other branches that the rebase's list moves
	// Notes has remarks about the list of git's half-done operation.
	Notes       []string           `json:"notes,omitempty"`
	Published   []object.ID        `json:"published,omitempty"` // commits that a rebase would rewrite
	Marks       []plan.MarkerFile  `json:"marks,omitempty"`     // conflict marks in what would be pushed
	Carried     []plan.CarriedPath `json:"carried"`
	Remarks     []remarkJSON       `json:"remarks,omitempty"`
	Misfits     []misfitJSON       `json:"misfits,omitempty"`
	NotLookedAt []string           `json:"not_looked_at,omitempty"` // what could not be looked at, as sentences
	Notice      string             `json:"notice,omitempty"`
	Error       string             `json:"error,omitempty"`
}

type settledJSON struct {
	Path   string     `json:"path"`
	Way    string     `json:"way"`
	Commit *object.ID `json:"commit"` // null for a merge
}

type openConflict struct {
	Path   string     `json:"path"`
	Kind   string     `json:"kind"`
	Commit *object.ID `json:"commit"`
}

type checkJSON struct {
	Command string  `json:"command"`
	Passed  bool    `json:"passed"`
	Seconds float64 `json:"seconds"`
}

type refusalJSON struct {
	Kind  string   `json:"kind"`
	Words []string `json:"words"`
	Next  string   `json:"next"`
}

// exchangedJSON has the remote branch's tip before and after an exchange.
type exchangedJSON struct {
	Was object.ID `json:"was"`
	Now object.ID `json:"now"`
}

// forwardJSON has the branch that was put forward into, with its tip before and after.
type forwardJSON struct {
	Branch string    `json:"branch"`
	From   object.ID `json:"from"`
	To     object.ID `json:"to"`
}

// exchangeFlag adds the flag that agrees to replace one's own commits at the remote.
func exchangeFlag(cmd *cobra.Command, exchange *bool) {
	cmd.Flags().BoolVar(exchange, "exchange", false,
		"replace what the remote has of this branch, all of it yours, guarded by the tip that was seen")
}

type recoverFlags struct {
	route, prefer, check string
	noCheck, push        bool
	pushOnly             bool // push without a join

	moveAside, rewritePublished, pushMarks bool

	carry, each, mend bool
	leaveBranches     bool
	takeOver          string
	from, to, then    string
	exchange          bool
}

func recoverCommand(e *env) *cobra.Command {
	var f recoverFlags
	cmd := &cobra.Command{
		Use: "recover", Short: "Do the whole job without a screen",
		Long: `Fetches, joins by the route, settles conflicts by the ways preferred, checks,
accepts the result and, with --push, pushes it. Where a decision is missing it
stops with the recovery saved; open dorvik to go on. Where something is to be confirmed
(commits that are on a remote would be rewritten, conflict marks would be pushed) it
stops with exit code 3 and says which flag confirms it.

A check is run only if it was agreed to before in this repository, as it reads now;
--check agrees to one, and so does git config --global dorvik.check.`,
		Example: `  dorvik recover --route rebase --prefer weave,theirs-yours --check 'make test' --push
  dorvik recover --prefer suggested --no-check --json`,
		Args: noArgs,
	}
	cmd.Flags().StringVar(&f.route, "route", "auto", "rebase, merge or auto (the suggested one)")
	cmd.Flags().StringVar(&f.takeOver, "take-over", "",
		"what becomes of a half-done operation: finish, anew or back")
	cmd.Flags().BoolVar(&f.rewritePublished, "rewrite-published", false, "rebase commits that are on a remote, too")
	cmd.Flags().BoolVar(&f.leaveBranches, "leave-branches", false,
		"with --take-over finish: leave the other branches where they are that the list of a rebase moves")
	fromFlag(cmd, &f.from)
	exchangeFlag(cmd, &f.exchange)
	cmd.Flags().StringVar(&f.then, "then", "",
		"put the branch forward afterwards: `BRANCH` moves to here, and is pushed")
	f.add(cmd)
	cmd.RunE = func(cmd *cobra.Command, _ []string) error {
		if f.route != "auto" && f.route != "rebase" && f.route != "merge" {
			return usage{fmt.Errorf("--route is rebase, merge or auto, not %q", f.route)}
		}
		switch ledger.TakeOver(f.takeOver) {
		case "", ledger.Finish, ledger.Anew, ledger.Back:
		default:
			return usage{fmt.Errorf("--take-over is finish, anew or back, not %q", f.takeOver)}
		}
		prefer, err := f.ways()
		if err != nil {
			return err
		}
		s, err := e.session(cmd.Context())
		if err != nil {
			return err
		}
		defer s.Close()
		return e.job(cmd.Context(), s, f, prefer, s.Home)
	}
	return e.jsonFlag(cmd)
}

// job does the whole recovery without a screen, from the position that stand returns.
func (e *env) job(ctx context.Context, s *recovery.Session, f recoverFlags, prefer []settle.Way,
	stand func(ctx context.Context, fetch bool) (*plan.Position, error)) error {
	r := &recoverer{prover: newProver(e, s, f.mend), flags: f, prefer: prefer, out: newRecoverJSON(), stand: stand}
	err := r.all(ctx, stand)
	if e.json {
		var known exit
		if err != nil && !errors.As(err, &known) {
			r.out.Error = visible.Lines(answered(err))
		}
		r.out.NotLookedAt = e.notLookedAt()
		err = errors.Join(err, e.print(r.out))
	}
	return err
}

// newRecoverJSON returns the report of a recovery that did nothing yet.
func newRecoverJSON() recoverJSON {
	return recoverJSON{Version: 1, Result: "failed", Settled: []settledJSON{}, Open: []openConflict{},
		AlreadyThere: []object.ID{}, Emptied: []object.ID{}, LeftOut: []plan.LeftOut{}, Carried: []plan.CarriedPath{}}
}

// pushCommand is the last stage alone: it pushes the branch if nothing has to be joined first.
func pushCommand(e *env) *cobra.Command {
	cmd := &cobra.Command{Use: "push", Short: "Push what is on your branch, never forcing; nothing is joined",
		Long: `Pushes the branch where “git push” would. A branch that was never pushed becomes a new
branch of the usual remote, which it then follows. Where git's settings leave open which
branch of the remote is meant, say it with --to.`,
		Args: noArgs}
	to := ""
	exchange := false
	exchangeFlag(cmd, &exchange)
	cmd.Flags().StringVar(&to, "to", "", "push to `BRANCH` of the remote")
	cmd.RunE = func(cmd *cobra.Command, _ []string) error {
		s, err := e.session(cmd.Context())
		if err != nil {
			return err
		}
		defer s.Close()
		return e.job(cmd.Context(), s, recoverFlags{push: true, pushOnly: true, to: to,
			exchange: exchange, carry: s.Ledger.State().Carry}, nil,
			s.Home)
	}
	return e.jsonFlag(cmd)
}

// all does the recovery from the beginning, and takes over a half-done operation first.
func (r *recoverer) all(ctx context.Context,
	stand func(ctx context.Context, fetch bool) (*plan.Position, error)) error {
	if err := r.s.Ledger.Carry(r.flags.carry); err != nil {
		return err
	}
	if r.flags.from != "" {
		line, err := r.s.Lines.Find(ctx, r.flags.from)
		if err != nil {
			return err
		}
		if err := r.s.Lines.Take(ctx, &line); err != nil {
			return err
		}
	}
	switch how := ledger.TakeOver(r.flags.takeOver); how {
	case "":
	case ledger.Back:
		return r.giveBack(ctx)
	default:
		if err := r.s.TakeOver(ctx, how); err != nil {
			return err
		}
	}
	p, err := stand(ctx, true)
	var stuck *plan.StuckError
	if errors.As(err, &stuck) {
		return r.stuck(stuck)
	}
	if err != nil {
		return err
	}
	if p.Resumes() != nil {
		r.out.Notes = p.Stuck.Notes
		for _, n := range p.Stuck.Notes {
			r.say("▲ %s", n)
		}
	}
	if err := r.run(ctx, p); err != nil || r.flags.then == "" {
		return err
	}
	return r.putForward(ctx)
}

// putForward moves another branch to here, and pushes it.
func (r *recoverer) putForward(ctx context.Context) error {
	result := r.out.Result
	r.out.Result = "failed"
	line, err := r.s.Lines.Find(ctx, r.flags.then)
	if err != nil {
		return err
	}
	f, err := r.s.Forwards.Prepare(ctx, line)
	if err != nil {
		return err
	}
	r.say("%s", f.Sentence(f.Merges))
	done, err := r.s.Forwards.Put(ctx, f, f.Merges, change.Consent{WithoutHooks: true})
	if err != nil {
		return err
	}
	r.note()
	if done.Refusal != nil {
		r.refused(done)
		return exit{exitRefused}
	}
	r.out.PutForward = &forwardJSON{f.Line.Name, f.At, done.Tip}
	if r.out.Result = result; result == "nothing-to-do" {
		r.out.Result = "pushed"
	}
	r.say("Pushed. %s now holds %s.", f.Line.Name, done.Holds)
	return nil
}

// refused reports a rejected push in the result and in words.
func (r *recoverer) refused(done *recovery.Pushed) {
	ref := done.Refusal
	r.out.Result = "refused"
	r.out.Refusal = &refusalJSON{ref.JSON(), ref.Words, ref.Command()}
	r.say("The push was refused: %v.", ref)
	for _, w := range ref.Words {
		r.say("  %s", w)
	}
}

// giveBack takes back what git left half done.
func (r *recoverer) giveBack(ctx context.Context) error {
	r.note()
	wp, err := r.s.GiveBack(ctx)
	if err != nil {
		return err
	}
	r.note()
	r.out.Result, r.out.Tip, r.out.Waypoint = "nothing-to-do", wp.After, wp.Name
	if r.out.Tree, err = r.s.Planner.Tree(ctx, wp.After); err != nil {
		return err
	}
	r.say("%s is at %s, as before it began. What was edited since is kept; “dorvik undo” brings all of it back.",
		wp.Branch, wp.After)
	return nil
}

// stuck ends the command if git left something half done and no flag says what to do with it.
func (r *recoverer) stuck(e *plan.StuckError) error {
	r.out.Result, r.out.Error = "conflicts", visible.Lines(e.Error())
	for _, p := range e.Open {
		r.out.Open = append(r.out.Open, openConflict{Path: p, Kind: "content"})
	}
	r.sayStuck(e.Stuck)
	r.out.Notes = e.Notes
	return exit{exitConflicts}
}

type recoverer struct {
	*prover
	// stand locates the position. tries counts the pushes before which somebody else pushed.
	stand func(ctx context.Context, fetch bool) (*plan.Position, error)
	tries int

	flags  recoverFlags
	prefer []settle.Way
	out    recoverJSON
}

// again joins with what somebody pushed in between. Decisions are kept.
func (r *recoverer) again(ctx context.Context) error {
	r.tries++
	r.say("Somebody pushed first; joining again, for the %d. time.", r.tries+1)
	p, err := r.stand(ctx, true)
	if err != nil {
		return err
	}
	r.out = newRecoverJSON()
	return r.run(ctx, p)
}

// note prints the session's notices once.
func (r *recoverer) note() {
	if n := r.s.TakeNotice(); n != "" {
		r.say("%s", n)
		r.out.Notice = strings.TrimSpace(r.out.Notice + " " + n)
	}
}

// run does the recovery from a position to the push.
func (r *recoverer) run(ctx context.Context, p *plan.Position) error {
	r.note()
	if p.Unanswered != nil && (!p.IsPick() || r.flags.push) {
		return p.Unanswered
	}
	err := r.s.Ledger.Sync(p)
	if err != nil {
		return err
	}
	r.position(p, r.s.Repo.Dialect(), true)
	r.out.Tip = p.Yours
	if r.out.Tree, err = r.s.Planner.Tree(ctx, p.Yours); err != nil {
		return err
	}
	if p.NothingToDo() || p.Trivial() == plan.UpToDate {
		return r.asItIs(ctx, p)
	}
	if p.Exchange, err = r.s.Planner.Exchange(ctx, p); err != nil {
		return err
	}
	may := p.Exchange != nil && len(p.Exchange.Others) == 0
	if r.flags.exchange || may && (r.flags.route == "auto" || r.flags.pushOnly) {
		return r.exchange(ctx, p)
	}
	if r.flags.pushOnly {
		r.out.Result = "refused"
		r.say("Nothing was pushed: join first, with recover or in the full screen.")
		return exit{exitRefused}
	}
	if err := r.needs(ctx, p); err != nil {
		return err
	}
	j, err := r.settle(ctx, p)
	if err != nil {
		return err
	}
	r.out.Remarks = remarksJSON(j)
	for _, n := range j.Remarks() {
		r.say("▲ %s", words.Remark(n))
	}
	if p.IsPick() && p.Resumes() == nil && j.Kept() == 0 {
		r.out.Result = "nothing-to-do"
		r.say("There is nothing left to pick: what those commits change is in your line. Nothing was changed.")
		return r.s.Ledger.DropPick()
	}
	j, b, err := r.prove(ctx, p, j)
	if err != nil {
		return err
	}
	if err := r.accept(ctx, p, j, b); err != nil {
		return err
	}
	if !r.flags.push || r.out.Tip == p.Theirs && p.FromLine() == nil {
		return nil
	}
	return r.push(ctx, p)
}

// needs tells which earlier commits picks build on.
func (r *recoverer) needs(ctx context.Context, p *plan.Position) error {
	if !p.IsPick() || p.Resumes() != nil {
		return nil
	}
	st := r.s.Ledger.State()
	j, err := r.s.Planner.Join(ctx, p, plan.Pick, &st.Decisions, plan.Amends{}, nil)
	if err != nil {
		return err
	}
	needs, err := r.s.Workspace.Needs(ctx, p, j, &st.Decisions)
	r.sayNeeds(needs)
	return err
}

// exchange replaces the remote branch's commits, which are earlier forms of yours, or says what it takes.
func (r *recoverer) exchange(ctx context.Context, p *plan.Position) error {
	x := p.Exchange
	switch {
	case x == nil:
		r.out.Result = "refused"
		r.out.Error = p.To().Name + " has commits that are not yours, or were never here: they are not exchanged"
		r.say("%s. Join the two lines instead.", r.out.Error)
		return exit{exitRefused}
	case len(x.Others) > 0:
		r.out.Result = "refused"
		r.out.Error = fmt.Sprintf("%s has %s by others that your branch does not have in any form: %s", p.To().Name,
			words.Count(len(x.Others), "commit", "commits"), visible.Lines(words.List(subjects(x.Others))))
		r.say("%s. Join the two lines instead: --route merge.", r.out.Error)
		return exit{exitRefused}
	}
	for _, g := range x.Goes {
		now := "goes, and is not here in any form"
		if !g.Now.IsZero() {
			now = "is here as " + r.s.Planner.Short(g.Now)
		}
		r.say("  %s %s: %s", r.s.Planner.Short(g.ID), g.Subject(), now)
	}
	if !r.flags.exchange || !r.flags.push {
		r.out.Result = "conflicts"
		r.out.Error = p.To().Name + " has earlier forms of your own commits"
		r.say("Nothing was pushed. Replace them with “dorvik push --exchange”, or join both with --route merge.")
		return exit{exitConflicts}
	}
	if err := r.marks(ctx, p, p.Yours); err != nil {
		return err
	}
	return r.push(ctx, p)
}

// subjects returns the subjects of some commits.
func subjects(list []history.Node) (out []string) {
	for _, n := range list {
		out = append(out, "“"+n.Subject()+"”")
	}
	return words.Some(out, 3)
}

// asItIs ends a recovery with nothing to join: it pushes if requested.
func (r *recoverer) asItIs(ctx context.Context, p *plan.Position) error {
	r.out.Result = "nothing-to-do"
	if p.NothingToDo() {
		return nil
	}
	if a := r.s.Ledger.State().Accepted; a != nil {
		r.out.Route, r.out.Waypoint = string(a.By), a.Name
	}
	if !r.flags.push {
		return nil
	}
	r.out.Result = "failed"
	if err := r.marks(ctx, p, p.Yours); err != nil {
		return err
	}
	return r.push(ctx, p)
}

// settle joins by the route and settles what the preferences decide. It ends the command if something is left open or
// needs a confirmation.
func (r *recoverer) settle(ctx context.Context, p *plan.Position) (*plan.Join, error) {
	route := plan.Route(r.flags.route)
	if route == "auto" {
		route = ""
	}
	j, err := r.s.SettleBy(ctx, p, route, r.prefer)
	r.out.Route = string(r.s.Ledger.State().Route)
	if p.Trivial() == plan.FastForward {
		r.out.Route = string(plan.FastForward)
	}
	if err != nil {
		return nil, err
	}
	if err := r.report(ctx, p, j); err != nil {
		return nil, err
	}
	if err := r.published(ctx, j); err != nil {
		return nil, err
	}
	if j.Open > 0 {
		r.out.Result = "conflicts"
		r.say("%s a decision. The recovery is saved: open dorvik to settle it, or say --prefer.",
			words.Count(j.Open, "conflict wants", "conflicts want"))
		return nil, exit{exitConflicts}
	}
	return j, nil
}

// prove makes the joined commits, searches misfits and runs the check.
func (r *recoverer) prove(ctx context.Context, p *plan.Position, j *plan.Join) (*plan.Join,
	plan.Built, error) {
	j, err := r.fit(ctx, p, j)
	if r.out.Misfits = r.misfits; err != nil {
		return j, plan.Built{}, err
	}
	b, err := r.s.Planner.Build(ctx, p, j)
	if err != nil {
		return j, b, err
	}
	if j, b, err = r.makeAnew(ctx, p, j, b); err != nil {
		return j, b, err
	}
	r.out.Tree = j.Tree
	if r.flags.push {
		if err := r.marks(ctx, p, b.Tip); err != nil {
			return j, b, err
		}
	}
	if p.Trivial() == plan.NotTrivial && !r.flags.noCheck {
		return j, b, r.check(ctx, p, j, b)
	}
	return j, b, nil
}

// accept changes the branch and the files.
func (r *recoverer) accept(ctx context.Context, p *plan.Position, j *plan.Join, b plan.Built) error {
	consent := change.Consent{MoveAside: r.flags.moveAside, RewritePublished: r.flags.rewritePublished,
		WithoutHooks: true, LeaveBranches: r.flags.leaveBranches}
	touched, err := r.s.WorkTree.Touched(ctx, p, j.Tree)
	if err != nil {
		return err
	}
	wp, err := r.s.Accept(ctx, p, j, b, consent)
	if err != nil {
		if at, rerr := r.s.Repo.Ref(ctx, p.Branch.Full()); rerr == nil {
			r.out.Tip = at // the branch's actual tip
		}
		return err
	}
	r.note()
	for _, path := range touched.Open {
		r.say("%s is open in an editor, as the file shows that it keeps beside it: load it again there.", path)
	}
	for _, path := range touched.Fresh {
		r.say("%s was written less than %s before: if it is open in an editor, load it again there.", path,
			words.Count(int(change.JustWritten/time.Second), "second", "seconds"))
	}
	for _, path := range wp.Aside {
		r.say("%s was moved aside, to %s; until this is pushed, undo brings it back.", path,
			filepath.Join(r.s.Applier.AsideAt(wp), filepath.FromSlash(path)))
	}
	r.out.Result, r.out.Tip, r.out.Waypoint, r.out.Moved = "joined", wp.After, wp.Name, wp.Moves
	branch := cmp.Or(p.Branch.Name, "HEAD")
	switch {
	case p.SettlesOnly():
		r.say("Settled: what was in conflict is in your files%s, and nothing is committed. “dorvik undo” brings it "+
			"back.", words.If(r.s.Repo.Dialect().Index, ", staged", ""))
	case wp.After == p.Head():
		r.out.Result = "nothing-to-do"
		r.say("%s ended: nothing of it was left to commit, and %s stays at %s. “dorvik undo” brings back what was "+
			"half done.", words.Upper(p.Stuck.What()), branch, wp.After)
	default:
		did := words.If(p.IsPick(), words.If(p.Counter() == "", "Picked", "Taken back by a new commit"), "Joined")
		undo := words.If(r.flags.push, "", " “dorvik undo” takes it back.") // a pushed join cannot be undone like this
		r.say("%s: %s is now at %s.%s", did, branch, r.s.Planner.Place(ctx, wp.After, r.s.Planner.Name(wp.After)), undo)
	}
	for _, m := range wp.Moves {
		r.say("%s was moved with it, to %s.", strings.TrimPrefix(m.Branch, "refs/heads/"), m.To)
	}
	return nil
}

// published stops a rebase that would rewrite commits others may have, unless a flag agrees.
func (r *recoverer) published(ctx context.Context, j *plan.Join) error {
	if r.flags.rewritePublished {
		return nil
	}
	list, err := r.s.Planner.Published(ctx, j)
	if err != nil || len(list) == 0 {
		return err
	}
	for _, n := range list {
		r.out.Published = append(r.out.Published, n.ID)
	}
	if by := r.s.Repo.Dialect(); by.KeepsShared {
		return &plan.FixedError{By: by.Name, Commits: list}
	}
	why := &plan.PublishedError{Commits: list}
	r.out.Error = visible.Lines(why.Error())
	r.say("dorvik: %v.", why)
	r.say("Merge instead (--route merge), or say --rewrite-published to rebase all the same.")
	return exit{exitConflicts}
}

// marks stops a push of conflict markers, unless a flag agrees.
func (r *recoverer) marks(ctx context.Context, p *plan.Position, tip object.ID) error {
	found, _, err := r.s.Planner.ConflictMarkers(ctx, p.Upstream().Theirs, tip)
	if err != nil || len(found) == 0 {
		return err
	}
	r.out.Marks = found
	for _, m := range found {
		r.say("▲ conflict marks stand in %s", m)
	}
	if r.flags.pushMarks {
		return nil
	}
	r.out.Error = "conflict marks stand in what would be pushed"
	r.say("Nothing was pushed. Take the marks out, or say --push-marks if they are meant to be there.")
	return exit{exitConflicts}
}

func (r *recoverer) report(ctx context.Context, p *plan.Position, j *plan.Join) error {
	all := r.s.Ledger.State().Decisions
	decisions := all.Indexed()
	for _, stop := range j.Stops {
		var commit *object.ID
		if stop.Commit.Commit != nil {
			commit = &stop.Commit.ID
		}
		for _, f := range stop.Files {
			for _, c := range f.Questions {
				if d, _, ok := decisions.For(c); ok {
					r.out.Settled = append(r.out.Settled, settledJSON{c.Path, string(d.Way), commit})
				} else {
					r.out.Open = append(r.out.Open, openConflict{c.Path, string(c.Kind), commit})
				}
			}
		}
	}
	for i := range j.Steps {
		switch st := &j.Steps[i]; st.Outcome {
		case replay.AlreadyThere:
			r.out.AlreadyThere = append(r.out.AlreadyThere, st.Commit.ID)
			r.say("%s “%s” is left out: %s made the same change.", r.s.Planner.Name(st.Commit.ID), st.Commit.Subject(),
				st.Same.Author().Name)
		case replay.Emptied:
			r.out.Emptied = append(r.out.Emptied, st.Commit.ID)
			r.say("%s “%s” is left out: nothing of it is left.", r.s.Planner.Name(st.Commit.ID), st.Commit.Subject())
		case replay.Dropped:
			r.out.Dropped = append(r.out.Dropped, st.Commit.ID)
			r.say("%s “%s” is left out, as was wished in the full screen.", r.s.Planner.Name(st.Commit.ID),
				st.Commit.Subject())
		}
	}
	if text := j.Carried.Sentence(); text != "" && !p.SettlesOnly() {
		r.out.Carried = append(r.out.Carried, j.Carried.Paths...)
		r.say("%s", text)
	}
	left, err := r.s.Planner.Accounts.LeftOut(ctx, p, j, decisions)
	r.out.LeftOut = append(r.out.LeftOut, left...)
	return err
}

// makeAnew runs the commands for generated files and joins again with their results.
func (r *recoverer) makeAnew(ctx context.Context, p *plan.Position, j *plan.Join, b plan.Built) (
	*plan.Join, plan.Built, error) {
	todo := j.Unmade()
	if len(todo) > 0 {
		terms, agreed, err := r.s.Prover.ToMake(ctx, p, j)
		if err != nil {
			return j, b, err
		}
		if !agreed {
			return j, b, &prove.UnmadeError{Terms: terms}
		}
		failed, err := r.s.Prover.Make(ctx, j, terms, b.Tip,
			func(l string) { r.say("  %s", strings.TrimRight(l, " ")) })
		if err == nil && failed != nil {
			err = fmt.Errorf("%s could not be regenerated: “%s” ended with %d; open dorvik to take a "+
				"side", todo[0].Path,
				todo[0].Command, failed.Exit)
		}
		if err != nil {
			return j, b, err
		}
		st := r.s.Ledger.State()
		if j, err = r.s.Planner.Join(ctx, p, j.Route, &st.Decisions, st.Amends(), nil); err != nil {
			return j, b, err
		}
		if b, err = r.s.Planner.Build(ctx, p, j); err != nil {
			return j, b, err
		}
	}
	for _, m := range j.Regenerations {
		r.say("%s", m.Sentence())
	}
	return j, b, nil
}

// terms returns the check of the flag, which is an agreement, or the project's check if it was agreed to, or nil.
func (r *recoverer) terms(ctx context.Context, p *plan.Position, j *plan.Join) (*prove.Terms, error) {
	if line := r.flags.check; line != "" {
		return r.s.Prover.Asker.TermsOf(ctx, check.Command{Steps: []string{line}, Source: "--check"}, j.Tree, p)
	}
	t, agreed, err := r.s.Prover.MayCheck(ctx, p, j.Tree)
	if err == nil && t != nil && !agreed {
		err = &prove.UnagreedError{Terms: t}
	}
	return t, err
}

func (r *recoverer) check(ctx context.Context, p *plan.Position, j *plan.Join, b plan.Built) error {
	terms, err := r.terms(ctx, p, j)
	switch {
	case err != nil:
		return err
	case terms == nil:
		r.say("No check was found in this project; going on without.")
		return nil
	}
	line := terms.Command.Line()
	r.say("Checking: %s", line)
	r.out.provedJSON = r.proved
	passed, err := r.joined(ctx, p, j, terms, b)
	if err != nil {
		return err
	}
	r.out.Check = &checkJSON{line, passed, r.proved.seconds()}
	each, err := r.s.Prover.WantsEach(ctx)
	if err != nil {
		return err
	}
	if passed && (each || r.flags.each) && len(b.Made()) > 1 {
		if passed, err = r.eachOf(ctx, p, j, terms, b); err != nil {
			return err
		}
	}
	if !passed {
		r.out.Result = "check-failed"
		r.say("Nothing was changed; open dorvik to mend it.")
		return errors.Join(exit{exitCheck}, r.s.Ledger.Reach(ledger.Check))
	}
	return nil
}

// seconds returns the duration of the steps.
func (p *provedJSON) seconds() (all float64) {
	for _, s := range p.Steps {
		all += s.Seconds
	}
	return all
}

// tip returns the commit that is pushed.
func (r *recoverer) tip(p *plan.Position) object.ID {
	if a := r.s.Ledger.State().Accepted; a != nil {
		return a.After
	}
	return p.Yours
}

func (r *recoverer) push(ctx context.Context, p *plan.Position) error {
	if _, first := p.Kind.(plan.Starting); first {
		for _, n := range p.Divergence.Yours {
			r.say("  %s %s", r.s.Planner.Short(n.ID), n.Subject())
		}
	}
	r.s.Push.Waits = func(try, of int) {
		r.say("Another push is running there at this moment; trying again, %d of %d.", try, of)
	}
	if why, err := r.s.Push.KnownRefusal(ctx, p, r.tip(p)); err != nil {
		return err
	} else if why != "" {
		r.say("%s.", words.Upper(why))
	}
	done, err := r.s.Push.Tip(ctx, p, change.Consent{WithoutHooks: true, To: r.flags.to,
		Exchange: r.flags.exchange && p.Exchange != nil})
	var unclear *recovery.UnclearError
	if errors.As(err, &unclear) {
		return r.unclear(unclear)
	}
	if errors.Is(err, recovery.NoTaskError{}) {
		r.out.Result, r.out.Error = "refused", err.Error()
		r.say("%s.", words.Upper(r.out.Error))
		return exit{exitConflicts}
	}
	if err != nil {
		return err
	}
	r.note()
	r.out.Tip = done.Tip
	if ref := done.Refusal; ref != nil {
		if ref.Kind == vcs.Behind && done.WentBack && r.tries < recovery.MostTries {
			return r.again(ctx)
		}
		r.refused(done)
		if done.Unsure {
			r.say("The remote does not answer, so it is not known whether the push arrived all the same: look again " +
				"when it does.")
		}
		switch {
		case ref.Kind == vcs.Behind && done.WentBack:
			r.out.Tip = p.Yours
			r.say("Your branch is back where it was, and your decisions are kept: recover again.")
		case ref.Kind == vcs.Behind && p.IsPick():
			r.say("What you picked is on your branch. Join it with what is new there: recover.")
		case r.out.Waypoint != "":
			r.say("The result is on your branch. “dorvik undo” takes it back.")
		}
		return exit{exitRefused}
	}
	r.pushed(p, done)
	return nil
}

// pushed reports an accepted push.
func (r *recoverer) pushed(p *plan.Position, done *recovery.Pushed) {
	for _, w := range done.Said {
		r.say("  %s", w)
	}
	r.out.Result = "pushed"
	if !done.Was.IsZero() {
		r.out.Exchanged = &exchangedJSON{done.Was, done.Tip}
	}
	r.say("Pushed. %s now holds %s.", done.To.Name, r.s.Planner.Name(done.Holds))
	for _, text := range []string{done.TagsSentence(), done.PhaseSentence()} {
		if text != "" {
			r.say("%s", text)
		}
	}
	if n := len(done.Kept); n > 0 {
		r.say("%s %s %s here: “git push %s %s” pushes %s.", words.Is(n, "The tag", "The tags"), words.List(done.Kept),
			words.Is(n, "stays", "stay"), done.To.Remote, strings.Join(done.Kept, " "), words.Is(n, "it", "them"))
	}
	if done.Follows != "" {
		r.say("%s now follows %s.", p.Branch.Name, done.Follows)
	}
}

// unclear ends a push whose destination git's settings leave open.
func (r *recoverer) unclear(e *recovery.UnclearError) error {
	r.out.Result, r.out.Error = "refused", visible.Lines(e.Error())
	var ways []string
	for _, c := range e.Choices {
		ways = append(ways, "dorvik push --to "+c.Branch())
	}
	r.out.Refusal = &refusalJSON{"unknown", []string{}, ways[0]}
	r.say("%s.", visible.Lines(e.Error()))
	r.say("Say which: %s.", strings.Join(ways, " or "))
	return exit{exitRefused}
}
