package tui

import (
	"path"

	"dorvik.dev/dorvik/internal/core/merge"
	"dorvik.dev/dorvik/internal/core/settle"
	"dorvik.dev/dorvik/internal/plan"
	"dorvik.dev/dorvik/internal/words"
)

// leavesPage draws, way by way, the little tree that it leaves.
func (s *settleScreen) leavesPage(q *plan.Attributed, w int) page {
	p := page{txt(plain, " ").then(heading("WHAT EACH LEAVES"))}
	each := (w - 1) / max(1, len(q.Question.Ways))
	rows := page{}
	for i, o := range q.Question.Ways {
		col := page{s.wayName(q, i, o)}
		col.rows(leafRows(q.Question.Leaves(o), each-7))
		for k, l := range col {
			if k == len(rows) {
				rows.row(line{})
			}
			if i == s.way {
				l = l.fit(each - 1).on(onRow)
			}
			rows[k] = rows[k].fit(i * each).then(l.cut(each - 1))
		}
	}
	return append(p, rows...)
}

// leafRows draws paths as a tree.
func leafRows(leaves []settle.Leaf, w int) (p page) {
	dir := "."
	for _, l := range leaves {
		in := "      "
		if d := path.Dir(l.Path); d != "." {
			if in += "  "; d != dir {
				p.row(txt(dim, "      "+cutPath(d, w-2)+"/"))
			}
		}
		dir = path.Dir(l.Path)
		m := markJoined
		switch l.Side {
		case merge.Yours:
			m = markYours
		case merge.Theirs:
			m = markTheirs
		}
		name := cutPath(path.Base(l.Path), w-4) + words.If(l.Tree, "/", "")
		if l.Gone {
			p.row(txt(dim, in).put(ink{hue: dim, strike: true}, name).add(dim, "  is deleted"))
			continue
		}
		p.row(txt(plain, in).add(m.hue, name).add(m.hue, " "+m.sign))
	}
	return p
}
