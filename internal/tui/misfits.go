package tui

import (
	"fmt"
	"strings"

	"dorvik.dev/dorvik/internal/core/merge"
	"dorvik.dev/dorvik/internal/core/misfit"
	"dorvik.dev/dorvik/internal/plan"
	"dorvik.dev/dorvik/internal/words"
)

// misfitRows tells of edits that will not work together: what happened, and the line that it breaks.
func (j *job) misfitRows(all []plan.Misfit, mends []misfit.Mend, w, most int) (p page) {
	for i := range all {
		if i == most {
			p.row(txt(dim, "  and "+words.Count(len(all)-most, "pair", "pairs")+" more; dorvik plan lists them"))
			return p
		}
		m := &all[i]
		p.rows(wrap(line{}.mark(markWarning).add(plain, j.misfitWords(m)+"."), w))
		mark := markYours
		if m.Used.Side == merge.Theirs {
			mark = markTheirs
		}
		at := txt(plain, "  ").mark(mark).add(bright, fmt.Sprintf("%s:%d", m.Used.Path, m.Used.Line))
		if code := strings.TrimSpace(m.Used.Text); code != "" {
			at = at.add(dim, "  "+code)
		}
		p.row(at.cut(w))
		for _, mend := range mends {
			if mend.Of == i {
				p.rows(mendRows(mend, m.Used.Text, w))
			}
		}
	}
	return p
}

// mendRows shows the edit that a mend is: what goes, unless it was shown, and what comes.
func mendRows(m misfit.Mend, shown string, w int) (p page) {
	for _, l := range m.Before {
		if l == shown && len(m.After) > 0 {
			continue
		}
		p.row(txt(dim, fmt.Sprintf("    %4d ", m.Line)).add(dim, "− "+strings.TrimSpace(l)).cut(w))
	}
	for _, l := range m.After {
		p.row(txt(dim, "         ").add(joined, "+ "+strings.TrimSpace(l)).cut(w))
	}
	return p
}

// misfitWords says why two edits do not fit.
func (j *job) misfitWords(m *plan.Misfit) string {
	return words.Misfit(m.Misfit, j.first(m.ChangedIn, m.Changed.Side), j.first(m.UsedIn, m.Used.Side))
}
