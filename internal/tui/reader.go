package tui

import (
	"fmt"
	"slices"

	"charm.land/bubbletea/v2"

	"dorvik.dev/dorvik/internal/plan"
)

// reader shows a text to be read, with the origin of each line.
type reader struct {
	f       *frame
	title   line
	numbers bool // the lines are numbered, and their origins are known
	lines   []plan.Line
	scroll  scroll
	authors func() tea.Cmd // of its lines; nil where they cannot be found
	more    []action       // what can be done with it besides
}

func newReader(f *frame, title line, lines []plan.Line, numbers bool) *reader {
	r := &reader{f: f, title: title, numbers: numbers, lines: lines}
	r.scroll.size(len(lines), f.h-9)
	if numbers {
		r.seek(0, 1)
	}
	return r
}

// gutter is the sign of a line's origin.
func gutter(o plan.LineOrigin) mark {
	switch o {
	case plan.LineYours:
		return markYours
	case plan.LineTheirs:
		return markTheirs
	case plan.LineJoined:
		return markJoined
	}
	return markNone
}

func (r *reader) actions() []action {
	out := append(slices.Clip(r.more), act(keys.back, "", quietly(r.f.close)))
	if r.numbers && r.scroll.moves() {
		out = append(out, act(keys.following, "next change", quietly(func() { r.seek(r.here()+1, 1) })),
			act(keys.previous, "the one before", quietly(func() { r.seek(r.here()-1, -1) })))
	}
	if r.authors != nil {
		out = append(out, act(keys.annotate, "who wrote its lines", r.authors))
	}
	return append(out, r.scroll.actions()...)
}

func (r *reader) update(msg tea.Msg) tea.Cmd {
	r.scroll.update(msg)
	return nil
}

func (r *reader) view(w, h int) page {
	p := page{r.title.cut(w), nil}
	room := h - len(p)
	r.scroll.size(len(r.lines), room)
	digits := len(fmt.Sprint(len(r.lines)))
	from := r.scroll.at()
	var seen page
	for i, l := range r.lines[from:min(len(r.lines), from+room)] {
		row := line{}.add(plain, " ")
		if r.numbers {
			row = row.add(faint, fmt.Sprintf("%*d ", digits, from+i+1)).mark(gutter(l.Origin))
		}
		seen.row(row.add(plain, l.Text).cut(w))
	}
	return append(p, r.scroll.edges(seen, len(r.lines))...)
}

func (r *reader) status() line { return nil }

func (r *reader) remark() line { return txt(dim, "You are only reading.") }

// lead is how many lines of the surroundings stand above a change gone to.
const lead = 3

// here is the line that one is at: the change gone to, or the first line seen.
func (r *reader) here() int {
	if at := r.scroll.at(); at > 0 {
		return at + lead
	}
	return r.scroll.at()
}

func (r *reader) changeStarts(i int) bool {
	changed := func(i int) bool { return r.lines[i].Origin != plan.LineBase }
	return changed(i) && (i == 0 || !changed(i-1))
}

// seek goes to the first run of changed lines from a line on, down or up.
func (r *reader) seek(from, step int) {
	for i := min(from, len(r.lines)); i < len(r.lines) && i >= 0; i += step {
		if r.changeStarts(i) {
			r.scroll.to(i - lead)
			return
		}
	}
}
