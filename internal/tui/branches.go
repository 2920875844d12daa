package tui

import (
	"context"
	"fmt"
	"sync"

	tea "charm.land/bubbletea/v2"

	"dorvik.dev/dorvik/internal/lookback"
	"dorvik.dev/dorvik/internal/tui/keys"
	"dorvik.dev/dorvik/internal/tui/term"
	"dorvik.dev/dorvik/internal/words"
)

// branchesScreen lists all branches besides the current one, with what each has that the current one lacks, and the
// reverse.
type branchesScreen struct {
	job   *job
	reads besides
	mu    sync.Mutex
	fresh chan struct{}
	ended chan struct{} // closed when all were compared
	list  []lookback.Branching
	more  int
	done  bool
	rows  list
}

// compared is the message that more branches were compared.
type compared struct{ of *branchesScreen }

// openBranches compares the branches and shows them.
func openBranches(j *job) tea.Cmd {
	s := &branchesScreen{job: j, reads: j.newBeside(), fresh: make(chan struct{}, 1), ended: make(chan struct{})}
	s.rows.rows = func() int { return len(s.branches()) }
	j.open(s)
	return tea.Batch(s.reads.start(func(ctx context.Context) (then, error) {
		defer close(s.ended)
		more, err := s.job.s.History.Branchings(ctx, func(b lookback.Branching) {
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

// next waits until more branches are compared.
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

// branches returns the compared branches.
func (s *branchesScreen) branches() []lookback.Branching {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.list
}

func (s *branchesScreen) actions() []action {
	var out []action
	if list := s.branches(); s.rows.row < len(list) {
		out = append(out, act(keys.Next, "its commits beside yours",
			func() tea.Cmd { return openHistory(s.job, list[s.rows.row].Name) }))
	}
	out = append(out, s.rows.keys("branch")...)
	return append(out, act(keys.Back, "", quietly(func() { s.reads.stop(); s.job.close() })))
}

func (s *branchesScreen) update(msg tea.Msg) tea.Cmd {
	if msg, ok := msg.(compared); ok {
		if msg.of == s && !s.done {
			return s.next()
		}
		return nil
	}
	return s.rows.update(msg)
}

func (s *branchesScreen) view(w, h int) term.Page {
	p := term.Page{nil, term.Text(term.Plain, " ").Then(term.Heading("BRANCHES")).Add(term.Dim,
		"   beside the one you are on"), nil}
	list := s.branches()
	if len(list) == 0 {
		p.Say(w, term.Text(term.Plain, words.If(s.done, "There is no other branch here.", "Comparing…")))
		return p
	}
	rows := s.rows.on(nil, w)
	for _, b := range list {
		rows.item(branchLine(b, w))
	}
	if s.more > 0 {
		older := words.Count(s.more, "older branch, not compared", "older branches, not compared")
		rows.page.Row(term.Text(term.Dim, "    and "+older))
	}
	return append(p, rows.window(h-len(p))...)
}

// counted draws the number of commits that only one line has.
func counted(m term.Mark, n int, what string) term.Line {
	h := term.Plain
	if n == 0 {
		m.Hue, h = term.Faint, term.Faint
	}
	return term.Line{}.Mark(m).Add(h, fmt.Sprintf("%d %s", n, what)).Fit(25)
}

// branchLine draws a branch with what only it has and what it lacks.
func branchLine(b lookback.Branching, w int) term.Line {
	l := term.Text(term.Plain, b.Name).Fit(max(20, w/4)).Add(term.Plain, "  ")
	switch {
	case b.Err != nil:
		l = l.Mark(term.MarkWarning).Add(term.Dim, b.Err.Error())
	case b.There == 0 && b.Here == 0:
		l = l.Add(term.Dim, "the same commits")
	default:
		l = l.Then(counted(term.MarkTheirs, b.There, "there, not here")).Then(counted(term.MarkYours, b.Here,
			"here, not there"))
		if b.Same > 0 {
			l = l.Add(term.Joined, words.Count(b.Same, "same change", "same changes")+"   ")
		}
		if b.Asks > 0 {
			l = l.Add(term.Trouble, words.Count(len(b.Clashes), "file collides", "files collide")+"   ")
		}
		if b.There > 0 {
			l = l.Add(term.Dim, "by "+words.List(words.Some(b.By, 3)))
		}
	}
	return l
}

func (s *branchesScreen) status() term.Line {
	return term.Text(term.Dim, words.Count(len(s.branches()), "branch", "branches"))
}

func (s *branchesScreen) remark() term.Line {
	return term.Text(term.Dim,
		"Enter lists a branch's commits; those that are not here by their change can be marked and picked.")
}
