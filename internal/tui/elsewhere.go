package tui

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"

	tea "charm.land/bubbletea/v2"

	"dorvik.dev/dorvik/internal/check"
	"dorvik.dev/dorvik/internal/tui/term"
	"dorvik.dev/dorvik/internal/words"
)

// elsewhere is the message that the person's editor returned a text.
type elsewhere struct {
	of   *writing
	text string
	err  error
}

// inOwnEditor opens the text, and of a place the whole file, in the editor that git would open, and reads it
// afterwards.
func (e *writing) inOwnEditor() tea.Cmd {
	e = e.grow()
	text := e.ed.Text()
	return e.frame.start("opening your editor", func(ctx context.Context, _ func(int, int)) (then, error) {
		editor, err := e.own(ctx)
		if err != nil {
			return nil, err
		}
		dir, err := os.MkdirTemp("", "dorvik-")
		if err != nil {
			return nil, fmt.Errorf("making a file for your editor: %w", err)
		}
		name := filepath.Base(e.name)
		if e.name == "" {
			name = "text"
		}
		file := filepath.Join(dir, name)
		closed := text == "" || strings.HasSuffix(text, "\n")
		if err := os.WriteFile(file, []byte(text+words.If(closed, "", "\n")), 0o600); err != nil {
			return nil, errors.Join(fmt.Errorf("making a file for your editor: %w", err), os.RemoveAll(dir))
		}
		cmd := check.Editor(editor, file)
		return func() tea.Cmd {
			return tea.ExecProcess(cmd, func(err error) tea.Msg { return e.back(dir, file, closed, err) })
		}, nil
	})
}

// back reads what the editor saved.
func (e *writing) back(dir, file string, closed bool, err error) elsewhere {
	defer os.RemoveAll(dir)
	if err != nil {
		return elsewhere{e, "", fmt.Errorf("your editor ended with %w; the text is as it was here", err)}
	}
	data, err := os.ReadFile(file)
	if err != nil {
		return elsewhere{e, "", fmt.Errorf("reading what your editor left: %w; the text is as it was here", err)}
	}
	text := string(data)
	if !closed {
		text = strings.TrimSuffix(text, "\n")
	}
	return elsewhere{e, text, nil}
}

// takeBack inserts a text from the person's editor as one change.
func (e *writing) takeBack(from elsewhere) {
	switch {
	case from.of != e:
	case from.err != nil:
		e.frame.flash = term.Warning(words.Sentence(from.err.Error()))
	case from.text == e.ed.Text():
		e.frame.flash = term.Text(term.Plain, "Your editor left the text as it was.")
	default:
		e.ed.Become(from.text)
		e.frame.flash = term.Text(term.Plain, "This is what your editor left. ctrl+s keeps it.")
	}
}
