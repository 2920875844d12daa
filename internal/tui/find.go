package tui

import (
	"slices"

	tea "charm.land/bubbletea/v2"

	"dorvik.dev/dorvik/internal/words"
)

// finding is a line in which one types, laid over what it is about: what is looked for, or why.
type finding struct {
	screen
	f     *frame
	ed    *editor
	label string
	empty line   // what can be typed
	says  string // the remark
	done  []action
}

// ask opens it with what was typed last.
func (s *historyScreen) ask(typed string) tea.Cmd {
	f := &finding{screen: s, f: s.frame, label: "find", says: "All of what you type has to be true of a commit. " +
		"Large and small letters count alike.",
		empty: txt(dim, "words, ").bold(plain, "by:").add(dim, "ilka, ").bold(plain, "in:").add(dim, "fares/, ").
			bold(plain, "since:").add(dim, "2026-03, ").bold(plain, "until:").add(dim, "2026-03-04")}
	f.open(typed, act(keys.next, "show only these", f.typed(func(typed string) tea.Cmd {
		return s.looked(typed,
			true)
	})),
		act(keys.following, "go from one to the next", f.typed(func(typed string) tea.Cmd {
			return s.looked(typed,
				false)
		})))
	return nil
}

// open lays the line over its screen, with what stands in it and what can be done with it.
func (s *finding) open(typed string, done ...action) {
	s.ed, s.done = newEditor(typed, 1), done
	s.ed.col = len(typed)
	s.f.open(s)
}

// typed closes the line and does something with what is in it.
func (s *finding) typed(do func(typed string) tea.Cmd) func() tea.Cmd {
	return func() tea.Cmd {
		s.f.close()
		return do(s.ed.text())
	}
}

func (s *finding) actions() []action {
	return append(slices.Clip(s.done), act(keys.back, "leave it", quietly(s.f.close)))
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
	l := txt(plain, " ").bold(bright, s.label+"  ")
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

func (s *finding) remark() line { return txt(dim, s.says) }
