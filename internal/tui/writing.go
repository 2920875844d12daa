package tui

import (
	"context"

	tea "charm.land/bubbletea/v2"

	"dorvik.dev/dorvik/internal/core/settle"
	"dorvik.dev/dorvik/internal/words"
)

// writing is an editor that is open, and what is done with its text.
type writing struct {
	*frame
	ed     *editor
	right  line                // the right end of the first row
	says   string              // the remark; empty for the usual one
	keeps  string              // what keeping it does; empty for the usual
	name   string              // of the file: its ending tells the language
	around func(w, h int) page // the editor in its surroundings
	save   func(text string) tea.Cmd
	own    func(ctx context.Context) (string, error) // the person's own editor; nil where it is not offered

	board  *settle.Board // the edits of both sides, that can be taken over; nil where there are none
	from   int           // the number of their base's first line
	closed bool          // a line end that the editor does not show ends the text

	leaving bool // leaving without keeping it was asked for once
}

func (e *writing) actions() []action {
	out := []action{acts(keys.save, e.keeps, e.keep), act(keys.back, "leave without keeping", e.leaveIt)}
	if e.ed.at > 0 {
		out = append(out, act(keys.undoTyping, "", quietly(e.ed.undo)))
	}
	if e.ed.at < len(e.ed.changes) {
		out = append(out, act(keys.redoTyping, "", quietly(e.ed.redo)))
	}
	if e.board != nil && !e.ed.invalid {
		out = append(out, act(keys.adopt, "", quietly(e.adopt)))
	}
	if e.own != nil && !e.ed.invalid {
		out = append(out, acts(keys.ownEditor, "", e.inOwnEditor))
	}
	return append(out, act(keys.deleteLine, "", quietly(e.ed.deleteLine)), also(keys.seek, e.find),
		also(keys.exchange, e.exchange))
}

// find asks for a text, and goes to its next place; with the same text again, to the one after that.
func (e *writing) find() tea.Cmd {
	f := &finding{screen: e, f: e.frame, label: "find", empty: txt(dim, "a text in what you write"),
		says: "Small letters stand for both. ctrl+f, then enter, goes to the next place."}
	f.open(e.ed.sought, act(keys.next, "go there", f.typed(func(text string) tea.Cmd {
		if text != "" && !e.ed.seek(text) {
			e.flash = txt(plain, "“"+text+"” is nowhere here.")
		}
		return nil
	})))
	return nil
}

// exchange asks for a text and another, and makes the one the other wherever it is.
func (e *writing) exchange() tea.Cmd {
	f := &finding{screen: e, f: e.frame, label: "replace", empty: txt(dim, "a text in what you write"),
		says: "All places are replaced at once, and ctrl+z takes that back."}
	f.open(e.ed.sought, act(keys.next, "replace by…", f.typed(func(old string) tea.Cmd {
		if old == "" {
			return nil
		}
		e.ed.sought = old
		by := &finding{screen: e, f: e.frame, label: "replace “" + old + "” by", says: f.says,
			empty: txt(dim, "nothing: it is taken out")}
		by.open("", act(keys.next, "replace all", by.typed(func(text string) tea.Cmd {
			e.flash = txt(plain, words.Count(e.ed.replaceAll(old, text), "place", "places")+" replaced.")
			return nil
		})))
		return nil
	})))
	return nil
}

func (e *writing) keep() tea.Cmd {
	if e.ed.invalid {
		e.flash = warning("This text is not UTF-8, and writing it back would change more than you did. Choose one of " +
			"the ways instead.")
		return nil
	}
	e.close()
	return e.save(e.ed.text())
}

func (e *writing) leaveIt() tea.Cmd {
	if e.ed.dirty() && !e.leaving {
		e.leaving = true
		e.flash = txt(plain, "Press esc again to leave without keeping what you wrote, or ctrl+s to keep it.")
		return nil
	}
	e.close()
	return nil
}

func (e *writing) unsaved() line {
	if !e.ed.dirty() || e.leaving {
		return nil
	}
	e.leaving = true
	return txt(plain, "What you wrote is not kept yet. Press ctrl+c again to quit without it, or ctrl+s to keep it.")
}

func (e *writing) update(msg tea.Msg) tea.Cmd {
	switch msg := msg.(type) {
	case tea.KeyPressMsg:
		e.leaving = false
		e.ed.key(msg)
	case elsewhere:
		e.takeBack(msg)
	case tea.PasteMsg:
		e.leaving = false
		e.ed.paste(msg.Content)
	}
	return nil
}

func (e *writing) view(w, h int) page { return e.around(w, h) }

func (e *writing) status() line { return e.right }

func (e *writing) remark() line {
	if e.says != "" {
		return txt(dim, e.says)
	}
	return txt(dim, "You are writing the text yourself. Nothing on disk changes yet.")
}
