package tui

import (
	"context"
	"fmt"
	"sync"

	"charm.land/bubbletea/v2"

	"dorvik.dev/dorvik/internal/lookback"
	"dorvik.dev/dorvik/internal/words"
)

// branchesScreen is all branches beside the one you are on: what each has and yours has not, and
// the other way round.
type branchesScreen struct {
	*job
	reads  besides
	mu     sync.Mutex
	fresh  chan struct{}
	ended  chan struct{} // closed when all were compared
	list   []lookback.Branching
	more   int
	done   bool
	row    int
	scroll scroll
}

// compared says that more branches were compared.
type compared struct{ of *branchesScreen }

// openBranches compares the branches.
func (j *job) openBranches() tea.Cmd {
	s := &branchesScreen{job: j, reads: j.newBeside(), fresh: make(chan struct{}, 1), ended: make(chan struct{})}
	j.open(s)
	return tea.Batch(s.reads.start(func(ctx context.Context) (then, error) {
		defer close(s.ended)
		more, err := s.s.History.Branchings(ctx, func(b lookback.Branching) {
			s.mu.Lock()
			s.list = append(s.list, b)
			s.mu.Unlock()
			select {
			case s.fresh <- struct{}{}:
			default:
			}
		})
		return func() tea.Cmd { s.more, s.done = more, true; return nil }, err
	}), s.next())
}

// next waits until more branches were compared.
func (s *branchesScreen) next() tea.Cmd {
	return func() tea.Msg {
		select {
		case <-s.fresh:
			return compared{s}
		case <-s.ended:
			return nil
		}
	}
}

// branches is what was compared so far.
func (s *branchesScreen) branches() []lookback.Branching {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.list
}

func (s *branchesScreen) actions() []action {
	var out []action
	if list := s.branches(); s.row < len(list) {
		out = append(out, act(keys.next, "its commits beside yours",
			func() tea.Cmd { return s.openHistory(list[s.row].Name) }))
	}
	out = append(out, rowKeys("branch", len(s.branches()), s.scroll.room(), s.move)...)
	return append(out, act(keys.back, "", quietly(func() { s.reads.stop(); s.close() })))
}

func (s *branchesScreen) move(by int) tea.Cmd {
	s.row = max(0, min(s.row+by, len(s.branches())-1))
	return nil
}

func (s *branchesScreen) update(msg tea.Msg) tea.Cmd {
	switch msg := msg.(type) {
	case compared:
		if msg.of == s && !s.done {
			return s.next()
		}
	case clickedCommit:
		s.row = int(msg)
	case tea.MouseWheelMsg:
		return s.move(wheeled(msg))
	}
	return nil
}

func (s *branchesScreen) view(w, h int) page {
	p := page{nil, txt(plain, " ").then(heading("BRANCHES")).add(dim, "   beside the one you are on"), nil}
	list := s.branches()
	if len(list) == 0 {
		p.say(w, txt(plain, words.If(s.done, "There is no other branch here.", "Comparing…")))
		return p
	}
	var rows page
	for i, b := range list {
		rows.row(s.branchRow(i, b, w))
	}
	if s.more > 0 {
		older := words.Count(s.more, "older branch, not compared", "older branches, not compared")
		rows.row(txt(dim, "    and "+older))
	}
	s.scroll.size(len(rows), h-len(p))
	s.scroll.show(s.row)
	return append(p, s.scroll.window(rows, h-len(p))...)
}

// counted is a number of commits that one line has and the other has not.
func counted(m mark, n int, what string) line {
	h := plain
	if n == 0 {
		m.hue, h = faint, faint
	}
	return line{}.mark(m).add(h, fmt.Sprintf("%d %s", n, what)).fit(25)
}

// branchRow is a branch with what is there and not here, both ways.
func (s *branchesScreen) branchRow(i int, b lookback.Branching, w int) line {
	l := txt(bright, words.If(i == s.row, " ▶ ", "   ")).then(txt(plain, b.Name).fit(max(20, w/4))).add(plain, "  ")
	switch {
	case b.Err != nil:
		l = l.mark(markWarning).add(dim, b.Err.Error())
	case b.There == 0 && b.Here == 0:
		l = l.add(dim, "the same commits")
	default:
		l = l.then(counted(markTheirs, b.There, "there, not here")).then(counted(markYours, b.Here, "here, not there"))
		if b.Same > 0 {
			l = l.add(joined, words.Count(b.Same, "same change", "same changes")+"   ")
		}
		if b.Asks > 0 {
			l = l.add(trouble, words.Count(len(b.Clashes), "file collides", "files collide")+"   ")
		}
		if b.There > 0 {
			l = l.add(dim, "by "+words.List(words.Some(b.By, 3)))
		}
	}
	l = l.cut(w)
	if i == s.row {
		l = l.fit(w).on(onRow)
	}
	return l.clicks(clickedCommit(i))
}

func (s *branchesScreen) status() line {
	return txt(dim, words.Count(len(s.branches()), "branch", "branches"))
}

func (s *branchesScreen) remark() line {
	return txt(dim, "Enter lists a branch's commits; those that are not here by their change can be marked and picked.")
}
