package tui

import (
	"charm.land/bubbles/v2/key"
	tea "charm.land/bubbletea/v2"

	"dorvik.dev/dorvik/internal/tui/keys"
	"dorvik.dev/dorvik/internal/tui/term"
)

// screen is one view. The frame draws it between its first and last rows and passes it the keys that it names.
type screen interface {
	// actions returns the keys that do something now, likeliest first. The last row shows them, and no other key does
	// anything.
	actions() []action
	// update handles messages that are not actions: clicks, the wheel, typed text.
	update(msg tea.Msg) tea.Cmd
	// view draws the screen into w × h cells.
	view(w, h int) term.Page
	// status returns the right end of the first row.
	status() term.Line
	// remark returns a sentence about the screen, for the row above the keys.
	remark() term.Line
}

// stage is a screen that is a step of the job, in the row of steps.
type stage interface {
	screen
	label() string
	// state returns the stage's state in a few words, and its mark once it was passed.
	state() (words string, as passed)
}

// passed is the state of a step that lies behind.
type passed uint8

const (
	well   passed = iota
	unwell        // needs attention
	unused        // the stage had nothing to do
)

// typist is a screen with text input, where letters are no keys.
type typist interface {
	screen
	// unsaved says what leaving would lose; nil if nothing.
	unsaved() term.Line
}

// action is a key and its present effect.
type action struct {
	key.Binding
	do    func() tea.Cmd
	waits bool // wait for the running task
}

// act returns an action that is possible at any time.
func act(b key.Binding, does string, do func() tea.Cmd) action {
	return action{keys.As(b, does), do, false}
}

// acts returns an action that waits for the running task, because it changes what the task works on.
func acts(b key.Binding, does string, do func() tea.Cmd) action {
	return action{keys.As(b, does), do, true}
}

// also returns an action that belongs to another one and is not named separately.
func also(b key.Binding, do func() tea.Cmd) action {
	b.SetHelp("", "")
	return action{b, do, false}
}

// quietly makes an action of a function without a command.
func quietly(do func()) func() tea.Cmd {
	return func() tea.Cmd { do(); return nil }
}

// question is a yes-or-no question over a screen.
type question struct {
	screen
	f     *frame
	words term.Line
	yes   string
	do    func() tea.Cmd
	no    func() tea.Cmd
}

// ask shows a question. Only y agrees.
func (f *frame) ask(words term.Line, yes string, do, no func() tea.Cmd) {
	f.open(&question{f.screen(), f, words, yes, do, no})
}

func (q *question) actions() []action {
	return []action{
		acts(keys.Yes, q.yes, func() tea.Cmd { q.f.close(); return q.do() }),
		act(keys.Back, "no", func() tea.Cmd {
			if q.f.close(); q.no != nil {
				return q.no()
			}
			return nil
		}),
	}
}

// view draws the question below its screen.
func (q *question) view(w, h int) term.Page {
	asked := term.Page{term.Rule(w)}
	asked.Say(w, q.words)
	p := q.screen.view(w, h-len(asked))
	for len(p) < h-len(asked) {
		p.Blank()
	}
	return append(p[:h-len(asked)], asked...)
}

func (q *question) remark() term.Line {
	return term.Text(term.Dim, "Only y agrees; esc leaves things as they are.")
}
