package tui

import (
	tea "charm.land/bubbletea/v2"

	"context"
	"fmt"
	"os"
	"path/filepath"
	"strings"

	"dorvik.dev/dorvik/internal/check"
	"dorvik.dev/dorvik/internal/tui/term"
)

// noteTo opens a note to a person for reading and editing before it is sent. right is the right end of the first row.
// given, unless nil, gets a sentence about where the note went.
func (j *job) noteTo(who, text string, right term.Line, given func(how string)) tea.Cmd {
	ed := term.NewEditor(text, 1)
	title := term.Text(term.Plain, " ").Bold(term.Bright, "A NOTE TO "+strings.ToUpper(who)).Add(term.Dim,
		"  edit it as you like; ctrl+s sends it")
	j.open(&writing{frame: j.frame, ed: ed, right: right, name: "note.md", keeps: "send it",
		own:    j.s.Repo.Editor,
		says:   "Nothing has been sent yet.",
		around: func(w, h int) term.Page { return append(term.Page{title.Cut(w), nil}, ed.View(w, h-2)...) },
		save:   func(text string) tea.Cmd { return j.giveNote(text, given) }})
	return nil
}

// giveNote passes a note to the command of dorvik.note or to the clipboard, and keeps a copy in the git directory.
func (j *job) giveNote(text string, given func(how string)) tea.Cmd {
	return j.start("sending the note", func(ctx context.Context, _ func(int, int)) (then, error) {
		line, err := j.s.Prover.OwnProgram(ctx, "dorvik.note")
		if err != nil {
			return nil, err
		}
		file := filepath.Join(j.s.Repo.Where().Own, "dorvik", "note.md")
		if err := os.WriteFile(file, []byte(text), 0o644); err != nil {
			return nil, fmt.Errorf("keeping the note: %w", err)
		}
		if line != "" {
			if err := check.Give(ctx, j.s.Repo.Where().Dir, line, text); err != nil {
				return nil, fmt.Errorf("sending the note (dorvik.note): %w; it is kept in %s", err, file)
			}
		}
		return func() tea.Cmd {
			how := "The note is on the clipboard, if your terminal lets programs write there, and in " + file + "."
			var cmd tea.Cmd
			if line != "" {
				how = fmt.Sprintf("The note was given to “%s”.", line)
			} else {
				cmd = tea.SetClipboard(text)
			}
			if given == nil {
				j.flash = term.Text(term.Plain, how)
			} else {
				given(how)
			}
			return cmd
		}, nil
	})
}
