package tui

import (
	"context"
	"fmt"
	"sync"

	tea "charm.land/bubbletea/v2"

	"dorvik.dev/dorvik/internal/plan"
	"dorvik.dev/dorvik/internal/recovery"
	"dorvik.dev/dorvik/internal/tui/keys"
	"dorvik.dev/dorvik/internal/tui/term"
	"dorvik.dev/dorvik/internal/words"
)

// throughScreen goes from Look to the push without a stop, and shows each step as it is done.
type throughScreen struct {
	job    *job
	scroll term.Scroll
	mu     sync.Mutex
	steps  []string
	done   *recovery.Through // nil while it runs
	fresh  chan struct{}
}

// stepped is the message that a step was done.
type stepped struct{ of *throughScreen }

// throughAction returns the key that does all at once, if nothing that is known asks.
func throughAction(j *job) []action {
	pos := j.pos
	switch {
	case pos.IsPick(), pos.Stuck != nil, pos.Reworks(), pos.Exchange != nil, pos.NothingToDo(), pos.Unanswered != nil:
		return nil
	case pos.Trivial() == plan.NotTrivial && (j.plan == nil || j.plan.Asking().Open > 0 ||
		len(j.misfits[j.plan.Asking().Route]) > 0 || j.inWay != nil):
		return nil
	}
	return []action{acts(keys.Through, "do all of it", func() tea.Cmd { return openThrough(j) })}
}

// openThrough starts, and shows the steps.
func openThrough(j *job) tea.Cmd {
	s := &throughScreen{job: j, fresh: make(chan struct{}, 1)}
	j.open(s)
	cmd := j.start("joining, checking and pushing", func(ctx context.Context, _ func(int, int)) (then, error) {
		out, err := j.s.GoThrough(ctx, s.step)
		st := j.s.Ledger.State()
		return func() tea.Cmd {
			j.st, s.done, j.changed = st, out, true
			return nil
		}, err
	})
	return tea.Batch(cmd, s.next(j.task.over))
}

// step adds a step.
func (s *throughScreen) step(text string) {
	s.mu.Lock()
	s.steps = append(s.steps, text)
	s.mu.Unlock()
	select {
	case s.fresh <- struct{}{}:
	default:
	}
}

// next waits for another step.
func (s *throughScreen) next(over <-chan struct{}) tea.Cmd {
	return func() tea.Msg {
		select {
		case <-s.fresh:
			return stepped{s}
		case <-over:
			return nil
		}
	}
}

func (s *throughScreen) actions() []action {
	if s.done == nil {
		return scrollKeys(&s.scroll)
	}
	leave := func() tea.Cmd {
		s.job.resumed = false // go to the stage where it stopped
		return s.job.nav.startOver(false)
	}
	does := "look at the branch"
	if at := s.done.Where(); at != "" {
		does = "go on by hand, at " + at
	}
	out := []action{acts(keys.Next, does, leave), also(keys.Back, leave)}
	return append(out, scrollKeys(&s.scroll)...)
}

func (s *throughScreen) update(msg tea.Msg) tea.Cmd {
	if msg, ok := msg.(stepped); ok && msg.of == s && s.job.task != nil {
		return s.next(s.job.task.over)
	}
	s.scroll.Update(msg)
	return nil
}

func (s *throughScreen) view(w, h int) term.Page {
	s.mu.Lock()
	defer s.mu.Unlock()
	p := term.Page{nil}
	p.Head("ALL OF IT", "  join, check, push; it stops at the first thing that asks")
	p.Blank()
	for _, step := range s.steps {
		p.Rows(term.Indent(term.Wrap(term.Line{}.Mark(term.MarkSettled).Add(term.Plain, " "+step), w-4), 2))
	}
	switch {
	case s.done == nil:
	case s.done.Pushed != nil && s.done.Pushed.Refusal == nil:
		p.Blank()
		p.Say(w, term.Line{}.Bold(term.Joined, "Done. ").Add(term.Plain, words.If(s.done.Tries > 1,
			fmt.Sprintf("It was joined %d times, because others pushed in between.", s.done.Tries), "")))
	default:
		p.Blank()
		p.Warn(w, "Stopped: "+s.done.Why+".")
	}
	return s.scroll.Window(p, h)
}

func (s *throughScreen) status() term.Line { return s.job.asked() }

func (s *throughScreen) remark() term.Line {
	if s.done == nil {
		return term.Text(term.Dim,
			keys.Stop.Help().Key+" stops it. The branch changes at once or not at all, and undo takes it back.")
	}
	return term.Text(term.Dim, "What was done stands in the logbook.")
}
