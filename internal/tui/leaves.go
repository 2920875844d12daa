package tui

import (
	"path"

	"dorvik.dev/dorvik/internal/core/merge"
	"dorvik.dev/dorvik/internal/core/settle"
	"dorvik.dev/dorvik/internal/plan"
	"dorvik.dev/dorvik/internal/tui/term"
	"dorvik.dev/dorvik/internal/words"
)

// leavesPage draws, way by way, the small tree that it results in.
func (s settlePage) leavesPage(q *plan.Attributed, w int) term.Page {
	p := term.Page{term.Text(term.Plain, " ").Then(term.Heading("WHAT EACH LEAVES"))}
	each := (w - 1) / max(1, len(q.Question.Ways))
	rows := term.Page{}
	for i, o := range q.Question.Ways {
		col := term.Page{s.wayName(q, i, o)}
		col.Rows(leafRows(q.Question.Leaves(o), each-7))
		for k, l := range col {
			if k == len(rows) {
				rows.Row(term.Line{})
			}
			if i == s.way {
				l = l.Fit(each - 1).On(term.OnRow)
			}
			rows[k] = rows[k].Fit(i * each).Then(l.Cut(each - 1))
		}
	}
	return append(p, rows...)
}

// leafRows draws paths as a tree.
func leafRows(leaves []settle.Leaf, w int) (p term.Page) {
	dir := "."
	for _, l := range leaves {
		in := "      "
		if d := path.Dir(l.Path); d != "." {
			if in += "  "; d != dir {
				p.Row(term.Text(term.Dim, "      "+term.CutPath(d, w-2)+"/"))
			}
		}
		dir = path.Dir(l.Path)
		m := term.MarkJoined
		switch l.Side {
		case merge.Yours:
			m = term.MarkYours
		case merge.Theirs:
			m = term.MarkTheirs
		}
		name := term.CutPath(path.Base(l.Path), w-4) + words.If(l.Tree, "/", "")
		if l.Gone {
			p.Row(term.Text(term.Dim, in).Put(term.Ink{Hue: term.Dim, Strike: true}, name).Add(term.Dim,
				"  is deleted"))
			continue
		}
		p.Row(term.Text(term.Plain, in).Add(m.Hue, name).Add(m.Hue, " "+m.Sign))
	}
	return p
}
