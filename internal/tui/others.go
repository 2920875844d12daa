package tui

import (
	"context"
	"fmt"

	"charm.land/bubbletea/v2"

	"dorvik.dev/dorvik/internal/core/object"
	"dorvik.dev/dorvik/internal/lookback"
	"dorvik.dev/dorvik/internal/words"
)

// othersScreen is what a result means for each of those who have commits on their side.
type othersScreen struct {
	*job
	result object.ID // the commit they get
	others []lookback.Other
	pull   []string
	row    int // of all their files
	scroll scroll
	at     []int
}

func (j *job) openOthers(result object.ID, others []lookback.Other, pull []string) tea.Cmd {
	j.open(&othersScreen{job: j, result: result, others: others, pull: pull})
	return nil
}

// openLastOthers opens it for the last join made here.
func (j *job) openLastOthers() tea.Cmd {
	pos := j.pos
	return j.newBeside().start(func(ctx context.Context) (then, error) {
		r, err := j.s.History.LastReceived(ctx, pos)
		return func() tea.Cmd {
			if r == nil || len(r.Others) == 0 {
				j.flash = txt(plain, "Nothing was joined here yet: there is nobody for whom it changed anything.")
				return nil
			}
			return j.openOthers(r.Tip, r.Others, r.Pull)
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
		out = append(out, act(keys.next, "line by line", func() tea.Cmd {
			return s.openChange(files[s.row], "as they left it, and as it is in the result", s.authors)
		}))
		if !files[s.row].New.Absent() {
			out = append(out, act(keys.annotate, "who wrote its lines", s.authors))
		}
	}
	out = append(out, rowKeys("file", len(s.files()), s.scroll.room(), func(by int) tea.Cmd {
		s.moveTo(s.row + by)
		return nil
	})...)
	return append(out, act(keys.back, "", quietly(s.close)))
}

// authors opens the lines of the file one is on, as they are in the result.
func (s *othersScreen) authors() tea.Cmd { return s.openAnnotate(s.result, s.files()[s.row].Path) }

func (s *othersScreen) moveTo(row int) {
	s.row = max(0, min(row, len(s.files())-1))
	if s.row < len(s.at) {
		s.scroll.show(s.at[s.row])
	}
}

func (s *othersScreen) update(msg tea.Msg) tea.Cmd {
	switch msg := msg.(type) {
	case clickedCommit:
		s.moveTo(int(msg))
	case tea.MouseWheelMsg:
		s.scroll.update(msg)
	}
	return nil
}

func (s *othersScreen) view(w, h int) page {
	p := page{nil}
	p.head("WHAT THE OTHERS GET", "")
	p.blank()
	for _, l := range s.pull {
		p.say(w, txt(plain, l))
	}
	s.at = s.at[:0]
	column := fileColumn(s.files(), w)
	for _, o := range s.others {
		p.blank()
		p.row(txt(plain, "  ").mark(markTheirs).bold(theirs, o.Name).add(dim, "   "+keptWords(o)))
		for _, f := range o.Files {
			i := len(s.at)
			s.at = append(s.at, len(p))
			l := txt(bright, words.If(i == s.row, "  ▶ ", "    ")).then(fileLine(f, column)).cut(w)
			if i == s.row {
				l = l.fit(w).on(onRow)
			}
			p.row(l.clicks(clickedCommit(i)))
		}
	}
	return s.scroll.window(p, h)
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

func (s *othersScreen) status() line { return txt(dim, words.Count(len(s.others), "person", "people")) }

func (s *othersScreen) remark() line {
	return txt(dim, "Left column of numbers: their line, as they left it. Right: the line in the result.")
}

// othersRows tells on Push in a few rows what the result means for others.
func (s *pushScreen) othersRows(p *page, w int) {
	if s.ready == nil || len(s.ready.Others) == 0 {
		return
	}
	const most = 4
	p.blank()
	p.row(txt(plain, "  ").then(rule(w - 4)))
	p.head("WHAT THE OTHERS GET", "  with their next pull; e shows it line by line")
	p.blank()
	for i, o := range s.ready.Others {
		if i == most {
			p.row(txt(dim, "    and "+words.Count(len(s.ready.Others)-i, "person", "people")+" more"))
			break
		}
		l := txt(plain, "    ").mark(markTheirs).then(txt(theirs, o.Name).fit(20))
		n := o.Kept + len(o.Files)
		if len(o.Files) == 0 {
			l = l.add(plain, fmt.Sprintf("%s of theirs, as they left %s", words.Count(n, "file", "files"),
				words.Is(n, "it", "them")))
		} else {
			var names []string
			for _, f := range o.Files {
				names = append(names, f.Path)
			}
			l = l.add(plain, fmt.Sprintf("%d of %s of theirs with your changes in: ", len(o.Files),
				words.Count(n, "file", "files"))).
				add(dim, words.List(words.Some(names, 3)))
		}
		p.row(l.cut(w))
	}
}
