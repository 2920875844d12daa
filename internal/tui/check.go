package tui

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	tea "charm.land/bubbletea/v2"

	"dorvik.dev/dorvik/internal/check"
	"dorvik.dev/dorvik/internal/core/diagnose"
	"dorvik.dev/dorvik/internal/core/misfit"
	"dorvik.dev/dorvik/internal/ledger"
	"dorvik.dev/dorvik/internal/plan"
	"dorvik.dev/dorvik/internal/prove"
	"dorvik.dev/dorvik/internal/tui/keys"
	"dorvik.dev/dorvik/internal/tui/term"
	"dorvik.dev/dorvik/internal/words"
)

// checkScreen is Check: the joined code is built and tested, and mended if it fails.
type checkScreen struct {
	job *job
	checkState
	who  *whoBuilds // set after the joined code failed
	pair prove.Pair

	watching bool // waiting for a change of the settings

	taken *plan.TakenMends // state before the last mends; nil if there were none
}

// checkState is what is known of the check of one joined result.
type checkState struct {
	terms     *prove.Terms // nil if no check was found
	ready     bool         // the command is known
	agreed    bool
	eaching   bool // check commit by commit
	making    bool // files must be regenerated first
	makes     []*prove.Terms
	mayMake   bool
	unmade    bool      // a command that regenerates a file failed
	started   time.Time // zero if it is not running
	result    *check.Report
	output    *output
	places    []diagnose.Place
	texts     map[string][]plan.Line // texts of files with findings
	install   string                 // the command that installs what the checkout lacks; or empty
	unchecked string                 // reason why nothing was checked; or empty
	lacks     []string               // what the checkout lacked
	causes    []*plan.Cause          // by finding: the decision it comes from, or nil
	at        int
	errors    term.Scroll
	place     term.Scroll
	unfit     []plan.Misfit // misfits, found without building
	offered   []misfit.Mend // mends for the misfits
	held      []plan.Holding
	needed    []plan.Holding // the mends that were offered
	mayHold   []int          // rebase steps that could hold all mends
	chosen    int            // chosen step, from 1; 0 puts each mend where it is needed
	holder    string         // the commit that gets the mends; empty if none
}

func (c *checkState) running() bool { return !c.started.IsZero() }

func (c *checkState) passed() bool { return c.result != nil && c.result.Passed }

func (c *checkState) failed() bool { return c.result != nil && !c.result.Passed }

func (s *checkScreen) label() string { return ledger.Check.String() }

func (s *checkScreen) state() (string, passed) {
	switch {
	case s.running():
		return words.If(s.making, "making", "running"), well
	case s.making:
		return words.If(s.unmade, "failed", "to be made"), unwell
	case s.failed() && len(s.places) > 0:
		return words.Count(len(s.places), "error", "errors"), unwell
	case s.failed():
		return "failed", unwell
	case s.passed():
		return "passes", well
	case s.ready && s.terms == nil:
		return "none found", unwell
	}
	if s.job.joinless() {
		return "", unused
	}
	return "not run", unwell
}

func (s *checkScreen) status() term.Line { return term.Text(term.Dim, s.line()) }

// line returns the command of the check.
func (c *checkState) line() string {
	if c.terms == nil {
		return ""
	}
	return c.terms.Command.Line()
}

func (s *checkScreen) remark() term.Line {
	if s.ready && s.terms == nil {
		return term.Text(term.Dim, "Without a check nothing proves that the joined code works.")
	}
	if t := s.job.trial; t.runs() {
		return term.Text(term.Plain,
			"Beside the screen runs "+t.name()+"; "+keys.Try.Help().Key+" shows what it prints.")
	}
	return term.Text(term.Dim, "Checked in a checkout of its own; your working tree is not used.")
}

// enter goes to Check with the joined commits in memory.
func (s *checkScreen) enter() tea.Cmd {
	s.job.goTo(s)
	s.stopAsking()
	s.pair = prove.Pair{}
	s.checkState = checkState{}
	pos, join, watch := s.job.pos, s.job.join, s.watchSettings()
	s.holder, _ = join.MendHolder()
	if len(join.Lost) > 0 && s.job.flash == nil {
		s.job.flash = term.Warning(fmt.Sprintf("A mend of %s does not fit the new result and was not applied; %s "+
			"shows both "+
			"texts.",
			join.Lost[0].Path, keys.Views.Help().Key))
	}
	return tea.Batch(watch, s.job.start("making the joined commits", func(ctx context.Context, _ func(int, int)) (then,
		error) {
		v, err := s.job.s.Prover.ToCheck(ctx, pos, join)
		return func() tea.Cmd {
			s.terms, s.agreed, s.ready = v.Terms, v.Agreed, true
			s.job.built, s.job.st, s.unfit = v.Built, v.State, v.Misfits
			s.offered, s.held, s.needed, s.mayHold = v.Mends, v.Holds, v.Holds, v.MayHold
			s.job.each.set(v.Each)
			switch {
			case v.Regeneration:
				if s.making, s.makes, s.mayMake = true, v.ToMake, v.MayMake; v.MayMake {
					return s.makeAnew()
				}
				return nil
			case v.Passed != nil:
				s.result = v.Passed
				return s.afterPass(v.WantsEach)
			case s.terms != nil && s.agreed:
				return s.run()
			}
			return nil
		}, err
	}))
}

// watchSettings restarts the check when its settings change in another terminal. A running check continues.
func (s *checkScreen) watchSettings() tea.Cmd {
	if s.watching {
		return nil
	}
	s.watching = true
	wait := s.job.awaitSettings
	return s.job.newBeside().start(func(ctx context.Context) (then, error) {
		if wait(ctx) != nil {
			return nil, nil // without a watch, a new setting is read on the next visit
		}
		return func() tea.Cmd {
			s.watching = false
			return tea.Batch(s.watchSettings(), s.seeSettings())
		}, nil
	})
}

// seeSettings compares the check with the present settings.
func (s *checkScreen) seeSettings() tea.Cmd {
	if s.job.under != screen(s) || !s.ready || s.job.task != nil {
		return nil
	}
	tree, was := s.job.join.Tree, s.line()
	return s.job.newBeside().start(func(ctx context.Context) (then, error) {
		c, _, err := s.job.s.Prover.CheckBy(ctx, tree)
		if err != nil || c.Line() == was {
			return nil, err
		}
		return func() tea.Cmd {
			if s.job.under != screen(s) || s.job.task != nil || s.line() != was {
				return nil
			}
			s.job.flash = term.Text(term.Plain, "The settings were changed: the check is another one now.")
			return s.enter()
		}, nil
	})
}

// makeAnew runs the commands for generated files, with the person's agreement by this key, and returns with their
// results.
func (s *checkScreen) makeAnew() tea.Cmd {
	s.unmade, s.started = false, s.job.now()
	out := newOutput()
	s.output = out
	tip, join, terms := s.job.built.Tip, s.job.join, s.makes
	cmd := s.job.start("regenerating files", func(ctx context.Context, _ func(int, int)) (then, error) {
		failed, err := s.job.s.Prover.Make(ctx, join, terms, tip, out.add)
		return func() tea.Cmd {
			if s.started = (time.Time{}); failed != nil {
				s.unmade, s.job.st = true, s.job.s.Ledger.State()
				return nil
			}
			return s.job.rejoin(nil, s.enter)
		}, err
	})
	over := s.job.task.over
	return tea.Batch(cmd, out.more(over))
}

// withoutMaking continues without making files again.
func (s *checkScreen) withoutMaking() tea.Cmd {
	if s.making, s.unmade, s.output = false, false, nil; s.terms != nil && s.agreed {
		return s.run()
	}
	return nil
}

// run runs the check, with the person's agreement by this key.
func (s *checkScreen) run() tea.Cmd {
	s.stopAsking()
	s.result, s.places, s.at, s.started = nil, nil, 0, s.job.now()
	out := newOutput()
	s.output = out
	terms, tip, join, pos := s.terms, s.job.built.Tip, s.job.join, s.job.pos
	cmd := s.job.start("checking", func(ctx context.Context, _ func(int, int)) (then, error) {
		v, err := s.job.s.Prover.Prove(ctx, pos, terms, tip, out.add, out.begin)
		if err != nil {
			return nil, err
		}
		decided := s.job.s.Ledger.State().Decisions
		causes, err := s.job.s.Planner.CausesOf(ctx, join, &decided, v.Places)
		return func() tea.Cmd {
			s.started, s.agreed, s.causes, s.lacks = time.Time{}, true, causes, v.Lacks
			s.result, s.places, s.texts, s.job.st = &v.Result, v.Places, v.Texts, v.State
			s.install, s.unchecked = v.Install, v.Unchecked
			if s.passed() {
				return s.afterPass(v.WantsEach)
			}
			if !v.Blames() {
				return nil
			}
			if s.job.pos.Trivial() == plan.NotTrivial {
				s.pair = prove.PairOf(s.unfit)
				return s.askWhoBuilds()
			}
			return nil
		}, err
	})
	over := s.job.task.over
	return tea.Batch(cmd, out.more(over))
}

// afterPass continues with the single commits if every one must pass and that is not known.
func (s *checkScreen) afterPass(each bool) tea.Cmd {
	all := s.job.each.known()
	if each && len(s.eachAction()) > 0 && prove.FirstFailing(all).IsZero() && all[len(all)-1].Passed == nil {
		return s.checkEach()
	}
	return nil
}

// stopped records that the check was interrupted.
func (c *checkState) stopped() { c.started, c.eaching = time.Time{}, false }

func (s *checkScreen) update(msg tea.Msg) tea.Cmd {
	switch msg := msg.(type) {
	case printed:
		if msg.out == s.output && s.job.task != nil {
			return msg.out.more(s.job.task.over)
		}
		if s.who != nil && msg.out == s.who.out {
			return msg.out.more(s.who.over)
		}
	case clickedError:
		s.at = int(msg)
	case triedByHand:
		return s.tried(msg)
	}
	return nil
}

// leave returns to the conflicts or, without any, to the choice.
func (s *checkScreen) leave() tea.Cmd {
	s.stopAsking()
	if len(s.job.questions) > 0 {
		return s.job.nav.backToSettle()
	}
	return s.job.nav.chooseAgain()
}

// cause returns the decision that caused the marked error, or nil.
func (s *checkScreen) cause() *plan.Cause {
	if !s.failed() || s.at >= len(s.causes) {
		return nil
	}
	return s.causes[s.at]
}

// backTo returns to the conflict of a decision.
func (s *checkScreen) backTo(c *plan.Cause) tea.Cmd {
	i := slices.IndexFunc(s.job.questions, func(q plan.Attributed) bool {
		return q.Stop == c.Stop && q.Question.Key == c.Key
	})
	if i < 0 {
		return nil
	}
	s.stopAsking()
	return s.job.nav.toSettle(i)
}

// without asks whether to continue without a passed check.
func (s *checkScreen) without() tea.Cmd {
	s.job.ask(term.Warning("Nothing then proves that the joined code works. Go on without?"), "go on without",
		s.job.nav.toPush, nil)
	return nil
}

// typeCheck asks for a check command, stores it for this repository, and runs it.
func (s *checkScreen) typeCheck() tea.Cmd {
	f := &finding{screen: s, f: s.job.frame, label: "check by",
		empty: term.Text(term.Dim, "a command, such as make test"),
		says: "It is stored for this repository as dorvik.check and runs at once in a checkout of its own. An empty " +
			"line clears it; then the check is found from the project's files."}
	f.open(s.line(), act(keys.Next, "keep it and run it", f.typed(func(line string) tea.Cmd {
		return s.keepCheck(strings.TrimSpace(line))
	})))
	return nil
}

// keepCheck stores a command as the check of this repository and restarts with it.
func (s *checkScreen) keepCheck(line string) tea.Cmd {
	pos, tree := s.job.pos, s.job.join.Tree
	return s.job.start("keeping it", func(ctx context.Context, _ func(int, int)) (then, error) {
		return s.enter, s.job.s.Prover.SetCheck(ctx, line, pos, tree)
	})
}

// installAction installs the project's dependencies before the check.
func (s *checkScreen) installAction() []action {
	if s.install == "" || strings.HasPrefix(s.line(), s.install) {
		return nil
	}
	return []action{acts(keys.Install, "", func() tea.Cmd {
		line := s.install + " && " + s.line()
		s.job.ask(term.Warning("“"+s.install+"” runs in the check's checkout, before “"+s.line()+"”; both are kept "+
			"as the "+
			"check of this repository. Run them?"), "install, then check", func() tea.Cmd {
			return s.keepCheck(line)
		}, nil)
		return nil
	})}
}

func (s *checkScreen) wholeOutput() tea.Cmd {
	var lines []plan.Line
	for _, l := range s.output.last(maxOutput) {
		lines = append(lines, plan.Line{Text: l})
	}
	r := newReader(s.job.frame, term.Line{}.Add(term.Plain, " ").Bold(term.Bright, "OUTPUT").Add(term.Dim,
		"  "+s.line()), lines, false)
	r.scroll.To(len(lines))
	s.job.open(r)
	return nil
}
