package tui

import (
	"context"
	"errors"
	"fmt"
	"path/filepath"
	"slices"
	"strings"
	"time"

	tea "charm.land/bubbletea/v2"

	"dorvik.dev/dorvik/internal/change"
	"dorvik.dev/dorvik/internal/core/history"
	"dorvik.dev/dorvik/internal/core/merge"
	"dorvik.dev/dorvik/internal/core/object"
	"dorvik.dev/dorvik/internal/demo"
	"dorvik.dev/dorvik/internal/ledger"
	"dorvik.dev/dorvik/internal/plan"
	"dorvik.dev/dorvik/internal/prove"
	"dorvik.dev/dorvik/internal/recovery"
	"dorvik.dev/dorvik/internal/tui/keys"
	"dorvik.dev/dorvik/internal/tui/term"
	"dorvik.dev/dorvik/internal/words"
)

// job is the recovery as the screens show it: what all of them read. Each screen has it, and
// the frame through it.
type job struct {
	*frame
	s    *recovery.Session
	repo string
	me   string // e-mail of the person at the keyboard

	coder  *term.Coder
	played *demo.Rehearsal // the demo, where it is one

	file    *oneFile      // nothing but one file is settled; nil for a recovery
	every   time.Duration // the remote is asked so often; 0 for never
	watched *besides

	st         ledger.State
	pos        *plan.Position
	plan       *plan.Plan
	overlap    []plan.Overlap
	misfits    map[plan.Route][]plan.Misfit
	foreseen   [2]object.ID        // the two lines that those are of
	foreseeing *besides            // looks for them; nil where nothing does
	each       eachCommit          // how new commits stand to the check
	below      []history.Node      // the common ancestor, and the one before it
	drivers    []prove.MergeDriver // that would run if they were agreed to
	inWay      *change.OverwriteError
	marks      []plan.MarkerFile
	stash      *recovery.LeftAside
	ahead      *plan.Carried // what would become of the work that is in the way
	notice     string        // what opening found and did, said until something else is done

	join      *plan.Join
	questions []plan.Attributed
	built     plan.Built
	signed    map[object.ID]object.ID // of the commits shown, those that have been signed since

	aside   bool   // what is in the way and git does not know may be moved aside
	rewrite bool   // commits that are on a remote may be rebased
	onward  then   // where to go when all is joined, if not to the usual stage
	resumed bool   // what was kept of an earlier run was gone on with
	changed bool   // something was accepted or pushed in this run
	holds   string // what the remote said it holds after the push

	look   *lookScreen
	choose *chooseScreen
	settle *settleScreen
	check  *checkScreen
	push   *pushScreen

	awaitSettings func(ctx context.Context) error // returns when they were changed
}

// newJob makes the screens. A new stage is a line here and a file.
func newJob(ctx context.Context, s *recovery.Session, themeName string) *job {
	j := &job{frame: newFrame(ctx, term.ThemeOf(themeName)), s: s, repo: filepath.Base(s.Repo.Where().Dir),
		notice: s.TakeNotice(), coder: term.NewCoder(), awaitSettings: s.Repo.AwaitSettings}
	j.look = &lookScreen{job: j}
	j.choose = &chooseScreen{job: j}
	j.settle = &settleScreen{job: j}
	j.check = &checkScreen{job: j}
	j.push = &pushScreen{job: j}
	j.stages = []stage{j.look, j.choose, j.settle, j.check, j.push}
	j.under = &opening{job: j}
	j.title, j.failed, j.more = j.heading, j.failure, j.anywhere
	j.anew = func() tea.Cmd {
		j.goTo(&opening{job: j})
		return j.load(true)
	}
	return j
}

// historyAction is the key that opens the history, for screens that name it.
func (j *job) historyAction() action {
	return act(keys.History, "", func() tea.Cmd { return j.openHistory("") })
}

// anywhere is what can be done on every screen: look at the history.
func (j *job) anywhere() []action {
	switch j.screen().(type) {
	case *historyScreen, *helpScreen:
		return nil
	}
	all := []action{also(keys.History, j.historyAction().do)}
	switch j.screen().(type) {
	case *logbookScreen, *toldScreen:
	default:
		all = append(all, also(keys.Logbook, j.openLogbook))
	}
	if j.played != nil {
		again := also(keys.Anew, func() tea.Cmd { return j.playAgain(j.played.Part) })
		again.waits = true
		all = append(all, again)
		if _, open := j.screen().(*teammatesScreen); !open {
			all = append(all, also(keys.Teammates, j.openTeammates))
		}
	}
	return all
}

func (j *job) heading() term.Line {
	l := term.Line{}.Add(term.Plain, " ").Bold(term.Bright, "dorvik").Add(term.Dim, "  "+j.repo)
	if j.pos != nil {
		l = l.Add(term.Plain, "   "+j.branchName())
		if up := j.pos.Branch.Upstream; up != "" {
			l = l.Add(term.Dim, " → ").Add(term.Plain, up)
		}
	}
	return l
}

// branchName names the branch one is on.
func (j *job) branchName() string {
	return words.If(j.pos.Branch.Name == "", "no branch", j.pos.Branch.Name)
}

// asked is the usual right end of the first row: how old what is known of the remote is.
func (j *job) asked() term.Line {
	switch remote := j.pos.Branch.Remote.String(); {
	case j.pos.Unanswered != nil:
		return term.Line{}.Mark(term.MarkWarning).Add(term.Trouble, remote+" did not answer")
	case j.pos.Asked.IsZero() && j.task != nil:
		return term.Text(term.Dim, "asking "+remote+"…")
	case j.pos.Asked.IsZero():
		return term.Line{}.Mark(term.MarkWarning).Add(term.Trouble, "not asked").Add(term.Dim, "  f fetches")
	}
	return term.Text(term.Dim, j.pos.Branch.Remote.String()+" was asked "+words.Ago(j.now(), j.pos.Asked))
}

// load looks where things stand, asking the remote first if told to.
func (j *job) load(fetch bool) tea.Cmd {
	doing := "reading the history"
	if fetch && j.pos != nil {
		doing = "asking " + j.pos.Branch.Remote.String()
	}
	var part func(*plan.Position, []history.Node)
	var wait tea.Cmd
	over := make(chan struct{})
	if o, ok := j.under.(*opening); ok && o.why == nil {
		part, wait = o.parting(over)
	}
	return tea.Batch(wait, j.start(doing, func(ctx context.Context, progress func(int, int)) (then, error) {
		defer close(over)
		v, err := j.s.SurveyFrom(ctx, fetch, progress, part)
		var stuck *plan.StuckError
		if errors.As(err, &stuck) {
			return j.isStuck(ctx, stuck.Stuck)
		}
		if err != nil {
			return nil, err
		}
		return func() tea.Cmd { return j.loaded(v, fetch) }, nil
	}))
}

// loaded shows where things stand.
func (j *job) loaded(v *recovery.Survey, asked bool) tea.Cmd {
	j.pos, j.plan, j.overlap, j.st, j.inWay, j.me = v.Position, v.Plan, v.Overlap, v.State, v.InTheWay, v.Position.Me
	j.below, j.drivers, j.ahead, j.marks, j.stash = v.Below, v.Drivers, v.Ahead, v.Marks, v.Aside
	j.notice = strings.TrimSpace(j.notice + " " + j.s.TakeNotice())
	j.choose.fit()
	j.check.taken = nil
	j.join, j.questions, j.rewrite = nil, nil, false // what was agreed to was about what stood there then
	if j.pos.Resumes() != nil {                      // there is nothing to be chosen
		j.choose.route = j.plan.Suggested
		return j.rejoin(func(to *recovery.Session) error { return to.Ledger.TakeRoute(j.plan.Suggested) }, j.joined)
	}
	switch j.under.(type) {
	case *opening, *stuckScreen:
		j.goTo(j.look)
	}
	foresee := j.foresee()
	if !asked {
		return tea.Batch(foresee, j.load(true))
	}
	watch := tea.Batch(foresee, j.watch(), j.countRest())
	if j.resumed {
		return watch
	}
	j.resumed = true
	return tea.Batch(j.resume(), watch)
}

// foresee looks, beside the screen, for edits of both sides that will not work together by the routes of the plan. What
// was found before stays as long as it is of the same lines.
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

// countRest counts the lines of the files that were not counted before Look was shown.
func (j *job) countRest() tea.Cmd {
	list := j.overlap
	if !slices.ContainsFunc(list, func(o plan.Overlap) bool { return !o.Counted }) {
		return nil
	}
	counted := slices.Clone(list)
	return j.newBeside().start(func(ctx context.Context) (then, error) {
		err := j.s.Planner.CountLines(ctx, counted)
		return func() tea.Cmd {
			if len(j.overlap) == len(list) && &j.overlap[0] == &list[0] { // else one looked again meanwhile
				j.overlap = counted
				if j.join != nil {
					j.settle.joinedAlone = joinedAlone(j.overlap, j.questions)
				}
			}
			return nil
		}, err
	})
}

// watch asks the remote every so often while the screen is open, where that is wanted, and says
// what is new there. Nothing is moved by that: to look at it is left to the person.
func (j *job) watch() tea.Cmd {
	if j.watched != nil {
		j.watched.stop()
		j.watched = nil
	}
	if j.every <= 0 {
		return nil
	}
	b, every, of := j.newBeside(), j.every, j.pos.Branch
	j.watched = &b
	return b.start(func(ctx context.Context) (then, error) {
		select {
		case <-ctx.Done():
			return nil, nil
		case <-time.After(every):
		}
		news, err := j.s.Workspace.AskQuietly(ctx, of)
		return func() tea.Cmd {
			if news != nil {
				j.flash = term.Warning(of.Upstream + words.If(news.Went, " was rewritten", " moved") + ": " +
					words.Count(news.Commits, "new commit", "new commits") + " by " + words.List(words.Some(news.By,
					3)) +
					". Nothing here was moved; f on Look looks at it.")
			}
			return j.watch()
		}, err
	})
}

// resume goes on where an earlier run was left.
func (j *job) resume() tea.Cmd {
	if j.pos.Trivial() == plan.UpToDate && j.st.Accepted != nil {
		if j.notice != "" { // it stands on Look, which is passed by
			j.flash = term.Warning(j.notice)
		}
		if j.flash == nil {
			j.flash = term.Text(term.Plain, "You joined here before and have not pushed yet.")
		}
		return j.push.enter()
	}
	if !j.st.Underway() {
		return nil
	}
	j.choose.route = j.st.Route
	return j.rejoin(nil, func() tea.Cmd {
		if n := j.join.Settled; j.notice != "" {
			j.flash = term.Warning(j.notice)
		} else if n > 0 {
			j.flash = term.Text(term.Plain, fmt.Sprintf("Going on where you left: %s kept.",
				words.Count(n, "decision was", "decisions were")))
		}
		return j.joined()
	})
}

// rejoin works the chosen route out under the decisions; change, if not nil,
// is made to the session first. next runs on the screen afterwards.
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
		now.Wishes = st.Wishes
		join, err := j.s.Planner.Join(ctx, &now, st.Route, &st.Decisions, st.Amends(), progress)
		if err != nil {
			return nil, err
		}
		questions, err := j.s.Planner.Attribute(&now, join, &st.Decisions)
		return func() tea.Cmd {
			j.pos = &now
			j.join, j.questions, j.st = join, questions, st
			j.settle.verdicts, j.settle.joinedAlone = nil, joinedAlone(j.overlap, questions)
			if next == nil {
				return nil
			}
			return next()
		}, err
	})
}

// joined goes to the stage that a joined route asks for.
func (j *job) joined() tea.Cmd {
	switch {
	case j.file != nil && j.join.Open == 0:
		return j.saveFile()
	case j.pos.IsPick() && j.pos.Resumes() == nil && j.join.Open == 0 && j.join.Kept() == 0:
		cmd := j.look.dropPick()
		j.flash = term.Text(term.Plain, "There is nothing left to pick: what those commits change is in your line. Your branch "+
			"is as it was.")
		return cmd
	case j.join.Open > 0:
		return j.settle.enter(j.settle.nextOpen(-1))
	case j.pos.Trivial() == plan.FastForward, j.pos.SettlesOnly():
		return j.push.accept(false)
	}
	if next := j.onward; next != nil {
		j.onward = nil
		return next()
	}
	return j.check.enter()
}

func (j *job) failure(err error) tea.Cmd {
	var blocked *plan.Blocked
	var published *plan.PublishedError
	var over *change.OverwriteError
	j.check.stopped()
	switch {
	case errors.Is(err, context.Canceled) && j.pos != nil:
		j.flash = term.Text(term.Plain, "Cancelled. Nothing was changed.")
	case errors.As(err, &blocked) && j.under == screen(j.look), j.pos == nil:
		j.goTo(&opening{job: j, why: err})
	case errors.As(err, &published): // it came here without having been confirmed
		j.goTo(j.choose)
		j.choose.route = plan.Rebase
		j.choose.confirm(published.Commits)
	case errors.As(err, &over) && over.Unknown:
		j.inWay = over
		j.flash = term.Warning(words.List(words.Some(over.Paths, 2)) +
			" is in the way, and git does not know it. Press m to have it moved aside. Nothing was changed.")
	case over != nil && over.Hidden:
		j.inWay = over
		j.flash = term.Warning(words.Sentence(over.Error()))
	case over != nil:
		j.inWay = over
		j.flash = term.Warning(words.List(words.Some(over.Paths, 2)) +
			" has work that is not committed, and the result must change it. Press k to have it carried along. " +
			"Nothing was changed.")
	default:
		j.flash = term.Warning(words.Sentence(err.Error()))
	}
	return nil
}

// name tells an author: "you" for the person at the keyboard.
func (j *job) name(n history.Node, side merge.Side) string {
	if n.Commit == nil {
		return "somebody"
	}
	a := n.Author()
	if j.me != "" && a.Email == j.me {
		if side == merge.Theirs && j.pos != nil && j.pos.Elsewhere[n.ID] {
			return "you, on another machine"
		}
		return "you"
	}
	return a.Name
}

// first is the name of an author as one speaks of them.
func (j *job) first(n history.Node, side merge.Side) string { return words.First(j.name(n, side)) }

func (j *job) age(n history.Node) string { return words.Ago(j.now(), n.Author().Time()) }

// movable reports whether what is in the way can be moved aside, and was not agreed to be.
func (j *job) movable() bool { return j.inWay != nil && j.inWay.Unknown && !j.aside }

// moveAside has what is in the way moved aside when the result is accepted.
func (j *job) moveAside() {
	j.aside = true
	j.flash = term.Text(term.Plain, words.List(words.Some(j.inWay.Paths, 3))+
		" will be moved aside when you accept the result. Undo brings it back.")
}

// accepted reports whether the result shown is on the branch already. An earlier one
// that was not pushed may be there, too, and is then among yours.
func (j *job) accepted() bool {
	a := j.st.Accepted
	return a != nil && (a.Before == j.pos.Yours || j.pos.Trivial() == plan.UpToDate)
}

// joinless reports whether nothing is, or was in this run, to be joined.
func (j *job) joinless() bool {
	return j.pos != nil && j.pos.Trivial() != plan.NotTrivial && j.join == nil
}

// canUndo reports whether there is a join that can be taken back.
func (j *job) canUndo() bool { return j.st.Accepted != nil && j.holds == "" }

// undoJoin takes the accepted join back.
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
			j.flash = term.Done("The join is undone: branch, index and files are as they were. Your decisions are kept.")
			j.holds, j.rewrite = "", false
			j.goTo(j.look)
			return j.load(true)
		}, err
	})
}

// returning asks how uncommitted work is to be brought along by going back, and then goes back.
func (j *job) returning(asks *change.AsksError) tea.Cmd {
	j.pos, j.aside = asks.Position, true
	return j.rejoin(nil, func() tea.Cmd {
		cmd := j.joined()
		where := "where the branch goes back to"
		if !j.pos.Stash().IsZero() {
			where = "what the files hold now"
		}
		j.flash = term.Text(term.Plain, "What you have not committed in "+words.List(words.Some(asks.Paths, 3))+" does not "+
			"fit "+where+
			". Say how it is to be; until then nothing is changed.")
		return cmd
	})
}

func (j *job) farewell() string {
	kept := len(j.st.Decisions.List)
	switch picks := len(j.st.Picks); {
	case j.holds != "":
		return "dorvik: pushed. " + j.holds
	case j.st.Accepted != nil:
		return "dorvik: the joined result is on your branch and not pushed yet. “dorvik” goes on; “dorvik undo” " +
			"takes it back."
	case j.changed:
		return "dorvik: done."
	case picks > 0:
		return fmt.Sprintf("dorvik: nothing was changed. %s to pick; “dorvik” goes on where you left.",
			words.Count(picks, "commit is left", "commits are left"))
	case kept > 0:
		return fmt.Sprintf("dorvik: nothing was changed. %s kept; “dorvik” goes on where you left.",
			words.Count(kept, "decision is", "decisions are"))
	}
	return "dorvik: nothing was changed."
}

// opening is what there is before one knows where one stands, or where that cannot be known.
type opening struct {
	job *job
	why error // nothing can be done

	parts *plan.Position // where the lines part, which is known before the routes are
	stem  []history.Node // below that
}

// parting gives what takes where the lines part, and what waits for that, until it is over, and shows it.
func (o *opening) parting(over <-chan struct{}) (part func(*plan.Position, []history.Node), wait tea.Cmd) {
	known := make(chan func(), 1)
	return func(p *plan.Position, below []history.Node) {
			known <- func() { o.parts, o.stem = p, below }
		}, o.job.newBeside().start(func(context.Context) (then, error) {
			select {
			case show := <-known:
				return func() tea.Cmd { show(); return nil }, nil
			case <-over:
				return nil, nil
			}
		})
}

// early is Look as far as it is known: the two lines.
func (o *opening) early(w, h int) term.Page {
	pos, below := o.job.pos, o.job.below
	o.job.pos, o.job.below = o.parts, o.stem // what draws the lines looks there
	defer func() { o.job.pos, o.job.below = pos, below }()
	p := term.Page{nil}
	st := o.job.pos.Standing(false)
	p.Say(w, term.Line{}.Bold(term.Trouble, st.Head+" ").Add(term.Plain, st.Text))
	if o.job.pos.Resumes() == nil {
		p.Say(w, term.Text(term.Dim, "Both ways to join are being worked out."))
	} else {
		p.Say(w, term.Text(term.Dim, st.Next))
	}
	p.Blank()
	lanes := w - 3
	if w >= wide {
		lanes = max(w/2+2, min(o.job.look.lanesNeed()+6, w*60/100)) - 3
	}
	return append(p, term.Indent(o.job.look.lanes(lanes, h-len(p)-4), 2)...)
}

func (o *opening) actions() []action {
	if o.why == nil {
		return nil
	}
	var out []action
	var help *recovery.Offered
	if errors.As(o.why, &help) {
		out = append(out, acts(keys.Next, help.Offer.Does, func() tea.Cmd {
			return o.job.start(help.Offer.Does, func(ctx context.Context, _ func(int, int)) (then, error) {
				err := o.job.s.TakeUp(ctx, help.Offer)
				return func() tea.Cmd {
					o.job.notice = o.job.s.TakeNotice()
					o.job.goTo(&opening{job: o.job})
					return o.job.load(true)
				}, err
			})
		}))
	}
	return append(out, acts(keys.Fetch, "look again", func() tea.Cmd {
		o.job.goTo(&opening{job: o.job})
		return o.job.load(o.job.pos != nil)
	}))
}

func (o *opening) update(tea.Msg) tea.Cmd { return nil }

func (o *opening) view(w, h int) term.Page {
	p := term.Page{nil}
	var b *plan.Blocked
	switch {
	case o.why == nil && o.parts != nil && o.parts.Trivial() == plan.NotTrivial && !o.parts.IsPick():
		return o.early(w, h)
	case o.why == nil:
		return p
	case errors.As(o.why, &b):
		p.Say(w, term.Line{}.Bold(term.Trouble, b.What+" ").Add(term.Plain, b.Next))
	case errors.Is(o.why, context.Canceled):
		p.Say(w, term.Line{}.Bold(term.Bright, "Cancelled. ").Add(term.Plain, "Where you stand was not looked at to the end."))
	default:
		p.Say(w, term.Line{}.Bold(term.Trouble, "This did not work. ").Add(term.Plain, words.Sentence(o.why.Error())))
	}
	var help *recovery.Offered
	if errors.As(o.why, &help) {
		p.Blank()
		p.Say(w, term.Text(term.Plain, "Press ").Bold(term.Bright, keys.Next.Help().Key).Add(term.Plain, " to "+help.Offer.Does+"."))
	}
	if o.job.notice != "" {
		p.Blank()
		p.Warn(w, o.job.notice)
	}
	p.Blank()
	p.Say(w, term.Text(term.Dim, "Nothing has been changed. Press f to look again, q to leave."))
	return p
}

func (o *opening) status() term.Line { return nil }

func (o *opening) remark() term.Line {
	return term.Text(term.Dim, "Nothing has been changed: your branch and working tree are as you left them.")
}
