package tui

import (
	"context"
	"fmt"
	"slices"
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
	steps  *steps
	done   *recovery.Through // nil while it runs
}

// steps are what a task that goes on by itself has done so far, as sentences.
type steps struct {
	mu    sync.Mutex
	list  []string
	fresh news
}

// stepped is the message that a step was done. Screens ignore steps of others.
type stepped struct{ of *steps }

func newSteps() *steps { return &steps{fresh: newNews()} }

// add adds a step.
func (s *steps) add(text string) {
	s.mu.Lock()
	s.list = append(s.list, text)
	s.mu.Unlock()
	s.fresh.tell()
}

// all returns the steps so far.
func (s *steps) all() []string {
	s.mu.Lock()
	defer s.mu.Unlock()
	return slices.Clone(s.list)
}

// next waits for another step, until the task is over.
func (s *steps) next(over <-chan struct{}) tea.Cmd { return s.fresh.wait(stepped{s}, over) }

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
	s := &throughScreen{job: j, steps: newSteps()}
	j.open(s)
	cmd := j.start("joining, checking and pushing", func(ctx context.Context, _ func(int, int)) (then, error) {
		out, err := j.s.GoThrough(ctx, s.steps.add)
		st := j.s.Ledger.State()
		return func() tea.Cmd {
			j.st, s.done, j.changed = st, out, true
			return nil
		}, err
	})
	return tea.Batch(cmd, s.steps.next(j.task.over))
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
	if msg, ok := msg.(stepped); ok && msg.of == s.steps && s.job.task != nil {
		return s.steps.next(s.job.task.over)
	}
	s.scroll.Update(msg)
	return nil
}

func (s *throughScreen) view(w, h int) term.Page {
	p := term.Page{nil}
	p.Head("ALL OF IT", "  join, check, push; it stops at the first thing that asks")
	p.Blank()
	for _, step := range s.steps.all() {
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
