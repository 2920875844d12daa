package tui

import (
	"context"
	"fmt"
	"slices"

	tea "charm.land/bubbletea/v2"

	"dorvik.dev/dorvik/internal/plan"
	"dorvik.dev/dorvik/internal/prove"
	"dorvik.dev/dorvik/internal/tui/keys"
	"dorvik.dev/dorvik/internal/tui/term"
	"dorvik.dev/dorvik/internal/words"
)

// eachAction checks every new commit. It does not exist if there is only one.
func (s *checkScreen) eachAction() []action {
	if s.terms == nil || !s.agreed || s.running() || s.making || s.job.join.Route == plan.Merge ||
		len(s.job.each.known()) < 2 {
		return nil
	}
	if s.failed() {
		if len(s.lacks) > 0 || s.unchecked != "" || !s.pairing().onTheirs() {
			return nil // it is not about the code, or their base fails as well, so all of them fail
		}
		return []action{acts(keys.Each, "the first commit that fails", s.findFailing)}
	}
	return []action{acts(keys.Each, "", s.checkEach)}
}

// checkEach checks every replayed commit up to the first that fails.
func (s *checkScreen) checkEach() tea.Cmd { return s.oneByOne(s.job.s.Prover.CheckEach) }

// findFailing finds the first failing commit by bisection, if all together fail.
func (s *checkScreen) findFailing() tea.Cmd { return s.oneByOne(s.job.s.Prover.FindFailing) }

func (s *checkScreen) oneByOne(check func(context.Context, *plan.Position, *prove.Terms, plan.Built,
	func(string), func([]prove.Each)) ([]prove.Each, error)) tea.Cmd {
	s.eaching, s.started = true, s.job.now()
	out := newOutput()
	s.output = out
	terms, built, pos := s.terms, s.job.built, s.job.pos
	cmd := s.job.start("checking commit by commit", func(ctx context.Context, _ func(int, int)) (then, error) {
		all, err := check(ctx, pos, terms, built, out.add, s.job.each.set)
		if ask := agreeing(err); ask != nil {
			return func() tea.Cmd {
				s.stopped()
				return openConsent(s.job, ask, func() tea.Cmd { return s.oneByOne(check) })
			}, nil
		}
		return func() tea.Cmd {
			s.stopped()
			s.job.each.set(all)
			if prove.FirstFailing(all).IsZero() {
				s.job.flash = term.Done("Every commit passes by itself.")
			}
			return nil
		}, err
	})
	return tea.Batch(cmd, out.more(s.job.task.over))
}

// eachRows draws the commits in a row with their states, and names the first that fails.
func (s checkPage) eachRows(w int) term.Page {
	all := s.job.each.known()
	if len(all) < 2 || !s.eaching && !slices.ContainsFunc(all[:len(all)-1], func(e prove.Each) bool {
		return e.Passed != nil // the last one is the joined code
	}) {
		return nil
	}
	l := term.Text(term.Plain, "  ").Add(term.Dim, "commit by commit  ")
	checked := 0
	for _, one := range all {
		l = l.Add(term.Yours, "◐′")
		switch {
		case one.Passed == nil:
			l = l.Add(term.Dim, "· ")
		case *one.Passed:
			l = l.Add(term.Joined, "✓ ")
			checked++
		default:
			l = l.Add(term.Trouble, "✗ ")
			checked++
		}
	}
	says := fmt.Sprintf(" %d of %s checked", checked, s.job.say(words.Count(len(all), "commit", "commits")))
	if id := prove.FirstFailing(all); !id.IsZero() {
		says = " does not pass by itself"
		if of := s.job.join.Replayed(s.job.built, id); of.Commit != nil {
			says = " “" + of.Subject() + "”" + says
		}
		says = " " + s.job.s.Planner.Short(id) + says
	}
	return term.Page{l.Add(term.Plain, says).Cut(w)}
}
