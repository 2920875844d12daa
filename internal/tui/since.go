package tui

import (
	"context"

	"charm.land/bubbletea/v2"

	"dorvik.dev/dorvik/internal/ledger"
	"dorvik.dev/dorvik/internal/lookback"
	"dorvik.dev/dorvik/internal/words"
)

// sinceScreen is what differs between the branch as a waypoint keeps it and as it is now.
type sinceScreen struct {
	*job
	point  *ledger.Waypoint
	files  []lookback.ChangedFile
	row    int
	scroll scroll
}

// openSince compares a waypoint with now.
func (j *job) openSince(name string) tea.Cmd {
	return j.start("comparing", func(ctx context.Context, _ func(int, int)) (then, error) {
		point, files, err := j.s.Since(ctx, name)
		if err != nil {
			return nil, err
		}
		return func() tea.Cmd {
			if point == nil {
				j.flash = warning("The waypoint was cleaned: nothing is kept of it.")
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
		out = append(out, act(keys.next, "look at the change", func() tea.Cmd {
			return s.openChange(f, "from waypoint "+s.point.Name+" to now", func() tea.Cmd {
				if s.pos == nil {
					return nil
				}
				return s.openAnnotate(s.pos.Yours, f.Path)
			})
		}))
	}
	out = append(out, rowKeys("file", len(s.files), s.scroll.room(), s.move)...)
	return append(out, act(keys.back, "", quietly(s.close)))
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

func (s *sinceScreen) view(w, h int) page {
	p := page{nil}
	p.head("FROM WAYPOINT "+s.point.Name+" TO NOW",
		"  "+s.point.Branch+" as it was at "+s.s.Planner.Short(s.point.Before)+
			", and as it is")
	p.blank()
	if len(s.files) == 0 {
		p.say(w, txt(plain, "Nothing differs: the branch holds what it held then."))
		return p
	}
	var rows page
	column := fileColumn(s.files, w)
	for i, f := range s.files {
		l := txt(bright, words.If(i == s.row, "  ▶ ", "    ")).then(fileLine(f, column)).cut(w)
		if i == s.row {
			l = l.fit(w).on(onRow)
		}
		rows.row(l.clicks(clickedCommit(i)))
	}
	s.scroll.size(len(rows), h-len(p))
	s.scroll.show(s.row)
	return append(p, s.scroll.window(rows, h-len(p))...)
}

func (s *sinceScreen) status() line { return txt(dim, words.Count(len(s.files), "file", "files")) }

func (s *sinceScreen) remark() line { return txt(dim, "You are only reading; nothing is changed.") }
