package tui

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	tea "charm.land/bubbletea/v2"

	"dorvik.dev/dorvik/internal/change"
	"dorvik.dev/dorvik/internal/core/history"
	"dorvik.dev/dorvik/internal/core/object"
	"dorvik.dev/dorvik/internal/draw"
	"dorvik.dev/dorvik/internal/ledger"
	"dorvik.dev/dorvik/internal/plan"
	"dorvik.dev/dorvik/internal/proposal"
	"dorvik.dev/dorvik/internal/recovery"
	"dorvik.dev/dorvik/internal/tui/keys"
	"dorvik.dev/dorvik/internal/tui/term"
	"dorvik.dev/dorvik/internal/vcs"
	"dorvik.dev/dorvik/internal/words"
)

// pushScreen is Push: the new branch, what was verified, and the push.
type pushScreen struct {
	checked   *checkState // Check's results for the joined code
	job       *job
	scroll    term.Scroll
	ready     *recovery.Departure
	refused   *recovery.Pushed
	stopped   *vcs.HookError     // a hook refused the change
	said      []string           // messages of the accepted push
	pushedRow *proposal.Row      // the row of proposals that was pushed; nil if none
	shown     *recovery.HostView // what the host shows since; nil if it is not known
	without   bool               // skip hooks without consent
	remake    bool               // create the deleted remote branch again
	to        string             // branch of the remote to push to; empty for the usual one
	replace   bool               // exchange the remote branch's commits
	tags      change.Tags        // tags that go, too
}

func (s *pushScreen) label() string { return ledger.Push.String() }

func (s *pushScreen) state() (string, passed) { return "", well }

func (s *pushScreen) status() term.Line {
	switch {
	case s.job.pos.Resumes() != nil:
		return term.Text(term.Dim, "begun before")
	case s.ready == nil:
		return s.job.asked()
	}
	if s.ready.Silent != nil {
		return term.Line{}.Mark(term.MarkWarning).Add(term.Trouble, s.job.pos.To().Remote.String()+" did not answer")
	}
	return term.Text(term.Dim, s.job.pos.To().Remote.String()+" was asked "+words.Ago(s.job.now(), s.ready.Asked))
}

// join returns what is joined, or nil if nothing is.
func (s *pushScreen) join() *plan.Join {
	if s.job.exchanging {
		return nil
	}
	return s.job.join
}

// tip returns the commit that will be pushed.
func (s *pushScreen) tip() object.ID {
	if s.join() == nil || s.job.pos.Trivial() == plan.UpToDate || s.job.built.Tip.IsZero() {
		return s.job.pos.Yours
	}
	return s.job.built.Tip
}

// enter goes to Push and verifies what can be verified.
func (s *pushScreen) enter() tea.Cmd {
	s.job.goTo(s)
	s.ready, s.refused, s.stopped, s.said, s.without, s.remake = nil, nil, nil, nil, false, false
	s.replace, s.to, s.job.holds, s.tags = false, "", "", change.UsualTags
	s.shown, s.pushedRow = nil, nil
	s.scroll.To(0)
	pos, join, tip := s.job.pos, s.join(), s.tip()
	return s.job.start("asking "+pos.To().Remote.String(), func(ctx context.Context, _ func(int, int)) (then, error) {
		d, err := s.job.s.Push.Departure(ctx, pos, join, tip)
		return func() tea.Cmd {
			s.ready, s.job.st = d, s.job.s.Ledger.State()
			return nil
		}, err
	})
}

// behind reports whether a push of the result would be rejected, because the upstream has commits that it lacks.
func (s *pushScreen) behind() bool {
	return s.ready != nil && len(s.ready.Lacks) > 0 && s.ready.Exchange == nil
}

// blocked reports whether uncommitted work is in the way and nothing was agreed about it.
func (s *pushScreen) blocked() bool {
	return s.joins() && s.job.inWay != nil && (!s.job.inWay.Unknown || !s.job.aside)
}

// joins reports whether the branch still lacks the shown result.
func (s *pushScreen) joins() bool {
	return s.job.holds == "" && !s.job.accepted() && s.job.pos.Trivial() == plan.NotTrivial && !s.job.exchanging
}

// next returns the action of enter. What is in the way comes first.
func (s *pushScreen) next() (out []action) {
	switch {
	case s.job.holds != "":
		out = append(out, acts(keys.Next, "look at the branch", s.lookAgain))
	case s.ready == nil:
	case s.ready.Moved:
		out = append(out, acts(keys.Next, "look at what is new", s.lookAgain))
	case s.blocked() && s.job.inWay.Unknown:
		out = append(out, act(keys.Next, "move it aside", quietly(s.job.moveAside)))
	case s.blocked() && s.job.inWay.Hidden:
		out = append(out, acts(keys.Next, "look again", s.lookAgain))
	case s.blocked():
		out = append(out, acts(keys.Next, "carry your work along", func() tea.Cmd { return s.job.carryWork(s.enter) }))
	case s.ready.Gone || s.refused != nil && s.refused.Refusal.Kind == vcs.Gone:
		out = append(out, acts(keys.Next, words.If(s.joins(), "join here, and create it there again", "create it "+
			"there again"),
			s.makeAnew))
	case s.refused != nil:
		return afterRefusal{s}.actions()
	case s.ready.NoTask && s.joins() && s.job.join != nil && s.job.join.Message != "":
		out = append(out, acts(keys.Next, "name a task in its message", pushMessage{s}.write))
	case s.ready.NoTask && s.joins() && s.job.hasRoad():
		out = append(out, acts(keys.Next, "name a task in a message", pushMessage{s}.reword))
	case s.ready.NoTask:
		out = append(out, acts(keys.Next, "name a task in a message", func() tea.Cmd {
			return reworkCommits(s.job, nil)
		}))
	case s.job.pos.Resumes() != nil && s.joins():
		out = append(out, s.accepts("put it on "+s.job.pos.Branch.Name, false))
	case s.ready.Unclear != nil:
		return s.choices()
	case s.job.pos.To().Remote == "" && !s.joins():
	case s.job.pos.To().Remote == "":
		out = append(out, s.accepts("join here", false))
	default:
		return s.sends()
	}
	return out
}

// accepts returns the key that puts the result on the branch, and pushes it if push is set.
func (s *pushScreen) accepts(does string, push bool) action {
	return acts(keys.Next, does, func() tea.Cmd { return s.sure(push, func() tea.Cmd { return s.accept(push) }) })
}

// sends returns the action of enter, and those beside it, where nothing is in the way of the push here.
func (s *pushScreen) sends() (out []action) {
	up := s.job.pos.To().Name
	switch {
	case s.behind() && s.job.accepted():
		out = append(out, acts(keys.Next, "look at both lines", s.lookAgain))
	case s.behind():
		out = append(out, s.accepts(words.If(s.job.pos.IsPick(), "put them on your branch", "join here"), false))
	case s.ready.Aside:
		return afterRefusal{s}.before(nil)
	case len(s.ready.Breaks) > 0 && (!s.joins() || s.job.hasRoad()):
		return afterRefusal{s}.before(s.changeBroken)
	case s.job.exchanging, !s.joins() && s.ready.Exchange != nil:
		out = append(out, acts(keys.Next, "exchange "+up, s.exchange))
	case s.ready.Exchange != nil:
		out = append(out, acts(keys.Next, "join here and exchange "+up, s.exchange))
		out = append(out, acts(keys.Branch, "", func() tea.Cmd { return s.accept(false) }))
	case s.joins() && inRow(s.job):
		out = append(out, s.accepts("join it, and go on with the row", false))
	case s.joins(): // nothing is in the way
		out = append(out, s.accepts(s.job.say("join here and push to ")+up, true))
		out = append(out, acts(keys.Branch, s.job.say(keys.Branch.Help().Desc), func() tea.Cmd {
			return s.accept(
				false)
		}))
	default:
		out = append(out, acts(keys.Next, s.job.say("push to ")+up, func() tea.Cmd { return s.sure(true, s.pushNow) }))
	}
	return out
}

// choices returns a key for each branch of the remote that the push could go to.
func (s *pushScreen) choices() (out []action) {
	for i, to := range s.ready.Unclear.Choices {
		out = append(out, acts(keys.Written(keys.Digits[i+1], fmt.Sprint(i+1), "push to "+to.Name), "push to "+to.Name,
			func() tea.Cmd {
				return s.job.start("selecting "+to.Name, func(ctx context.Context, _ func(int, int)) (then, error) {
					err := s.job.s.Lines.SendTo(s.job.pos.Branch.Name, to)
					return func() tea.Cmd {
						s.job.pos.Branch.Aim(to)
						s.job.pos.Upstream().Branch.Aim(to)
						return s.enter()
					}, err
				})
			}))
	}
	return out
}

// changeBroken shows the commits that the server would refuse, to be changed.
func (s *pushScreen) changeBroken() tea.Cmd {
	about := s.ready.Breaks[0].About()
	if !s.joins() {
		return reworkCommits(s.job, func(context.Context, []history.Node) (*recovery.About, error) {
			return about,
				nil
		})
	}
	cmd := openRoad(s.job, nil)
	if road, ok := s.job.screen().(*roadScreen); ok {
		if at := slices.Index(s.job.built.IDs, about.Commit.ID); at >= 0 {
			cmd = tea.Batch(cmd, road.list.to(at))
		}
		s.job.flash = term.Warning(about.Sentence())
	}
	return cmd
}

// exchange pushes, replacing what the remote branch has, after joining if that was not done.
func (s *pushScreen) exchange() tea.Cmd {
	s.replace = true
	return s.joinAndPush()
}

// joinAndPush pushes, after joining if that was not done.
func (s *pushScreen) joinAndPush() tea.Cmd {
	if s.joins() {
		return s.accept(true)
	}
	return s.pushNow()
}

// sure continues after a question, if what is pushed requires one.
func (s *pushScreen) sure(push bool, do func() tea.Cmd) tea.Cmd {
	if push && s.join() != nil {
		for _, n := range s.job.join.Remarks() {
			if n.Asks {
				s.job.ask(term.Warning(words.Remark(n)+" Push it all the same?"), "push it", do, nil)
				return nil
			}
		}
	}
	return do()
}

// makeAnew pushes although the remote's branch is gone.
func (s *pushScreen) makeAnew() tea.Cmd {
	s.remake = true
	return s.joinAndPush()
}

func (s *pushScreen) actions() []action {
	out := s.next()
	if s.blocked() && s.job.inWay.Unknown {
		out = append(out, also(keys.Aside, quietly(s.job.moveAside)))
	}
	if s.joins() && s.job.carriable() && s.job.pos.Stuck == nil {
		out = append(out, acts(keys.Carry, words.If(s.job.st.Carry, "leave your work where it is",
			"carry your work along"),
			func() tea.Cmd { return s.job.carryWork(s.enter) }))
	}
	if s.job.canUndo() {
		out = append(out, acts(keys.Undo, words.If(s.job.pos.IsPick(), "undo the pick", "undo the join"),
			s.job.undoJoin))
	}
	out = append(out, s.tagsAction()...)
	if s.ready != nil && len(s.ready.Others) > 0 {
		out = append(out, act(keys.Others, "what others get", func() tea.Cmd {
			if s.job.holds != "" {
				return openLastOthers(s.job)
			}
			return openOthers(s.job, s.tip(), s.ready.Others, s.ready.Pull)
		}))
	}
	if s.joins() && s.ready != nil {
		out = append(out, roadAction(s.job, nil)...)
		if s.job.join != nil && s.job.join.Message != "" {
			out = append(out, acts(keys.Write, "write its message", pushMessage{s}.write))
		} else if s.job.hasRoad() {
			out = append(out, acts(keys.Write, "write a message", pushMessage{s}.reword))
		}
	}
	if s.job.holds == "" {
		out = append(out, acts(keys.Back, "", s.back))
	}
	if s.job.holds != "" {
		out = append(append(out, forwardAction(s.job)...), s.job.historyAction())
	}
	out = append(out, drawAction(s.job, draw.KindReport))
	return append(out, scrollKeys(&s.scroll)...)
}

// tagsAction returns the key that takes all tags along that belong to the push, or only those of push.followTags, or
// none.
func (s *pushScreen) tagsAction() []action {
	if s.ready == nil || s.job.holds != "" || len(s.ready.Tags.Belong) == 0 {
		return nil
	}
	all, follow := s.ready.Tags.Belong, s.ready.Tags.Follow
	n, to := len(all), change.AllTags
	switch {
	case s.tags == change.UsualTags && len(follow) == n:
		to = change.NoTags
	case s.tags != change.UsualTags:
		to = change.UsualTags
	}
	now := s.ready.Tags.Chosen(to)
	does := words.If(len(now) > 0, "push "+words.Is(len(now), "the tag", "tags")+", too", "leave the tags here")
	return []action{act(keys.Take, does, quietly(func() { s.tags = to }))}
}

// lookAgain goes to Look and asks the remote.
func (s *pushScreen) lookAgain() tea.Cmd {
	return s.job.nav.lookAgain(true)
}

// back returns to Check or, if nothing was joined or everything is done, to Look.
func (s *pushScreen) back() tea.Cmd {
	switch {
	case s.job.accepted(): // the branch moved since it was read
		return s.lookAgain()
	case !s.joins():
		s.job.nav.toLook()
		return nil
	}
	s.job.nav.backToCheck()
	return nil
}

func (s *pushScreen) view(w, h int) term.Page { return pushPage{s}.view(w, h) }

func (s *pushScreen) update(msg tea.Msg) tea.Cmd {
	s.scroll.Update(msg)
	return nil
}

// accept moves branch, index and files to the result, and pushes afterwards if requested.
func (s *pushScreen) accept(push bool) tea.Cmd {
	pos, join, built := s.job.pos, s.job.join, s.job.built
	if pos.SettlesOnly() {
		built = plan.Built{Tip: pos.Yours}
	}
	carried := ""
	if join != nil && join.Carried != nil && pos.Stuck == nil {
		carried = join.Carried.Sentence()
	}
	consent := change.Consent{RewritePublished: s.job.rewrite, MoveAside: s.job.aside, WithoutHooks: s.without}
	s.stopped = nil
	return s.job.startVital("changing your branch and files",
		func(ctx context.Context, _ func(int, int)) (then, error) {
			var wp *ledger.Waypoint
			var err error
			if pos.Trivial() == plan.FastForward {
				wp, err = s.job.s.FastForward(ctx, pos, consent)
			} else {
				wp, err = s.job.s.Accept(ctx, pos, join, built, consent)
			}
			var asks *change.HooksError
			if errors.As(err, &asks) {
				return func() tea.Cmd { return s.askHooks(asks, func() tea.Cmd { return s.accept(push) }) }, nil
			}
			if ask := agreeing(err); ask != nil {
				return func() tea.Cmd { return openConsent(s.job, ask, func() tea.Cmd { return s.accept(push) }) }, nil
			}
			var stopped *vcs.HookError
			if errors.As(err, &stopped) {
				return func() tea.Cmd { s.stopped = stopped; return nil }, nil
			}
			if err != nil {
				return nil, err
			}
			st, signed := s.job.s.Ledger.State(), s.job.s.Applier.Signatures()
			return func() tea.Cmd {
				s.job.st, s.job.changed, s.job.signed, s.job.aside, s.job.notice = st, true, signed, false, ""
				return s.isAccepted(push, wp.Aside, strings.TrimSpace(carried+" "+s.job.s.TakeNotice()))
			}, nil
		})
}

// askHooks asks about hooks that a commit can change, and continues either way.
func (s *pushScreen) askHooks(asks *change.HooksError, onward func() tea.Cmd) tea.Cmd {
	s.job.ask(term.Warning(fmt.Sprintf("The repository brings hooks in %s: %s. They run with your rights, for as "+
		"long as they "+
		"stay as they are now. Esc goes on without them. Let them run?", asks.Dir(), words.List(asks.Names()))),
		"let them run", func() tea.Cmd {
			if err := s.job.s.Applier.AgreeToHooks(context.Background(), asks.Hooks); err != nil {
				return s.job.failed(err)
			}
			return onward()
		}, quietly(func() {
			s.without = true
			s.job.flash = term.Text(term.Plain, "They are not run. Press enter to go on.")
		}))
	return nil
}

// isAccepted records that the branch has the result, and continues.
func (s *pushScreen) isAccepted(push bool, aside []string, notice string) tea.Cmd {
	var cmd tea.Cmd
	switch {
	case s.job.pos.Stuck != nil:
		what := words.Upper(s.job.pos.Stuck.What()) + " that was half done is finished, and nothing of it is " +
			"left " +
			"over."
		switch {
		case s.job.pos.SettlesOnly():
			what = "What was in conflict is settled" + words.If(s.job.s.Repo.Dialect().Index, " and staged", "") +
				". Nothing is committed; l, then u brings it back as it was."
		case s.job.pos.Resumes() == nil:
			what = "Joined again: your branch and files are at the result."
		}
		s.job.resumed = s.job.pos.Resumes() == nil && push
		cmd = s.job.nav.startOver(true)
		s.job.flash = term.Done(what)
	case s.job.pos.MovesBack():
		what := fmt.Sprintf("%s is back at %s, with its files.", s.job.pos.Branch.Name,
			s.job.placed(s.job.pos.Theirs))
		if !s.job.pos.Stash().IsZero() {
			what = "What git had put aside is back among your files, not committed. The stash keeps it, too."
		}
		s.job.holds, s.job.rewrite, s.job.resumed = "", false, true
		cmd = s.job.nav.startOver(true)
		s.job.flash = term.Done(what)
	case s.job.pos.Trivial() == plan.FastForward:
		cmd = s.job.nav.lookAgain(true)
		s.job.flash = term.Done(s.job.pos.Branch.Name + " moved forward to theirs. “dorvik undo” takes it back.")
	case push:
		cmd = s.pushNow()
	case inRow(s.job):
		cmd = openRowAnd(s.job, true)
	case s.job.pos.IsPick():
		s.job.flash = term.Done(s.job.say("Picked: your branch and files are at the result. Nothing is pushed yet."))
	default:
		s.job.flash = term.Done(s.job.say("Joined: your branch and files are at the result. Nothing is pushed yet."))
	}
	if len(aside) > 0 {
		s.job.flash = s.job.flash.Add(term.Plain, " "+words.List(words.Some(aside, 3))+" "+words.Is(len(aside), "was",
			"were")+
			" moved aside; until this is pushed undo brings "+words.Is(len(aside), "it", "them")+" back, and l tells "+
			words.Is(len(aside), "where it is", "where they are")+" kept.")
	}
	if notice != "" {
		s.job.flash = s.job.flash.Add(term.Plain, " "+notice)
	}
	return cmd
}

func (s *pushScreen) pushNow() tea.Cmd {
	pos, consent := s.job.pos, change.Consent{WithoutHooks: s.without, MakeAnew: s.remake,
		Exchange: s.replace, To: s.to, Tags: s.tags}
	s.refused = nil
	return s.job.start("pushing to "+pos.To().Name, func(ctx context.Context, progress func(int, int)) (then, error) {
		s.job.s.Push.Waits = progress
		done, err := s.job.s.Push.Tip(ctx, pos, consent)
		var asks *change.HooksError
		if errors.As(err, &asks) {
			return func() tea.Cmd { return s.askHooks(asks, s.pushNow) }, nil
		}
		if errors.Is(err, recovery.NoTaskError{}) {
			return func() tea.Cmd { s.job.flash = term.Warning(words.Sentence(err.Error())); return nil }, nil
		}
		if err != nil {
			return nil, err
		}
		st, forward := s.job.s.Ledger.State(), s.forward(ctx, done)
		return func() tea.Cmd {
			s.job.st, s.job.forward = st, forward
			return s.isPushed(done)
		}, nil
	})
}

// forward returns where the branch can be put forward into after a push.
func (s *pushScreen) forward(ctx context.Context, done *recovery.Pushed) *vcs.Line {
	if done.Refusal != nil {
		return nil
	}
	now := *s.job.pos
	now.Yours = done.Tip
	return s.job.s.Forwards.Line(ctx, &now)
}

func (s *pushScreen) isPushed(d *recovery.Pushed) tea.Cmd {
	switch {
	case d.Refusal == nil:
		s.job.changed, s.job.exchanging = true, false
		s.job.holds = fmt.Sprintf("%s now holds %s.", d.To.Name, s.job.s.Planner.Short(d.Holds))
		if d.Follows != "" {
			s.job.holds += fmt.Sprintf(" %s now follows it.", s.job.pos.Branch.Name)
		}
		for _, text := range []string{d.TagsSentence(), d.PhaseSentence()} {
			if text != "" {
				s.job.holds += " " + text
			}
		}
		s.said, s.shown = d.Said, nil
		s.scroll.To(0)
		if notice := s.job.s.TakeNotice(); notice != "" {
			s.job.flash = term.Warning(notice)
		}
		return tea.Batch(s.endRow(), s.askHost(d, 0))
	case d.Refusal.Kind == vcs.Behind:
		cmd := s.job.nav.lookAgain(true)
		s.job.flash = term.Warning(s.job.say("Somebody pushed first, so the push was refused. "))
		if d.WentBack {
			s.job.flash = s.job.flash.Add(term.Plain, "Your branch is back where it was; your decisions are kept.")
		} else if s.job.pos.IsPick() {
			s.job.flash = s.job.flash.Add(term.Plain,
				"What you picked is on your branch, to be joined with what is new.")
		} else if s.job.pos.FromLine() != nil {
			s.job.flash = s.job.flash.Add(term.Plain,
				"What you joined is on your branch, to be joined with what is new.")
		}
		return cmd
	default:
		s.refused = d
	}
	return nil
}

// mostAsked limits how often the host is asked whether its check ended, and askAgain is the time between two questions.
const (
	mostAsked = 60
	askAgain  = 2 * time.Second
)

// askHost asks the host what it shows after a push, until its check has ended. A host that shows nothing is not asked
// again.
func (s *pushScreen) askHost(d *recovery.Pushed, times int) tea.Cmd {
	reads := s.job.newBeside()
	return reads.start(func(ctx context.Context) (then, error) {
		if times > 0 {
			select {
			case <-time.After(askAgain):
			case <-ctx.Done():
				return nil, ctx.Err()
			}
		}
		v, err := s.job.s.Push.Shown(ctx, d.To, d.Tip)
		if err != nil || v == nil {
			return nil, nil // the push itself was told
		}
		return func() tea.Cmd {
			s.shown = v
			if v.Running() && times < mostAsked && s.job.holds != "" {
				return s.askHost(d, times+1)
			}
			return nil
		}, nil
	})
}

// endRow forgets a row of proposals that was pushed.
func (s *pushScreen) endRow() tea.Cmd {
	row := s.job.st.Row
	if row == nil || row.Branch != s.job.pos.Branch.Name || row.Current() != nil {
		return nil
	}
	s.pushedRow = row
	return s.job.newBeside().start(func(ctx context.Context) (then, error) {
		err := recovery.RowsOf(s.job.s).End(ctx)
		st := s.job.s.Ledger.State()
		return func() tea.Cmd { s.job.st = st; return nil }, err
	})
}

func (s *pushScreen) remark() term.Line {
	switch {
	case s.job.holds != "":
		return term.Text(term.Dim, s.job.say("The remote was asked again after the push."))
	case s.job.pos.Resumes() != nil:
		return term.Text(term.Dim,
			"Nothing has been changed yet. When it is on your branch, undo brings back what was "+
				"half done.")
	case s.ready != nil &&
		s.ready.Moved:
		return term.Text(term.Dim, "Your decisions are kept; only what is new is asked.")
	case s.ready != nil && s.ready.Exchange != nil:
		return term.Text(term.Dim,
			"Nothing is replaced if somebody pushed there meanwhile. What is there now is kept here, "+
				"under refs/dorvik/exchanged.")
	case s.behind():
		return term.Text(term.Dim, s.job.say("Nothing is pushed now. What you ")+words.If(s.job.pos.IsPick(),
			"picked", "joined")+
			" joins what is new there like any other commit of yours.")
	case s.job.accepted():
		return term.Text(term.Dim, s.job.say(
			"The joined result is on your branch. It can be undone until it is pushed."))
	case !s.joins():
		return term.Text(term.Dim,
			s.job.say("Nothing was joined. If somebody pushes first, the push is refused, and nothing is lost."))
	case s.job.pos.IsPick():
		return term.Text(term.Dim,
			s.job.say("If somebody pushes first, what you picked stays on your branch, and you join the two lines."))
	}
	if inRow(s.job) {
		return term.Text(term.Dim, "Each join of the row can be undone.")
	}
	return term.Text(term.Dim, s.job.say("If somebody pushes first, Dorvik joins again and asks only what is new."))
}
