package term

import (
	"fmt"
	"slices"
	"strings"
	"unicode"
	"unicode/utf8"

	"charm.land/bubbles/v2/key"
	tea "charm.land/bubbletea/v2"
	"github.com/charmbracelet/x/ansi"

	"dorvik.dev/dorvik/internal/tui/keys"
	"dorvik.dev/dorvik/internal/visible"
)

// Editor edits a text in place. It keeps every byte that is not edited, including tabs, line ends and invalid UTF-8; a
// text area made for prose does not. The cursor moves by graphemes.
type Editor struct {
	Lines    []string
	Invalid  bool // the text is not UTF-8 and cannot be written back
	Row, Col int  // cursor: the line, from 0, and bytes in it
	first    int  // number of the first line
	scroll   Scroll
	Changes  []typed // edits; those from at on were undone
	At       int

	anchor *[2]int // other end of the selection; nil for none
	cut    string  // last text cut or copied
	Sought string  // what was looked for last
}

// typed records an edit: the lines before and after, and the cursor before and after.
type typed struct {
	row           int
	from, to      []string
	before, after [2]int
	typed         bool // a typed letter: further ones are undone with it
}

// NewEditor returns an editor of a text whose first line has the number firstLine.
func NewEditor(text string, firstLine int) *Editor {
	return &Editor{first: firstLine, Invalid: !utf8.ValidString(text), Lines: strings.Split(text, "\n")}
}

// Text returns the text as it is now.
func (e *Editor) Text() string { return strings.Join(e.Lines, "\n") }

// Dirty reports whether the text has been edited.
func (e *Editor) Dirty() bool { return e.At > 0 }

// GoTo moves the cursor to a line and a byte column, both from 1.
func (e *Editor) GoTo(lineNo, col int) {
	e.Row = max(0, min(lineNo-1, len(e.Lines)-1))
	e.Col = e.whole(max(0, col-1))
}

// whole returns the start of the grapheme that contains a byte of the cursor's line.
func (e *Editor) whole(col int) int {
	at := 0
	for at < e.end() {
		n := len(Grapheme(e.Lines[e.Row][at:]))
		if at+n > col {
			break
		}
		at += n
	}
	return at
}

// Grapheme returns the first grapheme of s, or "".
func Grapheme(s string) string {
	g, _ := ansi.FirstGraphemeCluster(s, ansi.GraphemeWidth)
	return g
}

// lastGrapheme returns the last grapheme of s, or "".
func lastGrapheme(s string) (g string) {
	for s != "" {
		g = Grapheme(s)
		s = s[len(g):]
	}
	return g
}

// end returns the last column of the cursor's line. A carriage return belongs to the line's end.
func (e *Editor) end() int { return len(strings.TrimSuffix(e.Lines[e.Row], "\r")) }

// selection returns the start and the end of the selected text. ok is false if nothing is selected.
func (e *Editor) selection() (from, to [2]int, ok bool) {
	if e.anchor == nil {
		return from, to, false
	}
	from, to = *e.anchor, [2]int{e.Row, e.Col}
	if from[0] > to[0] || from[0] == to[0] && from[1] > to[1] {
		from, to = to, from
	}
	return from, to, from != to
}

// selected returns the selected text.
func (e *Editor) selected() string {
	from, to, ok := e.selection()
	if !ok {
		return ""
	}
	if from[0] == to[0] {
		return e.Lines[from[0]][from[1]:to[1]]
	}
	out := append([]string{e.Lines[from[0]][from[1]:]}, e.Lines[from[0]+1:to[0]]...)
	return strings.Join(append(out, e.Lines[to[0]][:to[1]]), "\n")
}

// erase deletes the selected text as one edit. It reports whether anything was selected.
func (e *Editor) erase() bool {
	from, to, ok := e.selection()
	e.anchor = nil
	if ok {
		joined := e.Lines[from[0]][:from[1]] + e.Lines[to[0]][to[1]:]
		e.replace(from[0], to[0]-from[0]+1, []string{joined}, from[0], from[1])
	}
	return ok
}

// selecting returns a function that moves the cursor and extends the selection.
func (e *Editor) selecting(move func()) func() {
	return func() {
		if e.anchor == nil {
			e.anchor = &[2]int{e.Row, e.Col}
		}
		move()
	}
}

// moving returns a function that moves the cursor and ends the selection.
func (e *Editor) moving(move func()) func() {
	return func() { e.anchor = nil; move() }
}

// copyOut copies the selected text, or else the cursor's line. It deletes what it copied if taken is set.
func (e *Editor) copyOut(taken bool) {
	if _, _, ok := e.selection(); !ok {
		e.anchor, e.Col = &[2]int{e.Row, 0}, e.end()
		if e.Row+1 < len(e.Lines) {
			e.Row, e.Col = e.Row+1, 0
		}
	}
	e.cut = strings.ReplaceAll(e.selected(), "\r\n", "\n")
	if taken {
		e.erase()
	}
}

// Seek selects the next occurrence of text after the cursor and wraps around at the end. Lower-case letters match both
// cases. ok is false if there is none.
func (e *Editor) Seek(text string) (ok bool) {
	if e.Sought = text; text == "" {
		return false
	}
	find := func(line string, from int) int {
		in := line[from:]
		if text == strings.ToLower(text) {
			if lower := strings.ToLower(in); len(lower) == len(in) {
				in = lower
			}
		}
		if i := strings.Index(in, text); i >= 0 {
			return from + i
		}
		return -1
	}
	for i := range len(e.Lines) + 1 {
		row, from := (e.Row+i)%len(e.Lines), 0
		if i == 0 {
			from = e.Col
		}
		if at := find(e.Lines[row], from); at >= 0 {
			e.Row, e.Col, e.anchor = row, at+len(text), &[2]int{row, at}
			return true
		}
	}
	return false
}

// ReplaceAll replaces every occurrence of old as one edit and returns their number.
func (e *Editor) ReplaceAll(old, text string) (n int) {
	all := e.Text()
	if n = strings.Count(all, old); n == 0 || old == "" {
		return 0
	}
	to := strings.Split(strings.ReplaceAll(all, old, text), "\n")
	row := min(e.Row, len(to)-1)
	e.anchor = nil
	e.replace(0, len(e.Lines), to, row, min(e.Col, len(to[row])))
	e.Col = e.whole(e.Col)
	return n
}

// brackets lists the pairs of brackets, the opening one first.
var brackets = []string{"()", "[]", "{}"}

// match moves the cursor to the bracket that matches the one at or before it. ok is false if there is none.
func (e *Editor) match() (ok bool) {
	for _, at := range []int{e.Col, e.Col - 1} {
		if at < 0 || at >= len(e.Lines[e.Row]) {
			continue
		}
		for _, pair := range brackets {
			switch e.Lines[e.Row][at] {
			case pair[0]:
				return e.matchFrom(e.Row, at, pair[0], pair[1], 1)
			case pair[1]:
				return e.matchFrom(e.Row, at, pair[1], pair[0], -1)
			}
		}
	}
	return false
}

// matchFrom searches forward or backward from a bracket for its counterpart.
func (e *Editor) matchFrom(row, at int, one, other byte, step int) bool {
	for depth := 0; row >= 0 && row < len(e.Lines); {
		for ; at >= 0 && at < len(e.Lines[row]); at += step {
			switch e.Lines[row][at] {
			case one:
				depth++
			case other:
				depth--
			}
			if depth == 0 {
				e.Row, e.Col, e.anchor = row, at, nil
				return true
			}
		}
		if row += step; step > 0 {
			at = 0
		} else if row >= 0 {
			at = len(e.Lines[row]) - 1
		}
	}
	return false
}

// Become replaces the whole text as one edit. The cursor goes to the first difference.
func (e *Editor) Become(text string) {
	to := strings.Split(text, "\n")
	row := 0
	for row < min(len(to), len(e.Lines))-1 && to[row] == e.Lines[row] {
		row++
	}
	e.anchor = nil
	e.replace(0, len(e.Lines), to, row, 0)
}

// replace replaces n lines from a row on, and moves the cursor.
func (e *Editor) replace(row, n int, to []string, cursorRow, cursorCol int) {
	c := typed{row: row, from: slices.Clone(e.Lines[row : row+n]), to: to,
		before: [2]int{e.Row, e.Col}, after: [2]int{cursorRow, cursorCol}}
	e.Changes = append(e.Changes[:e.At:e.At], c)
	e.At++
	e.Lines = slices.Replace(e.Lines, row, row+n, to...)
	e.Row, e.Col = cursorRow, cursorCol
}

// Undo takes the last edit back.
func (e *Editor) Undo() {
	e.anchor = nil
	if e.At == 0 {
		return
	}
	e.At--
	c := e.Changes[e.At]
	e.Lines = slices.Replace(e.Lines, c.row, c.row+len(c.to), c.from...)
	e.Row, e.Col = c.before[0], c.before[1]
}

// Redo makes the last edit again that Undo took back.
func (e *Editor) Redo() {
	if e.At == len(e.Changes) {
		return
	}
	c := e.Changes[e.At]
	e.At++
	e.Lines = slices.Replace(e.Lines, c.row, c.row+len(c.from), c.to...)
	e.Row, e.Col = c.after[0], c.after[1]
}

// Insert inserts text of any number of lines at the cursor.
func (e *Editor) Insert(s string) {
	if e.erase(); s == "" {
		return
	}
	l := e.Lines[e.Row]
	to := strings.Split(s, "\n")
	if len(to) > 1 && e.end() < len(l) { // keep the line ends of the file
		for i := range to[:len(to)-1] {
			to[i] += "\r"
		}
	}
	last := len(to) - 1
	col := len(to[last])
	if last == 0 {
		col += e.Col
	}
	to[0] = l[:e.Col] + to[0]
	to[last] += l[e.Col:]
	e.replace(e.Row, 1, to, e.Row+last, col)
}

// Before returns the part of the cursor's line that is before the cursor.
func (e *Editor) Before() string { return e.Lines[e.Row][:e.Col] }

// typed inserts what one key types. Letters typed in a row are one edit.
func (e *Editor) typed(s string) {
	e.erase()
	n := e.At
	e.Insert(s)
	now := &e.Changes[e.At-1]
	now.typed = true
	if n == 0 || unicode.IsSpace(rune(s[0])) {
		return
	}
	if last := &e.Changes[n-1]; last.typed && last.after == now.before && len(last.to) == 1 && len(now.to) == 1 {
		last.to, last.after = now.to, now.after
		e.Changes, e.At = e.Changes[:n], n
	}
}

func (e *Editor) newline() {
	l := e.Lines[e.Row][:e.Col]
	e.Insert("\n" + l[:len(l)-len(strings.TrimLeft(l, " \t"))])
}

func (e *Editor) backspace() {
	if e.erase() {
		return
	}
	l := e.Lines[e.Row]
	switch {
	case e.Col > 0:
		n := len(lastGrapheme(l[:e.Col]))
		e.replace(e.Row, 1, []string{l[:e.Col-n] + l[e.Col:]}, e.Row, e.Col-n)
	case e.Row > 0:
		above := strings.TrimSuffix(e.Lines[e.Row-1], "\r")
		e.replace(e.Row-1, 2, []string{above + l}, e.Row-1, len(above))
	}
}

func (e *Editor) deleteRight() {
	if e.erase() {
		return
	}
	if row, col := e.Row, e.Col; e.right() && (row != e.Row || col != e.Col) {
		e.backspace()
	}
}

// DeleteLine deletes the cursor's line as one edit.
func (e *Editor) DeleteLine() {
	e.anchor = nil
	if len(e.Lines) == 1 {
		e.replace(0, 1, []string{""}, 0, 0)
		return
	}
	e.replace(e.Row, 1, nil, min(e.Row, len(e.Lines)-2), 0)
}

// left moves one grapheme to the left. It returns false at the start of the text.
func (e *Editor) left() bool {
	switch {
	case e.Col > 0:
		e.Col -= len(lastGrapheme(e.Lines[e.Row][:e.Col]))
	case e.Row > 0:
		e.Row--
		e.Col = e.end()
	default:
		return false
	}
	return true
}

// right moves one grapheme to the right. It returns false at the end of the text.
func (e *Editor) right() bool {
	switch {
	case e.Col < e.end():
		e.Col += len(Grapheme(e.Lines[e.Row][e.Col:]))
	case e.Row+1 < len(e.Lines):
		e.Row, e.Col = e.Row+1, 0
	default:
		return false
	}
	return true
}

// word moves to the end of the word beside the cursor, within the line.
func (e *Editor) word(step func() bool, char func() string) {
	row := e.Row
	for _, inWord := range []bool{false, true} {
		for char() != "" && wordly(char()) == inWord {
			step()
		}
	}
	e.Row = row
}

func wordly(s string) bool {
	r, _ := utf8.DecodeRuneInString(s)
	return r == '_' || unicode.IsLetter(r) || unicode.IsDigit(r)
}

func (e *Editor) charLeft() string { return lastGrapheme(e.Lines[e.Row][:e.Col]) }

func (e *Editor) charRight() string { return Grapheme(e.Lines[e.Row][e.Col:e.end()]) }

// indent inserts a tab, or puts a tab before each selected line.
func (e *Editor) indent() {
	from, to, ok := e.selection()
	if !ok || from[0] == to[0] {
		e.typed("\t")
		return
	}
	e.reindent(from[0], to[0], func(l string) string {
		if strings.TrimSpace(l) == "" {
			return l
		}
		return "\t" + l
	})
}

// unindent removes a tab, or up to four spaces, from the start of the line or of each selected line.
func (e *Editor) unindent() {
	from, to, ok := e.selection()
	if !ok {
		from, to = [2]int{e.Row, 0}, [2]int{e.Row, 0}
	}
	e.reindent(from[0], to[0], func(l string) string {
		if s, ok := strings.CutPrefix(l, "\t"); ok {
			return s
		}
		return l[min(4, len(l)-len(strings.TrimLeft(l, " "))):]
	})
}

// reindent changes lines as one edit and keeps them selected.
func (e *Editor) reindent(from, to int, change func(l string) string) {
	var lines []string
	for _, l := range e.Lines[from : to+1] {
		lines = append(lines, change(l))
	}
	anchor := e.anchor != nil
	e.replace(from, len(lines), lines, to, len(strings.TrimSuffix(lines[len(lines)-1], "\r")))
	if e.anchor = nil; anchor {
		e.anchor = &[2]int{from, 0}
	}
}

// vertical moves n lines down, or up if n is negative, and keeps the screen column.
func (e *Editor) vertical(n int) {
	cells := ansi.StringWidth(visible.Line(e.Lines[e.Row][:e.Col]))
	e.Row = max(0, min(len(e.Lines)-1, e.Row+n))
	e.Col = 0
	for e.Col < e.end() && ansi.StringWidth(visible.Line(e.Lines[e.Row][:e.Col])) < cells {
		e.Col += len(Grapheme(e.Lines[e.Row][e.Col:]))
	}
}

// Key edits the text or moves the cursor by a key.
func (e *Editor) Key(k tea.KeyPressMsg) {
	for _, b := range []struct {
		key.Binding
		do func()
	}{
		{keys.CursorLeft, e.moving(func() { e.left() })}, {keys.CursorRight, e.moving(func() { e.right() })},
		{keys.SelectLeft, e.selecting(func() { e.left() })}, {keys.SelectRight, e.selecting(func() { e.right() })},
		{keys.Up, e.moving(func() { e.vertical(-1) })}, {keys.Down, e.moving(func() { e.vertical(1) })},
		{keys.SelectUp, e.selecting(func() { e.vertical(-1) })}, {keys.SelectDown,
			e.selecting(func() { e.vertical(1) })},
		{keys.PageUp, e.moving(func() { e.vertical(-e.scroll.Room()) })},
		{keys.PageDownOnly, e.moving(func() { e.vertical(e.scroll.Room()) })},
		{keys.LineStart, e.moving(func() { e.Col = 0 })}, {keys.LineEnd, e.moving(func() { e.Col = e.end() })},
		{keys.WordLeft, e.moving(func() { e.word(e.left, e.charLeft) })},
		{keys.WordRight, e.moving(func() { e.word(e.right, e.charRight) })},
		{keys.SelectWordLeft, e.selecting(func() { e.word(e.left, e.charLeft) })},
		{keys.SelectWordRight, e.selecting(func() { e.word(e.right, e.charRight) })},
		{keys.TextStart, e.moving(func() { e.Row, e.Col = 0, 0 })},
		{keys.TextEnd, e.moving(func() { e.Row = len(e.Lines) - 1; e.Col = e.end() })},
		{keys.Newline, e.newline}, {keys.Indent, e.indent}, {keys.Unindent, e.unindent},
		{keys.Backspace, e.backspace}, {keys.DeleteRight, e.deleteRight},
		{keys.CutOut, func() { e.copyOut(true) }}, {keys.CopyOut, func() { e.copyOut(false) }},
		{keys.PutIn, func() { e.Insert(e.cut) }}, {keys.Bracket, func() { e.match() }},
	} {
		if key.Matches(k, b.Binding) {
			b.do()
			return
		}
	}
	if text := k.Key().Text; text != "" {
		e.typed(text)
	}
}

// lineEnds replaces the line ends of pasted text, which are carriage returns in many terminals.
var lineEnds = strings.NewReplacer("\r\n", "\n", "\r", "\n")

// Paste inserts pasted text.
func (e *Editor) Paste(s string) { e.Insert(lineEnds.Replace(s)) }

// View draws the lines around the cursor.
func (e *Editor) View(width, height int) Page {
	e.scroll.Size(len(e.Lines), height)
	e.scroll.Show(e.Row)
	digits := max(4, len(fmt.Sprint(e.first+len(e.Lines)))+1)
	var out Page
	for i := e.scroll.At(); i < len(e.Lines) && len(out) < height; i++ {
		row := Text(Faint, fmt.Sprintf("%*d  ", digits, e.first+i))
		if lo, hi, ok := e.selectedIn(i); ok {
			l := e.Lines[i]
			row = row.Add(Plain, l[:lo]).Put(Ink{Hue: Plain, Invert: true}, l[lo:hi]).Add(Plain, l[hi:])
			out.Row(row.Cut(width))
			continue
		}
		if i != e.Row {
			out.Row(row.Add(Plain, e.Lines[i]).Cut(width))
			continue
		}
		out.Row(row.Then(e.cursorLine(width - digits - 2)).Fit(width).On(OnRow))
	}
	return out
}

// selectedIn returns the selected byte range of a line.
func (e *Editor) selectedIn(row int) (lo, hi int, ok bool) {
	from, to, ok := e.selection()
	if !ok || row < from[0] || row > to[0] {
		return 0, 0, false
	}
	if hi = len(e.Lines[row]); row == to[0] {
		hi = to[1]
	}
	if row == from[0] {
		lo = from[1]
	}
	return lo, hi, lo < hi
}

// cursorLine draws the cursor's line. It scrolls a long line so that the cursor stays visible.
func (e *Editor) cursorLine(room int) Line {
	l := e.Lines[e.Row]
	before, under, after := visible.Line(l[:e.Col]), " ", ""
	if e.Col < e.end() {
		under = Grapheme(l[e.Col:])
		after = l[e.Col+len(under):]
		if under == "\t" {
			under = strings.Repeat(" ", 4-ansi.StringWidth(before)%4)
		}
	}
	if w := ansi.StringWidth(before); w > room-8 {
		before = "…" + ansi.TruncateLeft(before, w-room+9, "")
	}
	return Text(Plain, before).Put(Ink{Hue: Bright, Invert: true}, under).Add(Plain, after)
}
