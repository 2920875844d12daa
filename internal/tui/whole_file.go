package tui

import (
	"fmt"

	tea "charm.land/bubbletea/v2"

	"dorvik.dev/dorvik/internal/core/settle"
	"dorvik.dev/dorvik/internal/plan"
	"dorvik.dev/dorvik/internal/recovery"
	"dorvik.dev/dorvik/internal/tui/term"
	"dorvik.dev/dorvik/internal/words"
)

// wholeFile is a file with conflicts in which a person writes. What is written in a place settles it; the rest is an
// edit that a commit brings in.
type wholeFile struct {
	job    *job
	path   string
	file   *settle.File // nil if the file has no conflicts
	choose func(c *settle.Question) settle.Option
	holder string // the commit
}

// writable reports whether a joined file can be edited by hand, and what its edits become part of.
func (j *job) writable() (holder string, ok bool) {
	holder, ok = j.join.MendHolder()
	return holder, ok && j.pos.Trivial() == plan.NotTrivial
}

// keep settles the places in which something else was written, and stores the rest as an edit. A place that is written
// in settles even if it holds what it held. then goes on from the conflict that is settled last.
func (w wholeFile) keep(was, edited string, place *settle.Question, then func() tea.Cmd) tea.Cmd {
	before := was
	var decided []settle.Decision
	if w.file != nil {
		var texts map[*settle.Question]string
		texts, before = w.file.Divide(w.choose, edited)
		if _, ok := texts[place]; place != nil && !ok {
			texts[place] = w.choose(place).Text
		}
		for _, c := range w.file.Places(texts) {
			decided = append(decided, settle.Decision{Key: c.Key, Way: settle.Written, Text: texts[c]})
		}
	}
	if before == edited && len(decided) == 0 {
		w.job.flash = term.Text(term.Plain, "Nothing was changed.")
		return nil
	}
	return w.job.rejoin(func(to *recovery.Session) error {
		if len(decided) > 0 {
			if err := to.Decide(decided...); err != nil {
				return err
			}
		}
		if before == edited {
			return nil
		}
		return to.Ledger.AddMend(plan.Mend{Path: w.path, Before: before, After: edited})
	}, func() tea.Cmd {
		cmd := then()
		w.job.flash = term.Line{}.Mark(term.MarkJoined).Add(term.Plain, w.told(len(decided), before != edited))
		return cmd
	})
}

// told says what was kept.
func (w wholeFile) told(settled int, edited bool) string {
	places := words.Count(settled, "place of it is settled", "places of it are settled") + " by what you wrote"
	switch rest := fmt.Sprintf("an edit that becomes part of %s. u on Check takes it back.", w.holder); {
	case settled == 0:
		return w.path + " is as you want it, by " + rest
	case !edited:
		return w.path + ": " + places + "."
	default:
		return w.path + ": " + places + ", and the rest is " + rest
	}
}
