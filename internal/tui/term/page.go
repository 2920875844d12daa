// Package term holds what screens are drawn from: inks, lines, pages, scrolling, coloured code and the editor. A value
// becomes escape codes in one place, Theme.Render.
package term

import (
	"strings"

	"github.com/charmbracelet/x/ansi"
)

// Page is the rows of a view, top row first.
type Page []Line

// Row appends a row.
func (p *Page) Row(l Line) { *p = append(*p, l) }

// Blank appends an empty row.
func (p *Page) Blank() { *p = append(*p, nil) }

// Rows appends rows.
func (p *Page) Rows(ls []Line) { *p = append(*p, ls...) }

// Say appends a sentence, wrapped for a page of width w with a margin of 2 cells.
func (p *Page) Say(w int, l Line) { p.Rows(Indent(Wrap(l, w-4), 2)) }

// Warn appends a sentence with the sign of a warning.
func (p *Page) Warn(w int, words string) { p.Say(w, Warning(words)) }

// Head appends a heading with a margin of 2 cells, and a remark after it.
func (p *Page) Head(title, more string) {
	p.Row(Text(Plain, "  ").Then(Heading(title)).Add(Dim, more))
}

// Width returns the width of the widest row in cells.
func (p Page) Width() (n int) {
	for _, l := range p {
		n = max(n, l.Width())
	}
	return n
}

// Wrap breaks a line into rows of at most width cells, at spaces where possible.
func Wrap(l Line, width int) []Line {
	var out []Line
	var row Line
	used := 0
	for _, s := range l {
		for _, word := range strings.SplitAfter(s.Text, " ") {
			w := ansi.StringWidth(strings.TrimRight(word, " "))
			if used > 0 && used+w > width {
				out = append(out, row)
				row, used = nil, 0
			}
			for w > width { // the word is longer than the row
				head := ansi.Truncate(word, width, "")
				out = append(out, Line{s.with(head)})
				word = strings.TrimPrefix(word, head)
				w = ansi.StringWidth(strings.TrimRight(word, " "))
			}
			row = append(row, s.with(word))
			used += ansi.StringWidth(word)
		}
	}
	return append(out, row)
}

// Rule returns a horizontal rule.
func Rule(width int) Line { return Text(Faint, strings.Repeat("─", max(0, width))) }

// Indent moves a page n cells to the right, in place, and returns it.
func Indent(p Page, n int) Page {
	for i := range p {
		p[i] = Text(Plain, strings.Repeat(" ", n)).Then(p[i])
	}
	return p
}

// Beside joins two pages side by side with a rule between them.
func Beside(left, right Page, leftWidth, width, height int) Page {
	var out Page
	for i := range max(len(left), len(right), height) {
		var a, b Line
		if i < len(left) {
			a = left[i]
		}
		if i < len(right) {
			b = right[i]
		}
		out.Row(a.Fit(leftWidth).Add(Faint, " │ ").Then(b.Cut(width - leftWidth - 3)))
	}
	return out
}

// CutPath shortens a path to w cells at its front.
func CutPath(path string, w int) string {
	if ansi.StringWidth(path) <= w {
		return path
	}
	return ansi.TruncateLeft(path, ansi.StringWidth(path)-w+1, "…")
}

// Fold breaks a line of code into rows of width cells, at any character.
func Fold(l Line, width int) []Line {
	var out []Line
	var row Line
	left := width
	for _, s := range l {
		for text := s.Text; text != ""; {
			head := text
			if Cells(text) > left {
				head = ansi.Truncate(text, left, "")
			}
			if head == "" && left == width { // the first character is wider than a row
				break
			}
			if head != "" {
				row = append(row, s.with(head))
			}
			left -= Cells(head)
			if text = text[len(head):]; text != "" {
				out, row, left = append(out, row), nil, width
			}
		}
	}
	return append(out, row)
}
