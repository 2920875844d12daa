package tui

import (
	"context"
	"fmt"

	"charm.land/bubbletea/v2"

	"dorvik.dev/dorvik/internal/check"
	"dorvik.dev/dorvik/internal/prove"
	"dorvik.dev/dorvik/internal/recovery"
	"dorvik.dev/dorvik/internal/words"
)

// triedByHand says that the shell in the checkout of the joined code ended.
type triedByHand struct {
	dir string
	err error
}

// tryIt opens a shell, or what dorvik.run of the person's own configuration says, in the joined code.
func (s *checkScreen) tryIt() tea.Cmd {
	tip, pos := s.built.Tip, s.pos
	return s.start("laying the joined code out", func(ctx context.Context, _ func(int, int)) (then, error) {
		dir, err := s.s.Prover.LayOut(ctx, pos, tip)
		if ask := agreeing(err); ask != nil {
			return func() tea.Cmd { return s.openConsent(ask, s.tryIt) }, nil
		}
		if err != nil {
			return nil, err
		}
		line, err := s.s.Prover.OwnProgram(ctx, "dorvik.run")
		if err != nil {
			return nil, err
		}
		return func() tea.Cmd {
			return tea.ExecProcess(check.Shell(line, dir), func(err error) tea.Msg { return triedByHand{dir, err} })
		}, nil
	})
}

// tried looks at what was changed there, and shows it.
func (s *checkScreen) tried(msg triedByHand) tea.Cmd {
	tree := s.join.Tree
	return s.start("looking at what you changed", func(ctx context.Context, _ func(int, int)) (then, error) {
		found, err := s.s.Prover.TriedIn(ctx, msg.dir, tree)
		return func() tea.Cmd {
			if len(found.Mends) == 0 {
				s.flash = txt(plain, "No text of the joined code was changed there."+untaken(found.Other))
				return nil
			}
			s.open(&triedScreen{checkScreen: s, found: found, rows: triedRows(found)})
			return nil
		}, err
	})
}

// untaken says what is not taken of what was changed by hand.
func untaken(other []string) string {
	if len(other) == 0 {
		return ""
	}
	return " Not taken: " + words.List(words.Some(other, 3)) + ", new there, gone, or no text."
}

// triedScreen shows what was changed by hand in the joined code, before it is taken as a mend.
type triedScreen struct {
	*checkScreen
	found  prove.Tried
	rows   page // what was changed, as wide as it is
	scroll scroll
}

func (t *triedScreen) actions() []action {
	out := []action{acts(keys.next, "take it as a mend", t.take), act(keys.back, "leave it", quietly(t.close))}
	return append(out, t.scroll.actions()...)
}

func (t *triedScreen) take() tea.Cmd {
	mends, s := t.found.Mends, t.checkScreen
	t.close()
	return s.rejoin(func(to *recovery.Session) error {
		s.taken = nil
		for _, m := range mends {
			if err := to.Ledger.AddMend(m); err != nil {
				return err
			}
		}
		return nil
	}, func() tea.Cmd {
		s.flash = line{}.mark(markJoined).add(plain, fmt.Sprintf("What you changed in %s becomes part of %s.",
			words.Count(len(mends), "file", "files"), s.holder))
		return s.enter()
	})
}

func (t *triedScreen) update(msg tea.Msg) tea.Cmd {
	t.scroll.update(msg)
	return nil
}

func (t *triedScreen) remark() line {
	return txt(dim, "Nothing of it is taken before enter."+untaken(t.found.Other))
}

func (t *triedScreen) view(w, h int) page {
	p := page{txt(plain, " ").bold(bright, "WHAT YOU CHANGED THERE").add(dim, "  it would become part of "+t.holder),
		nil}
	for _, l := range t.scroll.window(t.rows, h-len(p)) {
		p.row(l.cut(w))
	}
	return p
}

// triedRows lists what was changed, file by file.
func triedRows(found prove.Tried) (rows page) {
	for _, m := range found.Mends {
		rows.row(txt(plain, " ").bold(bright, m.Path))
		rows.rows(editRows(m.Before, m.After))
		rows.blank()
	}
	return rows
}
