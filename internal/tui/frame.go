package tui

import (
	"context"
	"fmt"
	"slices"
	"time"

	tea "charm.land/bubbletea/v2"

	"charm.land/bubbles/v2/help"
	"charm.land/bubbles/v2/key"
	"charm.land/bubbles/v2/progress"
	"charm.land/bubbles/v2/spinner"
	"charm.land/lipgloss/v2"
)

// The smallest screen that everything fits on, in cells.
const (
	minWidth  = 50
	minHeight = 16
	wide      = 110 // from here on panels stand side by side
)

// frame is what is the same around every screen: the first rows and the last, the keys that
// work everywhere, and the task that runs. Everything it draws is a value it holds: what
// tasks find comes in by their ends, so drawing never waits.
type frame struct {
	// begins work that ends with the program, or before
	begin func() (context.Context, context.CancelFunc)
	theme *theme
	w, h  int

	now func() time.Time

	title  func() line // the left end of the first row
	failed func(error) tea.Cmd
	anew   func() tea.Cmd  // begins again after a defect; nil where one can only leave
	more   func() []action // what can be done on every screen, beyond the frame's own

	stages []stage
	under  screen   // the stage one is at, or what there is before there are any
	over   []screen // what is laid over it

	task   *task
	waited *task // a key came too early for this one, and the flash says so
	defect error // a panic of a screen, shown in its place; nil for none
	flash  line  // one sentence above the keys, until the next key
	keys   help.Model
	spin   spinner.Model
	bar    progress.Model
}

func newFrame(ctx context.Context, th *theme) *frame {
	f := &frame{begin: func() (context.Context, context.CancelFunc) { return context.WithCancel(ctx) }, now: time.Now,
		w: 80, h: 24, title: func() line { return nil }}
	f.dress(th)
	return f
}

// dress has the frame and its components drawn in the colours of a theme.
func (f *frame) dress(th *theme) {
	f.theme = th
	bright, plain, dim := th.style(ink{hue: bright, bold: true}), th.style(ink{}), th.style(ink{hue: dim})
	f.keys = help.New()
	f.keys.ShortSeparator = "   "
	f.keys.Styles = help.Styles{Ellipsis: dim, ShortKey: bright, ShortDesc: plain, ShortSeparator: plain,
		FullKey: bright, FullDesc: plain, FullSeparator: plain}
	f.spin = spinner.New(spinner.WithSpinner(spinner.Spinner{Frames: []string{"◜", "◝", "◞", "◟"}, FPS: slow}),
		spinner.WithStyle(th.style(ink{hue: joined})))
	bar := []progress.Option{progress.WithWidth(20), progress.WithoutPercentage(), progress.WithFillCharacters('━',
		'─')}
	if th.colour {
		bar = append(bar, progress.WithColors(lipgloss.Color(th.fg[joined])))
	}
	f.bar = progress.New(bar...)
}

// screen is the one that has the keys.
func (f *frame) screen() screen {
	if n := len(f.over); n > 0 {
		return f.over[n-1]
	}
	return f.under
}

// open lays a screen over the one there is.
func (f *frame) open(s screen) { f.over = append(f.over, s) }

// close takes away what was laid over last.
func (f *frame) close() { f.over = f.over[:len(f.over)-1] }

// goTo goes to a stage, away from all that lies over another.
func (f *frame) goTo(s screen) { f.under, f.over = s, nil }

// receive takes a message for the frame, or hands it to the screen.
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
	case tea.MouseClickMsg:
		rows := f.draw()
		if msg.Y < 0 || msg.Y >= len(rows) {
			return nil
		}
		if hit := rows[msg.Y].clicked(msg.X); hit != nil {
			return f.screen().update(hit)
		}
	case tea.KeyPressMsg:
		return f.key(msg)
	case tea.MouseWheelMsg, tea.PasteMsg:
		return f.screen().update(msg)
	default: // meant for a screen, which may lie under another by now
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

// draw gives the rows of the screen, each as wide as it.
func (f *frame) draw() (p page) {
	if f.w < minWidth || f.h < minHeight {
		return page{txt(plain, fmt.Sprintf("Too small: dorvik needs %d×%d.", minWidth, minHeight)).fit(f.w)}
	}
	p.row(f.title().flush(f.screen().status().cut(max(f.w/2, f.w-f.title().width()-2)).add(plain, " "), f.w))
	if f.h >= 30 {
		p.blank()
	}
	p.row(f.steps())
	p.row(rule(f.w))
	said := f.said()
	room := f.h - len(p) - 2 - len(said)
	body := f.screen().view(f.w, room)
	for i := range room {
		if i < len(body) {
			p.row(body[i])
		} else {
			p.blank()
		}
	}
	p.row(rule(f.w))
	p.rows(said)
	p.row(f.foot())
	for i := range p {
		p[i] = p[i].fit(f.w)
	}
	return p
}

// steps is the row of the stages, each with its state.
func (f *frame) steps() line {
	gap := line{}.add(faint, "  ─────  ")
	if f.w < wide {
		gap = line{}.add(faint, " ── ")
	}
	l := line{}.add(plain, " ")
	here := slices.IndexFunc(f.stages, func(s stage) bool { return screen(s) == f.under })
	for i, s := range f.stages {
		if i > 0 {
			l = l.then(gap)
		}
		words, as := s.state()
		if words = " " + words; words == " " || f.w < wide && i != here {
			words = ""
		}
		switch {
		case i == here:
			l = l.bold(bright, "▶ "+s.label()).add(plain, words)
		case i > here || as == unused:
			l = l.add(dim, "· "+s.label())
		case as == well:
			l = l.add(joined, "✓ "+s.label()).add(dim, words)
		default:
			l = l.add(trouble, "▲ "+s.label()).add(dim, words)
		}
	}
	return l
}

// said is above the keys: what runs, what just happened, or what is true here. It takes as
// many rows as it needs, up to a few.
func (f *frame) said() page {
	const most = 4
	l := f.running()
	if l != nil {
		return page{txt(plain, " ").then(l)}
	}
	if l = f.flash; l == nil {
		l = f.screen().remark()
	}
	rows := indent(wrap(l, f.w-2), 1)
	return rows[:min(most, len(rows))]
}

// foot names the keys that matter here, as many as fit, and always the last, ?.
func (f *frame) foot() line {
	var shown []key.Binding
	for _, a := range f.actions() {
		if a.Help().Desc != "" {
			shown = append(shown, a.Binding)
		}
	}
	width := func(b key.Binding) int { return cells(f.keys.ShortSeparator + b.Help().Key + " " + b.Help().Desc) }
	last := len(shown) - 1
	fit, room := 0, f.w-1-width(shown[last])+cells(f.keys.ShortSeparator)
	for ; fit < last && width(shown[fit]) <= room; fit++ {
		room -= width(shown[fit])
	}
	return txt(plain, " ").then(drawn(f.keys.ShortHelpView(append(shown[:fit:fit], shown[last]))))
}

// actions are what the screen can do now, and after it what can be done everywhere.
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
		all = append(all, act(keys.quit, "", f.quit))
	}
	return append(all, act(keys.help, "", func() tea.Cmd { f.open(newHelp(f)); return nil }))
}

// key does what a key means here.
func (f *frame) key(k tea.KeyPressMsg) tea.Cmd {
	if key.Matches(k, keys.stop) {
		return f.stop()
	}
	if _, types := f.screen().(typist); !types && key.Matches(k, keys.suspend) {
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
	if key.Matches(k, keys.undo) {
		f.flash = txt(plain, "There is nothing to undo here just now; l lists what was done in this repository.")
	}
	return nil
}

// quit leaves, unless the branch is being changed.
func (f *frame) quit() tea.Cmd {
	if f.task != nil && f.task.vital {
		f.flash = txt(plain, "One moment: your branch is being changed. Press q again when it is done.")
		return nil
	}
	if f.task != nil {
		f.task.cancel()
	}
	return tea.Quit
}

// stop cancels what runs; where nothing does it leaves, but asks where that would lose something.
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
