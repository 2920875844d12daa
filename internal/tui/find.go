package tui

import (
	"slices"

	tea "charm.land/bubbletea/v2"

	"dorvik.dev/dorvik/internal/tui/keys"
	"dorvik.dev/dorvik/internal/tui/term"
	"dorvik.dev/dorvik/internal/words"
)

// finding is an input line over a screen, for a search or a reason.
type finding struct {
	screen
	f     *frame
	ed    *term.Editor
	label string
	empty term.Line // hint about what can be typed
	says  string    // the remark
	done  []action
}

// open shows the line over its screen with a text and its actions.
func (s *finding) open(typed string, done ...action) {
	s.ed, s.done = term.NewEditor(typed, 1), done
	s.ed.Col = len(typed)
	s.f.open(s)
}

// typed closes the line and passes its text on.
func (s *finding) typed(do func(typed string) tea.Cmd) func() tea.Cmd {
	return func() tea.Cmd {
		s.f.close()
		return do(s.ed.Text())
	}
}

func (s *finding) actions() []action {
	return append(slices.Clip(s.done), act(keys.Back, "leave it", quietly(s.f.close)))
}

func (s *finding) unsaved() term.Line { return nil }

func (s *finding) update(msg tea.Msg) tea.Cmd {
	switch msg := msg.(type) {
	case tea.KeyPressMsg:
		s.ed.Key(msg)
	case tea.PasteMsg:
		s.ed.Paste(words.OneLine(msg.Content))
	}
	return nil
}

func (s *finding) view(w, h int) term.Page {
	p := s.screen.view(w, h-2)
	for len(p) < h-2 {
		p.Blank()
	}
	p = append(p[:h-2], term.Rule(w))
	l := term.Text(term.Plain, " ").Bold(term.Bright, s.label+"  ")
	l = l.Then(typedLine(s.ed))
	if s.ed.Text() == "" {
		l = l.Add(term.Plain, " ").Then(s.empty)
	}
	p.Row(l)
	return p
}

// typedLine draws the first line of an editor with its cursor.
func typedLine(ed *term.Editor) term.Line {
	before, after := ed.Lines[0][:ed.Col], ed.Lines[0][ed.Col:]
	under := term.Grapheme(after)
	rest := after[len(under):]
	if under == "" {
		under = " "
	}
	return term.Text(term.Plain, before).Put(term.Ink{Hue: term.Plain, Invert: true}, under).Add(term.Plain, rest)
}

func (s *finding) status() term.Line { return s.screen.status() }

func (s *finding) remark() term.Line { return term.Text(term.Dim, s.says) }
