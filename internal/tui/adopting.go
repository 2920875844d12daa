package tui

import (
	"strings"

	tea "charm.land/bubbletea/v2"

	"dorvik.dev/dorvik/internal/tui/keys"
	"dorvik.dev/dorvik/internal/tui/term"
	"dorvik.dev/dorvik/internal/words"
)

// adopting shows the single edits of both sides beside the editor. Each can be inserted into the text.
type adopting struct {
	*taking
	writing *writing
}

// adopt opens the edits over the editor.
func (e *writing) adopt() {
	a := &adopting{&taking{frame: e.frame, board: e.board, right: e.right, from: e.from,
		title: term.Text(term.Plain, " ").
			Bold(term.Joined, "TAKE AN EDIT OVER").Add(term.Dim, "  into what you write")}, e}
	a.look()
	if len(a.board.Switches) > 0 && a.board.Switches[0].Minor {
		a.move(1)
	}
	e.frame.open(a)
}

// written returns the edited text in the form in which the place will hold it.
func (e *writing) written() string { return e.ed.Text() + words.If(e.closed, "\n", "") }

// look finds which of the edits the text contains already.
func (a *adopting) look() {
	text := a.writing.written()
	on := make([]bool, len(a.board.Switches))
	for i := range on {
		with, ok := a.board.Adopt(i, text)
		on[i] = ok && with == text
	}
	for i := range on {
		a.board.Switches[i].On = on[i]
	}
}

func (a *adopting) actions() []action {
	var out []action
	if len(a.board.Switches) > 0 {
		out = append(out, acts(keys.Next, "take it over", func() tea.Cmd { a.take(); return nil }),
			also(keys.Take, quietly(a.take)))
	}
	out = append(out, rowKeys("edit", len(a.board.Switches), a.list.Room(),
		func(by int) tea.Cmd { a.move(by); return nil })...)
	return append(out, act(keys.Back, "write on", quietly(a.frame.close)))
}

// take makes the marked edit in the text as one change. If the text has something else there, it inserts it at the
// cursor.
func (a *adopting) take() {
	ed, s := a.writing.ed, a.board.Switches[a.at]
	text := a.writing.written()
	with, ok := a.board.Adopt(a.at, text)
	switch {
	case ok && with == text:
		a.frame.flash = term.Text(term.Plain, "Your text contains that edit already.")
		return
	case ok:
		ed.Become(strings.TrimSuffix(with, words.If(a.writing.closed, "\n", "")))
		a.frame.flash = term.Line{}.Mark(term.MarkJoined).Add(term.Plain,
			"Inserted. While you write, ctrl+z removes it again.")
	case s.New == "":
		a.frame.flash = term.Warning("The text that this edit removes differs there: remove it by hand.")
		return
	default:
		ed.Insert(s.New)
		a.frame.flash = term.Warning("Your text differs there, so the edit was inserted at the cursor.")
	}
	a.look()
}

func (a *adopting) status() term.Line { return a.writing.status() }

func (a *adopting) remark() term.Line {
	return term.Text(term.Dim,
		"Enter makes the marked edit in your text; esc returns to writing. Nothing on disk "+
			"changes yet.")
}

func (a *adopting) view(w, h int) term.Page {
	p := term.Page{a.title.Cut(w)}
	text := func(w, h int) term.Page {
		return append(term.Page{term.Text(term.Plain, " ").Bold(term.Joined, "WHAT YOU WRITE")},
			a.writing.ed.View(w, h-1)...)
	}
	if w >= wide {
		half, room := (w-3)/2, h-len(p)
		return append(p, term.Beside(a.edits(half, room), text(w-half-3, room), half, w, room)...)
	}
	p.Rows(a.edits(w, (h-len(p)-1)/2))
	p.Row(term.Rule(w))
	return append(p, text(w, h-len(p))...)
}
