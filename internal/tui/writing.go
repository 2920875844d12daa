package tui

import (
	"context"

	tea "charm.land/bubbletea/v2"

	"dorvik.dev/dorvik/internal/core/settle"
	"dorvik.dev/dorvik/internal/tui/keys"
	"dorvik.dev/dorvik/internal/tui/term"
	"dorvik.dev/dorvik/internal/words"
)

// writing is an open editor and the use of its text.
type writing struct {
	frame  *frame
	ed     *term.Editor
	right  term.Line                // the right end of the first row
	says   string                   // the remark; empty for the usual one
	keeps  string                   // label of the key that keeps the text; empty for the usual one
	name   string                   // file name; its ending determines the language
	around func(w, h int) term.Page // draws the lines around the editor
	save   func(text string) tea.Cmd
	own    func(ctx context.Context) (string, error) // runs the person's own editor; nil if not offered
	grown  func() *writing                           // the whole file with this place; nil if there is no more

	task func() tea.Cmd // picks a task for a message; nil if there is no list

	board  *settle.Board // both sides' edits, to take over; nil if none
	from   int           // first line number of their base
	closed bool          // the text ends with a line end that the editor does not show

	leaving bool // the person asked once to leave without keeping it
}

func (e *writing) actions() []action {
	out := []action{acts(keys.Save, e.keeps, e.keep), act(keys.Back, "leave without keeping", e.leaveIt)}
	if e.ed.At > 0 {
		out = append(out, act(keys.UndoTyping, "", quietly(e.ed.Undo)))
	}
	if e.ed.At < len(e.ed.Changes) {
		out = append(out, act(keys.RedoTyping, "", quietly(e.ed.Redo)))
	}
	if e.board != nil && !e.ed.Invalid {
		out = append(out, act(keys.Adopt, "", quietly(e.adopt)))
	}
	if e.task != nil {
		out = append(out, acts(keys.Adopt, "name a task", e.task))
	}
	if e.grown != nil && !e.ed.Invalid {
		out = append(out, act(keys.WholeFile, "", quietly(func() { e.grow() })))
	}
	if e.own != nil && !e.ed.Invalid {
		out = append(out, acts(keys.OwnEditor, "", e.inOwnEditor))
	}
	return append(out, act(keys.DeleteLine, "", quietly(e.ed.DeleteLine)), also(keys.Seek, e.find),
		also(keys.Exchange, e.exchange))
}

// grow goes on in the whole file, if the text is of a place.
func (e *writing) grow() *writing {
	if e.grown == nil {
		return e
	}
	more := e.grown()
	e.frame.close()
	e.frame.open(more)
	return more
}

// find asks for a text and goes to its next occurrence. With the same text it goes to the one after.
func (e *writing) find() tea.Cmd {
	f := &finding{screen: e, f: e.frame, label: "find", empty: term.Text(term.Dim, "a text in what you write"),
		says: "Lower case matches both cases. ctrl+f, then enter, goes to the next place."}
	f.open(e.ed.Sought, act(keys.Next, "go there", f.typed(func(text string) tea.Cmd {
		if text != "" && !e.ed.Seek(text) {
			e.frame.flash = term.Text(term.Plain, "“"+text+"” is nowhere here.")
		}
		return nil
	})))
	return nil
}

// exchange asks for a text and its replacement, and replaces every occurrence.
func (e *writing) exchange() tea.Cmd {
	f := &finding{screen: e, f: e.frame, label: "replace", empty: term.Text(term.Dim, "a text in what you write"),
		says: "All places are replaced at once, and ctrl+z takes that back."}
	f.open(e.ed.Sought, act(keys.Next, "replace by…", f.typed(func(old string) tea.Cmd {
		if old == "" {
			return nil
		}
		e.ed.Sought = old
		by := &finding{screen: e, f: e.frame, label: "replace “" + old + "” by", says: f.says,
			empty: term.Text(term.Dim, "nothing: it is taken out")}
		by.open("", act(keys.Next, "replace all", by.typed(func(text string) tea.Cmd {
			e.frame.flash = term.Text(term.Plain, words.Count(e.ed.ReplaceAll(old, text), "place",
				"places")+" replaced.")
			return nil
		})))
		return nil
	})))
	return nil
}

func (e *writing) keep() tea.Cmd {
	if e.ed.Invalid {
		e.frame.flash = term.Warning("This text is not UTF-8, and writing it back would change more than you did. " +
			"Choose one of " +
			"the ways instead.")
		return nil
	}
	e.frame.close()
	return e.save(e.ed.Text())
}

func (e *writing) leaveIt() tea.Cmd {
	if e.ed.Dirty() && !e.leaving {
		e.leaving = true
		e.frame.flash = term.Text(term.Plain,
			"Press esc again to leave without keeping what you wrote, or ctrl+s to keep it.")
		return nil
	}
	e.frame.close()
	return nil
}

func (e *writing) unsaved() term.Line {
	if !e.ed.Dirty() || e.leaving {
		return nil
	}
	e.leaving = true
	return term.Text(term.Plain,
		"What you wrote is not kept yet. Press ctrl+c again to quit without it, or ctrl+s to keep it.")
}

func (e *writing) update(msg tea.Msg) tea.Cmd {
	switch msg := msg.(type) {
	case tea.KeyPressMsg:
		e.leaving = false
		e.ed.Key(msg)
	case elsewhere:
		e.takeBack(msg)
	case tea.PasteMsg:
		e.leaving = false
		e.ed.Paste(msg.Content)
	}
	return nil
}

func (e *writing) view(w, h int) term.Page { return e.around(w, h) }

func (e *writing) status() term.Line { return e.right }

func (e *writing) remark() term.Line {
	if e.says != "" {
		return term.Text(term.Dim, e.says)
	}
	return term.Text(term.Dim, "You are writing the text yourself. Nothing on disk changes yet.")
}
