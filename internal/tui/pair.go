package tui

import (
	"context"

	tea "charm.land/bubbletea/v2"

	"dorvik.dev/dorvik/internal/core/merge"
	"dorvik.dev/dorvik/internal/draw"
)

// pairActions are the keys for the two commits that cannot stand together: to find them, to look at them, and to
// write to whose the other is.
func (s *checkScreen) pairActions() (out []action) {
	if !s.failed() || s.running() || s.who == nil {
		return nil
	}
	b, _ := s.who.known()
	switch {
	case s.pair.Found() && s.onlyTogether():
		out = append(out, also(keys.yourCommit, func() tea.Cmd { return s.showCommit(s.pair.Yours, nil) }),
			also(keys.theirCommit, func() tea.Cmd { return s.showCommit(s.pair.Theirs, nil) }),
			acts(keys.pair, "the two that collide", s.openPair), acts(keys.colleague, "", s.tellColleague))
	case b.Yours != nil && *b.Yours && b.Theirs != nil && *b.Theirs:
		out = append(out, acts(keys.pair, "", s.findPair))
	}
	return out
}

// onlyTogether reports whether nothing is known against it that each side passes by itself.
func (s *checkScreen) onlyTogether() bool {
	if s.who == nil {
		return true
	}
	b, _ := s.who.known()
	return (b.Yours == nil || *b.Yours) && s.onTheirs()
}

// onTheirs reports whether nothing is known against it that theirs, which yours are put on, passes.
func (s *checkScreen) onTheirs() bool {
	if s.who == nil {
		return true
	}
	b, _ := s.who.known()
	return b.Theirs == nil || *b.Theirs
}

// findPair finds them by halving.
func (s *checkScreen) findPair() tea.Cmd {
	pos, terms := s.pos, s.terms
	return s.start("finding the two commits that collide", func(ctx context.Context, progress func(int, int)) (then,
		error) {
		pair, err := s.s.Prover.FindPair(ctx, pos, terms, progress)
		if ask := agreeing(err); ask != nil {
			return func() tea.Cmd { return s.openConsent(ask, s.findPair) }, nil
		}
		return func() tea.Cmd {
			if s.pair = pair; !pair.Found() {
				s.flash = warning("They cannot be found by halving: one of the lines has merges in it.")
				return nil
			}
			return s.openPair()
		}, err
	})
}

// tellColleague opens a note to whoever made the other commit.
func (s *checkScreen) tellColleague() tea.Cmd {
	return s.settle.noteTo(s.first(s.pair.Theirs, merge.Theirs), draw.PairNote(s.pos, s.pair, s.unfit, s.line()), nil)
}

// pairRows shows the two commits, one beside the other where there is room.
func (s *checkScreen) pairRows(w, h int) page {
	if !s.pair.Found() || !s.onlyTogether() {
		return nil
	}
	row := func(m mark, side merge.Side) line {
		n := s.pair.Yours
		if side == merge.Theirs {
			n = s.pair.Theirs
		}
		return line{}.mark(m).add(m.hue, s.s.Planner.Short(n.ID)+" ").add(plain, n.Subject()).add(dim,
			"  "+s.first(n, side))
	}
	head := txt(plain, "  ").then(heading("THE TWO THAT COLLIDE")).add(dim, "  "+keys.pair.Help().Key+" shows both "+
		"side by side")
	if h < small {
		return page{line{}.add(plain, "  ").mark(markYours).add(yours,
			s.s.Planner.Short(s.pair.Yours.ID)).add(trouble, " ✗ ").
			mark(markTheirs).add(theirs, s.s.Planner.Short(s.pair.Theirs.ID)).add(plain, " collide; ").bold(bright,
			keys.pair.Help().Key).add(plain, " shows both")}
	}
	y, t := row(markYours, merge.Yours), row(markTheirs, merge.Theirs)
	if y.width()+t.width()+9 <= w {
		return page{nil, head, txt(plain, "  ").then(y).add(trouble, "  ✗  ").then(t)}
	}
	return page{nil, head, txt(plain, "  ").then(y).cut(w), txt(plain, "  ").then(t).cut(w)}
}
