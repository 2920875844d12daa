package tui

import (
	"context"
	"errors"
	"slices"
	"strings"
	"sync"
	"time"

	tea "charm.land/bubbletea/v2"

	"dorvik.dev/dorvik/internal/change"
	"dorvik.dev/dorvik/internal/core/history"
	"dorvik.dev/dorvik/internal/core/merge"
	"dorvik.dev/dorvik/internal/core/object"
	"dorvik.dev/dorvik/internal/core/settle"
	"dorvik.dev/dorvik/internal/demo"
	"dorvik.dev/dorvik/internal/ledger"
	"dorvik.dev/dorvik/internal/plan"
	"dorvik.dev/dorvik/internal/prove"
	"dorvik.dev/dorvik/internal/recovery"
	"dorvik.dev/dorvik/internal/tui/term"
	"dorvik.dev/dorvik/internal/vcs"
	"dorvik.dev/dorvik/internal/words"
)

// job is the recovery as all screens read it. Each screen holds it.
type job struct {
	*frame
	s    *recovery.Session
	repo string
	me   string // e-mail of the person at the keyboard

	coder  *term.Coder
	played *demo.Rehearsal // the running demo, or nil

	file    *oneFile      // set if only one file is settled; nil for a recovery
	every   time.Duration // interval of asking the remote; 0 means never
	watched *besides
	trial   *trial // the program that runs in the joined code, or ran; or nil

	st         ledger.State
	pos        *plan.Position
	plan       *plan.Plan
	overlap    []plan.Overlap
	misfits    map[plan.Route][]plan.Misfit
	foreseen   [2]object.ID        // tips for which overlap and misfits were computed
	foreseeing *besides            // computes them; nil if idle
	each       eachCommit          // check results of new commits
	below      []history.Node      // the common ancestor, and the one before it
	drivers    []prove.MergeDriver // drivers that would run with consent
	locks      plan.Locks
	inWay      *change.OverwriteError
	marks      []plan.MarkerFile
	stash      *recovery.LeftAside
	needs      *recovery.Needs // earlier commits that a pick builds on; nil if none
	forward    *vcs.Line       // where the branch can be put forward into; nil if nowhere
	tasks      recovery.TaskSettings
	ahead      *plan.Carried // what carrying would do to the work in the way
	notice     string        // message of opening, shown until the next action

	join      *plan.Join
	questions []plan.Attributed
	built     plan.Built
	signed    map[object.ID]object.ID // signed versions of the shown commits

	aside   bool   // untracked files in the way may be moved aside
	rewrite bool   // published commits may be rebased
	onward  then   // where to go after joining, if not to the usual stage
	resumed bool   // the recovery of an earlier run was continued
	changed bool   // this run joined or pushed something
	holds   string // the remote's tip after the push, as reported

	about      *recovery.About // what a refusal names; nil if nothing
	exchanging bool            // Push exchanges the remote branch's commits for yours, and joins nothing

	route       plan.Route // the route marked on Choose
	verdicts    map[settle.Key][]settle.Verdict
	joinedAlone []joinedRow // files without an open question, wholly or in part

	nav           navigator
	awaitSettings func(ctx context.Context) error // returns when the settings changed
}

// oneFile is the settling of a single file. It has only the stage Settle, and its result is a file.
type oneFile struct {
	name  string // path of the result file
	save  func(j *plan.Join) error
	saved bool
}

// navigator takes the person from stage to stage. Screens reach others only through it, so no screen depends on
// another.
type navigator interface {
	// load surveys the repository and shows where it stands; it asks the remote first if fetch is set.
	load(fetch bool) tea.Cmd
	// startOver shows the opening screen and loads.
	startOver(fetch bool) tea.Cmd
	// lookAgain shows Look and loads.
	lookAgain(fetch bool) tea.Cmd
	toLook()
	toChoose()
	// chooseAgain shows Choose with both routes planned again.
	chooseAgain() tea.Cmd
	toSettle(conflict int) tea.Cmd
	toNextOpen() tea.Cmd
	// backToSettle shows the conflict that was shown last.
	backToSettle() tea.Cmd
	toCheck() tea.Cmd
	// backToCheck shows Check as it was left.
	backToCheck()
	toPush() tea.Cmd
	// toExchange shows Push with the exchange of the remote branch's commits.
	toExchange() tea.Cmd
	// joined goes to the stage that the joined route needs next.
	joined() tea.Cmd
	// accept moves the branch to the joined result and, if push is set, pushes it.
	accept(push bool) tea.Cmd
	// leaveFile asks whether to leave without writing the one file that is settled.
	leaveFile() tea.Cmd
}

// branchName returns the name of the current branch.
func (j *job) branchName() string {
	return words.If(j.pos.Branch.Name == "", "no branch", j.pos.Branch.Name)
}

// asked returns the usual right end of the first row: the age of what is known of the remote.
func (j *job) asked() term.Line {
	remote := j.pos.Asks()
	switch {
	case remote == "" && j.pos.Line().Name != "":
		return term.Text(term.Dim, j.pos.Line().Name+" is only here: no remote to ask")
	case j.pos.Unanswered != nil:
		return term.Line{}.Mark(term.MarkWarning).Add(term.Trouble, remote+" did not answer")
	case j.pos.Asked.IsZero() && j.task != nil:
		return term.Text(term.Dim, "asking "+remote+"…")
	case j.pos.Asked.IsZero():
		return term.Line{}.Mark(term.MarkWarning).Add(term.Trouble, "not asked").Add(term.Dim, "  f fetches")
	}
	return term.Text(term.Dim, remote+" was asked "+words.Ago(j.now(), j.pos.Asked))
}

// foresee searches the routes for misfits in the background. Earlier results stay while the lines are the same.
func (j *job) foresee() tea.Cmd {
	if j.foreseeing != nil {
		j.foreseeing.stop()
	}
	b, pos, plan := j.newBeside(), j.pos, j.plan
	if j.foreseeing = &b; j.foreseen != [2]object.ID{pos.Yours, pos.Theirs} {
		j.misfits, j.foreseen = nil, [2]object.ID{pos.Yours, pos.Theirs}
	}
	return b.start(func(ctx context.Context) (then, error) {
		found, err := j.s.Planner.Foresight.MisfitsOf(ctx, pos, plan)
		return func() tea.Cmd {
			if j.foreseeing == &b {
				j.foreseeing, j.misfits = nil, found
				j.notice = strings.TrimSpace(j.notice + " " + j.s.TakeNotice())
			}
			return nil
		}, err
	})
}

// rejoin joins by the chosen route with the decisions. It first applies change, unless nil, to the session. next runs
// on the screen afterwards.
func (j *job) rejoin(change func(s *recovery.Session) error, next then) tea.Cmd {
	pos := j.pos
	return j.start("joining", func(ctx context.Context, progress func(int, int)) (then, error) {
		if change != nil {
			if err := change(j.s); err != nil {
				return nil, err
			}
		}
		st := j.s.Ledger.State()
		now := *pos
		now.Requests = st.Requests
		join, err := j.s.Planner.Join(ctx, &now, st.Route, &st.Decisions, st.Amends(), progress)
		if err != nil {
			return nil, err
		}
		questions, err := j.s.Planner.Attribute(ctx, &now, join, &st.Decisions)
		return func() tea.Cmd {
			j.pos = &now
			j.join, j.questions, j.st = join, questions, st
			j.verdicts, j.joinedAlone = nil, joinedAlone(j.overlap, questions, j.pos.SettledBefore())
			if next == nil {
				return nil
			}
			return next()
		}, err
	})
}

// name returns an author's name, "you" for the person.
func (j *job) name(n history.Node, side merge.Side) string {
	if n.Commit == nil {
		return "somebody"
	}
	a := n.Author()
	if j.me != "" && a.Key() == j.me {
		if side == merge.Theirs && j.pos != nil && j.pos.Elsewhere[n.ID] {
			return "you, on another machine"
		}
		return "you"
	}
	return a.Name
}

// first returns an author's short name.
func (j *job) first(n history.Node, side merge.Side) string { return words.First(j.name(n, side)) }

func (j *job) age(n history.Node) string { return words.Ago(j.now(), n.Author().Time()) }

// movable reports whether what is in the way can be moved aside and there is no agreement yet.
func (j *job) movable() bool { return j.inWay != nil && j.inWay.Unknown && !j.aside }

// moveAside agrees to move what is in the way aside when the result is accepted.
func (j *job) moveAside() {
	j.aside = true
	j.flash = term.Text(term.Plain, words.List(words.Some(j.inWay.Paths, 3))+
		" will be moved aside when you accept the result. Undo brings it back.")
}

// accepted reports whether the branch already has the shown result. An earlier result that was not pushed is part of
// yours.
func (j *job) accepted() bool {
	a := j.st.Accepted
	return a != nil && (a.Before == j.pos.Yours || j.pos.Trivial() == plan.UpToDate)
}

// say puts a sentence into the words of the version-control system. Names are put into it later.
func (j *job) say(sentence string) string { return j.s.Repo.Dialect().Say(sentence) }

// joinless reports whether there is and was nothing to join in this run.
func (j *job) joinless() bool {
	return j.pos != nil && j.pos.Trivial() != plan.NotTrivial && j.join == nil
}

// canUndo reports whether there is a join to undo.
func (j *job) canUndo() bool { return j.st.Accepted != nil && j.holds == "" }

// undoJoin undoes the accepted join.
func (j *job) undoJoin() tea.Cmd {
	name := j.st.Accepted.Name
	return j.startVital("going back", func(ctx context.Context, _ func(int, int)) (then, error) {
		_, err := j.s.Applier.GoBack(ctx, name)
		var asks *change.AsksError
		if errors.As(err, &asks) {
			return func() tea.Cmd { return j.returning(asks) }, nil
		}
		return func() tea.Cmd {
			j.notice = j.s.TakeNotice()
			j.flash = term.Done(j.say("The join is undone: branch and files are as they were. Your decisions " +
				"are kept."))
			j.holds, j.rewrite = "", false
			return j.nav.lookAgain(true)
		}, err
	})
}

// returning asks how to carry uncommitted work when going back, and then goes back.
func (j *job) returning(asks *change.AsksError) tea.Cmd {
	j.pos, j.aside = asks.Position, true
	return j.rejoin(nil, func() tea.Cmd {
		cmd := j.nav.joined()
		where := "where the branch goes back to"
		if !j.pos.Stash().IsZero() {
			where = "what the files hold now"
		}
		j.flash = term.Text(term.Plain, "What you have not committed in "+words.List(words.Some(asks.Paths,
			3))+" does not "+
			"fit "+where+
			". Choose how it should be. Nothing changes until then.")
		return cmd
	})
}

// joinedRow is a file that asks nothing, or the rest of one that does.
type joinedRow struct {
	file    plan.Overlap
	part    bool // it has conflicts, beside which something joined by itself
	settled bool // the person settled its conflicts before Dorvik came
}

// joinedAlone returns the files without questions; then those that were settled before, and those with questions beside
// which something joined by itself.
func joinedAlone(overlap []plan.Overlap, questions []plan.Attributed, settled []string) (out []joinedRow) {
	asked, rest := map[string]bool{}, map[string]bool{}
	for _, q := range questions {
		for _, p := range q.File.Names() {
			asked[p] = true
		}
		if len(q.File.Wholly()) > 0 {
			rest[q.File.Path] = true
		}
	}
	var last []joinedRow
	for _, o := range overlap {
		switch {
		case rest[o.Path]:
			last = append(last, joinedRow{file: o, part: true})
		case !asked[o.Path] && !o.Decide && !slices.Contains(settled, o.Path):
			out = append(out, joinedRow{file: o})
		}
	}
	for _, p := range settled {
		if !asked[p] {
			out = append(out, joinedRow{file: plan.Overlap{Path: p, Counted: true}, settled: true})
		}
	}
	return append(out, last...)
}

// eachCommit is the check results of the replayed commits.
type eachCommit struct {
	mu  sync.Mutex
	now []prove.Each
}

func (e *eachCommit) set(now []prove.Each) {
	e.mu.Lock()
	defer e.mu.Unlock()
	e.now = now
}

func (e *eachCommit) known() []prove.Each {
	e.mu.Lock()
	defer e.mu.Unlock()
	return e.now
}

// passes returns the result of a commit. ok is false if it is unknown.
func (e *eachCommit) passes(id object.ID) (passed, ok bool) {
	for _, one := range e.known() {
		if one.ID == id && one.Passed != nil {
			return *one.Passed, true
		}
	}
	return false, false
}

// called names a route as the system's users do.
func (j *job) called(r plan.Route) string { return r.In(j.s.Repo.Dialect()) }

// placed names where a branch is, for a sentence.
func (j *job) placed(at object.ID) string {
	return j.s.Planner.Place(context.Background(), at, j.s.Planner.Short(at))
}
