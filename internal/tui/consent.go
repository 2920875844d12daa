package tui

import (
	"errors"
	"slices"

	tea "charm.land/bubbletea/v2"

	"dorvik.dev/dorvik/internal/core/merge"
	"dorvik.dev/dorvik/internal/prove"
	"dorvik.dev/dorvik/internal/tui/keys"
	"dorvik.dev/dorvik/internal/tui/term"
	"dorvik.dev/dorvik/internal/words"
)

// consentScreen shows everything that others changed and that a command can run, before it runs.
type consentScreen struct {
	job    *job
	terms  []*prove.Terms
	onward func() tea.Cmd // runs after consent
	scroll term.Scroll
}

// openConsent asks about commands and continues after the agreement.
func openConsent(j *job, terms []*prove.Terms, onward func() tea.Cmd) tea.Cmd {
	j.open(&consentScreen{job: j, terms: terms, onward: onward})
	return nil
}

// agreeing returns what needs an agreement, if that is why work failed.
func agreeing(err error) (terms []*prove.Terms) {
	var is *prove.UnagreedError
	if errors.As(err, &is) {
		terms = append(terms, is.Terms)
	}
	return terms
}

func (s *consentScreen) actions() []action {
	out := []action{acts(keys.Next, "agree, and go on", s.agree)}
	if who := s.people(); len(who) > 0 {
		out = append(out, acts(keys.Always, "", s.always))
	}
	return append(append(out, act(keys.Back, "", quietly(s.job.close))), scrollKeys(&s.scroll)...)
}

// agree records the agreement for the commands and their trees, and continues.
func (s *consentScreen) agree() tea.Cmd {
	for _, t := range s.terms {
		if err := s.job.s.Prover.Asker.AgreeTo(t); err != nil {
			return s.job.failed(err)
		}
	}
	s.job.close()
	return s.onward()
}

// people returns the authors of the changes by name and e-mail, each once.
func (s *consentScreen) people() map[string]string {
	out := map[string]string{}
	for _, t := range s.terms {
		for _, f := range t.Asks {
			for _, n := range f.By {
				out[n.Author().Key()] = n.Author().Name
			}
		}
	}
	return out
}

// always asks whether changes of these people may run without a question.
func (s *consentScreen) always() tea.Cmd {
	var names []string
	people := s.people()
	for email, name := range people {
		names = append(names, name+" <"+email+">")
	}
	slices.Sort(names)
	s.job.ask(term.Warning("Changes by "+words.List(words.Some(names, 3))+" will then run in this repository "+
		"without a question. They are known by the e-mail address in commits, which anyone who can push can write. "+
		"Always?"), "always run it", func() tea.Cmd {
		for email := range people {
			if err := s.job.s.Ledger.Trust(email); err != nil {
				return s.job.failed(err)
			}
		}
		return s.agree()
	}, nil)
	return nil
}

func (s *consentScreen) update(msg tea.Msg) tea.Cmd {
	s.scroll.Update(msg)
	return nil
}

func (s *consentScreen) view(w, h int) term.Page {
	var all term.Page
	for i, t := range s.terms {
		if i > 0 {
			all.Blank()
		}
		all.Rows(asksRows(s.job, t, w-2))
	}
	p := term.Page{term.Line{}.Add(term.Plain, " ").Bold(term.Bright, "WHAT OTHERS CHANGED").Add(term.Dim,
		"  and this can run: ").
		Add(term.Plain, s.terms[0].Command.Line()).Cut(w), nil}
	s.scroll.Size(len(all), h-len(p))
	from := s.scroll.At()
	return append(p, s.scroll.Edges(term.Indent(all[from:min(len(all), from+h-len(p))], 1), len(all))...)
}

func (s *consentScreen) status() term.Line { return nil }

func (s *consentScreen) remark() term.Line {
	return term.Text(term.Dim, "It runs with your rights, in a checkout of its own. Nothing has been run of this.")
}

// asksRows lists, file by file, what others changed that a command can run, with the authors.
func asksRows(j *job, t *prove.Terms, w int) (p term.Page) {
	for i, f := range t.Asks {
		if i > 0 {
			p.Blank()
		}
		p.Rows(term.Wrap(askedOf(j, &f), w))
		p.Rows(term.Indent(changedRows(&f, w-2), 2))
	}
	return p
}

// askedOf names a file that others changed, and the authors.
func askedOf(j *job, f *prove.Unagreed) term.Line {
	l := term.Line{}.Mark(term.MarkWarning).Bold(term.Bright, f.Path)
	if len(f.By) == 0 {
		return l.Add(term.Plain, "  changed since you agreed, by an unknown person")
	}
	n := f.By[0]
	did := words.If(f.Was.IsZero(), "added", words.If(f.ID.IsZero(), "taken away", "changed"))
	l = l.Add(term.Plain, "  "+did+" by ").
		Add(term.Theirs, j.first(n, merge.Theirs)).Add(term.Plain, " in ").Add(term.Theirs, j.s.Planner.Short(n.ID)).
		Add(term.Plain, " “"+n.Subject()+"”")
	if more := len(f.By) - 1; more > 0 {
		l = l.Add(term.Plain, " and "+words.Count(more, "commit", "commits")+" before it")
	}
	return l
}

// changedRows returns the lines of a file that changed since the agreement.
func changedRows(f *prove.Unagreed, w int) (p term.Page) {
	if f.Change.From == f.Change.To {
		return term.Page{term.Text(term.Dim, "It is not text, or is not here to be shown.")}
	}
	f.Lines(func(l string, added bool) {
		if added {
			p.Row(term.Text(term.Bright, "+ "+l).Cut(w))
		} else {
			p.Row(term.Text(term.Dim, "− "+l).Cut(w))
		}
	})
	return p
}
