package tui

import (
	"fmt"
	"strings"

	"dorvik.dev/dorvik/internal/recovery"
	"dorvik.dev/dorvik/internal/words"
)

// misfitRows tells of edits that will not work together: what happened, and the line that it breaks.
func (j *job) misfitRows(all []recovery.Misfit, w, most int) (p page) {
	for i := range all {
		if i == most {
			p.row(txt(dim, "  and "+words.Count(len(all)-most, "pair", "pairs")+" more; dorvik plan lists them"))
			return p
		}
		m := &all[i]
		p.rows(wrap(line{}.mark(markWarning).add(plain, j.misfitWords(m)+"."), w))
		mark := markYours
		if m.Used.Side == "theirs" {
			mark = markTheirs
		}
		at := txt(plain, "  ").mark(mark).add(bright, fmt.Sprintf("%s:%d", m.Used.Path, m.Used.Line))
		if code := strings.TrimSpace(m.Used.Text); code != "" {
			at = at.add(dim, "  "+code)
		}
		p.row(at.cut(w))
	}
	return p
}

// misfitWords says why two edits do not fit.
func (j *job) misfitWords(m *recovery.Misfit) string {
	return words.Misfit(m.Misfit, j.first(m.ChangedIn, m.Changed.Side), j.first(m.UsedIn, m.Used.Side))
}
