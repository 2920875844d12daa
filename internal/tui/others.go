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

// othersScreen is what a result means for each of those who have commits on their side.
type othersScreen struct {
	job    *job
	result object.ID // the commit they get
	others []lookback.Other
	pull   []string
	row    int // of all their files
	scroll term.Scroll
	at     []int
}

func openOthers(j *job, result object.ID, others []lookback.Other, pull []string) tea.Cmd {
	j.open(&othersScreen{job: j, result: result, others: others, pull: pull})
	return nil
}

// openLastOthers opens it for the last join made here.
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

// files lists the files of all, in the order of the rows.
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
			return openChange(s.job, files[s.row], "as they left it, and as it is in the result", s.authors)
		}))
		if !files[s.row].New.Absent() {
			out = append(out, act(keys.Annotate, "who wrote its lines", s.authors))
		}
	}
	out = append(out, rowKeys("file", len(s.files()), s.scroll.Room(), func(by int) tea.Cmd {
		s.moveTo(s.row + by)
		return nil
	})...)
	return append(out, act(keys.Back, "", quietly(s.job.close)))
}

// authors opens the lines of the file one is on, as they are in the result.
func (s *othersScreen) authors() tea.Cmd { return openAnnotate(s.job, s.result, s.files()[s.row].Path) }

func (s *othersScreen) moveTo(row int) {
	s.row = max(0, min(row, len(s.files())-1))
	if s.row < len(s.at) {
		s.scroll.Show(s.at[s.row])
	}
}

func (s *othersScreen) update(msg tea.Msg) tea.Cmd {
	switch msg := msg.(type) {
	case clickedCommit:
		s.moveTo(int(msg))
	case tea.MouseWheelMsg:
		s.scroll.Update(msg)
	}
	return nil
}

func (s *othersScreen) view(w, h int) term.Page {
	p := term.Page{nil}
	p.Head("WHAT THE OTHERS GET", "")
	p.Blank()
	for _, l := range s.pull {
		p.Say(w, term.Text(term.Plain, l))
	}
	s.at = s.at[:0]
	column := fileColumn(s.files(), w)
	for _, o := range s.others {
		p.Blank()
		p.Row(term.Text(term.Plain, "  ").Mark(term.MarkTheirs).Bold(term.Theirs, o.Name).Add(term.Dim,
			"   "+keptWords(o)))
		for _, f := range o.Files {
			i := len(s.at)
			s.at = append(s.at, len(p))
			l := term.Text(term.Bright, words.If(i == s.row, "  ▶ ", "    ")).Then(fileLine(f, column)).Cut(w)
			if i == s.row {
				l = l.Fit(w).On(term.OnRow)
			}
			p.Row(l.Clicks(clickedCommit(i)))
		}
	}
	return s.scroll.Window(p, h)
}

// keptWords says how many files of somebody are as they left them.
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
	return fmt.Sprintf("%d of %d files as they left them; otherwise in the result:", o.Kept, n)
}

func (s *othersScreen) status() term.Line {
	return term.Text(term.Dim, words.Count(len(s.others), "person", "people"))
}

func (s *othersScreen) remark() term.Line {
	return term.Text(term.Dim, "Left column of numbers: their line, as they left it. Right: the line in the result.")
}
