package draw

import (
	"fmt"
	"strings"

	"dorvik.dev/dorvik/internal/visible"
)

// Options is the form of a drawing.
type Options struct {
	Letter bool // use US letter paper, not A4
	Dark   bool
	Paged  bool // cut the sheet into pages; otherwise it is one long page
}

const (
	margin   = 42.0
	lineHigh = 1.35 // line height, as a multiple of the font size
)

// sheet lays out a drawing from the top down, page by page.
type sheet struct {
	d     *Drawing
	opt   Options
	y     float64 // the next free row
	yours string  // legend text for yours
	carry func()  // draws what continues on a new page
}

func newSheet(title string, opt Options) *sheet {
	d := &Drawing{Title: title, W: 595.28, H: 841.89, colour: palettes["light"]}
	if opt.Letter {
		d.W, d.H = 612, 792
	}
	if opt.Dark {
		d.colour = palettes["dark"]
	}
	s := &sheet{d: d, opt: opt, yours: "yours"}
	s.page()
	return s
}

func (s *sheet) page() {
	s.d.Pages = append(s.d.Pages, &Page{})
	s.y = margin
}

func (s *sheet) put(shapes ...Shape) {
	last := s.d.Pages[len(s.d.Pages)-1]
	last.Shapes = append(last.Shapes, shapes...)
}

// inner returns the width between the margins.
func (s *sheet) inner() float64 { return s.d.W - 2*margin }

// room begins a new page if less than a height is left.
func (s *sheet) room(h float64) {
	if !s.opt.Paged || s.y+h <= s.d.H-margin-14 || s.y <= margin {
		return
	}
	s.page()
	if s.carry != nil {
		s.carry()
	}
}

// finish returns the drawing: one page of the needed height, or numbered pages.
func (s *sheet) finish() *Drawing {
	if !s.opt.Paged {
		s.d.H = s.y + margin
		return s.d
	}
	for i, p := range s.d.Pages {
		n := fmt.Sprintf("%d of %d", i+1, len(s.d.Pages))
		p.Shapes = append(p.Shapes,
			Text{margin, s.d.H - margin + 14, 7.5, sans, Dim, fitted(sans, 7.5, s.d.Title, s.inner()-60)},
			Text{s.d.W - margin - width(sans, 7.5, n), s.d.H - margin + 14, 7.5, sans, Dim, n})
	}
	return s.d
}

// fitted returns a text, shortened with … if it is too wide.
func fitted(f face, size float64, text string, w float64) string {
	text = visible.Line(text)
	if width(f, size, text) <= w {
		return text
	}
	r := []rune(text)
	for len(r) > 0 && width(f, size, string(r)+"…") > w {
		r = r[:len(r)-1]
	}
	return string(r) + "…"
}

// wrapped breaks a text into lines no wider than w, at blanks or, in a wider word, between characters. Leading blanks
// are kept.
func wrapped(f face, size float64, text string, w float64) (out []string) {
	text = visible.Line(text)
	row, used := "", 0.0
	for _, word := range strings.SplitAfter(text, " ") {
		n := width(f, size, strings.TrimRight(word, " "))
		if used > 0 && used+n > w {
			out, row, used = append(out, strings.TrimRight(row, " ")), "", 0
		}
		for n > w {
			head := []rune(word)
			k := len(head)
			for k > 1 && width(f, size, string(head[:k])) > w {
				k--
			}
			out = append(out, string(head[:k]))
			word = string(head[k:])
			n = width(f, size, strings.TrimRight(word, " "))
		}
		row += word
		used += width(f, size, word)
	}
	return append(out, strings.TrimRight(row, " "))
}

// write puts lines of text below each other on the page and returns the row below them.
func (s *sheet) write(x, y float64, f face, size float64, hue Hue, lines []string) float64 {
	for _, l := range lines {
		y += size * lineHigh
		if l != "" {
			s.put(Text{x, y - 0.3*size, size, f, hue, l})
		}
	}
	return y
}

// say writes a paragraph from the left edge, over several pages if needed.
func (s *sheet) say(indent float64, f face, size float64, hue Hue, text string) {
	for _, l := range wrapped(f, size, text, s.inner()-indent) {
		s.room(size * lineHigh)
		s.y = s.write(margin+indent, s.y, f, size, hue, []string{l})
	}
}

// title writes the title and a sentence.
func (s *sheet) title(title, text string) {
	s.say(0, bold, 16, Ink, title)
	s.y += 3
	if text != "" {
		s.say(0, sans, 9, Dim, text)
		s.y += 10
	}
}

// heading begins a part, on a page with enough room for it.
func (s *sheet) heading(text string, need float64) {
	s.room(40 + need)
	s.y += 14
	s.say(0, bold, 8, Base, strings.ToUpper(text))
	s.put(Line{Points: [][2]float64{{margin, s.y + 3}, {s.d.W - margin, s.y + 3}}, Width: 0.6, Hue: Faint})
	s.y += 9
}

// legend explains the signs that are used.
func (s *sheet) legend(kinds ...SignKind) {
	said := map[SignKind]string{SignYours: s.yours, SignTheirs: "theirs", SignBase: "both had it", SignJoined: "joined",
		SignBehind: "left behind, or not needed"}
	x := margin
	s.room(18)
	s.y += 8
	for _, k := range kinds {
		w := 16 + width(sans, 8, said[k]) + 16
		if x+w > s.d.W-margin {
			x, s.y = margin, s.y+13
		}
		s.put(Sign{x + 4, s.y + 4, 3.6, k}, Text{x + 12, s.y + 7, 8, sans, Dim, said[k]})
		x += w
	}
	s.y += 22
}
