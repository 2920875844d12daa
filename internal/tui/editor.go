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
	changes  []change // those after at were undone
	at       int
}

// change is lines of the text that became others, and where the cursor was before and after.
type change struct {
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

// replace makes n lines from a row on others, and puts the cursor.
func (e *editor) replace(row, n int, to []string, cursorRow, cursorCol int) {
	c := change{row: row, from: slices.Clone(e.lines[row : row+n]), to: to,
		before: [2]int{e.row, e.col}, after: [2]int{cursorRow, cursorCol}}
	e.changes = append(e.changes[:e.at:e.at], c)
	e.at++
	e.lines = slices.Replace(e.lines, row, row+n, to...)
	e.row, e.col = cursorRow, cursorCol
}

func (e *editor) undo() {
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
	if s == "" {
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
	if row, col := e.row, e.col; e.right() && (row != e.row || col != e.col) {
		e.backspace()
	}
}

func (e *editor) deleteLine() {
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
		{keys.cursorLeft, func() { e.left() }}, {keys.cursorRight, func() { e.right() }},
		{keys.up, func() { e.vertical(-1) }}, {keys.down, func() { e.vertical(1) }},
		{keys.pageUp, func() { e.vertical(-e.scroll.room()) }}, {keys.pageDownOnly,
			func() { e.vertical(e.scroll.room()) }},
		{keys.lineStart, func() { e.col = 0 }}, {keys.lineEnd, func() { e.col = e.end() }},
		{keys.wordLeft, func() { e.word(e.left, e.charLeft) }},
		{keys.wordRight, func() { e.word(e.right, e.charRight) }},
		{keys.textStart, func() { e.row, e.col = 0, 0 }},
		{keys.textEnd, func() { e.row = len(e.lines) - 1; e.col = e.end() }},
		{keys.newline, e.newline}, {keys.indent, func() { e.typed("\t") }},
		{keys.backspace, e.backspace}, {keys.deleteRight, e.deleteRight},
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
		if i != e.row {
			out.row(row.add(plain, e.lines[i]).cut(width))
			continue
		}
		out.row(row.then(e.cursorLine(width - digits - 2)).fit(width).on(onRow))
	}
	return out
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
