package tui

import (
	"context"
	"fmt"
	"sync"

	tea "charm.land/bubbletea/v2"

	"dorvik.dev/dorvik/internal/core/object"
	"dorvik.dev/dorvik/internal/recovery"
	"dorvik.dev/dorvik/internal/words"
)

// eachCommit is how the commits that are made again stand to the check, one by one.
type eachCommit struct {
	mu  sync.Mutex
	now []recovery.Each
}

func (e *eachCommit) set(now []recovery.Each) {
	e.mu.Lock()
	defer e.mu.Unlock()
	e.now = now
}

func (e *eachCommit) known() []recovery.Each {
	e.mu.Lock()
	defer e.mu.Unlock()
	return e.now
}

// passes tells how a commit stands; ok is false where that is not known.
func (e *eachCommit) passes(id object.ID) (passed, ok bool) {
	for _, one := range e.known() {
		if one.ID == id && one.Passed != nil {
			return *one.Passed, true
		}
	}
	return false, false
}

// eachAction checks every commit; there is none to be checked by itself where but one is made.
func (s *checkScreen) eachAction() []action {
	if s.terms == nil || !s.agreed || s.running() || s.making || s.join.Route == recovery.Merge ||
		len(s.each.known()) < 2 {
		return nil
	}
	return []action{acts(keys.each, "", s.checkEach)}
}

// checkEach checks every commit that is made again, up to the first that does not pass.
func (s *checkScreen) checkEach() tea.Cmd {
	s.eaching, s.started = true, s.now()
	out := newOutput()
	s.output = out
	terms, built := s.terms, s.built
	cmd := s.start("checking commit by commit", func(ctx context.Context, _ func(int, int)) (then, error) {
		all, err := s.s.CheckEach(ctx, terms, built, out.add, func(now []recovery.Each) { s.each.set(now) })
		return func() tea.Cmd {
			s.stopped()
			s.each.set(all)
			if recovery.FirstFailing(all).IsZero() {
				s.flash = done("Every commit passes by itself.")
			}
			return nil
		}, err
	})
	return tea.Batch(cmd, out.more(s.task.over))
}

// eachRows draws the commits in a row, each with how it stands, and says which is the first that does not pass.
func (s *checkScreen) eachRows(w int) page {
	all := s.each.known()
	if len(all) < 2 || !s.eaching && recovery.FirstFailing(all).IsZero() && all[0].Passed == nil {
		return nil
	}
	l := txt(plain, "  ").add(dim, "commit by commit  ")
	checked := 0
	for _, one := range all {
		l = l.add(yours, "◐′")
		switch {
		case one.Passed == nil:
			l = l.add(dim, "· ")
		case *one.Passed:
			l = l.add(joined, "✓ ")
			checked++
		default:
			l = l.add(trouble, "✗ ")
			checked++
		}
	}
	says := fmt.Sprintf(" %d of %s checked", checked, words.Count(len(all), "commit", "commits"))
	if id := recovery.FirstFailing(all); !id.IsZero() {
		says = " " + s.s.Short(id) + words.If(s.subjectOf(id) == "", "", " “"+s.subjectOf(id)+"”") + " does not " +
			"pass by itself"
	}
	return page{l.add(plain, says).cut(w)}
}

// subjectOf is that of a commit that is made again.
func (s *checkScreen) subjectOf(id object.ID) string {
	for i, made := range s.built.IDs {
		if made == id && i < len(s.join.Steps) {
			return s.join.Steps[i].Commit.Subject()
		}
	}
	return ""
}
