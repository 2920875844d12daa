package tui

import (
	"context"

	tea "charm.land/bubbletea/v2"

	"dorvik.dev/dorvik/internal/ledger"
	"dorvik.dev/dorvik/internal/lookback"
	"dorvik.dev/dorvik/internal/tui/keys"
	"dorvik.dev/dorvik/internal/tui/term"
	"dorvik.dev/dorvik/internal/words"
)

// sinceScreen is what differs between the branch as a waypoint keeps it and as it is now.
type sinceScreen struct {
	job    *job
	point  *ledger.Waypoint
	files  []lookback.ChangedFile
	row    int
	scroll term.Scroll
}

// openSince compares a waypoint with now.
func openSince(j *job, name string) tea.Cmd {
	return j.start("comparing", func(ctx context.Context, _ func(int, int)) (then, error) {
		point, files, err := j.s.Since(ctx, name)
		if err != nil {
			return nil, err
		}
		return func() tea.Cmd {
			if point == nil {
				j.flash = term.Warning("The waypoint was cleaned: nothing is kept of it.")
				return nil
			}
			j.open(&sinceScreen{job: j, point: point, files: files})
			return nil
		}, nil
	})
}

func (s *sinceScreen) actions() []action {
	var out []action
	if s.row < len(s.files) {
		f := s.files[s.row]
		out = append(out, act(keys.Next, "look at the change", func() tea.Cmd {
			return openChange(s.job, f, "from waypoint "+s.point.Name+" to now", func() tea.Cmd {
				if s.job.pos == nil {
					return nil
				}
				return openAnnotate(s.job, s.job.pos.Yours, f.Path)
			})
		}))
	}
	out = append(out, rowKeys("file", len(s.files), s.scroll.Room(), s.move)...)
	return append(out, act(keys.Back, "", quietly(s.job.close)))
}

func (s *sinceScreen) move(by int) tea.Cmd {
	s.row = max(0, min(s.row+by, len(s.files)-1))
	return nil
}

func (s *sinceScreen) update(msg tea.Msg) tea.Cmd {
	switch msg := msg.(type) {
	case clickedCommit:
		s.row = int(msg)
	case tea.MouseWheelMsg:
		return s.move(wheeled(msg))
	}
	return nil
}

func (s *sinceScreen) view(w, h int) term.Page {
	p := term.Page{nil}
	p.Head("FROM WAYPOINT "+s.point.Name+" TO NOW",
		"  "+s.point.Branch+" as it was at "+s.job.s.Planner.Short(s.point.Before)+
			", and as it is")
	p.Blank()
	if len(s.files) == 0 {
		p.Say(w, term.Text(term.Plain, "Nothing differs: the branch holds what it held then."))
		return p
	}
	var rows term.Page
	column := fileColumn(s.files, w)
	for i, f := range s.files {
		l := term.Text(term.Bright, words.If(i == s.row, "  ▶ ", "    ")).Then(fileLine(f, column)).Cut(w)
		if i == s.row {
			l = l.Fit(w).On(term.OnRow)
		}
		rows.Row(l.Clicks(clickedCommit(i)))
	}
	s.scroll.Size(len(rows), h-len(p))
	s.scroll.Show(s.row)
	return append(p, s.scroll.Window(rows, h-len(p))...)
}

func (s *sinceScreen) status() term.Line {
	return term.Text(term.Dim, words.Count(len(s.files), "file", "files"))
}

func (s *sinceScreen) remark() term.Line {
	return term.Text(term.Dim, "You are only reading; nothing is changed.")
}
