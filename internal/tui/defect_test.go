package tui

import (
	"testing"

	tea "charm.land/bubbletea/v2"
	"github.com/charmbracelet/x/ansi"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dorvik.dev/dorvik/internal/tui/term"
	"dorvik.dev/dorvik/internal/words"
)

// fragile is a screen that can be made to panic.
type fragile struct{ drawing, taking bool }

func (s *fragile) actions() []action { return nil }

func (s *fragile) status() term.Line { return nil }

func (s *fragile) remark() term.Line { return nil }

func (s *fragile) update(tea.Msg) tea.Cmd {
	if s.taking {
		panic("taking")
	}
	return nil
}

func (s *fragile) view(int, int) term.Page {
	if s.drawing {
		panic("drawing")
	}
	return term.Page{term.Text(term.Plain, "whole").Fit(12)}
}

// TestAPanicOfAScreenIsToldInItsPlace checks that the program survives the panic, that esc begins anew, and that the
// error is returned when one leaves.
func TestAPanicOfAScreenIsToldInItsPlace(t *testing.T) {
	press := func(s string) tea.KeyPressMsg {
		if s == "esc" {
			return tea.KeyPressMsg{Code: tea.KeyEscape}
		}
		return tea.KeyPressMsg{Code: rune(s[0]), Text: s}
	}
	for name, s := range map[string]*fragile{"drawing": {drawing: true}, "taking": {taking: true}} {
		f := newFrame(t.Context(), term.ThemeOf("dark"))
		f.under = s
		m := &program{frame: f}
		begun := 0
		f.anew = func() tea.Cmd { begun++; f.under = &fragile{}; return nil }
		sees := func() string {
			_, cmd := m.Update(tea.PasteMsg{})
			require.Nil(t, cmd)
			return words.OneLine(ansi.Strip(m.View().Content))
		}
		told := sees()
		assert.Contains(t, told, "A defect in Dorvik, not in your repository ("+name+", at tui/defect_test.go:")
		assert.Contains(t, told, "changed neither branch nor files")
		assert.Contains(t, told, "esc start again at Look")

		f.task = &task{vital: true}
		m.Update(press("esc"))
		m.Update(press("q"))
		assert.Contains(t, sees(), "goes on to its end", "nothing is cut off")
		f.task = nil
		m.Update(press("x"))
		assert.Zero(t, begun)
		m.Update(press("esc"))
		assert.Equal(t, 1, begun)
		assert.Contains(t, sees(), "whole")
	}
	f := newFrame(t.Context(), term.ThemeOf("dark"))
	f.under, f.defect = &fragile{}, assert.AnError
	m := &program{frame: f}
	_, cmd := m.Update(press("q"))
	assert.NotContains(t, ansi.Strip(m.View().Content), "esc", "there is nothing to begin")
	require.NotNil(t, cmd)
	f.theme = nil // the drawing itself fails
	_, cmd = m.Update(press("x"))
	assert.Equal(t, tea.Quit(), cmd())
	assert.ErrorContains(t, f.defect, "a defect in Dorvik")
}
