package tui

import (
	"context"
	"errors"
	"fmt"

	tea "charm.land/bubbletea/v2"

	"dorvik.dev/dorvik/internal/change"
	"dorvik.dev/dorvik/internal/draw"
	"dorvik.dev/dorvik/internal/ledger"
	"dorvik.dev/dorvik/internal/plan"
	"dorvik.dev/dorvik/internal/recovery"
	"dorvik.dev/dorvik/internal/tui/keys"
	"dorvik.dev/dorvik/internal/tui/term"
	"dorvik.dev/dorvik/internal/words"
)

// lookScreen is Look: the position, the two lines, and the files that both touch.
type lookScreen struct {
	job    *job
	scroll term.Scroll
}

func (s *lookScreen) label() string { return ledger.Look.String() }

func (s *lookScreen) state() (string, passed) {
	if s.job.pos == nil {
		return "", well
	}
	switch {
	case s.job.pos.Counter() != "":
		return "taking back", well
	case s.job.pos.IsPick():
		return fmt.Sprintf("%d to pick", len(s.job.pos.Divergence.Theirs)), well
	}
	return fmt.Sprintf("%d theirs · %d yours", len(s.job.pos.Divergence.Theirs), len(s.job.pos.Divergence.Yours)), well
}

func (s *lookScreen) status() term.Line { return s.job.asked() }

func (s *lookScreen) remark() term.Line {
	switch {
	case s.job.holds != "":
		return term.Text(term.Dim, s.job.say("Pushed. Nothing has been changed since."))
	case s.job.st.Accepted != nil:
		return term.Text(term.Dim, s.job.say(
			"Your branch and files are at the joined result, and nothing of it is pushed."))
	case s.job.changed:
		return term.Text(term.Dim, "Nothing else has been changed.")
	}
	return term.Text(term.Dim, s.job.say(
		"Nothing has been changed: your branch and working tree are as you left them."))
}

func (s *lookScreen) actions() []action {
	var out []action
	switch {
	case s.job.pos.NothingToDo():
	case s.job.pos.Reworks():
		out = append(out, acts(keys.Next, "your commits, one by one",
			func() tea.Cmd { return openRoad(s.job, nil) }))
	case s.job.pos.IsPick():
		out = append(out, acts(keys.Next, "see what they would make", quietly(s.job.nav.toChoose)),
			acts(keys.Drop, "", s.dropPick))
	case s.job.pos.Trivial() == plan.FastForward:
		out = append(out, acts(keys.Next, "move forward", s.forward))
	case s.job.pos.Trivial() == plan.UpToDate && !s.job.pos.Pushes():
		out = append(out, acts(keys.Next, "another line", func() tea.Cmd { return openLines(s.job, true) }))
	case s.job.pos.Trivial() == plan.UpToDate:
		out = append(out, acts(keys.Next, "go on to Push", s.job.nav.toPush))
	default:
		out = append(out, acts(keys.Next, "choose a way to join", quietly(s.job.nav.toChoose)))
	}
	out = append(out, acts(keys.Fetch, "", func() tea.Cmd { return s.job.nav.load(true) }), s.job.historyAction())
	if x := s.job.pos.Exchange; x != nil && len(x.Others) == 0 && s.job.st.Accepted == nil {
		out = append([]action{acts(keys.ExchangeIt, "exchange what is there", s.job.nav.toExchange)}, out...)
	}
	out = append(append(out, throughAction(s.job)...), s.lineActions()...)
	if s.job.needs != nil {
		out = append(out, acts(keys.Take, "take them along", s.takeAlong))
	}
	out = append(out, workAction(s.job)...)
	out = append(out, s.holderAction()...)
	if len(s.job.drivers) > 0 {
		out = append(out, acts(keys.Driver, "", s.askDriver))
	}
	if s.job.movable() {
		out = append(out, act(keys.Aside, "", quietly(s.job.moveAside)))
	}
	if s.job.carriable() {
		out = append(out, acts(keys.Carry, words.If(s.job.st.Carry, "leave your work where it is",
			"carry your work along"),
			func() tea.Cmd { return s.job.carryWork(nil) }))
	} else if s.job.stash != nil {
		out = append(out, acts(keys.Carry, "bring back what git put aside", s.bringBack))
	}
	if s.job.pos.Stuck != nil {
		out = append(out, acts(keys.Back, "as it was left", s.job.leaveStuck))
	}
	if s.job.canUndo() {
		out = append(out, acts(keys.Undo, "undo the join", s.job.undoJoin))
	}
	if s.job.pos.Trivial() == plan.NotTrivial {
		out = append(out, drawAction(s.job, draw.KindOverlap))
	} else {
		out = append(out, act(keys.Others, "", func() tea.Cmd { return openLastOthers(s.job) }),
			drawAction(s.job, draw.KindReport))
	}
	if s.job.played != nil {
		out = append(out, act(keys.Teammates, "the teammates", func() tea.Cmd { return openTeammates(s.job) }))
	}
	return append(out, scrollKeys(&s.scroll)...)
}

// holderAction returns the key that asks who holds a lock, or none.
func (s *lookScreen) holderAction() []action {
	held := s.job.locks.Holder()
	if held == nil {
		return nil
	}
	return []action{act(keys.Colleague, "ask "+held[0].Owner+" about the "+words.Is(len(held), "lock", "locks"),
		func() tea.Cmd {
			return s.job.noteTo(held[0].Owner, draw.LockNote(held, s.job.locks.Changed), s.status(), nil)
		})}
}

// lineActions returns the keys about other lines, and about commits that are not pushed.
func (s *lookScreen) lineActions() (out []action) {
	out = append(append(out, forwardAction(s.job)...), proposalsAction(s.job)...)
	if s.job.pos.Reworks() {
		out = append(out,
			acts(keys.Drop, "leave your commits as they are", func() tea.Cmd { return leaveCommits(s.job) }))
	} else if s.job.pos.Trivial() == plan.UpToDate && recovery.WhyNoRework(s.job.pos) == "" {
		out = append(out, acts(keys.Road, "change your commits", func() tea.Cmd { return reworkCommits(s.job, nil) }))
	}
	if !s.job.pos.IsPick() && s.job.pos.Stuck == nil {
		out = append(out, acts(keys.Compare, "another line", func() tea.Cmd { return openLines(s.job, true) }))
	}
	if k := s.job.pos.FromLine(); k != nil && k.Home != nil {
		out = append(out, acts(keys.Drop, "join with "+k.Home.Line().Name, s.dropLine))
	}
	return out
}

// forward moves the branch forward. Carried uncommitted work may raise questions first.
func (s *lookScreen) forward() tea.Cmd {
	if s.job.pos.Carried == nil {
		return s.job.nav.accept(false)
	}
	return s.job.rejoin(nil, s.job.nav.joined)
}

// lanes returns the drawing of the two lines.
func (s *lookScreen) lanes() *lanes {
	return &lanes{job: s.job, pos: s.job.pos, plan: s.job.plan, below: s.job.below}
}

func (s *lookScreen) update(msg tea.Msg) tea.Cmd {
	s.scroll.Update(msg)
	return nil
}

// askDriver asks whether the first merge driver without an agreement may run.
func (s *lookScreen) askDriver() tea.Cmd {
	d := s.job.drivers[0]
	says := fmt.Sprintf("“%s” is the merge driver “%s” of your configuration, a program that joins the files which "+
		"the repository names for it. %sLet it run?", d.Command, d.Name, words.If(len(d.With) == 0, "",
		fmt.Sprintf("It runs %s of the repository; when others change what is in there you are asked again. ",
			words.List(words.Some(d.Files(), 3)))))
	s.job.ask(term.Warning(says), "let it run", func() tea.Cmd {
		if err := s.job.s.Ledger.Agree(d.String()); err != nil {
			return s.job.failed(err)
		}
		return s.job.nav.load(false)
	}, quietly(func() {
		s.job.flash = term.Text(term.Plain, "The merge driver is not run; its files are joined as text.")
	}))
	return nil
}

// needed describes earlier commits that the picked ones build on.
func (s *lookScreen) needed() string {
	n := s.job.needs
	if n == nil {
		return ""
	}
	return n.Sentences() + " Press t to take " + words.Is(len(n.Commits), "it", "them") + " along, in their order."
}

// takeAlong picks the earlier commits, too.
func (s *lookScreen) takeAlong() tea.Cmd {
	n := s.job.needs
	return s.job.start("taking them along", func(ctx context.Context, _ func(int, int)) (then, error) {
		var revs []string
		for _, id := range n.Picks {
			revs = append(revs, id.String())
		}
		err := s.job.s.Pick(ctx, revs, s.job.pos.PickParent())
		return func() tea.Cmd { return s.job.nav.lookAgain(false) }, err
	})
}

// dropLine selects the upstream again.
func (s *lookScreen) dropLine() tea.Cmd {
	return s.job.start("selecting the upstream", func(ctx context.Context, _ func(int, int)) (then, error) {
		err := s.job.s.Lines.Take(ctx, nil)
		return func() tea.Cmd { return s.job.nav.lookAgain(false) }, err
	})
}

// dropPick returns from a pick to the position of the branch.
func (s *lookScreen) dropPick() tea.Cmd {
	return s.job.start("dropping the pick", func(ctx context.Context, _ func(int, int)) (then, error) {
		err := s.job.s.Ledger.DropPick()
		return func() tea.Cmd {
			if s.job.flash == nil {
				s.job.flash = term.Text(term.Plain, "The pick is dropped; your branch is as it was.")
			}
			return s.job.nav.lookAgain(false)
		}, err
	})
}

func (s *lookScreen) view(w, h int) term.Page {
	p := term.Page{nil}
	s.headline(&p, w)
	p.Blank()
	switch left := max(w/2+2, min(s.lanes().need()+6, w*60/100)); {
	case s.job.pos.NothingToDo():
		s.held(&p, w-2, 2)
		s.uncommitted(&p, w-2, 2)
	case w < wide:
		p.Rows(term.Indent(s.lanes().view(w-3, 26), 2))
		p.Blank()
		p.Rows(term.Indent(s.overlapPage(w-3), 2))
	default:
		lanes := s.lanes().view(left-3, h-len(p)-4)
		p.Rows(term.Beside(term.Indent(lanes, 2), s.overlapPage(w-left-4), left, w, h-len(p)-1))
	}
	return s.scroll.Window(p, h)
}

// headline describes in one plain sentence what happened and what to do.
func (s *lookScreen) headline(p *term.Page, w int) {
	st := s.job.pos.Standing(s.job.st.Accepted != nil)
	if s.job.holds != "" && s.job.pos.NothingToDo() {
		st.Head, st.Text = s.job.say("Pushed."), s.job.holds
		st.Next = "Yours and theirs are one line now. There is nothing left to do."
	}
	if f := s.job.forward; f != nil && s.job.pos.Trivial() == plan.UpToDate &&
		!recovery.IsTrunk(s.job.pos.Branch.Name) {
		st.Next += fmt.Sprintf(" %s has all of %s: put it forward with ^.", s.job.branchName(), f.Name)
	}
	h := term.Trouble
	switch {
	case s.job.pos.IsPick(), s.job.pos.FromLine() != nil && s.job.pos.Trivial() == plan.NotTrivial:
		h = term.Bright
	case st.Well:
		h = term.Joined
	}
	p.Say(w, term.Line{}.Bold(h, st.Head+" ").Add(term.Plain, st.Text))
	p.Say(w, term.Text(term.Dim, st.Next))
	if d := s.job.played; d != nil && d.Scene.Host != "" {
		p.Blank()
		p.Say(w, term.Line{}.Linked(term.Plain, "The page of the stand-in host: "+d.Scene.Host).Add(term.Dim,
			"   P lists the proposals that wait there."))
	}
	for _, more := range []string{s.silence(), s.job.notice, s.underWay(), s.half(), s.job.pos.Rewritten(),
		s.job.pos.Triangle(), s.job.pos.OtherHeads(s.job.s.Planner.Short, s.job.s.Repo.Dialect()), s.marked(),
		s.needed(), s.putAside(),
		s.obstacle(), s.unfit()} {
		if more != "" {
			p.Blank()
			p.Warn(w, more)
		}
	}
}

// unfit announces misfits if their list is not visible.
func (s *lookScreen) unfit() string {
	if s.job.w >= wide || s.job.plan == nil || s.job.pos.Trivial() != plan.NotTrivial {
		return ""
	}
	all := s.job.plan.Asking().Untold(s.job.misfits[s.job.plan.Asking().Route])
	if len(all) == 0 {
		return ""
	}
	more := ""
	if len(all) > 1 {
		more = fmt.Sprintf(" There are %d more below.", len(all)-1)
	}
	return "May not work together, though the texts join: " + misfitWords(s.job, &all[0]) + "." + more
}

// underWay describes a row of proposals that was begun here.
func (s *lookScreen) underWay() string {
	row := s.job.st.Row
	if row == nil {
		return ""
	}
	if row.Branch != s.job.pos.Branch.Name {
		return words.If(row.Current() == nil, "", row.Sentence()+" They go on when you are on "+row.Branch+".")
	}
	return row.Sentence() + " " + words.If(row.Current() == nil, "P shows what became of each.", "P goes on with them.")
}

// silence returns why the remote did not answer.
func (s *lookScreen) silence() string {
	if s.job.pos.Unanswered == nil {
		return ""
	}
	return words.Sentence(s.job.pos.Unanswered.Error())
}

// half describes a half-done operation that is joined again here.
func (s *lookScreen) half() string {
	if s.job.pos.Stuck == nil {
		return ""
	}
	return fmt.Sprintf("You join again: %s that was half done is put away when you accept the result, and undo "+
		"brings it back. Esc goes back to it.", s.job.pos.Stuck.What())
}

// obstacle describes what is in the way of the join.
func (s *lookScreen) obstacle() string {
	if s.job.pos.Trivial() == plan.UpToDate || s.job.pos.NothingToDo() {
		return "" // nothing is joined
	}
	if c := s.job.pos.Carried; c != nil && len(c.Parts) > 0 && s.job.pos.Stuck == nil && s.job.inWay == nil {
		return fmt.Sprintf("Your uncommitted work in %s is carried along: joined onto the result when you accept "+
			"it%s. Press k to leave it where it is.", words.List(words.Some(c.Paths, 4)),
			words.If(s.job.s.Repo.Dialect().Index, ", staged what is staged", ""))
	}
	if s.job.inWay == nil {
		return ""
	}
	say := "The join must change %s, where you have work that is not committed. Press k to carry it along, or " +
		"commit it with the comma key; until then nothing is touched."
	switch {
	case s.job.aside:
		say = "The join must write where you have %s, which is not tracked. It is moved aside when you accept the " +
			"result, and undo brings it back."
	case s.job.inWay.Hidden:
		return words.Sentence(s.job.inWay.Error())
	case s.job.inWay.Unknown:
		say = "The join must write where you have %s, which is not tracked. Press m to move it aside when " +
			"you accept the result; until then nothing is touched."
	}
	return fmt.Sprintf(say, words.List(words.Some(s.job.inWay.Paths, 4))) + s.foreseen()
}

// putAside describes what a pull left in the stash.
func (s *lookScreen) putAside() string {
	if s.job.stash == nil || s.job.carriable() {
		return ""
	}
	return s.job.stash.Sentence()
}

// bringBack joins what a pull left in the stash with the files.
func (s *lookScreen) bringBack() tea.Cmd {
	l := s.job.stash
	return s.job.startVital("bringing back what git put aside",
		func(ctx context.Context, _ func(int, int)) (then, error) {
			_, err := s.job.s.BringBack(ctx, l)
			var asks *change.AsksError
			if errors.As(err, &asks) {
				return func() tea.Cmd { return s.job.returning(asks) }, nil
			}
			return func() tea.Cmd {
				cmd := s.job.nav.load(true)
				s.job.flash = term.Done("What git had put aside is back among your files, not committed. The stash " +
					"keeps it, too.")
				return cmd
			}, err
		})
}

// marked reports committed conflict markers.
func (s *lookScreen) marked() string {
	var where []string
	for _, m := range s.job.marks {
		where = append(where, m.String())
	}
	if len(where) == 0 {
		return ""
	}
	return "Conflict marks are committed in yours: " + words.List(words.Some(where, 3)) + ". Mend them in a commit " +
		"before you push; a join leaves them as they are."
}

// foreseen describes what would happen to the work in the way if it were joined now.
func (s *lookScreen) foreseen() string {
	if s.job.ahead == nil || s.job.inWay.Unknown || s.job.inWay.Hidden {
		return ""
	}
	var asks []string
	for _, p := range s.job.ahead.Paths {
		if p.State == plan.CarriedConflict {
			asks = append(asks, p.Path)
		}
	}
	if len(asks) == 0 {
		return " Joined with theirs as it is now, it fits and asks nothing."
	}
	return fmt.Sprintf(" Joined with theirs as it is now, it asks %s, in %s.",
		words.Count(s.job.ahead.Asked, "decision",
			"decisions"), words.List(words.Some(asks, 3)))
}
