package tui

import (
	"context"

	tea "charm.land/bubbletea/v2"
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
	if e.own != nil && !e.ed.invalid {
		out = append(out, acts(keys.ownEditor, "", e.inOwnEditor))
	}
	return append(out, act(keys.deleteLine, "", quietly(e.ed.deleteLine)))
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
