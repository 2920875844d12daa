package tui

import (
	"context"
	"fmt"
	"slices"
	"time"

	"charm.land/bubbles/v2/help"
	"charm.land/bubbles/v2/key"
	"charm.land/bubbles/v2/progress"
	"charm.land/bubbles/v2/spinner"
	tea "charm.land/bubbletea/v2"
	"charm.land/lipgloss/v2"

	"dorvik.dev/dorvik/internal/tui/keys"
	"dorvik.dev/dorvik/internal/tui/term"
)

// The smallest screen that everything fits on, in cells.
const (
	minWidth  = 50
	minHeight = 16
	wide      = 110 // width at which panels stand side by side
)

// frame is what surrounds every screen: the first and last rows, the keys that work everywhere, and the running task.
// It draws only values that it holds, which ended tasks update, so drawing never waits.
type frame struct {
	// begin returns a context that ends with the program at the latest.
	begin func() (context.Context, context.CancelFunc)
	theme *term.Theme
	w, h  int

	now func() time.Time

	title  func() term.Line // the left end of the first row
	failed func(error) tea.Cmd
	anew   func() tea.Cmd  // restarts after a defect; nil if one can only leave
	more   func() []action // actions on every screen, beside the frame's own

	stages []stage
	under  screen   // the current stage, or the opening screen
	over   []screen // screens over it

	task   *task
	waited *task     // the task that a key came too early for, as the flash says
	defect error     // panic of a screen, shown in its place; or nil
	flash  term.Line // one sentence above the keys, until the next key
	keys   help.Model
	spin   spinner.Model
	bar    progress.Model
}

func newFrame(ctx context.Context, th *term.Theme) *frame {
	f := &frame{begin: func() (context.Context, context.CancelFunc) { return context.WithCancel(ctx) }, now: time.Now,
		w: 80, h: 24, title: func() term.Line { return nil }}
	f.dress(th)
	return f
}

// dress applies the colours of a theme to the frame and its components.
func (f *frame) dress(th *term.Theme) {
	f.theme = th
	bright, plain, dim := th.Style(term.Ink{Hue: term.Bright,
		Bold: true}), th.Style(term.Ink{}), th.Style(term.Ink{Hue: term.Dim})
	f.keys = help.New()
	f.keys.ShortSeparator = "   "
	f.keys.Styles = help.Styles{Ellipsis: dim, ShortKey: bright, ShortDesc: plain, ShortSeparator: plain,
		FullKey: bright, FullDesc: plain, FullSeparator: plain}
	f.spin = spinner.New(spinner.WithSpinner(spinner.Spinner{Frames: []string{"◜", "◝", "◞", "◟"}, FPS: slow}),
		spinner.WithStyle(th.Style(term.Ink{Hue: term.Joined})))
	bar := []progress.Option{progress.WithWidth(20), progress.WithoutPercentage(), progress.WithFillCharacters('━',
		'─')}
	if th.Colour {
		bar = append(bar, progress.WithColors(lipgloss.Color(th.Fg[term.Joined])))
	}
	f.bar = progress.New(bar...)
}

// screen returns the top screen, which has the keys.
func (f *frame) screen() screen {
	if n := len(f.over); n > 0 {
		return f.over[n-1]
	}
	return f.under
}

// open puts a screen on top.
func (f *frame) open(s screen) { f.over = append(f.over, s) }

// close removes the top screen.
func (f *frame) close() { f.over = f.over[:len(f.over)-1] }

// goTo goes to a stage and removes the screens above it.
func (f *frame) goTo(s screen) { f.under, f.over = s, nil }

// receive handles a message or passes it to the screen.
func (f *frame) receive(msg tea.Msg) tea.Cmd {
	switch msg := msg.(type) {
	case tea.WindowSizeMsg:
		f.w, f.h = msg.Width, msg.Height
		if s, ok := f.under.(interface{ resized() }); ok {
			s.resized()
		}
	case spinner.TickMsg:
		if f.task == nil {
			return nil
		}
		var cmd tea.Cmd
		f.spin, cmd = f.spin.Update(msg)
		return cmd
	case ended:
		return f.finished(msg)
	case besideEnded:
		return f.endedBeside(msg)
	case asked:
		return f.asks(msg)
	case tea.MouseClickMsg:
		rows := f.draw()
		if msg.Y < 0 || msg.Y >= len(rows) {
			return nil
		}
		if hit := rows[msg.Y].Clicked(msg.X); hit != nil {
			return f.screen().update(hit)
		}
	case tea.KeyPressMsg:
		return f.key(msg)
	case tea.MouseWheelMsg, tea.PasteMsg:
		return f.screen().update(msg)
	default: // meant for a screen that may be covered now
		var cmds []tea.Cmd
		for _, s := range append([]screen{f.under}, f.over...) {
			if _, ok := s.(*question); !ok {
				cmds = append(cmds, s.update(msg))
			}
		}
		return tea.Batch(cmds...)
	}
	return nil
}

// draw returns the rows of the terminal, each of its full width.
func (f *frame) draw() (p term.Page) {
	if f.w < minWidth || f.h < minHeight {
		return term.Page{term.Text(term.Plain, fmt.Sprintf("Too small: dorvik needs %d×%d.", minWidth,
			minHeight)).Fit(f.w)}
	}
	p.Row(f.title().Flush(f.screen().status().Cut(max(f.w/2, f.w-f.title().Width()-2)).Add(term.Plain, " "), f.w))
	if f.h >= 30 {
		p.Blank()
	}
	p.Row(f.steps())
	p.Row(term.Rule(f.w))
	said := f.said()
	room := f.h - len(p) - 2 - len(said)
	body := f.screen().view(f.w, room)
	for i := range room {
		if i < len(body) {
			p.Row(body[i])
		} else {
			p.Blank()
		}
	}
	p.Row(term.Rule(f.w))
	p.Rows(said)
	p.Row(f.foot())
	for i := range p {
		p[i] = p[i].Fit(f.w)
	}
	return p
}

// steps draws the row of stages with their states.
func (f *frame) steps() term.Line {
	gap := term.Line{}.Add(term.Faint, "  ─────  ")
	if f.w < wide {
		gap = term.Line{}.Add(term.Faint, " ── ")
	}
	l := term.Line{}.Add(term.Plain, " ")
	here := slices.IndexFunc(f.stages, func(s stage) bool { return screen(s) == f.under })
	for i, s := range f.stages {
		if i > 0 {
			l = l.Then(gap)
		}
		words, as := s.state()
		if words = " " + words; words == " " || f.w < wide && i != here {
			words = ""
		}
		switch {
		case i == here:
			l = l.Bold(term.Bright, "▶ "+s.label()).Add(term.Plain, words)
		case i > here || as == unused:
			l = l.Add(term.Dim, "· "+s.label())
		case as == well:
			l = l.Add(term.Joined, "✓ "+s.label()).Add(term.Dim, words)
		default:
			l = l.Add(term.Trouble, "▲ "+s.label()).Add(term.Dim, words)
		}
	}
	return l
}

// said is the text above the keys: what runs, what just happened, or a remark. It takes a few rows at most.
func (f *frame) said() term.Page {
	const most = 4
	l := f.running()
	if l != nil {
		return term.Page{term.Text(term.Plain, " ").Then(l)}
	}
	if l = f.flash; l == nil {
		l = f.screen().remark()
	}
	rows := term.Indent(term.Wrap(l, f.w-2), 1)
	return rows[:min(most, len(rows))]
}

// foot names the important keys, as many as fit, and always ? as the last.
func (f *frame) foot() term.Line {
	var shown []key.Binding
	for _, a := range f.actions() {
		if a.Help().Desc != "" {
			shown = append(shown, a.Binding)
		}
	}
	width := func(b key.Binding) int { return term.Cells(f.keys.ShortSeparator + b.Help().Key + " " + b.Help().Desc) }
	last := len(shown) - 1
	fit, room := 0, f.w-1-width(shown[last])+term.Cells(f.keys.ShortSeparator)
	for ; fit < last && width(shown[fit]) <= room; fit++ {
		room -= width(shown[fit])
	}
	return term.Text(term.Plain, " ").Then(term.Drawn(f.keys.ShortHelpView(append(shown[:fit:fit], shown[last]))))
}

// actions returns the actions of the screen, followed by those of every screen.
func (f *frame) actions() []action {
	s := f.screen()
	all := s.actions()
	if _, ok := s.(typist); ok {
		return all
	}
	if _, ok := s.(*question); !ok {
		if f.more != nil {
			all = append(all, f.more()...)
		}
		all = append(all, act(keys.Quit, "", f.quit))
	}
	return append(all, act(keys.Help, "", func() tea.Cmd { f.open(newHelp(f)); return nil }))
}

// key performs the action of a key.
func (f *frame) key(k tea.KeyPressMsg) tea.Cmd {
	if key.Matches(k, keys.Stop) {
		return f.stop()
	}
	if _, types := f.screen().(typist); !types && key.Matches(k, keys.Suspend) {
		return tea.Suspend
	}
	for _, a := range f.actions() {
		if !key.Matches(k, a.Binding) {
			continue
		}
		if a.waits && f.busy() {
			return nil
		}
		f.flash = nil
		return a.do()
	}
	f.flash = nil
	if t, ok := f.screen().(typist); ok {
		return t.update(k)
	}
	if key.Matches(k, keys.Undo) {
		f.flash = term.Text(term.Plain,
			"There is nothing to undo here just now; l lists what was done in this repository.")
	}
	return nil
}

// quit leaves, unless the branch is being changed.
func (f *frame) quit() tea.Cmd {
	if f.task != nil && f.task.vital {
		f.flash = term.Text(term.Plain, "One moment: your branch is being changed. Press q again when it is done.")
		return nil
	}
	if f.task != nil {
		f.task.cancel()
	}
	return tea.Quit
}

// stop cancels the running task. Without one it leaves, after a question if something would be lost.
func (f *frame) stop() tea.Cmd {
	if f.task != nil {
		f.task.cancel()
		return nil
	}
	if t, ok := f.screen().(typist); ok {
		if words := t.unsaved(); words != nil {
			f.flash = words
			return nil
		}
	}
	return tea.Quit
}
