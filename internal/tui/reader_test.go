package tui

import (
	"fmt"
	"testing"

	tea "charm.land/bubbletea/v2"
	"github.com/charmbracelet/x/ansi"
	"github.com/stretchr/testify/assert"

	"dorvik.dev/dorvik/internal/plan"
	"dorvik.dev/dorvik/internal/tui/term"
)

func TestReaderGoesFromChangeToChange(t *testing.T) {
	v := &reader{f: newFrame(t.Context(), term.ThemeOf("dark")), title: term.Text(term.Plain, "t"), numbers: true}
	for i := range 60 {
		l := plan.Line{Text: fmt.Sprint("line ", i)}
		if i == 0 || i == 20 || i == 21 || i == 50 {
			l.Origin = plan.LineYours
		}
		v.lines = append(v.lines, l)
	}
	v.scroll.Size(60, 10)
	next, before := v.actions()[1].do, v.actions()[2].do
	for i, c := range []struct {
		do func() tea.Cmd
		at int
	}{{next, 20 - lead}, {next, 50 - lead}, {next, 50 - lead}, {before, 20 - lead}, {before, 0}} {
		c.do()
		assert.Equal(t, c.at, v.scroll.At(), i)
	}
	v.scroll.To(1000)
	p := v.view(30, 12)
	assert.Len(t, p, 12)
	assert.Contains(t, ansi.Strip(v.f.theme.Render(p[11])), "line 59", "it stops at the end")
	v.scroll.To(-5)
	assert.Contains(t, ansi.Strip(v.f.theme.Render(v.view(30, 12)[2])), term.MarkYours.Sign, "and at the start")
}

func TestWindowSaysWhatIsHidden(t *testing.T) {
	var p term.Page
	for i := range 20 {
		p.Row(term.Text(term.Plain, fmt.Sprint("row ", i)))
	}
	for _, c := range []struct {
		off, at     int
		first, last string
	}{{0, 0, "row 0", "  ↓ 16 more below"}, {3, 3, "  ↑ 4 more above", "  ↓ 13 more below"},
		{99, 15, "  ↑ 16 more above", "row 19"}, {-4, 0, "row 0", "  ↓ 16 more below"}} {
		var s term.Scroll
		s.Window(p, 5)
		s.To(c.off)
		w := s.Window(p, 5)
		assert.Equal(t, c.at, s.At())
		assert.Equal(t, c.first, w[0][0].Text)
		assert.Equal(t, c.last, w[4][0].Text)
	}
	var s term.Scroll
	s.Window(p, 5)
	s.To(7)
	assert.Len(t, s.Window(p, 30), 20)
	assert.Zero(t, s.At())
}
