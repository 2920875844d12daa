package tui

import (
	"context"
	"sync"

	tea "charm.land/bubbletea/v2"

	"dorvik.dev/dorvik/internal/prove"
	"dorvik.dev/dorvik/internal/tui/term"
)

// whoBuilds is which of base, yours, theirs and joined pass the check, as far as it is known.
type whoBuilds struct {
	besides
	out  *output // receives each outcome
	over chan struct{}

	mu  sync.Mutex
	now prove.Builds
}

func (w *whoBuilds) set(b prove.Builds) {
	w.mu.Lock()
	w.now = b
	w.mu.Unlock()
	w.out.add("")
}

// known returns what is known, and whether there will be more.
func (w *whoBuilds) known() (b prove.Builds, more bool) {
	w.mu.Lock()
	defer w.mu.Unlock()
	select {
	case <-w.over:
	default:
		more = true
	}
	return w.now, more
}

// askWhoBuilds checks base, yours and theirs, to find why the joined code fails.
func (s *checkScreen) askWhoBuilds() tea.Cmd {
	s.stopAsking()
	w := &whoBuilds{besides: s.job.newBeside(), out: newOutput(), over: make(chan struct{})}
	s.who = w
	terms, pos := s.terms, s.job.pos
	return tea.Batch(w.start(func(ctx context.Context) (then, error) {
		defer close(w.over)
		_, err := s.job.s.Prover.WhoBuilds(ctx, pos, terms, w.set)
		return func() tea.Cmd { return nil }, err
	}), w.out.more(w.over))
}

// stopAsking ends that.
func (s *checkScreen) stopAsking() {
	if s.who != nil {
		s.who.stop()
		s.who = nil
	}
}

// whoRow draws the four results and their meaning.
func (s checkPage) whoRow(w int) term.Page {
	if s.who == nil {
		return nil
	}
	b, more := s.who.known()
	l := term.Text(term.Plain, "  ")
	for _, one := range []struct {
		term.Mark
		name   string
		passes *bool
	}{{term.MarkBase, "base", b.Base}, {term.MarkYours, "yours", b.Yours}, {term.MarkTheirs, "theirs", b.Theirs},
		{term.MarkJoined, "joined", b.Joined}} {
		l = l.Add(one.Hue, one.Sign+" "+one.name+" ")
		switch {
		case one.passes != nil && *one.passes:
			l = l.Add(term.Joined, "✓   ")
		case one.passes != nil:
			l = l.Add(term.Trouble, "✗   ")
		case more:
			l = l.Add(term.Dim, "…   ")
		default:
			l = l.Add(term.Dim, "not run   ")
		}
	}
	var out term.Page
	if verdict := b.Verdict(); verdict == "" || l.Width()+len(verdict) <= w-2 {
		out = term.Page{l.Add(term.Bright, verdict).Cut(w)}
	} else {
		out = append(term.Page{l.Cut(w)}, term.Indent(term.Wrap(term.Text(term.Bright, verdict), w-4), 2)...)
	}
	for _, why := range b.Unrun {
		out.Rows(term.Indent(term.Wrap(term.Text(term.Dim, why), w-4), 2))
	}
	return out
}
