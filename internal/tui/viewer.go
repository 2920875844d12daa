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

// lead is how many lines of the surroundings stand above a change gone to.
const lead = 3

func (v *viewer) changeStarts(i int) bool {
	changed := func(i int) bool { return v.lines[i].Origin != recovery.LineBase }
	return changed(i) && (i == 0 || !changed(i-1))
}

// seek goes to the first run of changed lines at or after a line.
func (v *viewer) seek(from int) {
	for i := from; i < len(v.lines); i++ {
		if v.changeStarts(i) {
			v.off = max(0, i-lead)
			return
		}
	}
}

// jump goes to the next run of changed lines, or the one before.
func (v *viewer) jump(down bool) {
	at := v.off
	if at > 0 {
		at += lead
	}
	if down {
		v.seek(at + 1)
		return
	}
	for i := min(at, len(v.lines)) - 1; i >= 0; i-- {
		if v.changeStarts(i) {
			v.off = max(0, i-lead)
			return
		}
	}
}
