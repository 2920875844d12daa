package tui

import (
	tea "charm.land/bubbletea/v2"

	"dorvik.dev/dorvik/internal/words"
)

// finding is the line in which one types what is looked for, laid over what it is looked for in.
type finding struct {
	screen
	f      *frame
	ed     *editor
	empty  line // what can be typed
	looked func(typed string, only bool) tea.Cmd
}

// ask opens it with what was typed last.
func (s *historyScreen) ask(typed string) tea.Cmd {
	ed := newEditor(typed, 1)
	ed.col = len(typed)
	s.open(&finding{screen: s, f: s.frame, ed: ed, looked: s.looked,
		empty: txt(dim, "words, ").bold(plain, "by:").add(dim, "ilka, ").bold(plain, "in:").add(dim, "fares/, ").
			bold(plain, "since:").add(dim, "2026-03, ").bold(plain, "until:").add(dim, "2026-03-04")})
	return nil
}

func (s *finding) actions() []action {
	typed := func(only bool) func() tea.Cmd {
		return func() tea.Cmd {
			s.f.close()
			return s.looked(s.ed.text(), only)
		}
	}
	return []action{act(keys.next, "show only these", typed(true)),
		act(keys.following, "go from one to the next", typed(false)), act(keys.back, "leave it", quietly(s.f.close))}
}

func (s *finding) unsaved() line { return nil }

func (s *finding) update(msg tea.Msg) tea.Cmd {
	switch msg := msg.(type) {
	case tea.KeyPressMsg:
		s.ed.key(msg)
	case tea.PasteMsg:
		s.ed.paste(words.OneLine(msg.Content))
	}
	return nil
}

func (s *finding) view(w, h int) page {
	p := s.screen.view(w, h-2)
	for len(p) < h-2 {
		p.blank()
	}
	p = append(p[:h-2], rule(w))
	l := txt(plain, " ").bold(bright, "find  ")
	before, after := s.ed.lines[0][:s.ed.col], s.ed.lines[0][s.ed.col:]
	under := grapheme(after)
	rest := after[len(under):]
	if under == "" {
		under = " "
	}
	l = l.add(plain, before).put(ink{hue: plain, invert: true}, under).add(plain, rest)
	if before == "" && after == "" {
		l = l.add(plain, " ").then(s.empty)
	}
	p.row(l)
	return p
}

func (s *finding) status() line { return s.screen.status() }

func (s *finding) remark() line {
	return txt(dim, "All of what you type has to be true of a commit. Large and small letters count alike.")
}
