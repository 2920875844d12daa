package tui

import (
	"strings"

	tea "charm.land/bubbletea/v2"

	"dorvik.dev/dorvik/internal/core/decided"
	"dorvik.dev/dorvik/internal/core/settle"
	"dorvik.dev/dorvik/internal/words"
)

// decisionLine tells a decision in a row.
func decisionLine(d decided.Decision) line {
	where := cutPath(d.Path, 48)
	if d.Line > 0 {
		where += ":" + itoa(d.Line)
	}
	l := txt(plain, where).fit(40).add(plain, "  ")
	if d.Question == nil {
		return l.mark(markWarning).add(plain, "changed by hand, though nothing was in conflict there")
	}
	return l.mark(markSettled).bold(bright, words.Decided(d.Way)).add(dim,
		words.If(d.Whole, "   the path as a whole", ""))
}

// decisionScreen is one decision of a merge commit: what each side had, and what was made of it.
type decisionScreen struct {
	f      *frame
	d      decided.Decision
	scroll scroll
}

func newDecision(f *frame, d decided.Decision) *decisionScreen { return &decisionScreen{f: f, d: d} }

func (s *decisionScreen) actions() []action {
	return append([]action{act(keys.back, "", quietly(s.f.close))}, s.scroll.actions()...)
}

func (s *decisionScreen) update(msg tea.Msg) tea.Cmd {
	s.scroll.update(msg)
	return nil
}

func (s *decisionScreen) view(w, h int) page {
	p := page{nil, txt(plain, " ").then(decisionLine(s.d)), nil}
	part := func(m mark, name, text string, g ground) {
		p.row(txt(plain, "  ").mark(m).bold(m.hue, name))
		if text == "" {
			p.row(txt(dim, "      nothing"))
		}
		for _, row := range splitLines(strings.TrimSuffix(text, "\n")) {
			if text != "" {
				p.row(txt(m.hue, "    ▏ ").put(ink{ground: g}, row).cut(w))
			}
		}
		p.blank()
	}
	if s.d.Question == nil {
		part(markBase, "what joins by itself", s.d.Base, noGround)
		part(markJoined, "what stands there", s.d.Result, onJoined)
		return s.scroll.window(p, h)
	}
	part(markBase, "base, what both started from", s.d.Base, noGround)
	part(markYours, "the first side: the branch it was made on", s.d.Yours, onYours)
	part(markTheirs, "the other side: what was merged", s.d.Theirs, onTheirs)
	name := "what was taken: " + words.Decided(s.d.Way)
	if s.d.Way == settle.Written {
		name = "what was written"
	}
	part(markJoined, name, s.d.Result, onJoined)
	return s.scroll.window(p, h)
}

func (s *decisionScreen) status() line { return txt(dim, "a decision") }

func (s *decisionScreen) remark() line {
	return txt(dim, "Found by joining the two sides anew and comparing: it holds whoever made the merge, and with "+
		"what.")
}
