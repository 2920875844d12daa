package tui

import (
	"context"
	"io"
	"os"
	"os/signal"
	"slices"
	"strings"
	"sync"
	"syscall"
	"time"
	"unicode/utf8"

	tea "charm.land/bubbletea/v2"
	"github.com/charmbracelet/colorprofile"
	"github.com/charmbracelet/x/ansi"
	"github.com/charmbracelet/x/term"

	"dorvik.dev/dorvik/internal/core/caught"
)

// painter draws on the terminal. The way that comes with Bubble Tea draws by a clock: a key waits for its next tick,
// and it ticks where nothing moves. This one draws a frame at once, or a moment later where the last was drawn just
// now, and has no clock. Of a frame it writes what differs from the last.
type painter struct {
	out *colorprofile.Writer // which makes the colours those that the terminal has

	mu      sync.Mutex
	theme   *theme
	on      bool // the terminal is ours
	shown   page // the frame that is on it; nil for none
	scratch [2][]cell
	drawn   time.Time
	waiting bool // for the moment to be over
	resized chan os.Signal
}

// gap is how long after a frame the next is drawn at the earliest, where no key asked for it. A key waits for the time
// in which the terminal takes a frame in, if it comes so soon.
const (
	gap    = 8 * time.Millisecond
	keyGap = 2 * time.Millisecond
)

// paintMsg says that the moment after the last frame is over.
type paintMsg struct{}

func newPainter(out io.Writer, profile colorprofile.Profile, th *theme) *painter {
	return &painter{out: &colorprofile.Writer{Forward: out, Profile: profile}, theme: th,
		resized: make(chan os.Signal, 4)}
}

// unicodeCore has the terminal take characters to be as wide as they are taken to be here, if it knows that mode.
const (
	setUnicodeCore   = "\x1b[?2027h"
	resetUnicodeCore = "\x1b[?2027l"
)

// enter takes the terminal. What it does not know of this it passes over.
func (p *painter) enter() {
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.on {
		return
	}
	p.on, p.shown = true, nil
	seq := ansi.SetModeAltScreenSaveCursor + ansi.ResetModeTextCursorEnable + ansi.SetModeBracketedPaste +
		ansi.SetModeMouseButtonEvent + ansi.SetModeMouseExtSgr + setUnicodeCore +
		ansi.SetWindowTitle("dorvik") + ansi.SetModifyOtherKeys2 +
		ansi.PushKittyKeyboard(ansi.KittyDisambiguateEscapeCodes)
	if p.colours() {
		seq += ansi.SetBackgroundColor(p.theme.paper)
	}
	p.write(seq)
}

// colours reports whether there are any: where the letters have none, the paper must have none either.
func (p *painter) colours() bool { return p.theme.colour && p.out.Profile > colorprofile.ASCII }

// leave gives the terminal back as it was.
func (p *painter) leave() {
	p.mu.Lock()
	defer p.mu.Unlock()
	if !p.on {
		return
	}
	p.on = false
	seq := ansi.ResetModifyOtherKeys + ansi.PopKittyKeyboard(1) + ansi.ResetModeMouseButtonEvent +
		ansi.ResetModeMouseExtSgr + ansi.ResetModeBracketedPaste + resetUnicodeCore + ansi.SetWindowTitle("")
	if p.colours() {
		seq += ansi.ResetBackgroundColor
	}
	p.write(seq + ansi.ResetModeAltScreenSaveCursor + ansi.SetModeTextCursorEnable)
}

// write writes to the terminal. If it cannot, nobody can be told: the terminal is gone, which ends the program.
func (p *painter) write(s string) { _, _ = io.WriteString(p.out, s) }

// send is write for what a screen has to tell the terminal beside its frames.
func (p *painter) send(s string) {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.write(s)
}

// anew has the next frame be drawn whole.
func (p *painter) anew() {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.shown = nil
}

// show has what is to be seen now be drawn: at once or, with the command that it gives, a moment later.
func (p *painter) show(view func() page, byKey bool) tea.Cmd {
	wait := gap
	if byKey {
		wait = keyGap
	}
	wait -= time.Since(p.drawn)
	if wait <= 0 {
		p.paint(view())
		return nil
	}
	if p.waiting {
		return nil
	}
	p.waiting = true
	return tea.Tick(wait, func(time.Time) tea.Msg { return paintMsg{} })
}

// paint draws a frame.
func (p *painter) paint(frame page) {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.drawn = time.Now()
	if !p.on {
		return
	}
	var out strings.Builder
	if len(p.shown) != len(frame) {
		p.shown = nil
		out.WriteString(ansi.EraseEntireDisplay)
	}
	for y, row := range frame {
		switch {
		case p.shown == nil:
			p.row(&out, y, row)
		case !row.same(p.shown[y]):
			if !p.change(&out, y, p.shown[y], row) {
				p.row(&out, y, row)
			}
		}
	}
	p.shown = frame
	if out.Len() == 0 {
		return
	}
	// The terminal shows it when it has all of it, if it knows that mode. The cursor is left at the bottom: there is
	// what a shell says if this program is killed.
	p.write(ansi.SetModeSynchronizedOutput + ansi.ResetModeAutoWrap + out.String() + ansi.SetModeAutoWrap +
		ansi.CursorPosition(1, len(frame)) + ansi.ResetModeSynchronizedOutput)
}

// row draws a row as a whole.
func (p *painter) row(out *strings.Builder, y int, row line) {
	out.WriteString(ansi.CursorPosition(1, y+1))
	out.WriteString(ansi.EraseLineRight) // something would be left where the terminal takes characters to be narrower
	out.WriteString(p.theme.render(row))
}

// near is how many cells that stay are written again rather than passed over: to pass over costs bytes, too.
const near = 8

// change draws what differs between two states of a row; ok is false where it has to be drawn as a whole.
func (p *painter) change(out *strings.Builder, y int, old, now line) (ok bool) {
	a, simple := old.inkPerCell(p.scratch[0][:0])
	b, also := now.inkPerCell(p.scratch[1][:0])
	p.scratch = [2][]cell{a, b}
	if !simple || !also || len(a) != len(b) {
		return false
	}
	for x := 0; x < len(b); {
		if a[x] == b[x] {
			x++
			continue
		}
		end := x + 1 // of what is written, which goes on over what stays for a little
		for k := end; k < len(b) && k < end+near; k++ {
			if a[k] != b[k] {
				end = k + 1
			}
		}
		out.WriteString(ansi.CursorPosition(x+1, y+1))
		for x < end {
			first := b[x].ink
			codes := p.theme.around(first)
			out.WriteString(codes[0])
			for ; x < end && b[x].ink == first; x++ {
				out.WriteString(b[x].text)
			}
			out.WriteString(codes[1])
		}
	}
	return true
}

// cell is one place of the screen.
type cell struct {
	text string
	ink  ink
}

// inkPerCell cuts a row into cells, which it adds to others; ok is false where not every character of it is known to
// take one cell.
func (l line) inkPerCell(cells []cell) (_ []cell, ok bool) {
	for _, s := range l {
		if s.drawn {
			return cells, false
		}
		for i, r := range s.text {
			n := utf8.RuneLen(r)
			if n < 0 || r >= 0x7f && !single(r) {
				return cells, false
			}
			cells = append(cells, cell{s.text[i : i+n], s.ink})
		}
	}
	return cells, true
}

// single reports whether a character beyond ASCII takes one cell on every terminal, and stands by itself: Latin
// letters, punctuation, arrows, lines and blocks, and the signs of the screen.
func single(r rune) bool {
	return r >= 0xa1 && r < 0x300 && r != 0xad || r >= 0x2010 && r <= 0x2027 || r >= 0x2190 && r <= 0x22ff ||
		r >= 0x2500 && r <= 0x25fc || r == '✓' || r == '✗' || r == '′'
}

// same reports whether two rows look the same.
func (l line) same(o line) bool {
	return slices.EqualFunc(l, o, func(a, b span) bool {
		return a.text == b.text && a.ink == b.ink && a.drawn == b.drawn
	})
}

// painted is the model that Bubble Tea runs: a frame on a painter.
type painted struct {
	*frame
	first tea.Cmd // what is done first
}

// Init gives what is done first.
func (m painted) Init() tea.Cmd {
	m.painter.enter()
	return m.first
}

// Update passes the message to the frame and draws. If the painter panics, the program ends with that defect.
func (m painted) Update(msg tea.Msg) (_ tea.Model, cmd tea.Cmd) {
	defer func() {
		if v := recover(); v != nil {
			m.defect, cmd = caught.From(v), tea.Quit
		}
	}()
	p := m.painter
	if _, ok := msg.(paintMsg); ok {
		p.waiting = false
		p.paint(m.picture())
		return m, nil
	}
	if _, ok := msg.(tea.WindowSizeMsg); ok {
		p.anew()
	}
	cmd = m.take(msg)
	byKey := false
	switch msg.(type) {
	case tea.KeyPressMsg, tea.MouseMsg, tea.PasteMsg, tea.WindowSizeMsg:
		byKey = true
	}
	return m, tea.Batch(cmd, p.show(m.picture, byKey))
}

// View has nothing: the painter draws.
func (m painted) View() tea.View { return tea.NewView("") }

// aside has the painter leave the terminal while the program is stopped, and take it again afterwards.
func (p *painter) aside(_ tea.Model, msg tea.Msg) tea.Msg {
	switch msg.(type) {
	case tea.SuspendMsg:
		p.leave()
	case tea.ResumeMsg:
		p.enter()
		p.askSize()
	}
	return msg
}

// askSize has the size of the terminal be asked again. It does not wait: one that is to be
// asked already is enough.
func (p *painter) askSize() {
	select {
	case p.resized <- syscall.SIGCONT:
	default:
	}
}

// watch tells a program how large the terminal is, now and whenever that is another size, until it is stopped.
func (p *painter) watch(program *tea.Program) (stop func()) {
	signal.Notify(p.resized, syscall.SIGWINCH)
	p.askSize()
	done := make(chan struct{})
	go func() {
		for {
			select {
			case <-p.resized:
				program.Send(terminalSize())
			case <-done:
				return
			}
		}
	}()
	return func() {
		signal.Stop(p.resized)
		close(done)
	}
}

// terminalSize asks how large the terminal is.
func terminalSize() tea.WindowSizeMsg {
	w, h, err := term.GetSize(os.Stdout.Fd())
	if err != nil || w <= 0 || h <= 0 {
		return tea.WindowSizeMsg{Width: 80, Height: 24} // as terminals have been
	}
	return tea.WindowSizeMsg{Width: w, Height: h}
}

// lend has another program have the terminal, and done be told how it ended. run is what starts it.
func (f *frame) lend(run func(done tea.ExecCallback) tea.Cmd, done tea.ExecCallback) tea.Cmd {
	p := f.painter
	if p == nil {
		return run(done)
	}
	start := run(func(err error) tea.Msg {
		p.enter()
		p.askSize() // it may have been resized meanwhile
		return done(err)
	})
	return func() tea.Msg {
		p.leave()
		return start()
	}
}

// clip puts a text on the clipboard, where the terminal lets programs do that.
func (f *frame) clip(text string) {
	if f.painter != nil {
		f.painter.send(ansi.SetSystemClipboard(text))
	}
}

// onTerminal runs a frame on the terminal until it is left, and gives the terminal back. It returns Bubble Tea's error,
// or the defect on the screen when it was left.
func (f *frame) onTerminal(ctx context.Context, first tea.Cmd) error {
	profile := max(colorprofile.Detect(os.Stdout, os.Environ()), colorprofile.ASCII) // places are written at the least
	if c := os.Getenv("COLORTERM"); f.theme.colour && (c == "truecolor" || c == "24bit") {
		profile = colorprofile.TrueColor // the terminal says so itself
	}
	f.painter = newPainter(os.Stdout, profile, f.theme)
	size := terminalSize()
	f.w, f.h = size.Width, size.Height
	// What comes with the library writes nothing then, and its clock is as slow as it can be.
	options := []tea.ProgramOption{tea.WithContext(ctx), tea.WithOutput(io.Discard), tea.WithFPS(1),
		tea.WithColorProfile(profile), tea.WithWindowSize(size.Width, size.Height), tea.WithFilter(f.painter.aside)}
	if k := newKeyboard(); k != nil {
		options = append(options, tea.WithInput(k))
	}
	program := tea.NewProgram(painted{f, first}, options...)
	stop := f.painter.watch(program)
	defer stop()
	defer f.painter.leave()
	if _, err := program.Run(); err != nil {
		return err
	}
	return f.defect
}
