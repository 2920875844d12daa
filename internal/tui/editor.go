package tui

import (
	"fmt"
	"strings"
	"unicode"

	"github.com/charmbracelet/x/ansi"

	"dorvik/internal/visible"
)

// editor edits a text in place. It keeps every byte it is not told to change:
// tabs, line ends and broken encoding stay as they are, which is why it is not
// a text area of a library, made for prose.
type editor struct {
	lines    [][]rune
	invalid  string // the text itself where it is not UTF-8 and so cannot be edited
	row, col int
	top      int
	first    int // number of the first line
	undo     []snapshot
	dirty    bool
}

type snapshot struct {
	lines    [][]rune
	row, col int
}

func newEditor(text string, firstLine int) *editor {
	e := &editor{first: firstLine}
	if strings.ToValidUTF8(text, "") != text {
		e.invalid = text
	}
	for l := range strings.SplitSeq(text, "\n") {
		e.lines = append(e.lines, []rune(l))
	}
	return e
}

func (e *editor) text() string {
	parts := make([]string, len(e.lines))
	for i, l := range e.lines {
		parts[i] = string(l)
	}
	return strings.Join(parts, "\n")
}

// goTo puts the cursor at a line (from 1) and a byte column (from 1).
func (e *editor) goTo(lineNo, col int) {
	e.row = max(0, min(lineNo-1, len(e.lines)-1))
	s := string(e.lines[e.row])
	e.col = len([]rune(s[:max(0, min(col-1, len(s)))]))
}

// end is the last place of a line a cursor can be; a carriage return is part
// of the line's end.
func (e *editor) end() int {
	l := e.lines[e.row]
	if n := len(l); n > 0 && l[n-1] == '\r' {
		return n - 1
	}
	return len(l)
}

func (e *editor) save() {
	lines := make([][]rune, len(e.lines))
	copy(lines, e.lines) // the lines themselves are never changed in place
	e.undo = append(e.undo, snapshot{lines, e.row, e.col})
	e.dirty = true
}

func (e *editor) setLine(row int, parts ...[]rune) {
	var l []rune
	for _, p := range parts {
		l = append(l, p...)
	}
	e.lines[row] = l
}

func (e *editor) insert(s string) {
	if s == "" {
		return
	}
	e.save()
	l := e.lines[e.row]
	e.setLine(e.row, l[:e.col], []rune(s), l[e.col:])
	e.col += len([]rune(s))
}

func (e *editor) splice(row, drop int, put ...[]rune) {
	e.lines = append(e.lines[:row:row], append(put, e.lines[row+drop:]...)...)
}

func (e *editor) newline() {
	e.save()
	l := e.lines[e.row]
	head := append([]rune(nil), l[:e.col]...)
	tail := l[e.col:]
	if e.end() < len(l) {
		head = append(head, '\r')
	}
	var indent []rune
	for _, r := range l[:e.col] {
		if r != ' ' && r != '\t' {
			break
		}
		indent = append(indent, r)
	}
	e.splice(e.row, 1, head, append(append([]rune(nil), indent...), tail...))
	e.row++
	e.col = len(indent)
}

func (e *editor) backspace() {
	switch {
	case e.col > 0:
		e.save()
		l := e.lines[e.row]
		e.setLine(e.row, l[:e.col-1], l[e.col:])
		e.col--
	case e.row > 0:
		e.save()
		l := e.lines[e.row]
		e.row--
		e.col = e.end()
		e.splice(e.row, 2, append(append([]rune(nil), e.lines[e.row][:e.col]...), l...))
	}
}

func (e *editor) deleteRight() {
	if e.col < e.end() {
		e.col++
		e.backspace()
	} else if e.row+1 < len(e.lines) {
		e.row++
		e.col = 0
		e.backspace()
	}
}

func wordRune(r rune) bool { return r == '_' || unicode.IsLetter(r) || unicode.IsDigit(r) }

func (e *editor) word(step int) {
	at := func(c int) bool {
		if step < 0 {
			c--
		}
		return wordRune(e.lines[e.row][c])
	}
	in := func() bool { return step > 0 && e.col < e.end() || step < 0 && e.col > 0 }
	for in() && !at(e.col) {
		e.col += step
	}
	for in() && at(e.col) {
		e.col += step
	}
}

// key handles a key; it reports whether it knew it.
func (e *editor) key(name, text string, height int) bool {
	switch name {
	case "left":
		if e.col > 0 {
			e.col--
		} else if e.row > 0 {
			e.row--
			e.col = e.end()
		}
	case "right":
		if e.col < e.end() {
			e.col++
		} else if e.row+1 < len(e.lines) {
			e.row++
			e.col = 0
		}
	case "up":
		e.row = max(0, e.row-1)
	case "down":
		e.row = min(len(e.lines)-1, e.row+1)
	case "pgup":
		e.row = max(0, e.row-height)
	case "pgdown":
		e.row = min(len(e.lines)-1, e.row+height)
	case "home", "ctrl+a":
		e.col = 0
	case "end", "ctrl+e":
		e.col = e.end()
	case "ctrl+left", "alt+left", "alt+b":
		e.word(-1)
	case "ctrl+right", "alt+right", "alt+f":
		e.word(1)
	case "ctrl+home":
		e.row, e.col = 0, 0
	case "ctrl+end":
		e.row = len(e.lines) - 1
		e.col = e.end()
	case "enter":
		e.newline()
	case "tab":
		e.insert("\t")
	case "backspace":
		e.backspace()
	case "delete":
		e.deleteRight()
	case "ctrl+k":
		e.save()
		if len(e.lines) > 1 {
			e.splice(e.row, 1)
			e.row = min(e.row, len(e.lines)-1)
		} else {
			e.lines[0] = nil
		}
		e.col = 0
	case "ctrl+z":
		if n := len(e.undo); n > 0 {
			s := e.undo[n-1]
			e.lines, e.row, e.col, e.undo = s.lines, s.row, s.col, e.undo[:n-1]
			e.dirty = n > 1
		}
	default:
		if text == "" {
			return false
		}
		e.insert(text)
	}
	e.col = min(e.col, e.end())
	return true
}

// lineEnds makes line ends of those that terminals put into what is pasted: a bare carriage
// return among them.
var lineEnds = strings.NewReplacer("\r\n", "\n", "\r", "\n")

// paste puts text of several lines in.
func (e *editor) paste(s string) {
	for i, part := range strings.Split(lineEnds.Replace(s), "\n") {
		if i > 0 {
			e.save()
			l := e.lines[e.row]
			head, tail := append([]rune(nil), l[:e.col]...), append([]rune(nil), l[e.col:]...)
			e.splice(e.row, 1, head, tail)
			e.row++
			e.col = 0
		}
		e.insert(part)
	}
}

// view draws the lines around the cursor.
func (e *editor) view(width, height int) page {
	if e.row < e.top {
		e.top = e.row
	}
	if e.row >= e.top+height {
		e.top = e.row - height + 1
	}
	e.top = max(0, min(e.top, len(e.lines)-height))
	gutter := max(4, len(fmt.Sprint(e.first+len(e.lines)))+1)
	room := width - gutter - 2
	var out page
	for i := e.top; i < len(e.lines) && i < e.top+height; i++ {
		row := txt(faint, fmt.Sprintf("%*d  ", gutter, e.first+i))
		l := e.lines[i]
		if i != e.row {
			out.row(row.add(plain, string(l)).cut(width))
			continue
		}
		before := visible.Line(string(l[:e.col]))
		under, after := " ", ""
		if e.col < e.end() {
			under = string(l[e.col : e.col+1])
			if under == "\t" {
				under = strings.Repeat(" ", 4-ansi.StringWidth(before)%4)
			}
			after = string(l[e.col+1:])
		}
		// A long line moves left so that the cursor stays in sight.
		if w := ansi.StringWidth(before); w > room-8 {
			before = "…" + ansi.TruncateLeft(before, w-room+9, "")
		}
		row = row.add(plain, before).put(ink{hue: bright, invert: true}, under).add(plain, after)
		out.row(row.fit(width).on(onRow))
	}
	return out
}
