package tui

import (
	"bytes"
	"context"
	"math/rand/v2"
	"regexp"
	"runtime"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"
	"unicode/utf8"

	"dorvik.dev/dorvik/internal/gittest"

	tea "charm.land/bubbletea/v2"
	"github.com/charmbracelet/colorprofile"
	"github.com/charmbracelet/x/ansi"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// canvas is a painter that draws into memory.
func canvas(t testing.TB) (*painter, *bytes.Buffer) {
	t.Helper()
	var out bytes.Buffer
	p := newPainter(&out, colorprofile.TrueColor, themeOf("dark"))
	p.enter()
	out.Reset()
	return p, &out
}

// rowsOf makes a frame of texts.
func rowsOf(rows ...string) (p page) {
	for _, r := range rows {
		p.row(txt(plain, r).fit(12))
	}
	return p
}

// TestThePainterDrawsAtOnceAndRests: a frame after a pause is drawn at once, one soon after it later, by one timer; and
// where nothing changed nothing is written.
func TestThePainterDrawsAtOnceAndRests(t *testing.T) {
	p, out := canvas(t)
	row := "first"
	view := func() page { return rowsOf(row, "same") }
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
	out.Reset()
	p.drawn = time.Time{}
	assert.Nil(t, p.show(view, true))
	assert.Empty(t, out.String(), "nothing changed, so nothing is written, and no timer runs")
}

// shows is what a terminal of a few cells shows after what was written to it: it knows where to write, to erase, that it
// does not go beyond the last cell of a row, and that all else are colours and modes.
func shows(t *testing.T, screen [][]rune, written string) {
	t.Helper()
	x, y := 0, 0
	for written != "" {
		if m := placed.FindStringSubmatch(written); m != nil {
			y, _ = strconv.Atoi(m[1])
			x, _ = strconv.Atoi("0" + m[2])
			x, y, written = max(x, 1)-1, y-1, written[len(m[0]):]
			continue
		}
		if m := escaped.FindString(written); m != "" {
			if m == ansi.EraseEntireDisplay {
				for _, row := range screen {
					for i := range row {
						row[i] = ' '
					}
				}
			}
			if m == ansi.EraseLineRight {
				for i := x; i < len(screen[y]); i++ {
					screen[y][i] = ' '
				}
			}
			written = written[len(m):]
			continue
		}
		r, n := utf8.DecodeRuneInString(written)
		screen[y][x] = r
		x, written = min(x+1, len(screen[y])-1), written[n:]
	}
}

var (
	placed  = regexp.MustCompile(`^\x1b\[(\d+)(?:;(\d+))?H`)
	escaped = regexp.MustCompile(`^\x1b\[[?>=]?[\d;]*[A-Za-z]`)
)

// TestWhatIsWrittenMakesTheFrame of whatever was there, by random frames; and it is little where little changed.
func TestWhatIsWrittenMakesTheFrame(t *testing.T) {
	p, out := canvas(t)
	r := rand.New(rand.NewPCG(14, 1))
	screen := make([][]rune, 4)
	for i := range screen {
		screen[i] = []rune("............")
	}
	signs := []string{"a", "b", " ", "┃", "é", "日", "◐"}
	for range 400 {
		var frame page
		for range screen {
			var l line
			for range r.IntN(4) {
				l = l.add([]hue{plain, dim, yours}[r.IntN(3)], strings.Repeat(signs[r.IntN(7)], r.IntN(5)))
			}
			frame.row(l.fit(12))
		}
		if r.IntN(9) == 0 {
			frame[1] = drawn("\x1b[1mkeys\x1b[m").fit(12)
		}
		out.Reset()
		p.paint(frame)
		shows(t, screen, out.String())
		for y, row := range screen {
			want := []rune(ansi.Strip(p.theme.render(frame[y])))
			assert.Equal(t, string(want), string(row[:len(want)]))
		}
	}
	long := strings.Repeat("timetable ", 20)
	p.paint(page{txt(plain, long)})
	out.Reset()
	p.paint(page{txt(plain, long[:100]+"#"+long[101:])})
	assert.Less(t, out.Len(), 80, "%q", out.String())
}

// TestTheTerminalIsGivenBack as it was, once, also where what draws panics; and taken again after another had it.
func TestTheTerminalIsGivenBack(t *testing.T) {
	p, out := canvas(t)
	p.paint(rowsOf("here"))
	out.Reset()
	p.leave()
	p.leave()
	for _, mode := range []string{ansi.ResetModeAltScreenSaveCursor, ansi.SetModeTextCursorEnable,
		ansi.ResetModeMouseExtSgr, ansi.ResetModeBracketedPaste, ansi.ResetBackgroundColor, ansi.PopKittyKeyboard(1)} {
		assert.Equal(t, 1, strings.Count(out.String(), mode), "%q", mode)
	}
	out.Reset()
	p.paint(rowsOf("hidden"))
	assert.Empty(t, out.String(), "another has the terminal")
	p.enter()
	p.paint(rowsOf("here"))
	assert.Contains(t, out.String(), ansi.SetModeAltScreenSaveCursor)
	assert.Contains(t, ansi.Strip(out.String()), "here", "the whole frame is drawn anew")
	out.Reset()
	p.anew()
	p.paint(rowsOf("here"))
	assert.Contains(t, ansi.Strip(out.String()), "here", "as after another size")
	out.Reset()
	for _, profile := range []colorprofile.Profile{colorprofile.ASCII, colorprofile.ANSI} {
		var bare bytes.Buffer
		newPainter(&bare, profile, themeOf("dark")).enter()
		assert.Equal(t, profile > colorprofile.ASCII, strings.Contains(bare.String(), "\x1b]11;"), "%s", profile)
	}
	f := newFrame(t.Context(), themeOf("dark"))
	broken := func(context.Context) (then, error) { panic("broken") }

	// Work that panics is told on the screen, which stays.
	beside := f.newBeside().start(broken)().(besideEnded)
	assert.ErrorContains(t, beside.err, "a defect in Dorvik, not in your repository (broken, at tui/painter_test.go:")
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
		p, _ := canvas(t)
		return testing.AllocsPerRun(5, func() {
			p.anew()
			p.paint(b.m.draw())
		})
	}
	short, long := allocations(1000), allocations(20_000)
	t.Log(short, long)
	assert.Less(t, long, 2*short, "it is of twenty times the length")
}

// TestALongDayLeavesNothingBehind: after hours of use there are as many goroutines as before, and as much memory.
func TestALongDayLeavesNothingBehind(t *testing.T) {
	gittest.Isolate(t)
	b := newBench(t, longFile(t, 500))
	p, _ := canvas(t)
	use := func(times int) (goroutines int, heap uint64) {
		for range times {
			for _, key := range []string{"enter", "enter", "2", "tab", "v", "v", "j", "j", "?", "esc", "h", "esc", "t", "esc",
				"l", "esc", "esc", "esc", "esc", "f"} {
				b.press(key)
				p.paint(b.m.draw())
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

// TestResizingWhileTheTerminalIsLentDoesNotBlock resumes while as many changes of size wait as there is room for.
func TestResizingWhileTheTerminalIsLentDoesNotBlock(t *testing.T) {
	p, _ := canvas(t)
	for range cap(p.resized) {
		p.resized <- syscall.SIGWINCH
	}
	p.aside(nil, tea.SuspendMsg{})
	assert.Equal(t, tea.ResumeMsg{}, p.aside(nil, tea.ResumeMsg{}))
	assert.Len(t, p.resized, cap(p.resized))
}
