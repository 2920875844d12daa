package tui

import (
	"fmt"
	"slices"

	tea "charm.land/bubbletea/v2"

	"dorvik.dev/dorvik/internal/plan"
	"dorvik.dev/dorvik/internal/tui/keys"
	"dorvik.dev/dorvik/internal/tui/term"
)

// reader shows a text with the origin of each line.
type reader struct {
	f       *frame
	title   term.Line
	numbers bool // number the lines and show their origins
	lines   []plan.Line
	scroll  term.Scroll
	authors func() tea.Cmd // shows the authors of the lines; nil if unknown
	more    []action       // further actions
}

func newReader(f *frame, title term.Line, lines []plan.Line, numbers bool) *reader {
	r := &reader{f: f, title: title, numbers: numbers, lines: lines}
	r.scroll.Size(len(lines), f.h-9)
	if numbers {
		r.seek(0, 1)
	}
	return r
}

// gutter returns the sign of a line's origin.
func gutter(o plan.LineOrigin) term.Mark {
	switch o {
	case plan.LineYours:
		return term.MarkYours
	case plan.LineTheirs:
		return term.MarkTheirs
	case plan.LineJoined:
		return term.MarkJoined
	}
	return term.MarkNone
}

func (r *reader) actions() []action {
	out := append(slices.Clip(r.more), act(keys.Back, "", quietly(r.f.close)))
	if r.numbers && r.scroll.Moves() {
		out = append(out, act(keys.Following, "next change", quietly(func() { r.seek(r.here()+1, 1) })),
			act(keys.Previous, "the one before", quietly(func() { r.seek(r.here()-1, -1) })))
	}
	if r.authors != nil {
		out = append(out, act(keys.Annotate, "who wrote its lines", r.authors))
	}
	return append(out, scrollKeys(&r.scroll)...)
}

func (r *reader) update(msg tea.Msg) tea.Cmd {
	r.scroll.Update(msg)
	return nil
}

func (r *reader) view(w, h int) term.Page {
	p := term.Page{r.title.Cut(w), nil}
	room := h - len(p)
	r.scroll.Size(len(r.lines), room)
	digits := len(fmt.Sprint(len(r.lines)))
	from := r.scroll.At()
	var seen term.Page
	for i, l := range r.lines[from:min(len(r.lines), from+room)] {
		row := term.Line{}.Add(term.Plain, " ")
		if r.numbers {
			row = row.Add(term.Faint, fmt.Sprintf("%*d ", digits, from+i+1)).Mark(gutter(l.Origin))
		}
		seen.Row(row.Add(term.Plain, l.Text).Cut(w))
	}
	return append(p, r.scroll.Edges(seen, len(r.lines))...)
}

func (r *reader) status() term.Line { return nil }

func (r *reader) remark() term.Line { return term.Text(term.Dim, "You are only reading.") }

// lead is the number of lines shown above a change.
const lead = 3

// here returns the line of the present change, or the first visible line.
func (r *reader) here() int {
	if at := r.scroll.At(); at > 0 {
		return at + lead
	}
	return r.scroll.At()
}

func (r *reader) changeStarts(i int) bool {
	changed := func(i int) bool { return r.lines[i].Origin != plan.LineBase }
	return changed(i) && (i == 0 || !changed(i-1))
}

// seek goes to the first run of changed lines from a line on, down or up.
func (r *reader) seek(from, step int) {
	for i := min(from, len(r.lines)); i < len(r.lines) && i >= 0; i += step {
		if r.changeStarts(i) {
			r.scroll.To(i - lead)
			return
		}
	}
}
