package tui

import (
	"fmt"
	"strings"
	"time"

	"github.com/charmbracelet/x/ansi"
)

// page is the rows of a view, from the top.
type page []line

func (p *page) row(l line)     { *p = append(*p, l) }
func (p *page) blank()         { *p = append(*p, nil) }
func (p *page) rows(ls []line) { *p = append(*p, ls...) }

// width is that of the widest row.
func (p page) width() (n int) {
	for _, l := range p {
		n = max(n, l.width())
	}
	return n
}

// prose breaks sentences at blanks to a width. The first words may be bold.
func (p *page) prose(width int, l line) { p.rows(wrap(l, width)) }

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
				out = append(out, line{span{head, s.ink}})
				word = strings.TrimPrefix(word, head)
				w = ansi.StringWidth(strings.TrimRight(word, " "))
			}
			row = append(row, span{word, s.ink})
			used += ansi.StringWidth(word)
		}
	}
	return append(out, row)
}

func rule(width int) line { return txt(faint, strings.Repeat("─", max(0, width))) }

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

// window shows height rows of a page from offset on and says at the edges how
// much is hidden. It corrects the offset.
func window(p page, height int, offset *int) page {
	*offset = max(0, min(*offset, len(p)-height))
	if len(p) <= height {
		return p
	}
	out := append(page(nil), p[*offset:*offset+height]...)
	if *offset > 0 {
		out[0] = txt(dim, fmt.Sprintf("  ↑ %d more above", *offset+1))
	}
	if rest := len(p) - *offset - height; rest > 0 {
		out[height-1] = txt(dim, fmt.Sprintf("  ↓ %d more below", rest+1))
	}
	return out
}

// ago tells a moment as its distance from now.
func ago(now, then time.Time) string {
	d := now.Sub(then)
	switch {
	case d < 0:
		return then.Format("2 Jan 2006")
	case d < time.Minute:
		return fmt.Sprintf("%d s ago", int(d.Seconds()))
	case d < time.Hour:
		return fmt.Sprintf("%d min ago", int(d.Minutes()))
	case d < 48*time.Hour:
		return fmt.Sprintf("%d h ago", int(d.Hours()))
	case d < 60*24*time.Hour:
		return fmt.Sprintf("%d days ago", int(d.Hours()/24))
	case then.Year() == now.Year():
		return then.Format("2 Jan")
	}
	return then.Format("2 Jan 2006")
}

func plural(n int, one, many string) string {
	if n == 1 {
		return "1 " + one
	}
	return fmt.Sprintf("%d %s", n, many)
}

func seconds(d time.Duration) string {
	if d < 10*time.Second {
		return fmt.Sprintf("%.1f s", d.Seconds())
	}
	return fmt.Sprintf("%d s", int(d.Seconds()))
}

// list joins names as prose does.
func list(names []string) string {
	switch n := len(names); n {
	case 0:
		return "nobody"
	case 1:
		return names[0]
	default:
		return strings.Join(names[:n-1], ", ") + " and " + names[n-1]
	}
}

// first is the first word of a name.
func first(name string) string {
	f, _, _ := strings.Cut(name, " ")
	return f
}
