package tui

import (
	"context"
	"fmt"

	tea "charm.land/bubbletea/v2"

	"dorvik.dev/dorvik/internal/check"
	"dorvik.dev/dorvik/internal/prove"
	"dorvik.dev/dorvik/internal/recovery"
	"dorvik.dev/dorvik/internal/tui/keys"
	"dorvik.dev/dorvik/internal/tui/term"
	"dorvik.dev/dorvik/internal/words"
)

// triedByHand is the message that the shell in the joined code ended.
type triedByHand struct {
	dir string
	err error
}

// tryIt runs the command of dorvik.run in the joined code, beside the screen, or else opens a shell there. If the
// program runs, it shows that.
func (s *checkScreen) tryIt() tea.Cmd {
	if t := s.job.trial; t.runs() {
		s.job.open(&trialScreen{checkScreen: s, trial: t})
		return t.out.more(t.over)
	}
	tip, pos := s.job.built.Tip, s.job.pos
	return s.job.start("laying the joined code out", func(ctx context.Context, _ func(int, int)) (then, error) {
		line, err := s.job.s.Prover.OwnProgram(ctx, "dorvik.run")
		if err != nil {
			return nil, err
		}
		dir, err := s.job.s.Prover.LayOut(ctx, pos, tip, line)
		if ask := agreeing(err); ask != nil {
			return func() tea.Cmd { return openConsent(s.job, ask, s.tryIt) }, nil
		}
		if err != nil {
			return nil, err
		}
		return func() tea.Cmd {
			if line != "" {
				return s.runBeside(dir, line)
			}
			return tea.ExecProcess(check.Shell("", dir), func(err error) tea.Msg {
				return triedByHand{dir, err}
			})
		}, nil
	})
}

// tried finds what was changed there and shows it.
func (s *checkScreen) tried(msg triedByHand) tea.Cmd {
	tree := s.job.join.Tree
	return s.job.start("looking at what you changed", func(ctx context.Context, _ func(int, int)) (then, error) {
		found, err := s.job.s.Prover.TriedIn(ctx, msg.dir, tree)
		return func() tea.Cmd {
			if len(found.Mends) == 0 {
				s.job.flash = term.Text(term.Plain,
					"No text of the joined code was changed there."+untaken(found.Other))
				return nil
			}
			s.job.open(&triedScreen{checkScreen: s, found: found, rows: triedRows(found)})
			return nil
		}, err
	})
}

// triedBeside is tried after a program ended, beside the screen: a key that runs it again is not lost meanwhile. What
// was changed is shown only if the person still looks at what that run printed.
func (s *checkScreen) triedBeside(dir string, p *trial) tea.Cmd {
	tree := s.job.join.Tree
	return s.job.newBeside().start(func(ctx context.Context) (then, error) {
		found, err := s.job.s.Prover.TriedIn(ctx, dir, tree)
		return func() tea.Cmd {
			on, ok := s.job.screen().(*trialScreen)
			switch {
			case !ok || on.trial != p || s.job.trial != p || s.job.task != nil:
			case err != nil:
				return s.job.failed(err)
			case len(found.Mends) > 0:
				s.job.open(&triedScreen{checkScreen: s, found: found, rows: triedRows(found)})
			}
			return nil
		}, nil
	})
}

// untaken describes which manual changes are not taken.
func untaken(other []string) string {
	if len(other) == 0 {
		return ""
	}
	return " Not taken: " + words.List(words.Some(other, 3)) + ", new there, gone, or no text."
}

// triedScreen shows manual changes of the joined code before they are taken as mends.
type triedScreen struct {
	*checkScreen
	found  prove.Tried
	rows   term.Page // the changes, not wrapped
	scroll term.Scroll
}

func (t *triedScreen) actions() []action {
	out := []action{acts(keys.Next, "take it as a mend", t.take), act(keys.Back, "leave it", quietly(t.job.close))}
	return append(out, scrollKeys(&t.scroll)...)
}

func (t *triedScreen) take() tea.Cmd {
	mends, s := t.found.Mends, t.checkScreen
	t.job.close()
	return s.job.rejoin(func(to *recovery.Session) error {
		s.taken = nil
		for _, m := range mends {
			if err := to.Ledger.AddMend(m); err != nil {
				return err
			}
		}
		return nil
	}, func() tea.Cmd {
		s.job.flash = term.Line{}.Mark(term.MarkJoined).Add(term.Plain,
			fmt.Sprintf("What you changed in %s becomes part of %s.",
				words.Count(len(mends), "file", "files"), s.holder))
		return s.enter()
	})
}

func (t *triedScreen) update(msg tea.Msg) tea.Cmd {
	t.scroll.Update(msg)
	return nil
}

func (t *triedScreen) remark() term.Line {
	return term.Text(term.Dim, "Nothing of it is taken before enter."+untaken(t.found.Other))
}

func (t *triedScreen) view(w, h int) term.Page {
	p := term.Page{term.Text(term.Plain, " ").Bold(term.Bright, "WHAT YOU CHANGED THERE").Add(term.Dim,
		"  it would become part of "+t.holder),
		nil}
	for _, l := range t.scroll.Window(t.rows, h-len(p)) {
		p.Row(l.Cut(w))
	}
	return p
}

// triedRows lists the changes file by file.
func triedRows(found prove.Tried) (rows term.Page) {
	for _, m := range found.Mends {
		rows.Row(term.Text(term.Plain, " ").Bold(term.Bright, m.Path))
		rows.Rows(editRows(m.Before, m.After))
		rows.Blank()
	}
	return rows
}

// runBeside starts a command line in a folder of the joined code and shows its output.
func (s *checkScreen) runBeside(dir, line string) tea.Cmd {
	s.job.trial.end()
	ctx, stop := s.job.begin()
	p := &trial{line: line, out: newOutput(), stop: stop, over: make(chan struct{}), started: s.job.now()}
	s.job.trial = p
	s.job.open(&trialScreen{checkScreen: s, trial: p})
	return tea.Batch(func() tea.Msg {
		defer close(p.over)
		report, err := check.Run(ctx, dir, line, nil, p.out.add)
		return besideEnded{then: func() tea.Cmd {
			p.record(report, err, s.job.now())
			return s.triedBeside(dir, p)
		}}
	}, p.out.more(p.over))
}

// trialScreen shows the output of the program.
type trialScreen struct {
	*checkScreen
	trial *trial
	rows  term.Scroll
	left  bool // the person scrolled away from the end
}

func (s *trialScreen) actions() []action {
	out := []action{acts(keys.Try, "end it", s.again), act(keys.Back, "back, and let it run", quietly(s.job.close))}
	if !s.trial.runs() {
		out = []action{acts(keys.Try, "run it again", s.again), act(keys.Back, "", quietly(s.job.close))}
	}
	for _, a := range scrollKeys(&s.rows) {
		do := a.do
		a.do = func() tea.Cmd { s.left = true; return do() }
		out = append(out, a)
	}
	return out
}

// again ends the program or, if it ended, runs it again.
func (s *trialScreen) again() tea.Cmd {
	if s.trial.runs() {
		s.trial.stop()
		return nil
	}
	s.job.close()
	return s.tryIt()
}

func (s *trialScreen) update(msg tea.Msg) tea.Cmd {
	switch msg := msg.(type) {
	case printed:
		if msg.out == s.trial.out {
			return msg.out.more(s.trial.over)
		}
	case tea.MouseWheelMsg:
		s.left = true
		s.rows.Update(msg)
	}
	return nil
}

func (s *trialScreen) view(w, h int) term.Page {
	p := term.Page{nil}
	p.Head("IN THE JOINED CODE", "  in a checkout of its own, before anything is accepted or pushed")
	p.Blank()
	p.Row(term.Text(term.Plain, "    ").Bold(term.Bright, "$ "+s.trial.line).Cut(w))
	p.Blank()
	var rows term.Page
	for _, l := range s.trial.out.last(maxOutput) {
		rows.Row(term.Text(term.Plain, "    "+l).Cut(w))
	}
	if len(rows) == 0 {
		rows.Row(term.Text(term.Dim, "    It has printed nothing yet."))
	}
	room := max(1, h-len(p))
	s.rows.Size(len(rows), room)
	if !s.left {
		s.rows.To(len(rows))
	}
	return append(p, s.rows.Window(rows, room)...)
}

func (s *trialScreen) remark() term.Line {
	if !s.trial.runs() {
		return term.Text(term.Plain, s.trial.ended)
	}
	return term.Text(term.Dim, "It runs beside the screen, "+words.Seconds(s.job.now().Sub(s.trial.started))+
		" now; leaving dorvik ends it.")
}
