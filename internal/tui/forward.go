package tui

import (
	"context"
	"errors"
	"fmt"

	tea "charm.land/bubbletea/v2"

	"dorvik.dev/dorvik/internal/change"
	"dorvik.dev/dorvik/internal/plan"
	"dorvik.dev/dorvik/internal/recovery"
	"dorvik.dev/dorvik/internal/tui/keys"
	"dorvik.dev/dorvik/internal/tui/term"
	"dorvik.dev/dorvik/internal/vcs"
	"dorvik.dev/dorvik/internal/words"
)

// forwardScreen puts the branch forward into another one, and offers what can follow.
type forwardScreen struct {
	job     *job
	f       *recovery.Forward
	rows    list
	without bool             // skip hooks without consent
	done    *recovery.Pushed // nil until it was pushed
	canGo   bool
}

// forwardAction returns the key that puts the branch forward, or none.
func forwardAction(j *job) []action {
	if j.forward == nil || j.pos.NothingToDo() && j.forward.Tracking == j.pos.Branch.Tracking {
		return nil
	}
	line := *j.forward
	return []action{acts(keys.Forward, "put forward into "+line.Name, func() tea.Cmd {
		return j.start("asking "+line.Remote.String(), func(ctx context.Context, _ func(int, int)) (then, error) {
			f, err := j.s.Forwards.Prepare(ctx, line)
			var blocked *plan.Blocked
			if errors.As(err, &blocked) {
				return func() tea.Cmd { j.flash = term.Warning(blocked.Error()); return nil }, nil
			}
			return func() tea.Cmd {
				s := &forwardScreen{job: j, f: f}
				s.rows.rows = func() int { return len(s.choices()) }
				if f.Merges {
					s.rows.row = 1
				}
				j.open(s)
				return nil
			}, err
		})
	})}
}

// choice is a row of the screen: what can be done, and the code.
type choice struct {
	does string
	do   func() tea.Cmd
}

// choices returns what can be done now.
func (s *forwardScreen) choices() []choice {
	if s.done == nil {
		return []choice{
			{"fast-forward: the same commits as " + s.f.Own,
				func() tea.Cmd { return s.put(false) }},
			{"a merge commit of its own; " + s.f.Own + " stays as it is",
				func() tea.Cmd { return s.put(true) }},
		}
	}
	out := []choice{{"stay on " + s.f.Own, func() tea.Cmd { return s.leave("") }}}
	if s.canGo {
		out = append(out,
			choice{"go to " + s.f.Local + "; no file changes", func() tea.Cmd { return s.goThere(false) }},
			choice{fmt.Sprintf("go to %s, and delete %s here and at the remote", s.f.Local, s.f.Own),
				func() tea.Cmd { return s.goThere(true) }})
	}
	return out
}

func (s *forwardScreen) actions() []action {
	all := s.choices()
	does := "push it to " + s.f.Line.Name
	if s.done != nil {
		does = "do that"
	}
	out := []action{acts(keys.Next, does, all[min(s.rows.row, len(all)-1)].do)}
	out = append(out, s.rows.keys("way")...)
	return append(out, act(keys.Back, "", func() tea.Cmd {
		if s.done != nil {
			return s.leave("")
		}
		s.job.close()
		return nil
	}))
}

// put pushes.
func (s *forwardScreen) put(merge bool) tea.Cmd {
	consent := change.Consent{WithoutHooks: s.without}
	return s.job.startVital("pushing to "+s.f.Line.Name, func(ctx context.Context, _ func(int, int)) (then, error) {
		done, err := s.job.s.Forwards.Put(ctx, s.f, merge, consent)
		var asks *change.HooksError
		if errors.As(err, &asks) {
			return func() tea.Cmd {
				s.job.flash = term.Warning(asks.Error() + ". Press enter again to push without them.")
				s.without = true
				return nil
			}, nil
		}
		if err != nil {
			return nil, err
		}
		can, err := s.job.s.Forwards.CanGo(ctx, s.f)
		notice := s.job.s.TakeNotice()
		return func() tea.Cmd {
			if done.Refusal != nil {
				head, text, _ := done.Refused(false)
				s.job.flash = term.Warning(head + " " + text + " Nothing was changed here.")
				return nil
			}
			s.done, s.canGo, s.rows.row, s.job.changed = done, can, 0, true
			if notice != "" {
				s.job.flash = term.Warning(notice)
			}
			return nil
		}, err
	})
}

// goThere switches to the branch that moved, and deletes the other one if requested.
func (s *forwardScreen) goThere(remove bool) tea.Cmd {
	return s.job.startVital("going to "+s.f.Local, func(ctx context.Context, _ func(int, int)) (then, error) {
		if err := s.job.s.Forwards.Go(ctx, s.f); err != nil {
			return nil, err
		}
		said := fmt.Sprintf("You are on %s; no file changed. l, then u goes back.", s.f.Local)
		if !remove {
			return func() tea.Cmd { return s.leave(said) }, nil
		}
		err := s.job.s.Forwards.Delete(ctx, s.f)
		var blocked *plan.Blocked
		var refused *vcs.Refusal
		if errors.As(err, &blocked) || errors.As(err, &refused) {
			said += fmt.Sprintf(" %s is kept. %s", s.f.Own, words.Sentence(err.Error()))
			return func() tea.Cmd { return s.leave(said) }, nil
		}
		if err != nil {
			return nil, err
		}
		said = fmt.Sprintf("You are on %s, and %s is deleted. l, then u makes it again.", s.f.Local, s.f.Own)
		return func() tea.Cmd { return s.leave(said) }, nil
	})
}

// leave looks at the branch again.
func (s *forwardScreen) leave(said string) tea.Cmd {
	s.job.holds = ""
	cmd := s.job.nav.startOver(true)
	if said == "" {
		said = fmt.Sprintf("%s now holds %s.", s.f.Line.Name, s.job.s.Planner.Short(s.done.Holds))
	}
	s.job.flash = term.Done(said)
	return cmd
}

func (s *forwardScreen) update(msg tea.Msg) tea.Cmd { return s.rows.update(msg) }

func (s *forwardScreen) view(w, h int) term.Page {
	p := term.Page{nil}
	p.Head("PUT FORWARD", "  "+s.f.Own+" into "+s.f.Line.Name)
	p.Blank()
	if s.done != nil {
		p.Say(w, term.Line{}.Bold(term.Joined, "✓ Pushed. ").Add(term.Plain, fmt.Sprintf("%s now holds %s.",
			s.f.Line.Name, s.job.s.Planner.Short(s.done.Holds))))
		for _, said := range s.done.Said {
			p.Row(term.Text(term.Dim, "    "+said).Cut(w))
		}
		p.Blank()
		p.Head("AND NOW", "")
	} else {
		p.Say(w, term.Text(term.Plain, s.f.Sentence(s.rows.row == 1)))
		p.Blank()
		p.Head("WHAT GOES", "")
		p.Blank()
		room := max(3, h-len(p)-8)
		for i, n := range s.f.Commits {
			if i == room {
				p.Row(term.Text(term.Dim, "    and "+words.Count(len(s.f.Commits)-i, "more", "more")))
				break
			}
			p.Row(term.Text(term.Plain, "    ").Mark(term.MarkYours).Add(term.Plain, "  "+s.job.s.Planner.Short(n.ID)+
				"  "+n.Subject()).Fit(w*6/10).Add(term.Dim, "  "+n.Author().Name).Cut(w))
		}
		p.Blank()
		p.Head("HOW", "")
	}
	p.Blank()
	rows := s.rows.on(nil, w)
	for i, c := range s.choices() {
		l := term.Text(term.Plain, c.does)
		if s.done == nil && s.f.Merges == (i == 1) {
			why := ""
			if w >= wide {
				why = ": " + words.If(s.f.Merges, "that is how it usually moves", "nothing asks for a merge commit")
			}
			l = l.Add(term.Dim, "   suggested"+why)
		}
		rows.item(l)
	}
	return append(p, rows.window(h-len(p))...)
}

func (s *forwardScreen) status() term.Line {
	return term.Text(term.Dim, s.f.Line.Remote.String()+" was asked just now")
}

func (s *forwardScreen) remark() term.Line {
	if s.done != nil {
		return term.Text(term.Dim, "Each of these can be undone from the logbook.")
	}
	return term.Text(term.Dim, "Nothing is pushed yet. If "+s.f.Line.Name+
		" moves meanwhile, the push is refused, and nothing is lost.")
}
