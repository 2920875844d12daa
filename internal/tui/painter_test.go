package tui

import (
	"bytes"
	"strings"
	"testing"
	"time"

	tea "charm.land/bubbletea/v2"
	"github.com/charmbracelet/colorprofile"
	"github.com/charmbracelet/x/ansi"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// canvas is a painter that draws into memory.
func canvas(t *testing.T) (*painter, *bytes.Buffer) {
	t.Helper()
	var out bytes.Buffer
	p := newPainter(&out, []string{"TERM=xterm-256color"}, colorprofile.TrueColor, themeOf("dark"))
	p.enter()
	p.learn(tea.WindowSizeMsg{Width: 20, Height: 3})
	out.Reset()
	return p, &out
}

// TestThePainterDrawsAtOnceAndRests: a frame after a pause is drawn at once, one soon after it later, by one timer; what
// is there already is not drawn again, and of a row that changes only what is new.
func TestThePainterDrawsAtOnceAndRests(t *testing.T) {
	p, out := canvas(t)
	row := "first"
	view := func() string { return row + "\nsame\nsame" }
	assert.Nil(t, p.show(view, false))
	assert.Contains(t, ansi.Strip(out.String()), "first")
	assert.Contains(t, out.String(), "same")
	out.Reset()
	p.drawn = time.Now()
	row = "fine"
	later := p.show(view, false)
	require.NotNil(t, later, "a moment later")
	assert.Nil(t, p.show(view, false), "one timer is enough")
	assert.Empty(t, out.String())
	assert.Equal(t, paintMsg{}, later())
	p.waiting = false
	p.paint(view())
	assert.Contains(t, ansi.Strip(out.String()), "ne")
	assert.NotContains(t, out.String(), "same", "of the frame only what changed is written")
	out.Reset()
	p.drawn = time.Time{}
	assert.Nil(t, p.show(view, true))
	assert.Empty(t, out.String(), "nothing changed, so nothing is written, and no timer runs")
}

// TestTheTerminalIsGivenBack as it was, once, also where what draws panics; and taken again after another had it.
func TestTheTerminalIsGivenBack(t *testing.T) {
	p, out := canvas(t)
	p.paint("here\n\n")
	out.Reset()
	p.leave()
	p.leave()
	for _, mode := range []string{ansi.ResetModeAltScreenSaveCursor, ansi.SetModeTextCursorEnable,
		ansi.ResetModeMouseExtSgr, ansi.ResetModeBracketedPaste, ansi.ResetBackgroundColor, ansi.PopKittyKeyboard(1)} {
		assert.Equal(t, 1, strings.Count(out.String(), mode), "%q", mode)
	}
	out.Reset()
	p.paint("hidden\n\n")
	assert.Empty(t, out.String(), "another has the terminal")
	p.enter()
	p.paint("again\n\n")
	assert.Contains(t, out.String(), ansi.SetModeAltScreenSaveCursor)
	assert.Contains(t, ansi.Strip(out.String()), "again", "the whole frame is drawn anew")
	out.Reset()
	f := newFrame(t.Context(), themeOf("dark"))
	f.painter = p
	assert.PanicsWithValue(t, "broken", func() {
		defer f.uncover()
		panic("broken")
	})
	assert.Contains(t, out.String(), ansi.ResetModeAltScreenSaveCursor)
}

// TestWhatTheTerminalTells: another size, and how wide it takes characters to be, have all be drawn anew.
func TestWhatTheTerminalTells(t *testing.T) {
	p, out := canvas(t)
	p.paint("wide\n\n")
	for _, msg := range []tea.Msg{tea.WindowSizeMsg{Width: 30, Height: 4},
		tea.ModeReportMsg{Mode: ansi.ModeUnicodeCore, Value: ansi.ModeReset},
		tea.ColorProfileMsg{Profile: colorprofile.ASCII}} {
		p.learn(msg)
		assert.Empty(t, p.shown, "%T", msg)
		p.paint("wide\n\n")
	}
	assert.Contains(t, out.String(), ansi.SetModeUnicodeCore)
	assert.Equal(t, 30, p.cells.Width())
	assert.True(t, p.answers())
	p.env = append(p.env, "SSH_TTY=/dev/pts/1")
	assert.False(t, p.answers(), "from afar an answer may come too late")
}

// TestARedrawAllocatesLittle, however long the file is: its cost is that of what is seen.
func TestARedrawAllocatesLittle(t *testing.T) {
	p, _ := canvas(t)
	p.learn(tea.WindowSizeMsg{Width: 200, Height: 60})
	rows := strings.Repeat("line of the timetable\n", 59)
	n := 0
	per := testing.AllocsPerRun(20, func() {
		n++
		p.paint(rows + strings.Repeat("x", n%2+1))
	})
	assert.Less(t, per, 400.0)
}
