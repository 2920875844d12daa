package tui

import (
	"fmt"
	"slices"
	"strings"
	"unicode"
	"unicode/utf8"

	tea "charm.land/bubbletea/v2"

	"charm.land/bubbles/v2/key"
	"github.com/charmbracelet/x/ansi"

	"dorvik.dev/dorvik/internal/visible"
)

// editor edits a text in place. It keeps every byte it is not told to change: tabs, line
// ends and broken encoding stay as they are, which is why it is not a text area of a
// library, made for prose. The cursor goes by graphemes, as people see characters.
type editor struct {
	lines    []string
	invalid  bool // the text is not UTF-8 and so cannot be written back
	row, col int  // col in bytes
	first    int  // number of the first line
	scroll   scroll
	changes  []typed // those after at were undone
	at       int

	anchor *[2]int // the other end of what is selected; nil for nothing
	cut    string  // what was cut or copied last
	sought string  // what was looked for last
}

// typed is lines of the text that became others, and where the cursor was before and after.
type typed struct {
	row           int
	from, to      []string
	before, after [2]int
	typed         bool // by a letter: what is typed on is undone with it
}

func newEditor(text string, firstLine int) *editor {
	return &editor{first: firstLine, invalid: !utf8.ValidString(text), lines: strings.Split(text, "\n")}
}

func (e *editor) text() string { return strings.Join(e.lines, "\n") }

// dirty reports whether the text is not what it was.
func (e *editor) dirty() bool { return e.at > 0 }

// goTo puts the cursor at a line (from 1) and a byte column (from 1).
func (e *editor) goTo(lineNo, col int) {
	e.row = max(0, min(lineNo-1, len(e.lines)-1))
	e.col = e.whole(max(0, col-1))
}

// whole is the start of the grapheme of the cursor's line that holds a byte.
func (e *editor) whole(col int) int {
	at := 0
	for at < e.end() {
		n := len(grapheme(e.lines[e.row][at:]))
		if at+n > col {
			break
		}
		at += n
	}
	return at
}

// grapheme is the first character of a text, as people see it.
func grapheme(s string) string {
	g, _ := ansi.FirstGraphemeCluster(s, ansi.GraphemeWidth)
	return g
}

// lastGrapheme is the last character of a text.
func lastGrapheme(s string) (g string) {
	for s != "" {
		g = grapheme(s)
		s = s[len(g):]
	}
	return g
}

// end is the last place of a line a cursor can be; a carriage return is part
// of the line's end.
func (e *editor) end() int { return len(strings.TrimSuffix(e.lines[e.row], "\r")) }

// selection is what is selected, from its start to its end; ok is false for nothing.
func (e *editor) selection() (from, to [2]int, ok bool) {
	if e.anchor == nil {
		return from, to, false
	}
	from, to = *e.anchor, [2]int{e.row, e.col}
	if from[0] > to[0] || from[0] == to[0] && from[1] > to[1] {
		from, to = to, from
	}
	return from, to, from != to
}

// selected is the text that is selected.
func (e *editor) selected() string {
	from, to, ok := e.selection()
	if !ok {
		return ""
	}
	if from[0] == to[0] {
		return e.lines[from[0]][from[1]:to[1]]
	}
	out := append([]string{e.lines[from[0]][from[1]:]}, e.lines[from[0]+1:to[0]]...)
	return strings.Join(append(out, e.lines[to[0]][:to[1]]), "\n")
}

// erase takes out what is selected, as one change; it reports whether there was anything.
func (e *editor) erase() bool {
	from, to, ok := e.selection()
	e.anchor = nil
	if ok {
		joined := e.lines[from[0]][:from[1]] + e.lines[to[0]][to[1]:]
		e.replace(from[0], to[0]-from[0]+1, []string{joined}, from[0], from[1])
	}
	return ok
}

// selecting does a move and has what it passes over be selected.
func (e *editor) selecting(move func()) func() {
	return func() {
		if e.anchor == nil {
			e.anchor = &[2]int{e.row, e.col}
		}
		move()
	}
}

// moving does a move, after which nothing is selected.
func (e *editor) moving(move func()) func() {
	return func() { e.anchor = nil; move() }
}

// copyOut keeps what is selected, or else the line, to be put in elsewhere; taken takes it out, too.
func (e *editor) copyOut(taken bool) {
	if _, _, ok := e.selection(); !ok {
		e.anchor, e.col = &[2]int{e.row, 0}, e.end()
		if e.row+1 < len(e.lines) {
			e.row, e.col = e.row+1, 0
		}
	}
	e.cut = strings.ReplaceAll(e.selected(), "\r\n", "\n")
	if taken {
		e.erase()
	}
}

// seek goes to the next place of a text after the cursor, going round, and selects it; ok is false where it is
// nowhere. Small letters stand for both.
func (e *editor) seek(text string) (ok bool) {
	if e.sought = text; text == "" {
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
	for i := range len(e.lines) + 1 {
		row, from := (e.row+i)%len(e.lines), 0
		if i == 0 {
			from = e.col
		}
		if at := find(e.lines[row], from); at >= 0 {
			e.row, e.col, e.anchor = row, at+len(text), &[2]int{row, at}
			return true
		}
	}
	return false
}

// replaceAll makes another text of one wherever it is, as one change, and says in how many places.
func (e *editor) replaceAll(old, text string) (n int) {
	all := e.text()
	if n = strings.Count(all, old); n == 0 || old == "" {
		return 0
	}
	to := strings.Split(strings.ReplaceAll(all, old, text), "\n")
	row := min(e.row, len(to)-1)
	e.anchor = nil
	e.replace(0, len(e.lines), to, row, min(e.col, len(to[row])))
	e.col = e.whole(e.col)
	return n
}

// brackets are those that belong together, the opening one first.
var brackets = []string{"()", "[]", "{}"}

// match goes to the bracket that belongs to the one under the cursor, or before it; ok is false where there is none.
func (e *editor) match() (ok bool) {
	for _, at := range []int{e.col, e.col - 1} {
		if at < 0 || at >= len(e.lines[e.row]) {
			continue
		}
		for _, pair := range brackets {
			switch e.lines[e.row][at] {
			case pair[0]:
				return e.matchFrom(e.row, at, pair[0], pair[1], 1)
			case pair[1]:
				return e.matchFrom(e.row, at, pair[1], pair[0], -1)
			}
		}
	}
	return false
}

// matchFrom goes from a bracket on, or back, to the one that it belongs to.
func (e *editor) matchFrom(row, at int, one, other byte, step int) bool {
	for depth := 0; row >= 0 && row < len(e.lines); {
		for ; at >= 0 && at < len(e.lines[row]); at += step {
			switch e.lines[row][at] {
			case one:
				depth++
			case other:
				depth--
			}
			if depth == 0 {
				e.row, e.col, e.anchor = row, at, nil
				return true
			}
		}
		if row += step; step > 0 {
			at = 0
		} else if row >= 0 {
			at = len(e.lines[row]) - 1
		}
	}
	return false
}

// become has the editor hold another text, as one change, with the cursor where that begins to differ.
func (e *editor) become(text string) {
	to := strings.Split(text, "\n")
	row := 0
	for row < min(len(to), len(e.lines))-1 && to[row] == e.lines[row] {
		row++
	}
	e.anchor = nil
	e.replace(0, len(e.lines), to, row, 0)
}

// replace makes n lines from a row on others, and puts the cursor.
func (e *editor) replace(row, n int, to []string, cursorRow, cursorCol int) {
	c := typed{row: row, from: slices.Clone(e.lines[row : row+n]), to: to,
		before: [2]int{e.row, e.col}, after: [2]int{cursorRow, cursorCol}}
	e.changes = append(e.changes[:e.at:e.at], c)
	e.at++
	e.lines = slices.Replace(e.lines, row, row+n, to...)
	e.row, e.col = cursorRow, cursorCol
}

func (e *editor) undo() {
	e.anchor = nil
	if e.at == 0 {
		return
	}
	e.at--
	c := e.changes[e.at]
	e.lines = slices.Replace(e.lines, c.row, c.row+len(c.to), c.from...)
	e.row, e.col = c.before[0], c.before[1]
}

func (e *editor) redo() {
	if e.at == len(e.changes) {
		return
	}
	c := e.changes[e.at]
	e.at++
	e.lines = slices.Replace(e.lines, c.row, c.row+len(c.from), c.to...)
	e.row, e.col = c.after[0], c.after[1]
}

// insert puts text of any number of lines in at the cursor.
func (e *editor) insert(s string) {
	if e.erase(); s == "" {
		return
	}
	l := e.lines[e.row]
	to := strings.Split(s, "\n")
	if len(to) > 1 && e.end() < len(l) { // the text has the line ends of its file
		for i := range to[:len(to)-1] {
			to[i] += "\r"
		}
	}
	last := len(to) - 1
	col := len(to[last])
	if last == 0 {
		col += e.col
	}
	to[0] = l[:e.col] + to[0]
	to[last] += l[e.col:]
	e.replace(e.row, 1, to, e.row+last, col)
}

// typed puts in what one key types; what was typed before it is undone with it.
func (e *editor) typed(s string) {
	e.erase()
	n := e.at
	e.insert(s)
	now := &e.changes[e.at-1]
	now.typed = true
	if n == 0 || unicode.IsSpace(rune(s[0])) {
		return
	}
	if last := &e.changes[n-1]; last.typed && last.after == now.before && len(last.to) == 1 && len(now.to) == 1 {
		last.to, last.after = now.to, now.after
		e.changes, e.at = e.changes[:n], n
	}
}

func (e *editor) newline() {
	l := e.lines[e.row][:e.col]
	e.insert("\n" + l[:len(l)-len(strings.TrimLeft(l, " \t"))])
}

func (e *editor) backspace() {
	if e.erase() {
		return
	}
	l := e.lines[e.row]
	switch {
	case e.col > 0:
		n := len(lastGrapheme(l[:e.col]))
		e.replace(e.row, 1, []string{l[:e.col-n] + l[e.col:]}, e.row, e.col-n)
	case e.row > 0:
		above := strings.TrimSuffix(e.lines[e.row-1], "\r")
		e.replace(e.row-1, 2, []string{above + l}, e.row-1, len(above))
	}
}

func (e *editor) deleteRight() {
	if e.erase() {
		return
	}
	if row, col := e.row, e.col; e.right() && (row != e.row || col != e.col) {
		e.backspace()
	}
}

func (e *editor) deleteLine() {
	e.anchor = nil
	if len(e.lines) == 1 {
		e.replace(0, 1, []string{""}, 0, 0)
		return
	}
	e.replace(e.row, 1, nil, min(e.row, len(e.lines)-2), 0)
}

// left goes one character to the left; it reports false at the start of the text.
func (e *editor) left() bool {
	switch {
	case e.col > 0:
		e.col -= len(lastGrapheme(e.lines[e.row][:e.col]))
	case e.row > 0:
		e.row--
		e.col = e.end()
	default:
		return false
	}
	return true
}

// right goes one character to the right; it reports false at the end of the text.
func (e *editor) right() bool {
	switch {
	case e.col < e.end():
		e.col += len(grapheme(e.lines[e.row][e.col:]))
	case e.row+1 < len(e.lines):
		e.row, e.col = e.row+1, 0
	default:
		return false
	}
	return true
}

// word goes to the end of the word at one side of the cursor, within its line.
func (e *editor) word(step func() bool, char func() string) {
	row := e.row
	for _, inWord := range []bool{false, true} {
		for char() != "" && wordly(char()) == inWord {
			step()
		}
	}
	e.row = row
}

func wordly(s string) bool {
	r, _ := utf8.DecodeRuneInString(s)
	return r == '_' || unicode.IsLetter(r) || unicode.IsDigit(r)
}

func (e *editor) charLeft() string  { return lastGrapheme(e.lines[e.row][:e.col]) }
func (e *editor) charRight() string { return grapheme(e.lines[e.row][e.col:e.end()]) }

// indent puts a tab in, or before each of the lines that are selected.
func (e *editor) indent() {
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

// unindent takes a tab, or up to four blanks, from before the line or the lines that are selected.
func (e *editor) unindent() {
	from, to, ok := e.selection()
	if !ok {
		from, to = [2]int{e.row, 0}, [2]int{e.row, 0}
	}
	e.reindent(from[0], to[0], func(l string) string {
		if s, ok := strings.CutPrefix(l, "\t"); ok {
			return s
		}
		return l[min(4, len(l)-len(strings.TrimLeft(l, " "))):]
	})
}

// reindent changes lines, as one change; they stay selected.
func (e *editor) reindent(from, to int, change func(l string) string) {
	var lines []string
	for _, l := range e.lines[from : to+1] {
		lines = append(lines, change(l))
	}
	anchor := e.anchor != nil
	e.replace(from, len(lines), lines, to, len(strings.TrimSuffix(lines[len(lines)-1], "\r")))
	if e.anchor = nil; anchor {
		e.anchor = &[2]int{from, 0}
	}
}

// vertical goes some lines down, or up where n is below 0, staying at the column seen.
func (e *editor) vertical(n int) {
	cells := ansi.StringWidth(visible.Line(e.lines[e.row][:e.col]))
	e.row = max(0, min(len(e.lines)-1, e.row+n))
	e.col = 0
	for e.col < e.end() && ansi.StringWidth(visible.Line(e.lines[e.row][:e.col])) < cells {
		e.col += len(grapheme(e.lines[e.row][e.col:]))
	}
}

// key does what a key means while writing.
func (e *editor) key(k tea.KeyPressMsg) {
	for _, b := range []struct {
		key.Binding
		do func()
	}{
		{keys.cursorLeft, e.moving(func() { e.left() })}, {keys.cursorRight, e.moving(func() { e.right() })},
		{keys.selectLeft, e.selecting(func() { e.left() })}, {keys.selectRight, e.selecting(func() { e.right() })},
		{keys.up, e.moving(func() { e.vertical(-1) })}, {keys.down, e.moving(func() { e.vertical(1) })},
		{keys.selectUp, e.selecting(func() { e.vertical(-1) })}, {keys.selectDown,
			e.selecting(func() { e.vertical(1) })},
		{keys.pageUp, e.moving(func() { e.vertical(-e.scroll.room()) })},
		{keys.pageDownOnly, e.moving(func() { e.vertical(e.scroll.room()) })},
		{keys.lineStart, e.moving(func() { e.col = 0 })}, {keys.lineEnd, e.moving(func() { e.col = e.end() })},
		{keys.wordLeft, e.moving(func() { e.word(e.left, e.charLeft) })},
		{keys.wordRight, e.moving(func() { e.word(e.right, e.charRight) })},
		{keys.selectWordLeft, e.selecting(func() { e.word(e.left, e.charLeft) })},
		{keys.selectWordRight, e.selecting(func() { e.word(e.right, e.charRight) })},
		{keys.textStart, e.moving(func() { e.row, e.col = 0, 0 })},
		{keys.textEnd, e.moving(func() { e.row = len(e.lines) - 1; e.col = e.end() })},
		{keys.newline, e.newline}, {keys.indent, e.indent}, {keys.unindent, e.unindent},
		{keys.backspace, e.backspace}, {keys.deleteRight, e.deleteRight},
		{keys.cutOut, func() { e.copyOut(true) }}, {keys.copyOut, func() { e.copyOut(false) }},
		{keys.putIn, func() { e.insert(e.cut) }}, {keys.bracket, func() { e.match() }},
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

// lineEnds makes line ends of those that terminals put into what is pasted: a bare carriage
// return among them.
var lineEnds = strings.NewReplacer("\r\n", "\n", "\r", "\n")

// paste puts text of several lines in.
func (e *editor) paste(s string) { e.insert(lineEnds.Replace(s)) }

// view draws the lines around the cursor.
func (e *editor) view(width, height int) page {
	e.scroll.size(len(e.lines), height)
	e.scroll.show(e.row)
	digits := max(4, len(fmt.Sprint(e.first+len(e.lines)))+1)
	var out page
	for i := e.scroll.at(); i < len(e.lines) && len(out) < height; i++ {
		row := txt(faint, fmt.Sprintf("%*d  ", digits, e.first+i))
		if lo, hi, ok := e.selectedIn(i); ok {
			l := e.lines[i]
			row = row.add(plain, l[:lo]).put(ink{hue: plain, invert: true}, l[lo:hi]).add(plain, l[hi:])
			out.row(row.cut(width))
			continue
		}
		if i != e.row {
			out.row(row.add(plain, e.lines[i]).cut(width))
			continue
		}
		out.row(row.then(e.cursorLine(width - digits - 2)).fit(width).on(onRow))
	}
	return out
}

// selectedIn is what of a line is selected.
func (e *editor) selectedIn(row int) (lo, hi int, ok bool) {
	from, to, ok := e.selection()
	if !ok || row < from[0] || row > to[0] {
		return 0, 0, false
	}
	if hi = len(e.lines[row]); row == to[0] {
		hi = to[1]
	}
	if row == from[0] {
		lo = from[1]
	}
	return lo, hi, lo < hi
}

// cursorLine draws the line of the cursor. A long one moves left so that the cursor stays in sight.
func (e *editor) cursorLine(room int) line {
	l := e.lines[e.row]
	before, under, after := visible.Line(l[:e.col]), " ", ""
	if e.col < e.end() {
		under = grapheme(l[e.col:])
		after = l[e.col+len(under):]
		if under == "\t" {
			under = strings.Repeat(" ", 4-ansi.StringWidth(before)%4)
		}
	}
	if w := ansi.StringWidth(before); w > room-8 {
		before = "…" + ansi.TruncateLeft(before, w-room+9, "")
	}
	return txt(plain, before).put(ink{hue: bright, invert: true}, under).add(plain, after)
}
