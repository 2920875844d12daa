package tui

import (
	"context"
	"errors"
	"strconv"
	"time"

	tea "charm.land/bubbletea/v2"

	"dorvik.dev/dorvik/internal/check"
	"dorvik.dev/dorvik/internal/tui/keys"
	"dorvik.dev/dorvik/internal/tui/term"
	"dorvik.dev/dorvik/internal/words"
)

// trial is a program of the person's, such as a server, that runs in the joined code beside the screen.
type trial struct {
	line    string
	out     *output
	stop    context.CancelFunc
	over    chan struct{} // closed when it ended
	started time.Time
	ended   string // how it ended, as a sentence; empty while it runs
}

// end ends the program and waits for that, but for no program that does not stop.
func (p *trial) end() {
	if p == nil {
		return
	}
	p.stop()
	select {
	case <-p.over:
	case <-time.After(time.Second):
	}
}

// runs reports whether the program runs.
func (p *trial) runs() bool { return p != nil && p.ended == "" }

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
			if on, ok := s.job.screen().(*trialScreen); ok && on.trial == p && s.job.task == nil {
				return s.tried(triedByHand{dir: dir, quietly: true})
			}
			return nil
		}}
	}, p.out.more(p.over))
}

// record says how the program ended.
func (p *trial) record(r check.Report, err error, at time.Time) {
	took := " after " + words.Seconds(at.Sub(p.started)) + "."
	switch {
	case errors.Is(err, context.Canceled):
		p.ended = "You ended it" + took
	case err != nil:
		p.ended = words.Sentence(err.Error())
	case r.Passed:
		p.ended = "It ended well" + took
	default:
		p.ended = "It ended with status " + strconv.Itoa(r.Exit) + took
	}
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
