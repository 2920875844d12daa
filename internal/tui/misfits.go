package tui

import (
	"fmt"
	"strings"

	"dorvik.dev/dorvik/internal/core/merge"
	"dorvik.dev/dorvik/internal/core/misfit"
	"dorvik.dev/dorvik/internal/plan"
	"dorvik.dev/dorvik/internal/tui/term"
	"dorvik.dev/dorvik/internal/words"
)

// misfitRows describes misfits: what happened, and the line that breaks.
func misfitRows(j *job, all []plan.Misfit, mends []misfit.Mend, w, most int) (p term.Page) {
	for i := range all {
		if i == most {
			p.Row(term.Text(term.Dim, "  and "+words.Count(len(all)-most, "pair",
				"pairs")+" more; dorvik plan lists them"))
			return p
		}
		m := &all[i]
		p.Rows(term.Wrap(term.Line{}.Mark(term.MarkWarning).Add(term.Plain, misfitWords(j, m)+"."), w))
		mark := term.MarkYours
		if m.Used.Side == merge.Theirs {
			mark = term.MarkTheirs
		}
		at := term.Text(term.Plain, "  ").Mark(mark).Add(term.Bright, fmt.Sprintf("%s:%d", m.Used.Path, m.Used.Line))
		if code := strings.TrimSpace(m.Used.Text); code != "" {
			at = at.Add(term.Dim, "  "+code)
		}
		p.Row(at.Cut(w))
		for _, mend := range mends {
			if mend.Of == i {
				p.Rows(mendRows(mend, m.Used.Text, w))
			}
		}
	}
	return p
}

// mendRows shows the edit of a mend: removed lines, unless they were shown, and new ones.
func mendRows(m misfit.Mend, shown string, w int) (p term.Page) {
	for _, l := range m.Before {
		if l == shown && len(m.After) > 0 {
			continue
		}
		p.Row(term.Text(term.Dim, fmt.Sprintf("    %4d ", m.Line)).Add(term.Dim, "− "+strings.TrimSpace(l)).Cut(w))
	}
	for _, l := range m.After {
		p.Row(term.Text(term.Dim, "         ").Add(term.Joined, "+ "+strings.TrimSpace(l)).Cut(w))
	}
	return p
}

// misfitWords describes why two edits do not work together.
func misfitWords(j *job, m *plan.Misfit) string {
	return words.Misfit(m.Misfit, j.first(m.ChangedIn, m.Changed.Side), j.first(m.UsedIn, m.Used.Side))
}
