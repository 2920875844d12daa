package tui

import (
	"context"

	tea "charm.land/bubbletea/v2"

	"dorvik.dev/dorvik/internal/core/merge"
	"dorvik.dev/dorvik/internal/draw"
	"dorvik.dev/dorvik/internal/tui/keys"
	"dorvik.dev/dorvik/internal/tui/term"
)

// pairActions returns the keys for the two commits that do not work together: find them, look at them, write to the
// other author.
func (s pairing) pairActions() (out []action) {
	if !s.failed() || s.running() || s.who == nil {
		return nil
	}
	b, _ := s.who.known()
	switch {
	case s.pair.Found() && s.onlyTogether():
		out = append(out, also(keys.YourCommit, func() tea.Cmd { return showCommit(s.job, s.pair.Yours, nil) }),
			also(keys.TheirCommit, func() tea.Cmd { return showCommit(s.job, s.pair.Theirs, nil) }),
			acts(keys.Pair, "the two that collide", s.openPair), acts(keys.Colleague, "", s.tellColleague))
	case b.Yours != nil && *b.Yours && b.Theirs != nil && *b.Theirs:
		out = append(out, acts(keys.Pair, "", s.findPair))
	}
	return out
}

// onlyTogether reports whether each side may pass by itself.
func (s pairing) onlyTogether() bool {
	if s.who == nil {
		return true
	}
	b, _ := s.who.known()
	return (b.Yours == nil || *b.Yours) && s.onTheirs()
}

// onTheirs reports whether theirs, which yours are replayed onto, may pass.
func (s pairing) onTheirs() bool {
	if s.who == nil {
		return true
	}
	b, _ := s.who.known()
	return b.Theirs == nil || *b.Theirs
}

// findPair finds them by bisection.
func (s pairing) findPair() tea.Cmd {
	pos, terms := s.job.pos, s.terms
	return s.job.start("finding the two commits that collide", func(ctx context.Context, progress func(int, int)) (then,
		error) {
		pair, err := s.job.s.Prover.FindPair(ctx, pos, terms, progress)
		if ask := agreeing(err); ask != nil {
			return func() tea.Cmd { return openConsent(s.job, ask, s.findPair) }, nil
		}
		return func() tea.Cmd {
			if s.pair = pair; !pair.Found() {
				s.job.flash = term.Warning("They cannot be found by halving: one of the lines has merges in it.")
				return nil
			}
			return s.openPair()
		}, err
	})
}

// tellColleague opens a note to the author of the other commit.
func (s pairing) tellColleague() tea.Cmd {
	return s.job.noteTo(s.job.first(s.pair.Theirs, merge.Theirs),
		draw.PairNote(s.job.pos, s.pair, s.unfit, s.line()), s.status(), nil)
}

// pairRows shows the two commits, side by side if there is space.
func (s checkPage) pairRows(w, h int) term.Page {
	if !s.pair.Found() || !s.pairing().onlyTogether() {
		return nil
	}
	row := func(m term.Mark, side merge.Side) term.Line {
		n := s.pair.Yours
		if side == merge.Theirs {
			n = s.pair.Theirs
		}
		return term.Line{}.Mark(m).Add(m.Hue, s.job.s.Planner.Short(n.ID)+" ").Add(term.Plain,
			n.Subject()).Add(term.Dim,
			"  "+s.job.first(n, side))
	}
	head := term.Text(term.Plain, "  ").Then(term.Heading("THE TWO THAT COLLIDE")).Add(term.Dim,
		"  "+keys.Pair.Help().Key+" shows both "+
			"side by side")
	if h < small {
		return term.Page{term.Line{}.Add(term.Plain, "  ").Mark(term.MarkYours).Add(term.Yours,
			s.job.s.Planner.Short(s.pair.Yours.ID)).Add(term.Trouble, " ✗ ").
			Mark(term.MarkTheirs).Add(term.Theirs, s.job.s.Planner.Short(s.pair.Theirs.ID)).Add(term.Plain,
			" collide; ").Bold(term.Bright,
			keys.Pair.Help().Key).Add(term.Plain, " shows both")}
	}
	y, t := row(term.MarkYours, merge.Yours), row(term.MarkTheirs, merge.Theirs)
	if y.Width()+t.Width()+9 <= w {
		return term.Page{nil, head, term.Text(term.Plain, "  ").Then(y).Add(term.Trouble, "  ✗  ").Then(t)}
	}
	return term.Page{nil, head, term.Text(term.Plain, "  ").Then(y).Cut(w), term.Text(term.Plain, "  ").Then(t).Cut(w)}
}

// pairing finds the two commits that fail the check only together.
type pairing struct{ *checkScreen }

// pairing returns the pairing of the screen.
func (s *checkScreen) pairing() pairing { return pairing{s} }
