package tui

import (
	"context"
	"runtime"
	"strings"
	"testing"
	"time"

	tea "charm.land/bubbletea/v2"
	"github.com/charmbracelet/colorprofile"
	"github.com/charmbracelet/x/ansi"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dorvik.dev/dorvik/internal/gittest"
	"dorvik.dev/dorvik/internal/tui/term"
)

// still is a screen that shows a text.
type still struct {
	text string
}

func (s *still) view(int, int) term.Page { return term.Page{term.Text(term.Plain, s.text)} }

func (s *still) status() term.Line { return nil }

func (s *still) remark() term.Line { return nil }

func (s *still) actions() []action { return nil }

func (s *still) update(msg tea.Msg) tea.Cmd { return nil }

// TestFramesAreRenderedAtMostSoOften: a key is rendered at once; other messages share a frame for a while.
func TestFramesAreRenderedAtMostSoOften(t *testing.T) {
	s := &still{text: "first"}
	p := &program{frame: newFrame(t.Context(), term.ThemeOf("dark"))}
	p.goTo(s)
	type other struct{}
	_, cmd := p.Update(other{})
	require.Nil(t, cmd)
	assert.Contains(t, ansi.Strip(p.View().Content), "first")
	p.rendered = time.Now().Add(time.Hour) // within the gap, however slow this machine is
	s.text = "second"
	_, later := p.Update(other{})
	require.NotNil(t, later)
	_, cmd = p.Update(other{})
	assert.Nil(t, cmd, "one timer is enough")
	assert.Contains(t, ansi.Strip(p.View().Content), "first")
	p.Update(renderMsg{})
	assert.Contains(t, ansi.Strip(p.View().Content), "second")
	s.text = "third"
	p.Update(tea.KeyPressMsg{Code: 'x', Text: "x"})
	assert.Contains(t, ansi.Strip(p.View().Content), "third")
}

// TestTheViewAsksForTheTerminalItNeeds: all rows of the screen, the mouse, and a background where there are colours.
func TestTheViewAsksForTheTerminalItNeeds(t *testing.T) {
	for _, profile := range []colorprofile.Profile{colorprofile.ASCII, colorprofile.ANSI, colorprofile.TrueColor} {
		p := &program{frame: newFrame(t.Context(), term.ThemeOf("dark"))}
		p.profile = profile
		p.goTo(&still{text: "here"})
		p.Update(tea.WindowSizeMsg{Width: 80, Height: 24})
		v := p.View()
		assert.True(t, v.AltScreen)
		assert.Equal(t, tea.MouseModeCellMotion, v.MouseMode)
		assert.Equal(t, profile > colorprofile.ASCII, v.BackgroundColor != nil, profile)
		rows := strings.Split(ansi.Strip(v.Content), "\n")
		assert.Len(t, rows, 24)
		for _, r := range rows {
			assert.Equal(t, 80, ansi.StringWidth(r), "%q", r)
		}
	}
}

// TestWorkThatPanicsIsTold on the screen, which stays.
func TestWorkThatPanicsIsTold(t *testing.T) {
	f := newFrame(t.Context(), term.ThemeOf("dark"))
	broken := func(context.Context) (then, error) { panic("broken") }
	beside := f.newBeside().start(broken)().(besideEnded)
	assert.ErrorContains(t, beside.err, "a defect in Dorvik, not in your repository (broken, at tui/program_test.go:")
	batch := f.start("going back", func(ctx context.Context, _ func(int, int)) (then, error) { return broken(ctx) })()
	task := batch.(tea.BatchMsg)[0]().(ended)
	assert.ErrorContains(t, task.err, "going back failed: a defect in Dorvik")
	assert.ErrorContains(t, task.err, "Your branch and files are as they were")
}

// TestARedrawCostsWhatIsSeen, however long the file is.
func TestARedrawCostsWhatIsSeen(t *testing.T) {
	gittest.Isolate(t)
	allocations := func(lines int) float64 {
		b := newBench(t, longFile(t, lines))
		b.m.w, b.m.h = 200, 60
		b.press("enter", "enter")
		require.Len(t, b.m.questions, lines/50)
		p := &program{frame: b.m.frame}
		return testing.AllocsPerRun(5, p.render)
	}
	short, long := allocations(1000), allocations(20_000)
	t.Log(short, long)
	assert.Less(t, long, 2*short, "it is of twenty times the length")
}

// TestALongDayLeavesNothingBehind: after hours of use there are as many goroutines as before, and as much memory.
func TestALongDayLeavesNothingBehind(t *testing.T) {
	gittest.Isolate(t)
	b := newBench(t, longFile(t, 500))
	p := &program{frame: b.m.frame}
	use := func(times int) (goroutines int, heap uint64) {
		for range times {
			for _, key := range []string{"enter", "enter", "2", "tab", "v", "v", "j", "j", "?", "esc", "h", "esc",
				"t", "esc",
				"l", "esc", "esc", "esc", "esc", "f"} {
				b.press(key)
				p.render()
			}
		}
		runtime.GC()
		var mem runtime.MemStats
		runtime.ReadMemStats(&mem)
		return runtime.NumGoroutine(), mem.HeapAlloc
	}
	goroutines, heap := use(5)
	later, grown := use(40)
	assert.LessOrEqual(t, later, goroutines+2)
	assert.Less(t, grown, heap+heap/4+1<<20)
	b.see("OVERLAP")
}
