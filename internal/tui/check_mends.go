package tui

import (
	"context"
	"fmt"
	"slices"

	tea "charm.land/bubbletea/v2"

	"dorvik.dev/dorvik/internal/plan"
	"dorvik.dev/dorvik/internal/recovery"
	"dorvik.dev/dorvik/internal/tui/keys"
	"dorvik.dev/dorvik/internal/tui/term"
	"dorvik.dev/dorvik/internal/words"
)

// mending edits the joined code on Check, by offered mends or by hand.
type mending struct{ *checkScreen }

// mending returns the mending of the screen.
func (s *checkScreen) mending() mending { return mending{s} }

// mendAction takes what is offered.
func (s mending) mendAction() []action {
	if !s.canTake() {
		return nil
	}
	out := []action{acts(keys.Take, "take "+words.Is(len(s.offered), "the mend", "the mends"), s.takeMends)}
	if len(s.mayHold) > 1 {
		out = append(out, act(keys.Following, "into another commit", quietly(func() { s.holdIn(1) })),
			also(keys.Previous, quietly(func() { s.holdIn(-1) })))
	}
	return out
}

// holdIn moves the offered mends into the next commit that can hold them or, after the last, back to their own.
func (s mending) holdIn(by int) {
	n := len(s.mayHold) + 1
	s.chosen = (s.chosen + by + n) % n
	if s.chosen == 0 {
		s.held = s.needed
		return
	}
	s.held = slices.Clone(s.needed)
	for i := range s.held {
		s.held[i].In = s.mayHold[s.chosen-1]
	}
}

// canTake reports whether mends are offered.
func (s mending) canTake() bool {
	return s.ready && !s.running() && !s.making && !s.passed() && len(s.offered) > 0 && s.holder != ""
}

// takeMends makes the edits that are certain.
func (s mending) takeMends() tea.Cmd {
	join, mends, held, into := s.job.join, s.offered, s.held, s.holderNames()
	return s.job.rejoin(func(to *recovery.Session) (err error) {
		s.taken, err = to.Mends.Take(context.Background(), join, held)
		return err
	}, func() tea.Cmd {
		s.job.flash = term.Line{}.Mark(term.MarkJoined).Add(term.Plain,
			words.Count(len(mends), "place", "places")+" mended. "+
				words.Is(len(mends), "The edit becomes", "The edits become")+" part of "+into+"; u takes it back.")
		return s.enter()
	})
}

// holderNames names the commits that the offered mends become part of.
func (s mending) holderNames() string {
	var names []string
	for _, h := range s.held {
		name := s.holder
		if h.In >= 0 {
			name = fmt.Sprintf("“%s”", s.job.join.Steps[h.In].Commit.Subject())
			if s.chosen == 0 {
				name += ", which brings it in"
			}
		}
		if !slices.Contains(names, name) {
			names = append(names, name)
		}
	}
	return words.List(names)
}

func (s mending) undoMend() tea.Cmd {
	if before := s.taken; before != nil {
		return s.job.rejoin(func(to *recovery.Session) error { return to.Ledger.GiveBackMends(before) },
			func() tea.Cmd {
				s.taken = nil
				s.job.flash = term.Text(term.Plain, "The last mend is undone.")
				return s.enter()
			})
	}
	var undone plan.Mend
	return s.job.rejoin(func(to *recovery.Session) (err error) {
		undone, _, err = to.Ledger.UndoMend()
		return err
	}, func() tea.Cmd {
		s.job.flash = term.Text(term.Plain, "The mend of "+undone.Path+" is undone.")
		return s.enter()
	})
}

// mend opens the editor at the place of the error.
func (s mending) mend() tea.Cmd {
	p := s.places[s.at]
	text, ok, err := s.job.s.Planner.TextAt(context.Background(), s.job.join.Tree, p.Path)
	if err != nil || !ok {
		s.job.flash = term.Warning(p.Path + " contains no text to edit.")
		return nil
	}
	ed := term.NewEditor(text, 1)
	ed.GoTo(p.Line, p.Col)
	title := term.Text(term.Plain, " ").Bold(term.Bright, p.Path).Add(term.Trouble,
		fmt.Sprintf("  ✗ %d: ", p.Line)).Add(term.Plain, p.Text)
	s.job.open(&writing{frame: s.job.frame, ed: ed, right: s.status(), name: p.Path, own: s.job.s.Repo.Editor,
		around: func(w, h int) term.Page { return append(term.Page{title, nil}, ed.View(w, h-2)...) },
		save: func(after string) tea.Cmd {
			if after == text {
				s.job.flash = term.Text(term.Plain, "Nothing was changed.")
				return nil
			}
			pos, join, in := s.job.pos, s.job.join, ""
			return s.job.rejoin(func(to *recovery.Session) (err error) {
				s.taken, in, err = to.Mends.ByHand(context.Background(), pos, join,
					plan.Mend{Path: p.Path, Before: text, After: after})
				return err
			}, func() tea.Cmd {
				s.job.flash = term.Line{}.Mark(term.MarkJoined).Add(term.Plain,
					"Mended. The edit becomes part of "+in+"; u takes it "+
						"back.")
				return s.enter()
			})
		}})
	return nil
}
