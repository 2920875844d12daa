package tui

import (
	"context"
	"fmt"
	"slices"
	"strings"

	tea "charm.land/bubbletea/v2"

	"dorvik.dev/dorvik/internal/core/diff"
	"dorvik.dev/dorvik/internal/plan"
	"dorvik.dev/dorvik/internal/recovery"
	"dorvik.dev/dorvik/internal/tui/keys"
	"dorvik.dev/dorvik/internal/tui/term"
	"dorvik.dev/dorvik/internal/words"
)

// lostScreen shows mends that do not fit the new result, with the present text.
type lostScreen struct {
	*checkScreen
	at     int
	now    []string // current joined texts; empty if there is none
	scroll term.Scroll
}

// lostAction shows the mends that do not fit.
func (s *checkScreen) lostAction() []action {
	if s.job.join == nil || len(s.job.join.Lost) == 0 {
		return nil
	}
	return []action{acts(keys.Views, "the "+words.Is(len(s.job.join.Lost), "mend", "mends")+" that "+
		""+words.Is(len(s.job.join.Lost),
		"does", "do")+" not fit", s.openLost)}
}

func (s *checkScreen) openLost() tea.Cmd {
	o := &lostScreen{checkScreen: s}
	for _, m := range s.job.join.Lost {
		text, _, err := s.job.s.Planner.TextAt(context.Background(), s.job.join.Tree, m.Path)
		if err != nil {
			return s.job.frame.failed(err)
		}
		o.now = append(o.now, text)
	}
	s.job.open(o)
	return nil
}

func (o *lostScreen) mend() plan.Mend { return o.job.join.Lost[o.at] }

func (o *lostScreen) actions() []action {
	var out []action
	if o.now[o.at] != "" {
		out = append(out, acts(keys.Next, "write it into the present text", o.again))
	}
	out = append(out, act(keys.Drop, "discard it", o.letGo))
	if len(o.now) > 1 {
		turn := func(by int) func() tea.Cmd {
			return quietly(func() { o.at = (o.at + by + len(o.now)) % len(o.now); o.scroll.To(0) })
		}
		out = append(out, act(keys.Following, "the next", turn(1)), also(keys.Previous, turn(-1)))
	}
	return append(append(out, act(keys.Back, "", quietly(o.job.close))), scrollKeys(&o.scroll)...)
}

// letGo discards the marked one.
func (o *lostScreen) letGo() tea.Cmd {
	m, s := o.mend(), o.checkScreen
	o.job.close()
	return s.job.rejoin(func(to *recovery.Session) error { return to.Ledger.LetGo(m) }, func() tea.Cmd {
		s.job.flash = term.Text(term.Plain, "The mend of "+m.Path+" is discarded.")
		return s.enter()
	})
}

// again opens the present text to make the mend again.
func (o *lostScreen) again() tea.Cmd {
	m, s, now := o.mend(), o.checkScreen, o.now[o.at]
	ed := term.NewEditor(now, 1)
	if edits := diff.Histogram(diff.Lines(m.Before), diff.Lines(m.After)); len(edits) > 0 {
		ed.GoTo(min(edits[0].A0+1, strings.Count(now, "\n")+1), 1)
	}
	was := editRows(m.Before, m.After)
	s.job.open(&writing{frame: s.job.frame, ed: ed, right: s.status(), name: m.Path, own: s.job.s.Repo.Editor,
		around: func(w, h int) term.Page {
			p := term.Page{term.Text(term.Plain, " ").Bold(term.Bright, m.Path).Add(term.Dim,
				"   as it is now; your mend was").Cut(w)}
			for _, l := range was[:min(len(was), h/3)] {
				p.Row(l.Cut(w))
			}
			p.Row(term.Rule(w))
			return append(p, ed.View(w, h-len(p))...)
		},
		save: func(after string) tea.Cmd {
			return s.job.rejoin(func(to *recovery.Session) error {
				if err := to.Ledger.LetGo(m); err != nil || after == now {
					return err
				}
				return to.Ledger.AddMend(plan.Mend{Path: m.Path, Before: now, After: after})
			}, func() tea.Cmd { return s.enter() })
		}})
	return nil
}

func (o *lostScreen) update(msg tea.Msg) tea.Cmd {
	o.scroll.Update(msg)
	return nil
}

func (o *lostScreen) status() term.Line {
	return term.Text(term.Dim, fmt.Sprintf("mend %d of %d that does not fit", o.at+1, len(o.now)))
}

func (o *lostScreen) remark() term.Line {
	return term.Text(term.Dim, "It is not part of the result, and is kept until you write it again or discard it.")
}

func (o *lostScreen) view(w, h int) term.Page {
	m := o.mend()
	p := term.Page{term.Text(term.Plain, " ").Bold(term.Bright, m.Path).Add(term.Dim,
		"   this mend was made to another text"), nil}
	mine := append(term.Page{term.Heading("YOUR MEND"), nil}, editRows(m.Before, m.After)...)
	is := term.Page{term.Heading("THE TEXT NOW"), nil}
	if o.now[o.at] == "" {
		is.Row(term.Text(term.Dim, "there is no such text in the result"))
	}
	touched := map[int]bool{} // lines that changed since the mend was computed
	now := diff.Lines(o.now[o.at])
	for _, e := range diff.Histogram(diff.Lines(m.Before), now) {
		for i := e.B0; i < e.B1; i++ {
			touched[i] = true
		}
	}
	for i, l := range now {
		as := term.Dim
		if touched[i] {
			as = term.Bright
		}
		is.Row(term.Text(term.Faint, fmt.Sprintf("%6d ", i+1)).Add(as, strings.TrimRight(l, "\r\n")))
	}
	if w < wide {
		return append(p, o.scroll.Window(term.Indent(slices.Concat(mine, term.Page{nil}, is), 1), h-len(p))...)
	}
	left := w / 2
	for i := range mine {
		mine[i] = mine[i].Cut(left - 2)
	}
	return append(p, o.scroll.Window(term.Beside(term.Indent(mine, 1), is, left-1, w, h-len(p)), h-len(p))...)
}
