package tui

import (
	"context"
	"fmt"

	tea "charm.land/bubbletea/v2"

	"dorvik.dev/dorvik/internal/core/object"
	"dorvik.dev/dorvik/internal/lookback"
	"dorvik.dev/dorvik/internal/tui/keys"
	"dorvik.dev/dorvik/internal/tui/term"
	"dorvik.dev/dorvik/internal/words"
)

// othersScreen shows what a result means for each person with commits on their side.
type othersScreen struct {
	job    *job
	result object.ID // commit that the others get
	others []lookback.Other
	pull   []string
	rows   list // rows of all their files
}

func openOthers(j *job, result object.ID, others []lookback.Other, pull []string) tea.Cmd {
	s := &othersScreen{job: j, result: result, others: others, pull: pull}
	s.rows.rows = func() int { return len(s.files()) }
	j.open(s)
	return nil
}

// openLastOthers shows it for the last join made here.
func openLastOthers(j *job) tea.Cmd {
	pos := j.pos
	return j.newBeside().start(func(ctx context.Context) (then, error) {
		r, err := j.s.History.LastReceived(ctx, pos)
		return func() tea.Cmd {
			if r == nil || len(r.Others) == 0 {
				j.flash = term.Text(term.Plain,
					"Nothing was joined here yet: there is nobody for whom it changed anything.")
				return nil
			}
			return openOthers(j, r.Tip, r.Others, r.Pull)
		}, err
	})
}

// files lists the files of everybody in the order of the rows.
func (s *othersScreen) files() (out []lookback.ChangedFile) {
	for _, o := range s.others {
		out = append(out, o.Files...)
	}
	return out
}

func (s *othersScreen) actions() []action {
	var out []action
	if files := s.files(); len(files) > 0 {
		out = append(out, act(keys.Next, "line by line", func() tea.Cmd {
			return openChange(s.job, files[s.rows.row], "as they left it, and as it is in the result", s.authors)
		}))
		if !files[s.rows.row].New.Absent() {
			out = append(out, act(keys.Annotate, "who wrote its lines", s.authors))
		}
	}
	out = append(out, s.rows.keys("file")...)
	return append(out, act(keys.Back, "", quietly(s.job.close)))
}

// authors annotates the marked file of the result.
func (s *othersScreen) authors() tea.Cmd {
	return openAnnotate(s.job, s.result, s.files()[s.rows.row].Path)
}

func (s *othersScreen) update(msg tea.Msg) tea.Cmd { return s.rows.update(msg) }

func (s *othersScreen) view(w, h int) term.Page {
	p := term.Page{nil}
	p.Head("WHAT THE OTHERS GET", "")
	p.Blank()
	for _, l := range s.pull {
		p.Say(w, term.Text(term.Plain, l))
	}
	rows, column := s.rows.on(p, w), fileColumn(s.files(), w)
	for _, o := range s.others {
		rows.page.Blank()
		rows.page.Row(term.Text(term.Plain, "  ").Mark(term.MarkTheirs).Bold(term.Theirs, o.Name).Add(term.Dim,
			"   "+keptWords(o)))
		for _, f := range o.Files {
			rows.item(fileLine(f, column))
		}
	}
	return rows.window(h)
}

// keptWords returns how many files of a person are unchanged.
func keptWords(o lookback.Other) string {
	n := o.Kept + len(o.Files)
	switch {
	case len(o.Files) == 0:
		return fmt.Sprintf("%s, in the result as they left %s", words.Count(n, "file", "files"),
			words.Is(n, "it", "them"))
	case o.Kept == 0:
		return fmt.Sprintf("%s, %s otherwise in the result:", words.Count(n, "file", "files"),
			words.Is(n, "which is", "all of them"))
	}
	return fmt.Sprintf("%d of %d files as they left them; changed in the result:", o.Kept, n)
}

func (s *othersScreen) status() term.Line {
	return term.Text(term.Dim, words.Count(len(s.others), "person", "people"))
}

func (s *othersScreen) remark() term.Line {
	return term.Text(term.Dim, "Left column of numbers: their line, as they left it. Right: the line in the result.")
}
