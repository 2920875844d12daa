package tui

import (
	"strings"

	"dorvik/internal/recovery"
)

// helpPage lists every key, and what the signs mean.
func (m *model) helpPage(w int) page {
	var p page
	p.blank()
	p.row(txt(plain, "  ").add(yours, "● yours").add(plain, ": what you have and the remote has not   ").add(theirs, "■ theirs").add(plain, ": what others pushed"))
	p.row(txt(plain, "  ").add(base, "◆ base").add(plain, ": what both started from   ").add(joined, "✦ joined").add(plain, ": the two brought together"))
	p.row(txt(dim, "  Yours and theirs mean the same on both routes; they never swap."))
	p.blank()
	section := func(name string, keys ...binding) page {
		s := page{txt(plain, "  ").then(heading(strings.ToUpper(name)))}
		for _, b := range keys {
			s.row(txt(plain, "    ").bold(bright, b.key).fit(19).add(plain, " "+b.does))
		}
		return append(s, nil)
	}
	all := []page{
		section("everywhere", binding{"enter", "the next step"}, binding{"esc", "the step before"}, binding{"?", "this page"},
			binding{"↑ ↓ pgup pgdn", "scroll; so does the mouse wheel"}, binding{"ctrl+c", "cancel what runs, or quit; asks if you wrote"}, binding{"q", "quit; safe at any time"}),
		section(recovery.Look.String(), binding{"enter", "choose a way to join, or go straight on"}, binding{"f", "ask the remote again"}, binding{"u", "undo a join that is not pushed yet"}, binding{"x", "drop a pick"}, binding{"d", "let a merge driver run"}, binding{"m", "move aside what is in the way"}),
		section(recovery.Choose.String(), binding{"← →", "compare the two ways"}, binding{"enter", "take this way"}),
		section(recovery.Settle.String(), binding{"↑ ↓ or 1–6", "try a way; the result shows it at once"}, binding{"enter", "settle it as marked; where nothing is, nothing"},
			binding{"e", "write the place yourself"}, binding{"[ ] or ← →", "the conflict before, the next"}, binding{"v", "the edits, the result, or all together"},
			binding{"pgup pgdn", "scroll the result"}, binding{"u", "undo the last decision"}, binding{"j", "read the files that joined by themselves"}),
		section("writing", binding{"ctrl+s", "keep what you wrote"}, binding{"esc", "leave without keeping it"}, binding{"ctrl+z", "undo"},
			binding{"ctrl+k", "delete the line"}, binding{"ctrl+← ctrl+→", "word by word"}),
		section(recovery.Check.String(), binding{"enter", "run it; mend the marked error; go on"}, binding{"↑ ↓", "the error before, the next"},
			binding{"r", "run again"}, binding{"o", "the whole output"}, binding{"u", "undo the last mend"}, binding{"s", "go on although it does not pass"}),
		section(recovery.Push.String(), binding{"enter", "join here and push; never forced"}, binding{"w", "join here, push later"}, binding{"m", "move aside what is in the way"}, binding{"u", "undo the join, until it is pushed"}),
	}
	if w < wide {
		for _, s := range all {
			p.rows(s)
		}
		return p
	}
	var left, right page
	for i, s := range all {
		if i < 3 || i == 6 {
			left.rows(s)
		} else {
			right.rows(s)
		}
	}
	return append(p, beside(left, right, w/2-2, w, 0)...)
}
