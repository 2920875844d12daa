package tui

import (
	"strings"

	tea "charm.land/bubbletea/v2"

	"dorvik.dev/dorvik/internal/core/decided"
	"dorvik.dev/dorvik/internal/core/settle"
	"dorvik.dev/dorvik/internal/tui/keys"
	"dorvik.dev/dorvik/internal/tui/term"
	"dorvik.dev/dorvik/internal/words"
)

// decisionLine draws a decision in a row.
func decisionLine(d decided.Decision) term.Line {
	where := term.CutPath(d.Path, 48)
	if d.Line > 0 {
		where += ":" + itoa(d.Line)
	}
	l := term.Text(term.Plain, where).Fit(40).Add(term.Plain, "  ")
	if d.Question == nil {
		return l.Mark(term.MarkWarning).Add(term.Plain, "changed by hand, though nothing was in conflict there")
	}
	return l.Mark(term.MarkSettled).Bold(term.Bright, d.Way.Made()).Add(term.Dim,
		words.If(d.Whole, "   the path as a whole", ""))
}

// decisionScreen shows one decision of a merge commit: the sides' versions and the result.
type decisionScreen struct {
	f      *frame
	d      decided.Decision
	scroll term.Scroll
}

func newDecision(f *frame, d decided.Decision) *decisionScreen { return &decisionScreen{f: f, d: d} }

func (s *decisionScreen) actions() []action {
	return append([]action{act(keys.Back, "", quietly(s.f.close))}, scrollKeys(&s.scroll)...)
}

func (s *decisionScreen) update(msg tea.Msg) tea.Cmd {
	s.scroll.Update(msg)
	return nil
}

func (s *decisionScreen) view(w, h int) term.Page {
	p := term.Page{nil, term.Text(term.Plain, " ").Then(decisionLine(s.d)), nil}
	part := func(m term.Mark, name, text string, g term.Ground) {
		p.Row(term.Text(term.Plain, "  ").Mark(m).Bold(m.Hue, name))
		if text == "" {
			p.Row(term.Text(term.Dim, "      nothing"))
		}
		for _, row := range splitLines(strings.TrimSuffix(text, "\n")) {
			if text != "" {
				p.Row(term.Text(m.Hue, "    ▏ ").Put(term.Ink{Ground: g}, row).Cut(w))
			}
		}
		p.Blank()
	}
	if s.d.Question == nil {
		part(term.MarkBase, "what joins by itself", s.d.Base, term.NoGround)
		part(term.MarkJoined, "what stands there", s.d.Result, term.OnJoined)
		return s.scroll.Window(p, h)
	}
	part(term.MarkBase, "base, what both started from", s.d.Base, term.NoGround)
	part(term.MarkYours, "the first side: the branch it was made on", s.d.Yours, term.OnYours)
	part(term.MarkTheirs, "the other side: what was merged", s.d.Theirs, term.OnTheirs)
	name := "what was taken: " + s.d.Way.Made()
	if s.d.Way == settle.Written {
		name = "what was written"
	}
	part(term.MarkJoined, name, s.d.Result, term.OnJoined)
	return s.scroll.Window(p, h)
}

func (s *decisionScreen) status() term.Line { return term.Text(term.Dim, "a decision") }

func (s *decisionScreen) remark() term.Line {
	return term.Text(term.Dim,
		"Found by joining the two sides again and comparing, whoever made the merge and with any tool.")
}
