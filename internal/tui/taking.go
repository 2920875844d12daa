package tui

import (
	"fmt"
	"strings"

	tea "charm.land/bubbletea/v2"

	"dorvik.dev/dorvik/internal/core/merge"
	"dorvik.dev/dorvik/internal/core/settle"
	"dorvik.dev/dorvik/internal/tui/keys"
	"dorvik.dev/dorvik/internal/tui/term"
	"dorvik.dev/dorvik/internal/words"
)

// taking shows the single edits of both sides, each of which can be on or off, beside the result.
type taking struct {
	frame        *frame
	board        *settle.Board
	title        term.Line // place of the conflict
	right        term.Line // the right end of the first row
	keep         func(text string) tea.Cmd
	write        func(text string) tea.Cmd // continues in the editor; nil if impossible
	keeps        string                    // label of the key that keeps the result
	first        int                       // first line number of the result,
	from         int                       // and of the base
	above, below []string                  // lines around it in the file

	at      int // marked switch
	start   string
	drawn   *drawnResult // nil after an edit was taken or left
	list    term.Scroll
	result  term.Scroll
	leaving bool
}

func (t *taking) actions() []action {
	move := func(by int) tea.Cmd { t.move(by); return nil }
	out := []action{acts(keys.Next, t.keeps, t.keepIt)}
	if len(t.board.Switches) > 0 {
		out = append(out, act(keys.Take, words.If(t.board.Switches[t.at].On, "leave this edit", "take this edit"),
			quietly(t.toggle)))
	}
	out = append(out, rowKeys("edit", len(t.board.Switches), t.list.Room(), move)...)
	if t.board.CanMove(t.at, -1) || t.board.CanMove(t.at, 1) {
		out = append(out, act(keys.Written(keys.Left, "←→", "earlier, later"), "earlier, later",
			quietly(func() { t.shift(-1) })),
			also(keys.Right, quietly(func() { t.shift(1) })))
	}
	all := keys.Written(keys.Digits[1], "1–4", "all of yours, of theirs, both, none")
	out = append(out, action{all, quietly(func() { t.all(true, false) }), false},
		also(keys.Digits[2], quietly(func() { t.all(false, true) })),
		also(keys.Digits[3], quietly(func() { t.all(true, true) })),
		also(keys.Digits[4], quietly(func() { t.all(false, false) })))
	if t.write != nil {
		out = append(out, acts(keys.Write, "write on", func() tea.Cmd {
			t.frame.close()
			return t.write(t.board.Text())
		}))
	}
	return append(out, act(keys.Back, "", t.leaveIt))
}

// show opens it at the first independent edit.
func (t *taking) show() {
	if len(t.board.Switches) > 0 && t.board.Switches[0].Minor {
		t.move(1)
	}
	t.frame.open(t)
}

// move goes some edits down or up, past those that belong to others.
func (t *taking) move(by int) {
	t.leaving = false
	step := 1
	if by < 0 {
		step, by = -1, -by
	}
	for to := t.at + step; by > 0 && to >= 0 && to < len(t.board.Switches); to += step {
		if !t.board.Switches[to].Minor {
			t.at = to
			by--
		}
	}
}

func (t *taking) shift(by int) { t.at, t.leaving, t.drawn = t.board.Move(t.at, by), false, nil }

func (t *taking) toggle() {
	t.leaving, t.drawn = false, nil
	t.board.Toggle(t.at)
}

func (t *taking) all(yours, theirs bool) {
	t.leaving, t.drawn = false, nil
	t.board.Take(yours, theirs)
}

func (t *taking) keepIt() tea.Cmd {
	t.frame.close()
	return t.keep(t.board.Text())
}

func (t *taking) leaveIt() tea.Cmd {
	if t.board.Text() != t.start && !t.leaving {
		t.leaving = true
		t.frame.flash = term.Text(term.Plain, "Press esc again to leave it as it was, or enter to keep what you took.")
		return nil
	}
	t.frame.close()
	return nil
}

// clickedSwitch is a click on an edit.
type clickedSwitch int

func (t *taking) update(msg tea.Msg) tea.Cmd {
	switch msg := msg.(type) {
	case clickedSwitch:
		if t.at == int(msg) {
			t.toggle()
		}
		t.at = int(msg)
	case tea.MouseWheelMsg:
		t.move(wheeled(msg))
	}
	return nil
}

func (t *taking) status() term.Line { return t.right }

func (t *taking) remark() term.Line {
	on := 0
	of := 0
	for _, s := range t.board.Switches {
		if s.On && !s.Minor {
			on++
		}
		if !s.Minor {
			of++
		}
	}
	return term.Text(term.Dim,
		fmt.Sprintf("%d of %s taken: t takes or leaves the marked one. Nothing on disk changes yet.", on,
			words.Count(of, "edit", "edits")))
}

func (t *taking) view(w, h int) term.Page {
	p := term.Page{t.title.Cut(w)}
	if w >= wide {
		half := (w - 3) / 2
		room := h - len(p)
		left := t.edits(half, room)
		return append(p, term.Beside(left, t.outcome(w-half-3, room), half, w, room)...)
	}
	room := h - len(p) - 1
	list := t.edits(w, room*3/5)
	p.Rows(list)
	p.Row(term.Rule(w))
	return append(p, t.outcome(w, h-len(p))...)
}

// edits lists the edits below the lines that they change. Lines far from any are folded.
func (t *taking) edits(w, h int) term.Page {
	const around = 1
	head := term.Text(term.Plain, " ").Then(term.Heading("SINGLE EDITS")).Add(term.Dim, "  "+joinedSigns)
	b := t.board
	near := make([]bool, len(b.Base))
	for _, s := range b.Switches {
		for i := max(0, s.Line-around); i <= min(s.Line+around, len(b.Base)-1); i++ {
			near[i] = true
		}
	}
	var rows term.Page
	cursor, k := 0, 0
	put := func() {
		if k == t.at {
			cursor = len(rows)
		}
		if !b.Switches[k].Minor {
			rows.Row(t.editRow(k, w))
		}
		k++
	}
	for i := 0; i <= len(b.Base); i++ {
		for k < len(b.Switches) && b.Switches[k].Line == i && !b.Switches[k].Within && b.Switches[k].New != "" {
			put()
		}
		if i == len(b.Base) {
			break
		}
		from := i
		for i < len(b.Base) && !near[i] {
			i++
		}
		if i > from {
			rows.Row(term.Text(term.Faint, fmt.Sprintf("        … %s as before", words.Count(i-from, "line", "lines"))))
			i--
			continue
		}
		goes := k < len(b.Switches) && b.Switches[k].Line == i && b.Switches[k].New == "" && !b.Switches[k].Within
		if !goes {
			rows.Row(term.Text(term.Faint, fmt.Sprintf("%6d  ", i+t.from)).Add(term.Dim,
				strings.TrimRight(b.Base[i], "\r\n")).Cut(w))
		}
		for k < len(b.Switches) && b.Switches[k].Line == i {
			put()
		}
	}
	if len(b.Switches) == 0 {
		rows.Row(term.Text(term.Dim, "      Neither side changed anything here."))
	}
	t.list.Size(len(rows), h-1)
	t.list.Show(cursor)
	seen := append(term.Page(nil), rows[t.list.At():min(len(rows), t.list.At()+h-1)]...)
	return append(term.Page{head.Cut(w)}, t.list.Edges(seen, len(rows))...)
}

// joinedSigns explains how the result's lines are marked.
const joinedSigns = "● is in the result"

// editRow draws one edit.
func (t *taking) editRow(k, w int) term.Line {
	s := t.board.Switches[k]
	m := map[merge.Origin]term.Mark{merge.FromYours: term.MarkYours, merge.FromTheirs: term.MarkTheirs,
		merge.FromBoth: term.MarkJoined}[s.Side]
	l := term.Text(term.Bright, words.If(k == t.at, " ▶ ", "   "))
	if s.On {
		l = l.Mark(term.MarkJoined)
	} else {
		l = l.Add(term.Dim, "· ")
	}
	l = l.Add(m.Hue, m.Sign+" ")
	trim := func(s string) string { return strings.TrimRight(s, "\r\n") }
	text := term.Ink{Hue: m.Hue, Bold: s.On}
	switch {
	case s.Within && s.New == "":
		l = l.Add(m.Hue, "  − ").Put(text, trim(s.Old))
	case s.Within && s.Old == "":
		l = l.Add(m.Hue, "  + ").Put(text, trim(s.New))
	case s.Within:
		l = l.Add(term.Plain, "    ").Put(term.Ink{Hue: term.Dim, Strike: t.frame.theme.Colour},
			trim(s.Old)).Add(term.Dim, " › ").
			Put(text, trim(s.New))
	case s.New != "":
		l = l.Add(m.Hue, "+ ").Put(text, trim(s.New))
	default:
		l = l.Add(m.Hue, "− ").Put(text, trim(s.Old))
	}
	if k == t.at {
		l = l.Fit(w).On(term.OnRow)
	}
	return l.Cut(w).Clicks(clickedSwitch(k))
}

// drawnResult caches the drawn result until an edit is switched.
type drawnResult struct {
	text  string
	rows  term.Page   // rows without line numbers
	marks []term.Mark // origin of each row
	at    map[int]int // by switch: its row
	base  map[int]int // by line of the base: its row
}

// drawResult draws the result, once per change.
func (t *taking) drawResult() *drawnResult {
	d := &drawnResult{at: map[int]int{}, base: map[int]int{}}
	var text strings.Builder
	row, by := term.Line{}, map[merge.Origin]bool{}
	flush := func() {
		m := term.MarkNone
		switch y, o := by[merge.FromYours], by[merge.FromTheirs]; {
		case by[merge.FromBoth], y && o:
			m = term.MarkJoined
		case y:
			m = term.MarkYours
		case o:
			m = term.MarkTheirs
		}
		d.rows, d.marks = append(d.rows, row), append(d.marks, m)
		row = term.Line{}
		clear(by)
	}
	hues := map[merge.Origin]term.Hue{merge.FromYours: term.Yours, merge.FromTheirs: term.Theirs,
		merge.FromBoth: term.Joined}
	for _, f := range t.board.Fragments() {
		text.WriteString(f.Text)
		k := term.Ink{Hue: term.Plain}
		if f.Origin == merge.FromBase {
			d.base[f.Of] = len(d.rows)
		} else {
			k = term.Ink{Hue: hues[f.Origin], Bold: true}
			d.at[f.Of] = len(d.rows)
		}
		for part := range strings.Lines(f.Text) {
			by[f.Origin] = true
			if row = row.Put(k, strings.TrimRight(part, "\r\n")); strings.HasSuffix(part, "\n") {
				flush()
			}
		}
	}
	if len(row) > 0 {
		flush()
	}
	d.text = text.String()
	return d
}

// focus returns the row of the result that the marked edit changes.
func (t *taking) focus(d *drawnResult) int {
	if len(t.board.Switches) == 0 {
		return 0
	}
	if row, ok := d.at[t.at]; ok {
		return row
	}
	for l := t.board.Switches[t.at].Line; l >= 0; l-- {
		if row, ok := d.base[l]; ok {
			return row
		}
	}
	return 0
}

// outcome draws the result with the origin of each piece.
func (t *taking) outcome(w, h int) term.Page {
	if t.drawn == nil {
		t.drawn = t.drawResult()
	}
	d := t.drawn
	n := len(d.rows)
	head := term.Text(term.Plain, " ").Bold(term.Joined, "RESULT").Add(term.Dim,
		"  "+words.If(n == 0, "no line is left here",
			words.Count(n, "line", "lines")))
	all := len(t.above) + n + len(t.below)
	t.result.Size(all, h-1)
	t.result.Around(len(t.above) + t.focus(d))
	var seen term.Page
	for i := t.result.At(); i < min(all, t.result.At()+h-1); i++ {
		l := term.Text(term.Faint, fmt.Sprintf("%6d ", t.first-len(t.above)+i))
		switch k := i - len(t.above); {
		case k < 0:
			l = l.Mark(term.MarkNone).Add(term.Dim, strings.TrimRight(t.above[i], "\r\n"))
		case k < n:
			l = l.Mark(d.marks[k]).Then(d.rows[k])
		default:
			l = l.Mark(term.MarkNone).Add(term.Dim, strings.TrimRight(t.below[k-n], "\r\n"))
		}
		seen.Row(l.Cut(w))
	}
	return append(term.Page{head.Cut(w)}, t.result.Edges(seen, all)...)
}
