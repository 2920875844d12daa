package tui

import (
	"errors"
	"slices"

	"charm.land/bubbletea/v2"

	"dorvik.dev/dorvik/internal/core/merge"
	"dorvik.dev/dorvik/internal/prove"
	"dorvik.dev/dorvik/internal/words"
)

// consentScreen shows whole what others changed that a command can run, before it runs.
type consentScreen struct {
	*job
	terms  []*prove.Terms
	onward func() tea.Cmd // once that is agreed to
	scroll scroll
}

// openConsent asks about commands, and goes on once they are agreed to.
func (j *job) openConsent(terms []*prove.Terms, onward func() tea.Cmd) tea.Cmd {
	j.open(&consentScreen{job: j, terms: terms, onward: onward})
	return nil
}

// agreeing gives what has to be agreed to before work can go on, if that is why it failed.
func agreeing(err error) (terms []*prove.Terms) {
	var is *prove.UnagreedError
	if errors.As(err, &is) {
		terms = append(terms, is.Terms)
	}
	return terms
}

func (s *consentScreen) actions() []action {
	out := []action{acts(keys.next, "agree, and go on", s.agree)}
	if who := s.people(); len(who) > 0 {
		out = append(out, acts(keys.always, "", s.always))
	}
	return append(append(out, act(keys.back, "", quietly(s.close))), s.scroll.actions()...)
}

// agree records that the commands may run on their trees, and goes on.
func (s *consentScreen) agree() tea.Cmd {
	for _, t := range s.terms {
		if err := s.s.Prover.Asker.AgreeTo(t); err != nil {
			return s.failed(err)
		}
	}
	s.close()
	return s.onward()
}

// people are those whose changes are asked about, by their names and e-mails, each once.
func (s *consentScreen) people() map[string]string {
	out := map[string]string{}
	for _, t := range s.terms {
		for _, f := range t.Asks {
			for _, n := range f.By {
				out[n.Author().Email] = n.Author().Name
			}
		}
	}
	return out
}

// always asks whether what these people change may run without being asked about.
func (s *consentScreen) always() tea.Cmd {
	var names []string
	people := s.people()
	for email, name := range people {
		names = append(names, name+" <"+email+">")
	}
	slices.Sort(names)
	s.ask(warning("What "+words.List(words.Some(names, 3))+" "+words.Is(len(names), "changes", "change")+" then runs "+
		"here without being asked about, in this repository. That goes by the e-mail in commits, which whoever may "+
		"push can write. Always?"), "always run it", func() tea.Cmd {
		for email := range people {
			if err := s.s.Ledger.Trust(email); err != nil {
				return s.failed(err)
			}
		}
		return s.agree()
	}, nil)
	return nil
}

func (s *consentScreen) update(msg tea.Msg) tea.Cmd {
	s.scroll.update(msg)
	return nil
}

func (s *consentScreen) view(w, h int) page {
	var all page
	for i, t := range s.terms {
		if i > 0 {
			all.blank()
		}
		all.rows(s.asksRows(t, w-2))
	}
	p := page{line{}.add(plain, " ").bold(bright, "WHAT OTHERS CHANGED").add(dim, "  and this can run: ").
		add(plain, s.terms[0].Command.Line()).cut(w), nil}
	s.scroll.size(len(all), h-len(p))
	from := s.scroll.at()
	return append(p, s.scroll.edges(indent(all[from:min(len(all), from+h-len(p))], 1), len(all))...)
}

func (s *consentScreen) status() line { return nil }

func (s *consentScreen) remark() line {
	return txt(dim, "It runs with your rights, in a checkout of its own. Nothing has been run of this.")
}

// asksRows shows what others changed that a command can run, file by file, with who did.
func (j *job) asksRows(t *prove.Terms, w int) (p page) {
	for i, f := range t.Asks {
		if i > 0 {
			p.blank()
		}
		p.rows(wrap(j.askedOf(&f), w))
		p.rows(indent(changedRows(&f, w-2), 2))
	}
	return p
}

// askedOf names a file that others changed, and who did.
func (j *job) askedOf(f *prove.Unagreed) line {
	l := line{}.mark(markWarning).bold(bright, f.Path)
	if len(f.By) == 0 {
		return l.add(plain, "  changed since you agreed, and it cannot be told by whom")
	}
	n := f.By[0]
	did := words.If(f.Was.IsZero(), "added", words.If(f.ID.IsZero(), "taken away", "changed"))
	l = l.add(plain, "  "+did+" by ").
		add(theirs, j.first(n, merge.Theirs)).add(plain, " in ").add(theirs, j.s.Planner.Short(n.ID)).
		add(plain, " “"+n.Subject()+"”")
	if more := len(f.By) - 1; more > 0 {
		l = l.add(plain, " and "+words.Count(more, "commit", "commits")+" before it")
	}
	return l
}

// changedRows are the lines of a file that are not as they were when it was agreed to.
func changedRows(f *prove.Unagreed, w int) (p page) {
	if f.Change.From == f.Change.To {
		return page{txt(dim, "It is no text, or is not here to be shown.")}
	}
	f.Lines(func(l string, added bool) {
		if added {
			p.row(txt(bright, "+ "+l).cut(w))
		} else {
			p.row(txt(dim, "− "+l).cut(w))
		}
	})
	return p
}

// asksNote shows as much of what others changed as there is room for, and how all of it is read.
func (s *checkScreen) asksNote(p *page, all []*prove.Terms, w, h int) {
	for _, t := range all {
		if len(t.Asks) == 0 {
			continue
		}
		p.blank()
		p.say(w, line{}.bold(bright, words.If(t.Before, "You agreed to it before. Since then others changed what it "+
			"can run:", "Others changed what it can run:")))
		rows, room := s.asksRows(t, w-4), max(4, h-len(*p)-2)
		if len(rows) <= room {
			p.rows(indent(rows, 2))
			continue
		}
		p.rows(indent(rows[:room-1], 2))
		p.row(line{}.add(plain, "  ").bold(bright, keys.views.Help().Key).add(plain, " shows all of it: ").add(dim,
			words.Count(len(t.Asks), "file", "files")+", "+words.Count(len(rows)-room+1, "line", "lines")+" more"))
	}
}

// toAgree are the commands that what others changed is asked about, on the way to what comes next.
func (s *checkScreen) toAgree() (out []*prove.Terms) {
	all := s.makes
	if !s.making && s.terms != nil {
		all = []*prove.Terms{s.terms}
	}
	for _, t := range all {
		if len(t.Asks) > 0 {
			out = append(out, t)
		}
	}
	return out
}

// asksAction shows all that others changed, with the choice to trust them.
func (s *checkScreen) asksAction(onward func() tea.Cmd) []action {
	all := s.toAgree()
	if len(all) == 0 {
		return nil
	}
	return []action{acts(keys.views, "what others changed", func() tea.Cmd { return s.openConsent(all, onward) })}
}
