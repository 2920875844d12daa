package tui

import (
	"fmt"

	"dorvik/internal/recovery"
)

// viewer shows a text to be read, with the origin of each line.
type viewer struct {
	title   line
	numbers bool
	lines   []recovery.Line
	off     int
}

// gutter is the sign and hue of a line's origin.
func gutter(o recovery.LineOrigin) (string, hue) {
	switch o {
	case recovery.LineYours:
		return "●", yours
	case recovery.LineTheirs:
		return "■", theirs
	case recovery.LineJoined:
		return "✦", joined
	}
	return " ", dim
}

func (v *viewer) view(w, h int) page {
	p := page{v.title, nil}
	v.off = max(0, min(v.off, len(v.lines)-(h-2)))
	digits := len(fmt.Sprint(len(v.lines)))
	for i := v.off; i < len(v.lines) && len(p) < h; i++ {
		l := line{}.add(plain, " ")
		if v.numbers {
			sign, hu := gutter(v.lines[i].Origin)
			l = l.add(faint, fmt.Sprintf("%*d ", digits, i+1)).add(hu, sign+" ")
		}
		p.row(l.add(plain, v.lines[i].Text).cut(w))
	}
	return p
}

// jump goes to the next run of changed lines, or the one before.
func (v *viewer) jump(down bool, h int) {
	changed := func(i int) bool { return v.lines[i].Origin != recovery.LineBase }
	starts := func(i int) bool { return changed(i) && (i == 0 || !changed(i-1)) }
	lead := min(3, h/3)
	if down {
		for i := v.off + lead + 1; i < len(v.lines); i++ {
			if starts(i) {
				v.off = i - lead
				return
			}
		}
		return
	}
	for i := min(v.off+lead, len(v.lines)) - 1; i >= 0; i-- {
		if starts(i) {
			v.off = max(0, i-lead)
			return
		}
	}
}
