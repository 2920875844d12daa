package tui

import (
	"bytes"
	"context"
	"io"
	"os"
	"os/signal"
	"sync"
	"syscall"
	"time"

	tea "charm.land/bubbletea/v2"
	"github.com/charmbracelet/colorprofile"
	uv "github.com/charmbracelet/ultraviolet"
	"github.com/charmbracelet/x/ansi"
	"github.com/charmbracelet/x/term"
)

// painter draws on the terminal. The way that comes with Bubble Tea draws by a clock: a key waits for its next tick, and
// it ticks where nothing moves. This one draws a frame at once, or a moment later where the last was drawn just now, and
// has no clock. What differs from the last frame is found by the same library.
type painter struct {
	out io.Writer
	env []string

	mu      sync.Mutex
	profile colorprofile.Profile
	method  ansi.Method // by which the terminal tells how wide a character is
	paper   string      // the colour behind all, or empty
	on      bool        // the terminal is ours
	buf     bytes.Buffer
	screen  *uv.TerminalRenderer
	cells   uv.ScreenBuffer
	shown   string // the frame that is on it
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

func newPainter(out io.Writer, env []string, profile colorprofile.Profile, th *theme) *painter {
	p := &painter{out: out, env: env, profile: profile, cells: uv.NewScreenBuffer(80, 24),
		resized: make(chan os.Signal, 4)}
	if th.colour {
		p.paper = th.paper
	}
	return p
}

// enter takes the terminal.
func (p *painter) enter() {
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.on {
		return
	}
	p.on, p.shown = true, ""
	p.screen = uv.NewTerminalRenderer(&p.buf, p.env)
	p.screen.SetColorProfile(p.profile)
	p.screen.SetFullscreen(true)
	p.screen.SetRelativeCursor(false)
	p.screen.SetScrollOptim(true)
	p.screen.SetTabStops(-1)
	p.screen.Erase()
	seq := ansi.SetModeAltScreenSaveCursor + ansi.ResetModeTextCursorEnable + ansi.SetModeBracketedPaste +
		ansi.SetModeMouseButtonEvent + ansi.SetModeMouseExtSgr + ansi.SetWindowTitle("dorvik") +
		ansi.SetModifyOtherKeys2 + ansi.PushKittyKeyboard(ansi.KittyDisambiguateEscapeCodes)
	if p.paper != "" {
		seq += ansi.SetBackgroundColor(p.paper)
	}
	if p.answers() {
		seq += ansi.RequestModeUnicodeCore
	}
	p.write(seq)
}

// answers reports whether the terminal can be asked something: some show what they do not know, and from afar the answer
// may come when the screen was left.
func (p *painter) answers() bool {
	env := uv.Environ(p.env)
	return env.Getenv("TERM_PROGRAM") != "Apple_Terminal" && env.Getenv("SSH_TTY") == ""
}

// leave gives the terminal back as it was.
func (p *painter) leave() {
	p.mu.Lock()
	defer p.mu.Unlock()
	if !p.on {
		return
	}
	p.on = false
	seq := ansi.ResetModifyOtherKeys + ansi.PopKittyKeyboard(1) + ansi.ResetModeMouseButtonEvent +
		ansi.ResetModeMouseExtSgr + ansi.ResetModeBracketedPaste + ansi.SetWindowTitle("")
	if p.paper != "" {
		seq += ansi.ResetBackgroundColor
	}
	if p.method == ansi.GraphemeWidth {
		seq += ansi.ResetModeUnicodeCore
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

// learn takes what the terminal tells of itself.
func (p *painter) learn(msg tea.Msg) {
	p.mu.Lock()
	defer p.mu.Unlock()
	switch msg := msg.(type) {
	case tea.WindowSizeMsg:
		p.cells.Touched = nil // it is made anew for the new height
		p.cells.Resize(msg.Width, msg.Height)
		if p.on {
			p.screen.Resize(msg.Width, msg.Height)
			p.screen.Erase()
			p.shown = ""
		}
	case tea.ColorProfileMsg:
		if p.profile = msg.Profile; p.on {
			p.screen.SetColorProfile(p.profile)
			p.shown = ""
		}
	case tea.ModeReportMsg:
		can := msg.Value == ansi.ModeReset || msg.Value == ansi.ModeSet || msg.Value == ansi.ModePermanentlySet
		if msg.Mode == ansi.ModeUnicodeCore && can && p.on {
			p.method = ansi.GraphemeWidth
			p.cells.Method = p.method
			p.screen.SetWidthMethod(p.method)
			p.write(ansi.SetModeUnicodeCore)
			p.shown = ""
		}
	}
}

// show has what is to be seen now be drawn: at once or, with the command that it gives, a moment later.
func (p *painter) show(view func() string, byKey bool) tea.Cmd {
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
func (p *painter) paint(frame string) {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.drawn = time.Now()
	if !p.on || frame == p.shown {
		return
	}
	p.shown = frame
	p.cells.Clear()
	uv.NewStyledString(frame).Draw(p.cells, p.cells.Bounds())
	p.screen.Render(p.cells.RenderBuffer)
	if p.screen.Flush() != nil || p.buf.Len() == 0 { // it flushes into memory
		return
	}
	// The terminal shows it when it has all of it, if it knows that mode. Others pass it over.
	p.write(ansi.SetModeSynchronizedOutput + p.buf.String() + ansi.ResetModeSynchronizedOutput)
	p.buf.Reset()
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

// Update is the frame's, and draws.
func (m painted) Update(msg tea.Msg) (tea.Model, tea.Cmd) {
	defer m.uncover()
	p := m.painter
	if _, ok := msg.(paintMsg); ok {
		p.waiting = false
		p.paint(m.text())
		return m, nil
	}
	p.learn(msg)
	cmd := m.frame.receive(msg)
	byKey := false
	switch msg.(type) {
	case tea.KeyPressMsg, tea.MouseMsg, tea.PasteMsg, tea.WindowSizeMsg:
		byKey = true
	}
	return m, tea.Batch(cmd, p.show(m.text, byKey))
}

// View is not asked for: the painter draws.
func (m painted) View() tea.View { return tea.NewView("") }

// uncover gives the terminal back before a panic goes on, so that it can be read.
func (f *frame) uncover() {
	if r := recover(); r != nil {
		if f.painter != nil {
			f.painter.leave()
		}
		panic(r)
	}
}

// aside has the painter leave the terminal while the program is stopped, and take it again afterwards.
func (p *painter) aside(_ tea.Model, msg tea.Msg) tea.Msg {
	switch msg.(type) {
	case tea.SuspendMsg:
		p.leave()
	case tea.ResumeMsg:
		p.enter()
		p.resized <- syscall.SIGCONT
	}
	return msg
}

// watch tells a program how large the terminal is, now and whenever that is another size, until it is stopped.
func (p *painter) watch(program *tea.Program) (stop func()) {
	signal.Notify(p.resized, syscall.SIGWINCH)
	p.resized <- syscall.SIGWINCH
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
		p.resized <- syscall.SIGCONT // it may have been resized meanwhile
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

// paint runs a frame on the terminal, and gives the terminal back.
func (f *frame) paint(ctx context.Context, first tea.Cmd) error {
	env := os.Environ()
	profile := colorprofile.Detect(os.Stdout, env)
	if c := os.Getenv("COLORTERM"); f.theme.colour && (c == "truecolor" || c == "24bit") {
		profile = colorprofile.TrueColor // the terminal says so itself
	}
	f.painter = newPainter(os.Stdout, env, profile, f.theme)
	size := terminalSize()
	// What comes with the library writes nothing then, and its clock is as slow as it can be.
	program := tea.NewProgram(painted{f, first}, tea.WithContext(ctx), tea.WithOutput(io.Discard), tea.WithFPS(1),
		tea.WithColorProfile(profile), tea.WithWindowSize(size.Width, size.Height), tea.WithFilter(f.painter.aside))
	stop := f.painter.watch(program)
	defer stop()
	defer f.painter.leave()
	_, err := program.Run()
	return err
}
