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

// sinceScreen shows how the branch at a waypoint differs from the present one.
type sinceScreen struct {
	job   *job
	point *ledger.Waypoint
	files []lookback.ChangedFile
	rows  list
}

// openSince compares a waypoint with the present branch.
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
			j.open(&sinceScreen{job: j, point: point, files: files, rows: list{rows: func() int { return len(files) }}})
			return nil
		}, nil
	})
}

func (s *sinceScreen) actions() []action {
	var out []action
	if s.rows.row < len(s.files) {
		f := s.files[s.rows.row]
		out = append(out, act(keys.Next, "look at the change", func() tea.Cmd {
			return openChange(s.job, f, "from waypoint "+s.point.Name+" to now", func() tea.Cmd {
				if s.job.pos == nil {
					return nil
				}
				return openAnnotate(s.job, s.job.pos.Yours, f.Path)
			})
		}))
	}
	out = append(out, s.rows.keys("file")...)
	return append(out, act(keys.Back, "", quietly(s.job.close)))
}

func (s *sinceScreen) update(msg tea.Msg) tea.Cmd { return s.rows.update(msg) }

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
	rows, column := s.rows.on(nil, w), fileColumn(s.files, w)
	for _, f := range s.files {
		rows.item(fileLine(f, column))
	}
	return append(p, rows.window(h-len(p))...)
}

func (s *sinceScreen) status() term.Line {
	return term.Text(term.Dim, words.Count(len(s.files), "file", "files"))
}

func (s *sinceScreen) remark() term.Line {
	return term.Text(term.Dim, "You are only reading; nothing is changed.")
}
