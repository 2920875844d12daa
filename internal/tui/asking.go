package tui

import (
	"context"
	"fmt"
	"strings"

	tea "charm.land/bubbletea/v2"

	"dorvik.dev/dorvik/internal/core/settle"
	"dorvik.dev/dorvik/internal/draw"
	"dorvik.dev/dorvik/internal/tui/keys"
	"dorvik.dev/dorvik/internal/tui/term"
	"dorvik.dev/dorvik/internal/words"
)

// askColleague writes a note about the conflict, or about all open ones of the same person, to the author of the other
// side.
func (s *settleScreen) askColleague() tea.Cmd {
	q := s.question()
	all := []int{s.at}
	for i := range s.job.questions {
		o := &s.job.questions[i]
		if i != s.at && o.Decision == nil && o.Theirs.Commit != nil && q.Theirs.Commit != nil &&
			o.Theirs.Author().Key() == q.Theirs.Author().Key() {
			all = append(all, i)
		}
	}
	if len(all) == 1 {
		return s.noteAbout(all)
	}
	s.job.ask(term.Text(term.Plain, fmt.Sprintf("%s of %s are open. Ask about all of them in one note?",
		words.Count(len(all), "conflict", "conflicts"), s.theirName(q)+"'s")), "about all",
		func() tea.Cmd { return s.noteAbout(all) }, func() tea.Cmd { return s.noteAbout(all[:1]) })
	return nil
}

// noteAbout opens the note for reading and editing before it is sent.
func (s *settleScreen) noteAbout(which []int) tea.Cmd {
	var list []draw.Matter
	for _, i := range which {
		q := &s.job.questions[i]
		m := draw.Matter{About: q, Place: strings.TrimSpace(strings.ReplaceAll(place(q), "  ", " "))}
		switch {
		case i == s.at && s.way >= 0 && s.way < len(q.Question.Ways):
			m.Mean = &q.Question.Ways[s.way]
		case i == s.at:
		default:
			if o, ok := q.Question.Option(q.Question.Suggested); ok {
				m.Mean = &o
			}
		}
		list = append(list, m)
	}
	who := s.theirName(s.question())
	return s.job.noteTo(who, draw.Note(s.job.pos, list), s.status(), func(how string) {
		s.job.ask(term.Text(term.Plain, how+" Put "+words.If(len(which) == 1, "this conflict",
			"these conflicts")+" aside until "+who+" answers?"), "put aside",
			func() tea.Cmd { return s.putAside(which, who+" was asked") },
			quietly(func() { s.job.flash = term.Text(term.Plain, how) }))
	})
}

// putAside defers conflicts and goes to one that is not deferred.
func (s *settleScreen) putAside(which []int, why string) tea.Cmd {
	var keys []settle.Key
	for _, i := range which {
		keys = append(keys, s.job.questions[i].Question.Key)
	}
	return s.job.start("putting it aside", func(context.Context, func(int, int)) (then, error) {
		for _, k := range keys {
			if err := s.job.s.Ledger.PutAside(k, why); err != nil {
				return nil, err
			}
		}
		return func() tea.Cmd {
			s.job.st = s.job.s.Ledger.State()
			if why == "" {
				s.job.flash = term.Text(term.Plain, "It is taken up again.")
				return nil
			}
			s.job.flash = term.Text(term.Plain, "Put aside: "+why+". It comes back when the others are settled.")
			return s.turnTo(s.nextOpen(s.at))
		}, nil
	})
}

// asideAction returns the key that defers the conflict or takes it up again.
func (s *settleScreen) asideAction() action {
	q := s.question()
	if s.aside(q) != "" {
		return acts(keys.Aside, "take it up again", func() tea.Cmd { return s.putAside([]int{s.at}, "") })
	}
	return also(keys.Aside, func() tea.Cmd {
		f := &finding{screen: s, f: s.job.frame, label: "why",
			empty: term.Text(term.Dim, "such as: to be asked on Monday"),
			says:  "A conflict that is put aside comes back when the others are settled."}
		f.open("", act(keys.Next, "put it aside", f.typed(func(why string) tea.Cmd {
			if why = words.OneLine(why); why == "" {
				why = "for later"
			}
			return s.putAside([]int{s.at}, why)
		})))
		return nil
	})
}
