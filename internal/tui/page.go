package tui

import (
	"strings"

	"github.com/charmbracelet/x/ansi"
)

// page is the rows of a view, from the top.
type page []line

func (p *page) row(l line)     { *p = append(*p, l) }
func (p *page) blank()         { *p = append(*p, nil) }
func (p *page) rows(ls []line) { *p = append(*p, ls...) }

// say breaks a sentence over rows as wide as a page of w, two cells from either edge.
func (p *page) say(w int, l line) { p.rows(indent(wrap(l, w-4), 2)) }

// warn is a sentence with the sign of a warning.
func (p *page) warn(w int, words string) { p.say(w, warning(words)) }

// head is a heading two cells from the edge, with what explains it.
func (p *page) head(title, more string) {
	p.row(txt(plain, "  ").then(heading(title)).add(dim, more))
}

// width is that of the widest row.
func (p page) width() (n int) {
	for _, l := range p {
		n = max(n, l.width())
	}
	return n
}

// wrap breaks a line into rows of at most width cells, at blanks.
func wrap(l line, width int) []line {
	var out []line
	var row line
	used := 0
	for _, s := range l {
		for _, word := range strings.SplitAfter(s.text, " ") {
			w := ansi.StringWidth(strings.TrimRight(word, " "))
			if used > 0 && used+w > width {
				out = append(out, row)
				row, used = nil, 0
			}
			for w > width { // a word longer than the row
				head := ansi.Truncate(word, width, "")
				out = append(out, line{s.with(head)})
				word = strings.TrimPrefix(word, head)
				w = ansi.StringWidth(strings.TrimRight(word, " "))
			}
			row = append(row, s.with(word))
			used += ansi.StringWidth(word)
		}
	}
	return append(out, row)
}

func rule(width int) line { return txt(faint, strings.Repeat("─", max(0, width))) }

// indent moves a page to the right.
func indent(p page, n int) page {
	for i := range p {
		p[i] = txt(plain, strings.Repeat(" ", n)).then(p[i])
	}
	return p
}

// beside puts two pages next to each other with a rule between them.
func beside(left, right page, leftWidth, width, height int) page {
	var out page
	for i := range max(len(left), len(right), height) {
		var a, b line
		if i < len(left) {
			a = left[i]
		}
		if i < len(right) {
			b = right[i]
		}
		out.row(a.fit(leftWidth).add(faint, " │ ").then(b.cut(width - leftWidth - 3)))
	}
	return out
}

// cutPath shortens a path at its front, where it says least.
func cutPath(path string, w int) string {
	if ansi.StringWidth(path) <= w {
		return path
	}
	return ansi.TruncateLeft(path, ansi.StringWidth(path)-w+1, "…")
}

// fold breaks a line of code over rows of a width in cells, wherever that is.
func fold(l line, width int) []line {
	var out []line
	var row line
	left := width
	for _, s := range l {
		for text := s.text; text != ""; {
			head := text
			if cells(text) > left {
				head = ansi.Truncate(text, left, "")
			}
			if head == "" && left == width { // wider than a row
				break
			}
			if head != "" {
				row = append(row, s.with(head))
			}
			left -= cells(head)
			if text = text[len(head):]; text != "" {
				out, row, left = append(out, row), nil, width
			}
		}
	}
	return append(out, row)
}
