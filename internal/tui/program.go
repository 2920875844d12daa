package tui

import (
	"context"
	"os"
	"strings"
	"time"

	tea "charm.land/bubbletea/v2"
	"charm.land/lipgloss/v2"
	"github.com/charmbracelet/colorprofile"
	"github.com/charmbracelet/x/term"

	"dorvik.dev/dorvik/internal/core/caught"
)

// framesPerSecond is the frame rate of Bubble Tea's renderer, its maximum.
const framesPerSecond = 120

// program is the model that Bubble Tea runs: a frame, and its last rendering.
type program struct {
	*frame
	first   tea.Cmd              // runs first
	profile colorprofile.Profile // colours of the terminal

	seen     string // last frame, with colour codes
	rendered time.Time
	waiting  bool // a renderMsg is scheduled
}

// gap is the shortest time between two frames without a key. A check can print thousands of lines per second, and a
// key waits for the frame that is being drawn.
const gap = 25 * time.Millisecond

// renderMsg is the message that gap is over.
type renderMsg struct{}

// Init returns the first command.
func (p *program) Init() tea.Cmd { return p.first }

// Update passes the message to the frame and renders. A panic ends the program with the defect.
func (p *program) Update(msg tea.Msg) (_ tea.Model, cmd tea.Cmd) {
	defer func() {
		if v := recover(); v != nil {
			p.defect, cmd = caught.From(v), tea.Quit
		}
	}()
	switch msg.(type) {
	case renderMsg:
		p.waiting = false
		p.render()
		return p, nil
	case tea.KeyPressMsg, tea.MouseMsg, tea.PasteMsg, tea.WindowSizeMsg:
		cmd = p.take(msg)
		p.render()
		return p, cmd
	}
	cmd = p.take(msg)
	return p, tea.Batch(cmd, p.renderSoon())
}

// renderSoon renders now, or returns a command that does so after gap.
func (p *program) renderSoon() tea.Cmd {
	wait := gap - time.Since(p.rendered)
	switch {
	case wait <= 0:
		p.render()
		return nil
	case p.waiting:
		return nil
	}
	p.waiting = true
	return tea.Tick(wait, func(time.Time) tea.Msg { return renderMsg{} })
}

// render renders the frame.
func (p *program) render() {
	var b strings.Builder
	for i, row := range p.picture() {
		if i > 0 {
			b.WriteByte('\n')
		}
		b.WriteString(p.theme.Render(row))
	}
	p.seen, p.rendered = b.String(), time.Now()
}

// View returns the last rendering and the modes of the terminal.
func (p *program) View() tea.View {
	v := tea.NewView(p.seen)
	v.AltScreen, v.MouseMode, v.WindowTitle = true, tea.MouseModeCellMotion, "dorvik"
	if p.theme.Colour && p.profile > colorprofile.ASCII { // without colours the background stays the terminal's own
		v.BackgroundColor = lipgloss.Color(p.theme.Paper)
	}
	return v
}

// onTerminal runs a frame on the terminal until the person leaves. It returns Bubble Tea's error, or the defect on the
// screen.
func (f *frame) onTerminal(ctx context.Context, first tea.Cmd) error {
	// The renderer needs at least cursor movement.
	profile := max(colorprofile.Detect(os.Stdout, os.Environ()), colorprofile.ASCII)
	if c := os.Getenv("COLORTERM"); f.theme.Colour && (c == "truecolor" || c == "24bit") {
		profile = colorprofile.TrueColor // the terminal reports it
	}
	if w, h, err := term.GetSize(os.Stdout.Fd()); err == nil && w > 0 && h > 0 {
		f.w, f.h = w, h
	}
	options := []tea.ProgramOption{tea.WithContext(ctx), tea.WithFPS(framesPerSecond), tea.WithColorProfile(profile),
		tea.WithWindowSize(f.w, f.h)}
	if k := newKeyboard(); k != nil {
		options = append(options, tea.WithInput(k))
	}
	if _, err := tea.NewProgram(&program{frame: f, first: first, profile: profile}, options...).Run(); err != nil {
		return err
	}
	return f.defect
}
