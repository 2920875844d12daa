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
	"dorvik.dev/dorvik/internal/plan"
	"dorvik.dev/dorvik/internal/recovery"
	"dorvik.dev/dorvik/internal/tui/keys"
	"dorvik.dev/dorvik/internal/tui/term"
	"dorvik.dev/dorvik/internal/words"
)

// app is the application: the job and its five stages. It is the navigator between them.
type app struct {
	*job
	look   *lookScreen
	choose *chooseScreen
	settle *settleScreen
	check  *checkScreen
	push   *pushScreen
}

// newApp returns the application at its opening screen. A new stage is a line here and a file.
func newApp(ctx context.Context, s *recovery.Session, themeName string) *app {
	j := &job{frame: newFrame(ctx, term.ThemeOf(themeName)), s: s, repo: filepath.Base(s.Repo.Where().Dir),
		notice: s.TakeNotice(), coder: term.NewCoder(), awaitSettings: s.Repo.AwaitSettings}
	a := &app{job: j, look: &lookScreen{job: j}, choose: &chooseScreen{job: j}, settle: &settleScreen{job: j},
		check: &checkScreen{job: j}, push: &pushScreen{job: j}}
	a.push.checked = &a.check.checkState
	j.nav = a
	j.stages = []stage{a.look, a.choose, a.settle, a.check, a.push}
	j.under = &opening{job: j}
	j.title, j.failed, j.more = a.heading, a.failure, a.anywhere
	j.anew = func() tea.Cmd { return a.startOver(true) }
	return a
}

// anywhere returns the actions of every screen, such as the history.
func (a *app) anywhere() []action {
	switch a.screen().(type) {
	case *historyScreen, *helpScreen:
		return nil
	}
	all := []action{also(keys.History, a.historyAction().do)}
	switch a.screen().(type) {
	case *logbookScreen, *toldScreen:
	default:
		all = append(all, also(keys.Logbook, func() tea.Cmd { return openLogbook(a.job) }))
	}
	if a.played != nil {
		again := also(keys.Anew, func() tea.Cmd { return a.playAgain(a.played.Part) })
		again.waits = true
		all = append(all, again)
		if _, open := a.screen().(*teammatesScreen); !open {
			all = append(all, also(keys.Teammates, func() tea.Cmd { return openTeammates(a.job) }))
		}
	}
	return all
}

func (a *app) heading() term.Line {
	l := term.Line{}.Add(term.Plain, " ").Bold(term.Bright, "dorvik").Add(term.Dim, "  "+a.repo)
	if a.pos != nil {
		l = l.Add(term.Plain, "   "+a.branchName())
		if up := a.pos.Line().Name; up != "" {
			l = l.Add(term.Dim, " → ").Add(term.Plain, up)
		}
	}
	return l
}

// load reads the position, after asking the remote if requested.
func (a *app) load(fetch bool) tea.Cmd {
	doing := "reading the history"
	if fetch && a.pos != nil {
		doing = "asking " + a.pos.Asks()
	}
	var part func(*plan.Position, []history.Node)
	var wait tea.Cmd
	over := make(chan struct{})
	if o, ok := a.under.(*opening); ok && o.why == nil {
		part, wait = o.parting(over)
	}
	return tea.Batch(wait, a.start(doing, func(ctx context.Context, progress func(int, int)) (then, error) {
		defer close(over)
		v, err := a.s.SurveyFrom(ctx, fetch, progress, part)
		var stuck *plan.StuckError
		if errors.As(err, &stuck) {
			return a.isStuck(ctx, stuck.Stuck)
		}
		if err != nil {
			return nil, err
		}
		return func() tea.Cmd { return a.loaded(v, fetch) }, nil
	}))
}

// loaded shows the position.
func (a *app) loaded(v *recovery.Survey, asked bool) tea.Cmd {
	a.pos, a.plan, a.overlap, a.st, a.inWay, a.me = v.Position, v.Plan, v.Overlap, v.State, v.InTheWay, v.Position.Me
	a.below, a.drivers, a.ahead, a.marks, a.stash = v.Below, v.Drivers, v.Ahead, v.Marks, v.Aside
	a.forward, a.needs, a.tasks = v.Forward, v.Needs, v.Tasks
	a.locks = v.Locks
	a.notice = strings.TrimSpace(a.notice + " " + a.s.TakeNotice())
	a.choose.fit()
	a.check.taken = nil
	a.join, a.questions, a.rewrite = nil, nil, false // consent was about the earlier state
	if a.pos.Reworks() {
		return a.rejoin(func(to *recovery.Session) error { return to.Ledger.TakeRoute(plan.Rebase) }, a.reworked)
	}
	if a.pos.Resumes() != nil { // there is only one route
		a.route = a.plan.Suggested
		return a.rejoin(func(to *recovery.Session) error { return to.Ledger.TakeRoute(a.plan.Suggested) }, a.joined)
	}
	switch a.under.(type) {
	case *opening, *stuckScreen:
		a.goTo(a.look)
	}
	foresee := a.foresee()
	if !asked {
		return tea.Batch(foresee, a.load(true))
	}
	watch := tea.Batch(foresee, a.watch(), a.countRest())
	if a.resumed {
		return watch
	}
	a.resumed = true
	return tea.Batch(a.resume(), watch)
}

// reworked shows the road of your own commits, at the one that the server named.
func (a *app) reworked() tea.Cmd {
	a.goTo(a.look)
	cmd := openRoad(a.job, nil)
	if road, ok := a.screen().(*roadScreen); ok && a.about != nil {
		for i := range a.join.Steps {
			if a.join.Steps[i].Commit.ID == a.about.Commit.ID {
				road.list.row = i
			}
		}
		a.flash = term.Warning(a.about.Sentence())
		a.about = nil
	}
	return cmd
}

// countRest counts the changed lines of the files that were not counted before Look was shown.
func (a *app) countRest() tea.Cmd {
	list := a.overlap
	if !slices.ContainsFunc(list, func(o plan.Overlap) bool { return !o.Counted }) {
		return nil
	}
	counted := slices.Clone(list)
	return a.newBeside().start(func(ctx context.Context) (then, error) {
		err := a.s.Planner.CountLines(ctx, counted)
		return func() tea.Cmd {
			if len(a.overlap) == len(list) && &a.overlap[0] == &list[0] { // else the position was read again
				a.overlap = counted
				if a.join != nil {
					a.joinedAlone = joinedAlone(a.overlap, a.questions, a.pos.SettledBefore())
				}
			}
			return nil
		}, err
	})
}

// watch asks the remote at intervals while the screen is open, if configured, and announces news. It moves nothing.
func (a *app) watch() tea.Cmd {
	if a.watched != nil {
		a.watched.stop()
		a.watched = nil
	}
	if a.every <= 0 {
		return nil
	}
	b, every, of := a.newBeside(), a.every, a.pos.Branch
	a.watched = &b
	return b.start(func(ctx context.Context) (then, error) {
		select {
		case <-ctx.Done():
			return nil, nil
		case <-time.After(every):
		}
		news, err := a.s.Workspace.AskQuietly(ctx, of)
		return func() tea.Cmd {
			if news != nil {
				a.flash = term.Warning(news.Sentence(a.now(), of.Upstream) + " f on Look looks at it.")
			}
			return a.watch()
		}, err
	})
}

// resume continues where an earlier run ended.
func (a *app) resume() tea.Cmd {
	if a.pos.Trivial() == plan.UpToDate && a.st.Accepted != nil {
		if a.notice != "" { // the notice is shown on Look, which is skipped
			a.flash = term.Warning(a.notice)
		}
		if a.flash == nil {
			a.flash = term.Text(term.Plain, a.say("You joined here before and have not pushed yet."))
		}
		return a.toPush()
	}
	if !a.st.Underway() {
		return nil
	}
	a.route = a.st.Route
	return a.rejoin(nil, func() tea.Cmd {
		if n := a.join.Settled; a.notice != "" {
			a.flash = term.Warning(a.notice)
		} else if n > 0 {
			a.flash = term.Text(term.Plain, fmt.Sprintf("Continuing where you left off: %s kept.",
				words.Count(n, "decision was", "decisions were")))
		}
		return a.joined()
	})
}

// joined goes to the stage that a joined route requires.
func (a *app) joined() tea.Cmd {
	switch {
	case a.file != nil && a.join.Open == 0:
		return a.saveFile()
	case a.pos.IsPick() && a.pos.Resumes() == nil && a.join.Open == 0 && a.join.Kept() == 0:
		cmd := a.look.dropPick()
		a.flash = term.Text(term.Plain,
			"There is nothing left to pick: what those commits change is in your line. Your branch "+
				"is as it was.")
		return cmd
	case a.join.Open > 0:
		return a.toNextOpen()
	case a.pos.Trivial() == plan.FastForward, a.pos.SettlesOnly():
		return a.accept(false)
	}
	if next := a.onward; next != nil {
		a.onward = nil
		return next()
	}
	return a.toCheck()
}

func (a *app) failure(err error) tea.Cmd {
	var blocked *plan.Blocked
	var published *plan.PublishedError
	var over *change.OverwriteError
	a.check.stopped()
	switch {
	case errors.Is(err, context.Canceled) && a.pos != nil:
		a.flash = term.Text(term.Plain, "Cancelled. Nothing was changed.")
	case errors.As(err, &blocked) && a.under == screen(a.look), a.pos == nil:
		a.goTo(&opening{job: a.job, why: err})
	case errors.As(err, &published): // the person has not confirmed it yet
		a.goTo(a.choose)
		a.route = plan.Rebase
		a.choose.confirm(published.Commits)
	case errors.As(err, &over) && over.Unknown:
		a.inWay = over
		a.flash = term.Warning(words.List(words.Some(over.Paths, 2)) +
			" is in the way, and is not tracked. Press m to move it aside. Nothing was changed.")
	case over != nil && over.Hidden:
		a.inWay = over
		a.flash = term.Warning(words.Sentence(over.Error()))
	case over != nil:
		a.inWay = over
		a.flash = term.Warning(words.List(words.Some(over.Paths, 2)) +
			" has work that is not committed, and the result must change it. Press k to carry it along. " +
			"Nothing was changed.")
	default:
		a.flash = term.Warning(words.Sentence(err.Error()) + remedy(err))
	}
	return nil
}

func (a *app) farewell() string {
	kept := len(a.st.Decisions.List)
	switch picks := len(a.st.Picks); {
	case a.holds != "":
		return a.say("dorvik: pushed. ") + a.holds
	case a.st.Accepted != nil:
		return a.say("dorvik: the joined result is on your branch and not pushed yet. “dorvik” goes on; “dorvik " +
			"undo” takes it back.")
	case a.changed:
		return "dorvik: done."
	case picks > 0:
		return fmt.Sprintf("dorvik: nothing was changed. %s to pick; “dorvik” continues where you left off.",
			words.Count(picks, "commit is left", "commits are left"))
	case kept > 0:
		return fmt.Sprintf("dorvik: nothing was changed. %s kept; “dorvik” continues where you left off.",
			words.Count(kept, "decision is", "decisions are"))
	}
	return "dorvik: nothing was changed."
}

// startOver implements navigator.
func (a *app) startOver(fetch bool) tea.Cmd {
	a.goTo(&opening{job: a.job})
	return a.load(fetch)
}

// lookAgain implements navigator.
func (a *app) lookAgain(fetch bool) tea.Cmd {
	a.goTo(a.look)
	return a.load(fetch)
}

// toLook implements navigator.
func (a *app) toLook() { a.goTo(a.look) }

// toChoose implements navigator.
func (a *app) toChoose() { a.goTo(a.choose) }

// chooseAgain implements navigator.
func (a *app) chooseAgain() tea.Cmd { return a.choose.enter() }

// toSettle implements navigator.
func (a *app) toSettle(conflict int) tea.Cmd { return a.settle.enter(conflict) }

// toNextOpen implements navigator.
func (a *app) toNextOpen() tea.Cmd { return a.settle.enter(a.settle.nextOpen(-1)) }

// backToSettle implements navigator.
func (a *app) backToSettle() tea.Cmd {
	return a.settle.enter(max(0, min(a.settle.at, len(a.questions)-1)))
}

// toCheck implements navigator.
func (a *app) toCheck() tea.Cmd { return a.check.enter() }

// backToCheck implements navigator.
func (a *app) backToCheck() { a.goTo(a.check) }

// toPush implements navigator.
func (a *app) toPush() tea.Cmd {
	a.exchanging = false
	return a.push.enter()
}

// toExchange implements navigator.
func (a *app) toExchange() tea.Cmd {
	a.exchanging = true
	return a.push.enter()
}

// accept implements navigator.
func (a *app) accept(push bool) tea.Cmd { return a.push.accept(push) }
